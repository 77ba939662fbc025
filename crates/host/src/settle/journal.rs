//! The record of one settle: what was to be done, what was there before, and how far it has come.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use yalotheca_core::{
    change::{Receipt, Step},
    id::{Digest, TreePath},
};

use super::{
    ChangeOrigin, ControlTexts, SealKey, SettleError, SettleOrder, damaged, fault,
    outermost::OutermostFolders,
    own,
    records::{self, ReceiptFile, Records},
    unwritten::{BootId, is_much},
};
use crate::tree::{Access, EntryKind, Flush, NewFolder, Tree};

#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Plan {
    pub(super) format: u32,
    #[serde(default)]
    pub(super) number: u32,
    pub(super) origin: ChangeOrigin,
    pub(super) control: PathBuf,
    pub(super) steps: Vec<Step>,
}

/// How far a settle has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum State {
    /// It is being prepared: nothing of the server was touched.
    Planned,
    /// Everything waits beside it: it can be finished.
    Staged,
    /// It is done.
    Done,
    /// It is being taken back.
    TakingBack,
    /// It was taken back.
    TakenBack,
}

impl State {
    const ALL: [(&'static str, Self); 4] = [
        ("staged", Self::Staged),
        ("done", Self::Done),
        ("taking back", Self::TakingBack),
        ("taken back", Self::TakenBack),
    ];

    fn parse(text: &str) -> Self {
        let text = text.trim();
        Self::ALL.into_iter().find(|(name, _)| *name == text).map_or(Self::Planned, |(_, state)| state)
    }

    fn text(self) -> &'static str {
        Self::ALL.into_iter().find(|(_, state)| *state == self).map_or("planned", |(name, _)| name)
    }

    pub(super) fn is_over(self) -> bool {
        matches!(self, Self::Done | Self::TakenBack)
    }
}

/// The journal of one settle, open.
#[derive(Debug)]
pub(super) struct Journal {
    number: u32,
    folder: TreePath,
    pub(super) plan: Plan,
    wholes: OutermostFolders,
    unwritten: Option<BootId>,
}

/// Where it stands that nobody has waited for the disk.
const UNWRITTEN: &str = "unwritten";

/// The format of plans.
const FORMAT: u32 = 4;

/// The files of a journal that its seal covers. Since the fourth format receipts and control files are records, named by digest.
const SEALED: [&str; 8] = [
    "plan.json",
    "records.json",
    "before/receipt.json",
    "before/yalotheca.toml",
    "before/yalotheca.lock",
    "after/receipt.json",
    "after/yalotheca.toml",
    "after/yalotheca.lock",
];

fn name_of(number: u32) -> String {
    format!("{number:04}")
}

/// Returns the numbers of all settles, oldest first.
pub(super) fn numbers(tree: &dyn Tree) -> Result<Vec<u32>, SettleError> {
    let entries = tree.list_folder(&own("journal")?)?;
    let mut numbers: Vec<u32> = entries
        .iter()
        .filter(|(_, sort)| *sort == EntryKind::Folder)
        .filter_map(|(name, _)| name.parse().ok().filter(|number| name_of(*number) == *name))
        .collect();
    numbers.sort_unstable();
    Ok(numbers)
}

pub(super) fn inner(folder: &TreePath, name: &str) -> Result<TreePath, SettleError> {
    folder.join(name).map_err(|error| damaged(folder, &error))
}

/// Where a state is written before it is noted.
fn prepared(state: State) -> String {
    format!("staged/state-{}", state.text())
}

pub(super) fn state_of(tree: &dyn Tree, folder: &TreePath) -> Result<State, SettleError> {
    let bytes = tree.read_file(&inner(folder, "state")?)?.unwrap_or_default();
    Ok(State::parse(&String::from_utf8_lossy(&bytes)))
}

/// Returns in which run of the machine a settle was made whose files nobody knows on the disk.
pub(super) fn unwritten(tree: &dyn Tree, folder: &TreePath) -> Result<Option<BootId>, SettleError> {
    if tree.local().is_none() {
        return Ok(None);
    }
    Ok(tree.read_file(&inner(folder, UNWRITTEN)?)?.and_then(|bytes| BootId::parse(&bytes)))
}

