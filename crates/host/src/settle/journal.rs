//! The journal of one settle.

use std::{collections::HashSet, path::PathBuf};

use serde::{Deserialize, Serialize};
use yalotheca_core::{
    change::{Receipt, Source, Step},
    id::TreePath,
};

use super::{
    ControlTexts, Order, Origin, SettleError, fault, own,
    staging::{Wholes, staged_at},
    steps::{self, Done},
    unwritten::{Boot, is_much},
    write_controls,
};
use crate::tree::{Found, LocalTree, Tree};

/// What became of an interrupted settle.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// It was finished.
    Finished(Origin),
    /// It was taken back: nothing of the server had been touched.
    TakenBack(Origin),
    /// The machine went down in the midst of it, before its files were on the disk: everything is as before.
    Lost(Origin),
    /// The machine went down soon after it, before all its files were on the disk: so many are not what they should be.
    Damaged(Origin, usize),
}

#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Plan {
    pub(super) format: u32,
    pub(super) origin: Origin,
    pub(super) control: PathBuf,
    pub(super) steps: Vec<Step>,
}

/// The journal of one settle, open.
#[derive(Debug)]
pub(super) struct Journal {
    number: u32,
    folder: TreePath,
    plan: Plan,
    wholes: Wholes,
    unwritten: Option<Boot>,
}

/// Where it stands that nobody has waited for the disk.
const UNWRITTEN: &str = "unwritten";

/// The format of plans. In the first one every file waited by itself.
const FORMAT: u32 = 2;

pub(super) fn damaged(path: &TreePath, why: &dyn std::fmt::Display) -> SettleError {
    SettleError::Journal { path: path.to_string(), why: why.to_string() }
}

/// Returns the numbers of all settles, oldest first.
pub(super) fn numbers(tree: &LocalTree) -> Result<Vec<u32>, SettleError> {
    let entries = tree.list(&own("journal")?)?;
    let mut numbers: Vec<u32> = entries
        .iter()
        .filter(|(_, sort)| *sort == Found::Folder)
        .filter_map(|(name, _)| name.parse().ok())
        .collect();
    numbers.sort_unstable();
    Ok(numbers)
}

fn inner(folder: &TreePath, name: &str) -> Result<TreePath, SettleError> {
    folder.join(name).map_err(|error| damaged(folder, &error))
}

