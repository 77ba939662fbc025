//! The journal of one settle.

use std::{collections::HashSet, path::PathBuf};

use serde::{Deserialize, Serialize};
use yalotheca_core::{
    change::{Receipt, Step},
    id::TreePath,
};

use super::{
    ControlTexts, Order, Origin, SettleError, fault, own,
    staging::Wholes,
    steps::{self, Done},
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
}

/// The format of plans. In the first one every file waited by itself.
const FORMAT: u32 = 2;

fn damaged(path: &TreePath, why: &dyn std::fmt::Display) -> SettleError {
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

fn folder_of(number: u32) -> Result<TreePath, SettleError> {
    own(&format!("journal/{number:04}"))
}

impl Journal {
    /// Writes down what is going to be done.
    pub(super) fn begin(tree: &LocalTree, order: &Order<'_>) -> Result<Self, SettleError> {
        let number = numbers(tree)?.last().copied().unwrap_or(0) + 1;
        let plan = Plan {
            format: FORMAT,
            origin: order.origin.clone(),
            control: order.control.clone(),
            steps: order.change.steps.clone(),
        };
        let wholes = Wholes::of(&plan.steps);
        let journal = Self { number, folder: folder_of(number)?, plan, wholes };
        for name in ["staged", "attic", "before", "after"] {
            tree.make_folder(&journal.inner(name)?)?;
        }
        for (name, texts, receipt) in
            [("before", &order.before, order.receipt_before), ("after", &order.after, &order.change.receipt)]
        {
            tree.write(&journal.inner(&format!("{name}/receipt.json"))?, receipt.text().as_bytes())?;
            for (file, text) in [("yalotheca.toml", &texts.wants), ("yalotheca.lock", &texts.lock)] {
                if let Some(text) = text {
                    tree.write(&journal.inner(&format!("{name}/{file}"))?, text.as_bytes())?;
                }
            }
        }
        let plan_path = journal.inner("plan.json")?;
        let text = serde_json::to_vec_pretty(&journal.plan).map_err(|error| damaged(&plan_path, &error))?;
        tree.write(&plan_path, &text)?;
        journal.state(tree, "planned")?;
        Ok(journal)
    }

    /// Opens the journal of an earlier settle.
    pub(super) fn open(tree: &LocalTree, number: u32) -> Result<Self, SettleError> {
        let folder = folder_of(number)?;
        let path = folder.join("plan.json").map_err(|error| damaged(&folder, &error))?;
        let bytes = tree.read(&path)?.ok_or_else(|| damaged(&path, &"it is not there"))?;
        let plan: Plan = serde_json::from_slice(&bytes).map_err(|error| damaged(&path, &error))?;
        let wholes = if plan.format < FORMAT { Wholes::none(&plan.steps) } else { Wholes::of(&plan.steps) };
        Ok(Self { number, folder, plan, wholes })
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
        self.folder.join(name).map_err(|error| damaged(&self.folder, &error))
    }

    pub(super) fn state(&self, tree: &LocalTree, state: &str) -> Result<(), SettleError> {
        Ok(tree.write(&self.inner("state")?, state.as_bytes())?)
    }

    pub(super) fn read_state(&self, tree: &LocalTree) -> Result<String, SettleError> {
        let bytes = tree.read(&self.inner("state")?)?.unwrap_or_default();
        Ok(String::from_utf8_lossy(&bytes).into_owned())
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
        Ok(tree.sync()?)
    }

    /// Writes receipt, lock and wants, and closes the journal.
    pub(super) fn finish(&self, tree: &LocalTree) -> Result<(), SettleError> {
        let path = self.inner("after/receipt.json")?;
        let receipt = tree.read(&path)?.ok_or_else(|| damaged(&path, &"it is not there"))?;
        tree.write(&own("receipt.json")?, &receipt)?;
        fault::point();
        write_controls(&self.plan.control, &self.texts(tree, "after")?)?;
        fault::point();
        self.state(tree, "done")?;
        fault::point();
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
}

/// Finishes a settle that was interrupted, or takes it back; says which.
///
/// # Errors
/// Where that fails.
pub fn recover(tree: &LocalTree) -> Result<Option<Outcome>, SettleError> {
    let Some(number) = numbers(tree)?.last().copied() else { return Ok(None) };
    let plan = folder_of(number)?.join("plan.json").map_err(|error| damaged(&TreePath::root(), &error))?;
    if tree.find(&plan)?.is_none() {
        // It was interrupted while the plan was being written.
        tree.remove_all(&folder_of(number)?)?;
        return Ok(None);
    }
    let journal = Journal::open(tree, number)?;
    match journal.read_state(tree)?.as_str() {
        "done" | "taken back" => {
            // It may have been interrupted while it was tidied up.
            let staged = journal.inner("staged")?;
            if tree.find(&staged)?.is_some() {
                tree.remove_all(&staged)?;
            }
            Ok(None)
        }
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
