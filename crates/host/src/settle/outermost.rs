//! Which new folder is put in place as a whole.

use std::collections::HashMap;

use yalotheca_core::{change::Step, id::TreePath};

/// For each step the one that makes the outermost new folder around what it makes or puts, if there is one.
#[derive(Debug)]
pub(super) struct OutermostFolders(Vec<Option<usize>>);

impl OutermostFolders {
    /// Returns that of some steps.
    pub(super) fn of(steps: &[Step]) -> Self {
        let mut makers: HashMap<&TreePath, usize> = HashMap::new();
        let mut wholes = Vec::with_capacity(steps.len());
        for (index, step) in steps.iter().enumerate() {
            let outer = |path: &TreePath| path.parent().and_then(|folder| makers.get(&folder)).copied();
            let whole = match step {
                Step::MakeFolder { path } => Some(outer(path).unwrap_or(index)),
                Step::Put { path, before: None, .. } => outer(path),
                _ => None,
            };
            if let (Step::MakeFolder { path }, Some(whole)) = (step, whole) {
                makers.insert(path, whole);
            }
            wholes.push(whole);
        }
        Self(wholes)
    }

    /// Returns that of steps whose files wait one by one.
    pub(super) fn none(steps: &[Step]) -> Self {
        Self(vec![None; steps.len()])
    }

    pub(super) fn get(&self, index: usize) -> Option<usize> {
        self.0[index]
    }
}