fn state_of(tree: &LocalTree, folder: &TreePath) -> Result<String, SettleError> {
    let bytes = tree.read(&inner(folder, "state")?)?.unwrap_or_default();
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

/// Returns in which run of the machine a settle was made whose files nobody knows on the disk.
fn unwritten(tree: &LocalTree, folder: &TreePath) -> Result<Option<Boot>, SettleError> {
    Ok(tree.read(&inner(folder, UNWRITTEN)?)?.and_then(|bytes| Boot::parse(&bytes)))
}

/// Waits until everything that a settle put is on the disk, where nobody has.
fn wait_for_disk(tree: &LocalTree, folder: &TreePath) -> Result<(), SettleError> {
    if unwritten(tree, folder)?.is_some() {
        tree.sync()?;
        tree.write(&inner(folder, UNWRITTEN)?, b"")?;
    }
    Ok(())
}

fn folder_of(number: u32) -> Result<TreePath, SettleError> {
    own(&format!("journal/{number:04}"))
}

impl Journal {
    /// Begins one; nothing of it is on the disk before it was written down.
    pub(super) fn begin(tree: &LocalTree, order: &Order<'_>) -> Result<Self, SettleError> {
        let last = numbers(tree)?.last().copied();
        if let Some(last) = last {
            // What this settle sets aside is on the disk, whatever becomes of the files that it puts there.
            wait_for_disk(tree, &folder_of(last)?)?;
        }
        let number = last.unwrap_or(0) + 1;
        let plan = Plan {
            format: FORMAT,
            origin: order.origin.clone(),
            control: order.control.clone(),
            steps: order.change.steps.clone(),
        };
        let wholes = Wholes::of(&plan.steps);
        let unwritten = if is_much(&plan.steps) { Boot::of_this_machine() } else { None };
        let journal = Self { number, folder: folder_of(number)?, plan, wholes, unwritten };
        for name in ["staged", "attic", "before", "after"] {
            tree.make_folder(&journal.inner(name)?)?;
        }
        Ok(journal)
    }

    /// Writes down what is going to be done. The disk is waited for once everything is written: each time it takes along what
    /// is staged meanwhile.
    pub(super) fn write_down(&self, tree: &LocalTree, order: &Order<'_>) -> Result<(), SettleError> {
        let mut written = Vec::new();
        let mut put = |name: &str, bytes: &[u8]| -> Result<(), SettleError> {
            let path = self.inner(name)?;
            tree.put(bytes, &path)?;
            written.push(path);
            Ok(())
        };
        for (name, texts, receipt) in
            [("before", &order.before, order.receipt_before), ("after", &order.after, &order.change.receipt)]
        {
            put(&format!("{name}/receipt.json"), receipt.text().as_bytes())?;
            for (file, text) in [("yalotheca.toml", &texts.wants), ("yalotheca.lock", &texts.lock)] {
                if let Some(text) = text {
                    put(&format!("{name}/{file}"), text.as_bytes())?;
                }
            }
        }
        let (plan_path, whole) = (self.inner("plan.json")?, self.inner("plan.next")?);
        let text = serde_json::to_vec(&self.plan).map_err(|error| damaged(&plan_path, &error))?;
        put("plan.next", &text)?;
        if let Some(boot) = &self.unwritten {
            put(UNWRITTEN, boot.text().as_bytes())?;
        }
        written.extend([self.inner("before")?, self.inner("after")?]);
        fault::point();
        for path in &written {
            tree.sync_one(path)?;
        }
        // A plan is there as a whole, with everything that belongs to it, or not at all.
        tree.rename(&whole, &plan_path)?;
        fault::point();
        self.state(tree, "planned")
    }

    /// Opens the journal of an earlier settle.
    pub(super) fn open(tree: &LocalTree, number: u32) -> Result<Self, SettleError> {
        let folder = folder_of(number)?;
        let path = folder.join("plan.json").map_err(|error| damaged(&folder, &error))?;
        let bytes = tree.read(&path)?.ok_or_else(|| damaged(&path, &"it is not there"))?;
        let plan: Plan = serde_json::from_slice(&bytes).map_err(|error| damaged(&path, &error))?;
        let wholes = if plan.format < FORMAT { Wholes::none(&plan.steps) } else { Wholes::of(&plan.steps) };
        let unwritten = unwritten(tree, &folder)?;
        Ok(Self { number, folder, plan, wholes, unwritten })
    }

    pub(super) fn number(&self) -> u32 {
        self.number
    }

    pub(super) fn steps(&self) -> &[Step] {
        &self.plan.steps
    }

    /// Returns the step that makes the outermost new folder around what a step makes or puts, if there is one.
    pub(super) fn whole(&self, index: usize) -> Option<usize> {
        self.wholes.get(index)
    }

    pub(super) fn origin(&self) -> &Origin {
        &self.plan.origin
    }

    pub(super) fn inner(&self, name: &str) -> Result<TreePath, SettleError> {
        inner(&self.folder, name)
    }

    pub(super) fn state(&self, tree: &LocalTree, state: &str) -> Result<(), SettleError> {
        Ok(tree.write(&self.inner("state")?, state.as_bytes())?)
    }

    pub(super) fn read_state(&self, tree: &LocalTree) -> Result<String, SettleError> {
        state_of(tree, &self.folder)
    }

    pub(super) fn receipt(&self, tree: &LocalTree, when: &str) -> Result<Receipt, SettleError> {
        let path = self.inner(&format!("{when}/receipt.json"))?;
        let bytes = tree.read(&path)?.ok_or_else(|| damaged(&path, &"it is not there"))?;
        Receipt::parse(path.as_str(), &String::from_utf8_lossy(&bytes))
            .map_err(|error| damaged(&path, &error))
    }

    pub(super) fn texts(&self, tree: &LocalTree, when: &str) -> Result<ControlTexts, SettleError> {
        let read = |file: &str| -> Result<Option<String>, SettleError> {
            let bytes = tree.read(&self.inner(&format!("{when}/{file}"))?)?;
            Ok(bytes.map(|bytes| String::from_utf8_lossy(&bytes).into_owned()))
        };
        Ok(ControlTexts { wants: read("yalotheca.toml")?, lock: read("yalotheca.lock")? })
    }

    /// Does all steps; those that were done already are not done again.
    pub(super) fn carry_out(&self, tree: &LocalTree) -> Result<(), SettleError> {
        let mut moved = HashSet::new();
        for (index, step) in self.plan.steps.iter().enumerate() {
            if self.whole(index).is_some_and(|whole| moved.contains(&whole)) {
                continue;
            }
            fault::point();
            if steps::carry_out(tree, self, index, step)? == Done::WithAllInIt {
                moved.insert(index);
            }
        }
        fault::point();
        self.make_places_durable(tree)
    }

    /// Writes receipt, lock and wants, and closes the journal.
    pub(super) fn finish(&self, tree: &LocalTree) -> Result<(), SettleError> {
        // It was written down before; nobody ever writes into it.
        let next = self.inner("receipt.json")?;
        tree.keep(&self.inner("after/receipt.json")?, &next)?;
        tree.rename(&next, &own("receipt.json")?)?;
        tree.sync_one(&own("")?)?;
        fault::point();
        write_controls(&self.plan.control, &self.texts(tree, "after")?)?;
        fault::point();
        self.state(tree, "done")?;
        fault::point();
        if self.is_unwritten() {
            tree.sync_behind();
        }
        Ok(tree.remove_all(&self.inner("staged")?)?)
    }

    /// Forgets a settle that touched nothing yet.
    pub(super) fn take_back(&self, tree: &LocalTree) -> Result<(), SettleError> {
        self.state(tree, "taken back")?;
        Ok(tree.remove_all(&self.inner("staged")?)?)
    }

    /// Takes the steps back, last first. Taking back a step that was not done changes nothing.
    pub(super) fn roll_back(&self, tree: &LocalTree) -> Result<(), SettleError> {
        for (index, step) in self.plan.steps.iter().enumerate().rev() {
            steps::take_back(tree, self, index, step)?;
        }
        self.take_back(tree)
    }

    /// Whether nobody has waited for the disk to write its files.
    pub(super) fn is_unwritten(&self) -> bool {
        self.unwritten.is_some()
    }

    /// Makes sure that what was staged is on the disk, unless it is so much that nobody waits for it.
    pub(super) fn make_durable(&self, tree: &LocalTree) -> Result<(), SettleError> {
        if self.is_unwritten() { Ok(()) } else { Ok(tree.sync()?) }
    }

    /// Makes sure that it is on the disk what lies where.
    fn make_places_durable(&self, tree: &LocalTree) -> Result<(), SettleError> {
        if !self.is_unwritten() {
            return Ok(tree.sync()?);
        }
        let is_moved = |index: usize| self.whole(index).is_some_and(|whole| whole != index);
        let steps = self.plan.steps.iter().enumerate().filter(|(index, _)| !is_moved(*index));
        let places = steps.filter_map(|(_, step)| step.path().parent());
        let folders: HashSet<TreePath> =
            places.chain([self.inner("attic")?, self.inner("staged")?]).collect();
        Ok(folders.iter().try_for_each(|folder| tree.sync_one(folder))?)
    }

    /// Counts the payload files that are neither where they belong nor where they wait as they should be.
    fn count_damaged(&self, tree: &LocalTree) -> Result<usize, SettleError> {
        let mut damaged = 0;
        for (index, step) in self.plan.steps.iter().enumerate() {
            let Step::Put { path, source: Source::Payload | Source::Attic { .. }, after, .. } = step else {
                continue;
            };
            let staged = tree.digest(&staged_at(self, index)?)?;
            let found = if staged.is_some() { staged } else { tree.digest(path)? };
            damaged += usize::from(found.is_none_or(|(digest, _)| digest != *after));
        }
        Ok(damaged)
    }

    /// Takes everything back, whatever of it was done: the steps, the receipt and the control files.
    fn give_up(&self, tree: &LocalTree) -> Result<(), SettleError> {
        tree.write(&own("receipt.json")?, self.receipt(tree, "before")?.text().as_bytes())?;
        write_controls(&self.plan.control, &self.texts(tree, "before")?)?;
        self.roll_back(tree)
    }
}

/// Finishes a settle that was interrupted, or takes it back; says which.
///
/// # Errors
/// Where that fails.
pub fn recover(tree: &LocalTree) -> Result<Option<Outcome>, SettleError> {
    let Some(number) = numbers(tree)?.last().copied() else { return Ok(None) };
    let folder = folder_of(number)?;
    let state = state_of(tree, &folder)?;
    let is_over = ["done", "taken back"].contains(&state.as_str());
    let boot = unwritten(tree, &folder)?;
    let went_down = boot.is_some_and(|boot| Boot::of_this_machine() != Some(boot));
    let staged = inner(&folder, "staged")?;
    if is_over && tree.find(&staged)?.is_some() {
        // It was interrupted while it was tidied up.
        tree.remove_all(&staged)?;
    }
    if is_over && !went_down {
        return Ok(None);
    }
    if tree.find(&inner(&folder, "plan.json")?)?.is_none() {
        // It was interrupted while the plan was being written.
        tree.remove_all(&folder)?;
        return Ok(None);
    }
    let journal = Journal::open(tree, number)?;
    let damaged = if went_down && ["staged", "done"].contains(&state.as_str()) {
        journal.count_damaged(tree)?
    } else {
        0
    };
    if state == "staged" && damaged > 0 {
        // What is noted stays until all is taken back: should this be interrupted too, it must not be finished then.
        journal.give_up(tree)?;
        return Ok(Some(Outcome::Lost(journal.plan.origin)));
    }
    if went_down {
        wait_for_disk(tree, &folder)?;
    }
    match state.as_str() {
        "done" => Ok((damaged > 0).then_some(Outcome::Damaged(journal.plan.origin, damaged))),
        "taken back" => Ok(None),
        "staged" => {
            journal.carry_out(tree)?;
            journal.finish(tree)?;
            Ok(Some(Outcome::Finished(journal.plan.origin)))
        }
        _ => {
            journal.take_back(tree)?;
            Ok(Some(Outcome::TakenBack(journal.plan.origin)))
        }
    }
}