/// Waits until everything that a settle put is on the disk, where nobody has.
pub(super) fn wait_for_disk(tree: &dyn Tree, folder: &TreePath) -> Result<(), SettleError> {
    if unwritten(tree, folder)?.is_some() {
        tree.flush(Flush::All)?;
        tree.replace(&inner(folder, UNWRITTEN)?, b"")?;
    }
    Ok(())
}

pub(super) fn folder_of(number: u32) -> Result<TreePath, SettleError> {
    own(&format!("journal/{}", name_of(number)))
}

/// Returns where the file that a step replaced or set aside is kept.
///
/// # Errors
/// If the number makes no valid path.
pub fn in_attic(number: u32, index: usize) -> Result<TreePath, SettleError> {
    inner(&folder_of(number)?, &format!("attic/{index}"))
}

/// Returns who made a settle, when and why.
pub(super) fn origin_of(tree: &dyn Tree, number: u32) -> Result<ChangeOrigin, SettleError> {
    let folder = folder_of(number)?;
    let path = inner(&folder, "origin.json")?;
    match tree.read_file(&path)? {
        Some(bytes) => serde_json::from_slice(&bytes).map_err(|error| damaged(&path, &error)),
        // Journals of earlier versions have it in their plan only.
        None => Ok(Journal::open(tree, number)?.plan.origin),
    }
}

/// Returns the records of a settle; nothing for one of an earlier format.
pub(super) fn records_of(tree: &dyn Tree, number: u32) -> Result<Option<Records>, SettleError> {
    records_in(tree, &folder_of(number)?)
}

fn records_in(tree: &dyn Tree, folder: &TreePath) -> Result<Option<Records>, SettleError> {
    let path = inner(folder, "records.json")?;
    let Some(bytes) = tree.read_file(&path)? else { return Ok(None) };
    serde_json::from_slice(&bytes).map(Some).map_err(|error| damaged(&path, &error))
}

/// A control folder as journals name it.
fn full(control: &Path) -> PathBuf {
    control.canonicalize().unwrap_or_else(|_| control.to_owned())
}

impl Journal {
    /// Begins one; nothing of it is on the disk before it was written down.
    pub(super) fn begin(tree: &dyn Tree, order: &SettleOrder<'_>) -> Result<Self, SettleError> {
        let last = numbers(tree)?.last().copied();
        if let Some(last) = last {
            // What this settle sets aside is on the disk, whatever becomes of the files that it puts there.
            wait_for_disk(tree, &folder_of(last)?)?;
        }
        let number = last.unwrap_or(0).checked_add(1).ok_or_else(|| SettleError::Journal {
            path: ".yalotheca/journal".into(),
            why: "there is no number left for another change".into(),
        })?;
        let plan = Plan {
            format: FORMAT,
            number,
            origin: order.origin.clone(),
            control: full(&order.control),
            steps: order.change.steps.clone(),
        };
        let wholes = OutermostFolders::of(&plan.steps);
        // What a file server has acknowledged is its own to keep.
        let is_here = tree.local().is_some();
        let unwritten = if is_here && is_much(&plan.steps) { BootId::of_this_machine() } else { None };
        let journal = Self { number, folder: folder_of(number)?, plan, wholes, unwritten };
        let (staged, attic) = (journal.inner("staged")?, journal.inner("attic")?);
        tree.create_folders(&[
            NewFolder { path: &journal.folder, access: Access::Own },
            NewFolder { path: &staged, access: Access::Secret },
            NewFolder { path: &attic, access: Access::Secret },
        ])?;
        Ok(journal)
    }

