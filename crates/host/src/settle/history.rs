//! What was settled on a server, when and by whom.

use serde::Serialize;

use super::{
    Origin, SettleError,
    journal::{Journal, numbers},
};
use crate::tree::LocalTree;

/// One settle of the past.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Past {
    /// Its number.
    pub number: u32,
    /// Who, when, why.
    #[serde(flatten)]
    pub origin: Origin,
    /// Whether it was taken back by a later undo.
    pub undone: bool,
}

/// Returns the settles of a server, oldest first.
///
/// # Errors
/// Where a journal cannot be read.
pub fn history(tree: &LocalTree) -> Result<Vec<Past>, SettleError> {
    let mut all = Vec::new();
    for number in numbers(tree)? {
        let journal = Journal::open(tree, number)?;
        if journal.read_state(tree)? == "done" {
            all.push(Past { number, origin: journal.origin().clone(), undone: false });
        }
    }
    let undone: Vec<u32> = all.iter().filter_map(|past| past.origin.undoes).collect();
    for past in &mut all {
        past.undone = undone.contains(&past.number);
    }
    Ok(all)
}
