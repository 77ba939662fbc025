//! What was settled on a server, when and by whom, and how long it is kept.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::Path,
    time::{Duration, SystemTime},
};

use serde::Serialize;
use yalotheca_core::id::{Digest, TreePath};

use super::{
    ChangeOrigin, SealKey, SettleError, damaged,
    journal::{Journal, State, folder_of, inner, numbers, origin_of, records_of, state_of},
    own,
    records::{self, Moment, Records},
};
use crate::tree::{EntryKind, Tree};

/// What a settle was.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum PastKind {
    /// A change.
    Change,
    /// It took a change back.
    Undo,
    /// It did again what was taken back.
    Redo,
}

/// One settle of the past.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Past {
    /// Its number.
    pub number: u32,
    /// Who, when, why.
    #[serde(flatten)]
    pub origin: ChangeOrigin,
    /// What it was.
    pub kind: PastKind,
    /// Whether it was taken back by a later undo.
    pub undone: bool,
}

/// Returns the newest path in the attic for each digest, from the journals of earlier changes.
///
/// # Errors
/// If a journal cannot be read.
pub fn find_in_attic(
    tree: &dyn Tree,
    wanted: &BTreeSet<Digest>,
) -> Result<BTreeMap<Digest, TreePath>, SettleError> {
    let mut found = BTreeMap::new();
    for number in numbers(tree)?.into_iter().rev() {
        if state_of(tree, &folder_of(number)?)? != State::Done || found.len() == wanted.len() {
            continue;
        }
        let journal = Journal::open(tree, number)?;
        for (index, step) in journal.steps().iter().enumerate() {
            let Some(before) = step.before().filter(|before| wanted.contains(before)) else { continue };
            let path = journal.attic(index)?;
            if !found.contains_key(&before) && matches!(tree.kind_of(&path)?, Some(EntryKind::File(_))) {
                found.insert(before, path);
            }
        }
    }
    Ok(found)
}

/// Returns the settles of a server, oldest first.
///
/// # Errors
/// If a journal cannot be read.
pub fn history(tree: &dyn Tree) -> Result<Vec<Past>, SettleError> {
    let mut all = Vec::new();
    for number in numbers(tree)? {
        if state_of(tree, &folder_of(number)?)? == State::Done {
            let origin = origin_of(tree, number)?;
            let of =
                |number: u32| all.iter().find(|past: &&Past| past.number == number).map(|past| past.kind);
            let kind = match origin.undoes.map(of) {
                None => PastKind::Change,
                Some(Some(PastKind::Undo)) => PastKind::Redo,
                Some(_) => PastKind::Undo,
            };
            all.push(Past { number, origin, kind, undone: false });
        }
    }
    // An undo that was itself taken back has undone nothing.
    let mut by: BTreeMap<u32, bool> = BTreeMap::new();
    for past in all.iter_mut().rev() {
        past.undone = by.get(&past.number).copied().unwrap_or(false);
        if let Some(undoes) = past.origin.undoes {
            let holds = !past.undone;
            by.entry(undoes).and_modify(|undone| *undone |= holds).or_insert(holds);
        }
    }
    Ok(all)
}

/// Returns the last change of a server, where that was made from another control folder and the lock here is older: settling with it
/// would undo that. A lock that is in no record came from somewhere else, and counts as newer.
///
/// # Errors
/// Where a record cannot be read.
pub fn change_since(
    tree: &dyn Tree,
    (folder, lock): (&Path, &str),
    key: Option<&SealKey>,
) -> Result<Option<(u32, ChangeOrigin)>, SettleError> {
    let lock = Some(Digest::of(lock.as_bytes()));
    let mut last = None;
    for number in numbers(tree)?.into_iter().rev() {
        if state_of(tree, &folder_of(number)?)? != State::Done {
            continue;
        }
        let Some(records) = records_of(tree, number)? else { break };
        let is_here = |moment: &Moment| moment.lock == lock;
        if last.is_none() && is_here(&records.after) {
            return Ok(None);
        }
        let last = *last.get_or_insert(number);
        if is_here(&records.before) || is_here(&records.after) {
            let journal = Journal::open(tree, last)?;
            let is_ours = journal.is_from(folder) && journal.is_sealed(tree, key)?;
            return if is_ours { Ok(None) } else { Ok(Some((last, origin_of(tree, last)?))) };
        }
    }
    Ok(None)
}