    /// Writes down what is going to be done. The disk is waited for once everything is written: each time it takes along what
    /// is staged meanwhile.
    pub(super) fn write_down(&self, tree: &dyn Tree, order: &SettleOrder<'_>) -> Result<(), SettleError> {
        let mut sealed = String::new();
        let plan_path = self.inner("plan.json")?;
        let plan = serde_json::to_vec(&self.plan).map_err(|error| damaged(&plan_path, &error))?;
        seal_line(&mut sealed, "plan.json", &plan);
        let (records, mut files) = records::write(tree, order, self.inner("records")?)?;
        let records = serde_json::to_vec(&records).map_err(|error| damaged(&plan_path, &error))?;
        seal_line(&mut sealed, "records.json", &records);
        let origin = serde_json::to_vec(&self.plan.origin).map_err(|error| damaged(&plan_path, &error))?;
        let seal = order.key.seal(sealed.as_bytes()).into_bytes();
        let boot =
            self.unwritten.as_ref().map(|boot| (UNWRITTEN, boot.text().as_bytes().to_vec(), Access::Own));
        let own = [
            ("records.json", records, Access::Own),
            ("origin.json", origin, Access::Own),
            ("seal", seal, Access::Own),
            ("plan.next", plan, Access::Secret),
        ];
        // Far away each state that is expected is written now, so that noting it is one rename.
        let expected = if tree.local().is_none() { vec![State::Staged, State::Done] } else { Vec::new() };
        let expected = expected
            .into_iter()
            .map(|state| (prepared(state), state.text().as_bytes().to_vec(), Access::Own));
        let expected: Vec<(String, Vec<u8>, Access<'_>)> = expected.collect();
        let expected = expected.iter().map(|(name, bytes, access)| (name.as_str(), bytes.clone(), *access));
        for (name, bytes, access) in own.into_iter().chain(boot).chain(expected) {
            files.push(records::NewRecord { path: self.inner(name)?, bytes, access });
        }
        records::upload(tree, &files)?;
        let written: Vec<TreePath> = files.into_iter().map(|file| file.path).collect();
        fault::point();
        tree.flush(Flush::Entries(&written))?;
        // A plan is there as a whole, with everything that belongs to it, or not at all. As long as no state is noted, it is planned.
        Ok(tree.rename(&[(&self.inner("plan.next")?, &plan_path)])?)
    }

    /// Opens the journal of an earlier settle.
    pub(super) fn open(tree: &dyn Tree, number: u32) -> Result<Self, SettleError> {
        let folder = folder_of(number)?;
        let path = inner(&folder, "plan.json")?;
        let bytes = tree.read_file(&path)?.ok_or_else(|| damaged(&path, &"it is not there"))?;
        let plan: Plan = serde_json::from_slice(&bytes).map_err(|error| damaged(&path, &error))?;
        // The first two formats had no number; in the first one every file waited by itself.
        if plan.format > FORMAT || plan.format > 2 && plan.number != number {
            return Err(damaged(&path, &"it belongs to another change, or to a newer version of Yalotheca"));
        }
        let wholes = if plan.format < 2 {
            OutermostFolders::none(&plan.steps)
        } else {
            OutermostFolders::of(&plan.steps)
        };
        let unwritten = unwritten(tree, &folder)?;
        Ok(Self { number, folder, plan, wholes, unwritten })
    }

    /// Returns whether the settle was made from this control folder, or from one of another machine that lies there.
    pub(super) fn is_from(&self, control: &Path) -> bool {
        self.plan.control == full(control)
    }

    /// Returns whether the journal was sealed with this key and is unmodified.
    pub(super) fn is_sealed(&self, tree: &dyn Tree, key: Option<&SealKey>) -> Result<bool, SettleError> {
        let Some(key) = key else { return Ok(false) };
        let Some(seal) = tree.read_file(&self.inner("seal")?)? else { return Ok(false) };
        let mut sealed = String::new();
        for name in SEALED {
            if let Some(bytes) = tree.read_file(&self.inner(name)?)? {
                seal_line(&mut sealed, name, &bytes);
            }
        }
        Ok(key.fits(sealed.as_bytes(), &String::from_utf8_lossy(&seal)))
    }

    pub(super) fn number(&self) -> u32 {
        self.number
    }

    pub(super) fn folder(&self) -> &TreePath {
        &self.folder
    }

    pub(super) fn steps(&self) -> &[Step] {
        &self.plan.steps
    }

    /// Returns the step that makes the outermost new folder around what a step makes or puts, if there is one.
    pub(super) fn whole(&self, index: usize) -> Option<usize> {
        self.wholes.get(index)
    }

    pub(super) fn inner(&self, name: &str) -> Result<TreePath, SettleError> {
        inner(&self.folder, name)
    }

    /// Where what a step replaces or sets aside is kept.
    pub(super) fn attic(&self, index: usize) -> Result<TreePath, SettleError> {
        self.inner(&format!("attic/{index}"))
    }

    pub(super) fn set_state(&self, tree: &dyn Tree, state: State) -> Result<(), SettleError> {
        let at = self.inner("state")?;
        if tree.local().is_none() && matches!(state, State::Staged | State::Done) {
            let prepared = self.inner(&prepared(state))?;
            if tree.kind_of(&prepared)?.is_some() {
                return Ok(tree.rename(&[(&prepared, &at)])?);
            }
        }
        Ok(tree.replace(&at, state.text().as_bytes())?)
    }

    pub(super) fn receipt(&self, tree: &dyn Tree, when: &str) -> Result<Receipt, SettleError> {
        if let Some(records) = records_in(tree, &self.folder)? {
            return records::receipt(tree, &records.at(when).receipt);
        }
        let path = self.inner(&format!("{when}/receipt.json"))?;
        let bytes = tree.read_file(&path)?.ok_or_else(|| damaged(&path, &"it is not there"))?;
        ReceiptFile::parse(path.as_str(), &bytes)?.receipt(tree)
    }

    /// Returns where the receipt of a time is kept, unmodified.
    pub(super) fn receipt_at(&self, tree: &dyn Tree, when: &str) -> Result<TreePath, SettleError> {
        match records_in(tree, &self.folder)? {
            Some(records) => {
                let digest = records.at(when).receipt;
                records::check_receipt(tree, &digest)?;
                records::receipt_at(&digest)
            }
            None => self.inner(&format!("{when}/receipt.json")),
        }
    }

    pub(super) fn texts(&self, tree: &dyn Tree, when: &str) -> Result<ControlTexts, SettleError> {
        if let Some(records) = records_in(tree, &self.folder)? {
            return records::texts(tree, records.at(when));
        }
        let read = |file: &str| -> Result<Option<String>, SettleError> {
            let bytes = tree.read_file(&self.inner(&format!("{when}/{file}"))?)?;
            Ok(bytes.map(|bytes| String::from_utf8_lossy(&bytes).into_owned()))
        };
        Ok(ControlTexts { wants: read("yalotheca.toml")?, lock: read("yalotheca.lock")? })
    }

    /// Returns what the steps found in their places, where that was something else than the plan says. What somebody else
    /// noted there is not believed.
    pub(super) fn found(
        &self,
        tree: &dyn Tree,
        key: Option<&SealKey>,
    ) -> Result<Vec<(usize, Digest)>, SettleError> {
        let path = self.inner("found.json")?;
        let Some(bytes) = tree.read_file(&path)? else { return Ok(Vec::new()) };
        let text = String::from_utf8_lossy(&bytes);
        let (seal, json) = text.split_once('\n').unwrap_or_default();
        let sealed = format!("found {}\n{json}", self.number);
        if !key.is_some_and(|key| key.fits(sealed.as_bytes(), seal)) {
            return Ok(Vec::new());
        }
        serde_json::from_str(json).map_err(|error| damaged(&path, &error))
    }

    /// Notes that a step found something else in its place than the plan says; that lies in the attic now.
    pub(super) fn note_found(
        &self,
        tree: &dyn Tree,
        key: &SealKey,
        (index, digest): (usize, Digest),
    ) -> Result<(), SettleError> {
        let mut found = self.found(tree, Some(key))?;
        found.retain(|(known, _)| *known != index);
        found.push((index, digest));
        let path = self.inner("found.json")?;
        let json = serde_json::to_string(&found).map_err(|error| damaged(&path, &error))?;
        let seal = key.seal(format!("found {}\n{json}", self.number).as_bytes());
        Ok(tree.replace(&path, format!("{seal}\n{json}").as_bytes())?)
    }

    /// Whether nobody has waited for the disk to write its files.
    pub(super) fn is_unwritten(&self) -> bool {
        self.unwritten.is_some()
    }
}

fn seal_line(sealed: &mut String, name: &str, bytes: &[u8]) {
    sealed.push_str(name);
    sealed.push(' ');
    sealed.push_str(&Digest::of(bytes).to_string());
    sealed.push('\n');
}
