//! Carrying a journal out, finishing it, and taking it back. Each can be interrupted anywhere and done again.

use std::collections::HashSet;

use yalotheca_core::{
    change::{Source, Step},
    control::{LOCK_FILE, WANTS_FILE},
    id::{Digest, TreePath},
};

use super::{
    ControlTexts, SealKey, SettleError, fault,
    journal::{Journal, State},
    own,
    staging::staged_at,
    steps::{self, Done},
};
use crate::tree::{LocalTree, Prepared, Tree, TreeError};

/// The control files as they are going to be, written beside those that are there: giving them their names needs no more room.
pub(super) struct PreparedControls(Vec<(TreePath, Prepared)>);

fn control_path(name: &str) -> Result<TreePath, SettleError> {
    TreePath::new(name).map_err(|error| SettleError::Journal { path: name.into(), why: error.to_string() })
}

fn control_files(texts: &ControlTexts) -> [(&'static str, Option<&str>); 2] {
    [(LOCK_FILE, texts.lock.as_deref()), (WANTS_FILE, texts.wants.as_deref())]
}

/// Where the control files lie; often in the server's folder itself.
fn control_tree(tree: &LocalTree, journal: &Journal) -> LocalTree {
    let folder = &journal.plan.control;
    let is_same = tree.root().canonicalize().is_ok_and(|root| root == *folder);
    if is_same { tree.clone() } else { tree.beside(folder) }
}

impl PreparedControls {
    /// Writes those that change.
    pub(super) fn of(tree: &LocalTree, journal: &Journal, texts: &ControlTexts) -> Result<Self, SettleError> {
        let control = control_tree(tree, journal);
        let mut prepared = Vec::new();
        for (name, text) in control_files(texts) {
            let path = control_path(name)?;
            let Some(text) = text else { continue };
            if control.digest(&path).map_err(of_control)?.map(|(digest, _)| digest)
                != Some(Digest::of(text.as_bytes()))
            {
                prepared.push((path.clone(), control.prepare(&path, text.as_bytes()).map_err(of_control)?));
            }
        }
        Ok(Self(prepared))
    }

    fn commit(self, tree: &LocalTree, journal: &Journal) -> Result<(), SettleError> {
        let control = control_tree(tree, journal);
        for (path, prepared) in self.0 {
            control.commit(prepared, &path).map_err(of_control)?;
            fault::point();
        }
        Ok(())
    }
}

fn of_control(error: TreeError) -> SettleError {
    SettleError::Control { path: error.path.clone(), source: error }
}

/// Writes the control files as they were at a time; one that was not there then is removed.
fn write_controls(tree: &LocalTree, journal: &Journal, when: &str) -> Result<(), SettleError> {
    let control = control_tree(tree, journal);
    for (name, text) in control_files(&journal.texts(tree, when)?) {
        let path = control_path(name)?;
        let now = control.digest(&path).map_err(of_control)?.map(|(digest, _)| digest);
        match text {
            Some(text) if now == Some(Digest::of(text.as_bytes())) => {}
            Some(text) => control.write(&path, text.as_bytes()).map_err(of_control)?,
            None if now.is_some() => control.remove_own_file(&path).map_err(of_control)?,
            None => {}
        }
    }
    Ok(())
}

impl Journal {
    /// Does all steps; those that were done already are not done again.
    pub(super) fn carry_out(&self, tree: &LocalTree, finishing: Option<&SealKey>) -> Result<(), SettleError> {
        let mut moved = HashSet::new();
        for (index, step) in self.steps().iter().enumerate() {
            if self.whole(index).is_some_and(|whole| moved.contains(&whole)) {
                continue;
            }
            fault::point();
            if steps::carry_out(tree, self, (index, step), finishing)? == Done::WithAllInIt {
                moved.insert(index);
            }
        }
        fault::point();
        self.make_places_durable(tree)
    }

    /// Puts the receipt of a time into its place.
    fn put_receipt(&self, tree: &LocalTree, when: &str) -> Result<(), SettleError> {
        // It is written before the state changes, and never modified.
        let next = self.inner("receipt.json")?;
        tree.keep(&self.receipt_at(tree, when)?, &next)?;
        tree.rename(&next, &own("receipt.json")?)?;
        // A file and a second name of it are not moved onto one another.
        tree.remove_own_file(&next)?;
        Ok(tree.sync_file(&own("")?)?)
    }

    /// Writes receipt, lock and wants, and closes the journal.
    pub(super) fn finish(
        &self,
        tree: &LocalTree,
        controls: Option<PreparedControls>,
    ) -> Result<(), SettleError> {
        self.put_receipt(tree, "after")?;
        fault::point();
        match controls {
            Some(controls) => controls.commit(tree, self)?,
            None => write_controls(tree, self, "after")?,
        }
        fault::point();
        self.set_state(tree, State::Done)?;
        fault::point();
        if self.is_unwritten() {
            tree.sync_in_background();
        }
        Ok(())
    }

    /// Removes staged files that are no longer needed; if that fails, the next command does it.
    pub(super) fn tidy(&self, tree: &LocalTree) {
        tree.remove_all(&self.inner("staged").unwrap_or_else(|_| self.folder().clone())).ok();
    }

    /// Forgets a settle that touched nothing yet.
    pub(super) fn forget(&self, tree: &LocalTree) -> Result<(), SettleError> {
        self.set_state(tree, State::TakenBack)?;
        self.tidy(tree);
        Ok(())
    }

    /// Takes everything back, whatever of it was done: the control files, the receipt, and the steps, last first. That it is
    /// being taken back is on the disk before the first of it: the next command continues from there.
    pub(super) fn roll_back(&self, tree: &LocalTree) -> Result<(), SettleError> {
        self.set_state(tree, State::TakingBack)?;
        fault::point();
        for (index, step) in self.steps().iter().enumerate().rev() {
            steps::take_back(tree, self, index, step)?;
            fault::point();
        }
        self.put_receipt(tree, "before")?;
        write_controls(tree, self, "before")?;
        fault::point();
        self.sweep(tree)?;
        tree.sync()?;
        self.forget(tree)
    }

    /// Removes what was left half-written beside the files of the steps.
    pub(super) fn sweep(&self, tree: &LocalTree) -> Result<(), SettleError> {
        let folders: HashSet<TreePath> =
            self.steps().iter().filter_map(|step| step.path().parent()).collect();
        for folder in &folders {
            tree.sweep_temporary(folder)?;
        }
        control_tree(tree, self).sweep_temporary(&TreePath::root()).map_err(of_control)
    }

    /// Makes sure that what was staged is on the disk, unless it is 64 MB or more (see `unwritten`).
    pub(super) fn make_durable(&self, tree: &LocalTree) -> Result<(), SettleError> {
        if self.is_unwritten() { Ok(()) } else { Ok(tree.sync()?) }
    }

    /// Makes sure that it is on the disk what lies where.
    fn make_places_durable(&self, tree: &LocalTree) -> Result<(), SettleError> {
        if !self.is_unwritten() {
            return Ok(tree.sync()?);
        }
        let is_moved = |index: usize| self.whole(index).is_some_and(|whole| whole != index);
        let steps = self.steps().iter().enumerate().filter(|(index, _)| !is_moved(*index));
        let places = steps.filter_map(|(_, step)| step.path().parent());
        let folders: HashSet<TreePath> =
            places.chain([self.inner("attic")?, self.inner("staged")?]).collect();
        Ok(folders.iter().try_for_each(|folder| tree.sync_file(folder))?)
    }

    /// Returns the payload files that are neither where they belong nor where they wait as they should be.
    pub(super) fn damaged(&self, tree: &LocalTree) -> Result<Vec<TreePath>, SettleError> {
        let mut damaged = Vec::new();
        for (index, step) in self.steps().iter().enumerate() {
            let Step::Put { path, source, after, .. } = step else { continue };
            let staged = tree.digest(&staged_at(self, index)?)?;
            let is_text = matches!(source, Source::Text(_));
            // A configuration file in its place the server may have written to since.
            let found = match staged {
                Some(staged) => Some(staged),
                None if is_text => continue,
                None => tree.digest(path)?,
            };
            if found.is_none_or(|(digest, _)| digest != *after) {
                damaged.push(path.clone());
            }
        }
        Ok(damaged)
    }

    /// Returns whether everything that waits beside the journal is what was put there.
    pub(super) fn is_intact(&self, tree: &LocalTree) -> Result<bool, SettleError> {
        for (index, step) in self.steps().iter().enumerate() {
            let Step::Put { after, .. } = step else { continue };
            if tree.digest(&staged_at(self, index)?)?.is_some_and(|(digest, _)| digest != *after) {
                return Ok(false);
            }
        }
        Ok(true)
    }
}