/// Returns whether a settle's record was sealed with this key and is unmodified.
///
/// # Errors
/// Where its journal cannot be read.
pub fn is_sealed(tree: &dyn Tree, number: u32, key: Option<&SealKey>) -> Result<bool, SettleError> {
    Journal::open(tree, number)?.is_sealed(tree, key)
}

/// How long changes can be taken back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Retention {
    /// So many changes are kept at least,
    pub changes: usize,
    /// and all that are younger than this,
    pub age: Duration,
    /// as long as what they replaced and removed is not larger than this, in bytes; the last one is always kept.
    pub bytes: u64,
}

impl Default for Retention {
    fn default() -> Self {
        Self { changes: 20, age: Duration::from_secs(30 * 24 * 60 * 60), bytes: 20 << 30 }
    }
}

/// Every how many changes a server far away is looked at for what may be swept.
const SELDOM: u32 = 8;

/// Sweeps the journals and attics of changes that are not kept any longer. The server must be claimed.
///
/// # Errors
/// Where one cannot be read or removed.
pub fn sweep(tree: &dyn Tree, keep: Retention) -> Result<usize, SettleError> {
    let numbers = numbers(tree)?;
    let (mut bytes, mut swept, mut is_full) = (0_u64, 0, false);
    if tree.local().is_none() {
        // Far away it is looked at now and then only, and at all of them at once.
        if numbers.len() <= keep.changes && numbers.last().is_some_and(|last| last % SELDOM != 0) {
            return Ok(0);
        }
        let attics = numbers.iter().map(|number| inner(&folder_of(*number)?, "attic"));
        tree.list(&attics.collect::<Result<Vec<_>, _>>()?, true)?;
    }
    for (newer, number) in numbers.iter().rev().enumerate() {
        let folder = folder_of(*number)?;
        if newer == 0 {
            bytes += size_of(tree, &folder)?;
            continue;
        }
        let is_young = || -> Result<bool, SettleError> {
            let written = tree.modified(&inner(&folder, "state")?)?;
            Ok(written.is_none_or(|written| {
                SystemTime::now().duration_since(written).is_ok_and(|age| age <= keep.age)
            }))
        };
        if !is_full {
            bytes = bytes.saturating_add(size_of(tree, &folder)?);
            is_full = bytes > keep.bytes;
        }
        if is_full || newer >= keep.changes && !is_young()? {
            tree.remove_all(&folder)?;
            swept += 1;
        }
    }
    if swept > 0 {
        sweep_records(tree)?;
    }
    Ok(swept)
}

/// Returns how many bytes the attic of a settle holds.
fn size_of(tree: &dyn Tree, folder: &TreePath) -> Result<u64, SettleError> {
    let attic = tree.list_folder(&inner(folder, "attic")?)?;
    Ok(attic
        .iter()
        .map(|(_, found)| if let crate::tree::EntryKind::File(size) = found { *size } else { 0 })
        .sum())
}

/// Removes the records that no change and no receipt names any more. Where one of these cannot be read, nothing is removed.
fn sweep_records(tree: &dyn Tree) -> Result<(), SettleError> {
    let mut named: BTreeSet<String> = BTreeSet::new();
    let mut receipts: BTreeSet<Digest> = BTreeSet::new();
    for number in numbers(tree)? {
        let Some(Records { before, after }) = records_of(tree, number)? else { continue };
        for moment in [before, after] {
            receipts.insert(moment.receipt);
            named.extend([moment.wants, moment.lock].iter().flatten().map(|digest| format!("{digest}.zst")));
        }
    }
    let current = own("receipt.json")?;
    let mut texts: Vec<(TreePath, Vec<u8>)> = Vec::new();
    if let Some(bytes) = tree.read_file(&current)? {
        texts.push((current, bytes));
    }
    for digest in receipts {
        let path = records::receipt_at(&digest)?;
        named.insert(format!("{digest}.receipt"));
        let bytes = records::read_record(tree, &path, &digest)?;
        texts.push((path, bytes));
    }
    for (path, bytes) in texts {
        named.extend(records::named_by(&path, &bytes)?);
    }
    let folder = own("records")?;
    let unnamed = tree.list_folder(&folder)?.into_iter().filter(|(name, _)| !named.contains(name));
    let unnamed = unnamed.map(|(name, _)| folder.join(&name).map_err(|error| damaged(&folder, &error)));
    Ok(tree.remove_files(&unnamed.collect::<Result<Vec<_>, _>>()?)?)
}
