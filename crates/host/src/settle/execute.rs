//! Carrying a journal out, finishing it, and taking it back. Each can be interrupted anywhere and done again.

use std::collections::{BTreeSet, HashSet};

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
    steps,
};
use crate::tree::{Flush, LocalTree, Prepared, Tree, TreeError};

/// The control files as they are going to be, written beside those that are there: giving them their names needs no more room.
pub(super) struct PreparedControls(Vec<(TreePath, Prepared)>);

fn control_path(name: &str) -> Result<TreePath, SettleError> {
    TreePath::new(name).map_err(|error| SettleError::Journal { path: name.into(), why: error.to_string() })
}

fn control_files(texts: &ControlTexts) -> [(&'static str, Option<&str>); 2] {
    [(LOCK_FILE, texts.lock.as_deref()), (WANTS_FILE, texts.wants.as_deref())]
}

/// Where the control files are: always on this machine, often in the server's folder itself.
fn control_tree(tree: &dyn Tree, journal: &Journal) -> LocalTree {
    let folder = &journal.plan.control;
    let Some(tree) = tree.local() else { return LocalTree::new(folder) };
    let is_same = tree.root().canonicalize().is_ok_and(|root| root == *folder);
    if is_same { tree.clone() } else { tree.beside(folder) }
}

impl PreparedControls {
    /// Writes those that change.
    pub(super) fn of(tree: &dyn Tree, journal: &Journal, texts: &ControlTexts) -> Result<Self, SettleError> {
        let control = control_tree(tree, journal);
        let mut prepared = Vec::new();
        for (name, text) in control_files(texts) {
            let path = control_path(name)?;
            let Some(text) = text else { continue };
            if control.digest_file(&path).map_err(of_control)?.map(|(digest, _)| digest)
                != Some(Digest::of(text.as_bytes()))
            {
                prepared.push((path.clone(), control.prepare(&path, text.as_bytes()).map_err(of_control)?));
            }
        }
        Ok(Self(prepared))
    }

    fn commit(self, tree: &dyn Tree, journal: &Journal) -> Result<(), SettleError> {
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
fn write_controls(tree: &dyn Tree, journal: &Journal, when: &str) -> Result<(), SettleError> {
    let control = control_tree(tree, journal);
    for (name, text) in control_files(&journal.texts(tree, when)?) {
        let path = control_path(name)?;
        let now = control.digest_file(&path).map_err(of_control)?.map(|(digest, _)| digest);
        match text {
            Some(text) if now == Some(Digest::of(text.as_bytes())) => {}
            Some(text) => control.replace(&path, text.as_bytes()).map_err(of_control)?,
            None if now.is_some() => control.remove_files(&[path]).map_err(of_control)?,
            None => {}
        }
    }
    Ok(())
}

impl Journal {
    /// Does all steps; those that were done already are not done again.
    pub(super) fn carry_out(&self, tree: &dyn Tree, finishing: Option<&SealKey>) -> Result<(), SettleError> {
        let mut moved = HashSet::new();
        for run in steps::runs(self.steps()) {
            fault::point();
            steps::carry_out(tree, self, run, (finishing, &mut moved))?;
        }
        fault::point();
        self.make_places_durable(tree)
    }

    /// Puts the receipt of a time into its place.
    fn put_receipt(&self, tree: &dyn Tree, when: &str) -> Result<(), SettleError> {
        // It is written before the state changes, and never modified.
        let next = self.inner("receipt.json")?;
        let (at, folder) = (own("receipt.json")?, own("")?);
        let kept = self.receipt_at(tree, when)?;
        let is_same = tree.digest_file(&at)?.map(|(digest, _)| digest)
            == tree.digest_file(&kept)?.map(|(digest, _)| digest);
        tree.duplicate(&kept, &next)?;
        tree.rename(&[(&next, &at)])?;
        if is_same && tree.capabilities().hard_links {
            // A file and a second name of it are not moved onto one another.
            tree.remove_files(&[next])?;
        }
        Ok(tree.flush(Flush::Entries(&[folder]))?)
    }

    /// Writes receipt, lock and wants, and closes the journal.
    pub(super) fn finish(
        &self,
        tree: &dyn Tree,
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
            tree.flush(Flush::Background)?;
        }
        Ok(())
    }

    /// Removes staged files that are no longer needed; if that fails, the next command does it.
    pub(super) fn tidy(&self, tree: &dyn Tree) {
        tree.remove_all(&self.inner("staged").unwrap_or_else(|_| self.folder().clone())).ok();
    }

    /// Forgets a settle that touched nothing yet.
    pub(super) fn forget(&self, tree: &dyn Tree) -> Result<(), SettleError> {
        self.set_state(tree, State::TakenBack)?;
        self.tidy(tree);
        Ok(())
    }

    /// Takes everything back, whatever of it was done: the control files, the receipt, and the steps, last first. That it is
    /// being taken back is on the disk before the first of it: the next command continues from there.
    pub(super) fn roll_back(&self, tree: &dyn Tree) -> Result<(), SettleError> {
        self.set_state(tree, State::TakingBack)?;
        fault::point();
        for run in steps::runs(self.steps()).into_iter().rev() {
            steps::take_back(tree, self, run)?;
            fault::point();
        }
        self.put_receipt(tree, "before")?;
        write_controls(tree, self, "before")?;
        fault::point();
        self.sweep(tree)?;
        tree.flush(Flush::All)?;
        self.forget(tree)
    }

    /// Removes what was left half-written beside the files of the steps.
    pub(super) fn sweep(&self, tree: &dyn Tree) -> Result<(), SettleError> {
        let folders: BTreeSet<TreePath> =
            self.steps().iter().filter_map(|step| step.path().parent()).collect();
        tree.sweep_temporary(&Vec::from_iter(folders))?;
        control_tree(tree, self).sweep_temporary(&[TreePath::root()]).map_err(of_control)
    }

    /// Makes sure that what was staged is on the disk, unless it is 64 MB or more (see `unwritten`).
    pub(super) fn make_durable(&self, tree: &dyn Tree) -> Result<(), SettleError> {
        if self.is_unwritten() { Ok(()) } else { Ok(tree.flush(Flush::All)?) }
    }

    /// Makes sure that it is on the disk what lies where.
    fn make_places_durable(&self, tree: &dyn Tree) -> Result<(), SettleError> {
        if !self.is_unwritten() {
            return Ok(tree.flush(Flush::All)?);
        }
        let is_moved = |index: usize| self.whole(index).is_some_and(|whole| whole != index);
        let steps = self.steps().iter().enumerate().filter(|(index, _)| !is_moved(*index));
        let places = steps.filter_map(|(_, step)| step.path().parent());
        let folders: BTreeSet<TreePath> =
            places.chain([self.inner("attic")?, self.inner("staged")?]).collect();
        Ok(tree.flush(Flush::Entries(&Vec::from_iter(folders)))?)
    }

    /// Returns the payload files that are neither where they belong nor where they wait as they should be.
    pub(super) fn damaged(&self, tree: &dyn Tree) -> Result<Vec<TreePath>, SettleError> {
        let (staged, puts) = self.waiting()?;
        let waiting = tree.digest_as(&staged, &puts.iter().map(|step| step.after()).collect::<Vec<_>>())?;
        let mut doubtful = Vec::new();
        let mut damaged = Vec::new();
        for (step, waits) in puts.into_iter().zip(waiting) {
            let Step::Put { path, source, after, .. } = step else { continue };
            match waits {
                Some((digest, _)) if digest != *after => damaged.push(path.clone()),
                Some(_) => {}
                // A configuration file in its place the server may have written to since.
                None if matches!(source, Source::Text(_)) => {}
                None => doubtful.push((path.clone(), *after)),
            }
        }
        let paths: Vec<TreePath> = doubtful.iter().map(|(path, _)| path.clone()).collect();
        let digests: Vec<Option<Digest>> = doubtful.iter().map(|(_, after)| Some(*after)).collect();
        for ((path, after), now) in doubtful.into_iter().zip(tree.digest_as(&paths, &digests)?) {
            if now.is_none_or(|(digest, _)| digest != after) {
                damaged.push(path);
            }
        }
        damaged.sort();
        Ok(damaged)
    }

    /// Returns whether everything that waits beside the journal is what was put there.
    pub(super) fn is_intact(&self, tree: &dyn Tree) -> Result<bool, SettleError> {
        let (staged, puts) = self.waiting()?;
        let waiting = tree.digest_as(&staged, &puts.iter().map(|step| step.after()).collect::<Vec<_>>())?;
        let waiting = puts.into_iter().zip(waiting);
        Ok(waiting.into_iter().all(|(step, waits)| match (step, waits) {
            (Step::Put { after, .. }, Some((digest, _))) => digest == *after,
            _ => true,
        }))
    }

    /// Returns where the files of the steps wait, and the steps.
    fn waiting(&self) -> Result<(Vec<TreePath>, Vec<&Step>), SettleError> {
        let puts = self.steps().iter().enumerate().filter(|(_, step)| matches!(step, Step::Put { .. }));
        let waiting: Result<Vec<_>, SettleError> =
            puts.map(|(index, step)| Ok((staged_at(self, index)?, step))).collect();
        Ok(waiting?.into_iter().unzip())
    }
}
