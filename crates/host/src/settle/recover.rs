//! Going on with a settle that was interrupted.

use std::path::Path;

use yalotheca_core::id::TreePath;

use super::{
    ChangeOrigin, SealKey, SettleError,
    journal::{Journal, State, folder_of, inner, numbers, origin_of, state_of, unwritten, wait_for_disk},
    unwritten::BootId,
};
use crate::tree::Tree;

/// What became of an interrupted settle.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// It was finished.
    Finished(ChangeOrigin),
    /// It was taken back: nothing of the server had been touched.
    TakenBack(ChangeOrigin),
    /// It had failed, and taking it back was interrupted or failed as well; now everything is as before.
    RolledBack(ChangeOrigin),
    /// The machine went down before the settle's files were on the disk; everything is as before.
    Lost(ChangeOrigin),
    /// The machine went down soon after it, before all its files were on the disk: these are not what they should be.
    Damaged(ChangeOrigin, Vec<TreePath>),
}

/// Returns the number of the last settle where it is not over, or where something of it is left to do. Nothing is written.
///
/// # Errors
/// Where the journal cannot be read.
pub fn interrupted(tree: &dyn Tree) -> Result<Option<u32>, SettleError> {
    let Some(number) = numbers(tree)?.last().copied() else { return Ok(None) };
    let folder = folder_of(number)?;
    let is_over = state_of(tree, &folder)?.is_over();
    let is_tidy = || Ok::<bool, SettleError>(tree.kind_of(&inner(&folder, "staged")?)?.is_none());
    Ok((!is_over || !is_tidy()? || went_down(tree, &folder)?).then_some(number))
}

fn went_down(tree: &dyn Tree, folder: &TreePath) -> Result<bool, SettleError> {
    Ok(unwritten(tree, folder)?.is_some_and(|boot| BootId::of_this_machine() != Some(boot)))
}

/// Finishes a settle that was interrupted, or takes it back; says which. The server must be claimed. `control` is the control
/// folder that is open, and `key` the user's; without one, or where somebody else wrote the journal down, nothing is done
/// unless `trust` says that it may.
///
/// # Errors
/// Where that fails, or where the journal is not ours.
pub fn recover(
    tree: &dyn Tree,
    control: &Path,
    key: &SealKey,
    trust: bool,
) -> Result<Option<Outcome>, SettleError> {
    let Some(number) = interrupted(tree)? else { return Ok(None) };
    let folder = folder_of(number)?;
    let state = state_of(tree, &folder)?;
    let went_down = went_down(tree, &folder)?;
    if state.is_over() && !went_down {
        // It was interrupted while it was tidied up.
        tree.remove_all(&inner(&folder, "staged")?)?;
        return Ok(None);
    }
    if tree.kind_of(&inner(&folder, "plan.json")?)?.is_none() {
        // It was interrupted while the plan was being written.
        tree.remove_all(&folder)?;
        return Ok(None);
    }
    let journal = Journal::open(tree, number)?;
    let is_here = control.canonicalize().is_ok_and(|control| control == journal.plan.control);
    let is_ours = || Ok::<_, SettleError>(is_here && journal.is_sealed(tree, Some(key))?);
    if !trust && !is_ours()? {
        return Err(SettleError::Foreign { number, origin: Box::new(origin_of(tree, number)?) });
    }
    if !is_here {
        return Err(SettleError::OtherControl {
            number,
            control: journal.plan.control.display().to_string(),
        });
    }
    let origin = journal.plan.origin.clone();
    let damaged = if went_down && matches!(state, State::Staged | State::Done) {
        journal.damaged(tree)?
    } else {
        Vec::new()
    };
    if state == State::Staged && !damaged.is_empty() {
        // What is noted stays until all is taken back: should this be interrupted too, it must not be finished then.
        journal.roll_back(tree)?;
        return Ok(Some(Outcome::Lost(origin)));
    }
    if went_down {
        wait_for_disk(tree, &folder)?;
    }
    match state {
        State::Done => Ok((!damaged.is_empty()).then_some(Outcome::Damaged(origin, damaged))),
        State::TakenBack => Ok(None),
        State::Staged if journal.is_intact(tree)? => {
            journal.sweep(tree)?;
            let finished = journal.carry_out(tree, Some(key)).and_then(|()| journal.finish(tree, None));
            if let Err(first) = finished {
                return match journal.roll_back(tree) {
                    Ok(()) => Err(first),
                    Err(second) => {
                        Err(SettleError::Stuck { first: Box::new(first), second: Box::new(second) })
                    }
                };
            }
            journal.tidy(tree);
            Ok(Some(Outcome::Finished(origin)))
        }
        State::Staged | State::TakingBack => {
            journal.roll_back(tree)?;
            Ok(Some(Outcome::RolledBack(origin)))
        }
        State::Planned => {
            journal.sweep(tree)?;
            journal.forget(tree)?;
            Ok(Some(Outcome::TakenBack(origin)))
        }
    }
}
