//! From what is to what should be: the ordered steps.
//!
//! A change set knows five steps: make a folder, put a file, set a file aside, remove an empty folder, (later) run the
//! game's index tool. Each can be taken back. Files are put before entries that name them, and entries are taken out
//! before their files: content files first, then configuration, then what goes.

mod entries;
mod lines;
mod manifest;
mod paths;
mod receipt;
mod reserved;
mod step;
#[cfg(test)]
mod tests;
mod undo;

use std::{
    collections::{BTreeMap, BTreeSet, HashMap, HashSet, VecDeque},
    sync::Arc,
};

use globset::GlobSet;

pub use entries::{EntryAct, EntryLine};
pub use lines::{ConfigLine, FileAct, FileLine, KeptLine, MergedLine, PendingLine, diff};
pub use manifest::{ReadManifest, StoredReceipt};
pub use paths::paths_of_interest;
pub use receipt::{OwnedEntry, Placed, ReadReceiptError, Receipt, Settled};
pub use reserved::Reserved;
pub use step::{Source, Step};
pub use undo::undo;

use paths::{Ascending, folders_above};

use crate::{
    desire::{Desired, Entry, Placement, Registration},
    document::{Document, EditDocumentError, EncodeTextError, Format, TextFile},
    hint::{Advice, Hint},
    id::{ContentId, Digest, TreePath},
    settings::{KeptWhy, Merged, SERVER},
};

/// The ordered steps from what is to what should be.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ChangeSet {
    /// The steps.
    pub steps: Vec<Step>,
    /// What happens to content files.
    pub files: Vec<FileLine>,
    /// What happens to configuration files.
    pub config: Vec<ConfigLine>,
    /// What waits for the server's first start.
    pub pending: Vec<PendingLine>,
    /// Files that somebody has changed since they were put there, and that stay as they are.
    pub kept: Vec<KeptLine>,
    /// Configuration files that cannot be read and are left as they are: the file, its line, and what was expected.
    pub skipped: Vec<(TreePath, usize, String)>,
    /// The receipt afterwards.
    pub receipt: Receipt,
}

impl ChangeSet {
    /// Returns whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.steps.is_empty()
    }
}

/// What is there now, at the paths that matter (see [`paths_of_interest`]).
#[derive(Debug, Clone, Default)]
pub struct Present {
    /// Content files: digest and size; a path that is missing here has no file.
    pub files: BTreeMap<TreePath, (Digest, u64)>,
    /// Configuration files: their text; a path that is missing here has no file.
    pub texts: BTreeMap<TreePath, TextFile>,
    /// Folders that exist.
    pub folders: BTreeSet<TreePath>,
    /// Settings files whose defaults have changed, brought up to date.
    pub merged: BTreeMap<TreePath, Update>,
    /// Whether files that cannot be read are left as they are, instead of stopping everything.
    pub skip_broken: bool,
    /// Files that are replaced even where somebody has changed them since they were put there.
    pub replace: Option<GlobSet>,
}

impl Present {
    /// Whether a file is replaced although somebody has changed it.
    fn replaces(&self, path: &TreePath) -> bool {
        self.replace.as_ref().is_some_and(|globs| globs.is_match(path.as_str()))
    }
}

/// A settings file, brought up to date with new defaults.
#[derive(Debug, Clone)]
pub struct Update {
    /// Its format.
    pub format: Format,
    /// The new text and what is kept.
    pub merged: Merged,
    /// The new defaults; they are kept beside the file where something in it stays as it was.
    pub defaults: String,
}

/// What stands against a change set.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PlanChangeError {
    /// A configuration file cannot be read or edited.
    #[error("{path}: {source}")]
    Edit {
        /// The file.
        path: TreePath,
        /// Why.
        source: EditDocumentError,
    },
    /// A configuration file's encoding has no bytes for what must be written.
    #[error("{path}: {source}")]
    Encode {
        /// The file.
        path: TreePath,
        /// Why.
        source: EncodeTextError,
    },
    /// Two contents want different values at one place.
    #[error("{first} and {second} both write {path}#{pointer}")]
    Dispute {
        /// The file.
        path: TreePath,
        /// The place.
        pointer: String,
        /// The one.
        first: ContentId,
        /// The other.
        second: ContentId,
    },
}

impl Hint for PlanChangeError {
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::Edit { source: EditDocumentError::Parse(_), .. } => Some(Advice::CorrectOrSkip),
            Self::Edit { source, .. } => source.hint(),
            Self::Encode { path, .. } => {
                Some(format!("convert {path} to UTF-8, if the server can read it so").into())
            }
            Self::Dispute { first, second, pointer, .. }
                if first.as_str() == SERVER || second.as_str() == SERVER =>
            {
                Some(Advice::ResetServerSetting(pointer.clone()))
            }
            Self::Dispute { second, .. } => Some(Advice::RemoveOneOf(second.to_string())),
        }
    }
}

/// Computes the steps from what is to what should be.
///
/// # Errors
/// Where a configuration file cannot be edited, or two contents dispute an entry.
pub fn plan(
    desired: &Desired,
    contents: BTreeMap<ContentId, Settled>,
    receipt: &Receipt,
    present: &Present,
) -> Result<ChangeSet, PlanChangeError> {
    let mut change = ChangeSet {
        receipt: Receipt { contents, folders: receipt.folders.clone(), ..Receipt::empty() },
        ..ChangeSet::default()
    };
    let goes = going(desired, receipt, present);
    place_files(desired, receipt, present, &goes, &mut change);
    let mut texts = Vec::new();
    edit_files(desired, receipt, present, &mut change, &mut texts)?;
    change.steps.extend(texts);
    let moved: HashSet<TreePath> = change.files.iter().filter_map(|line| line.from.clone()).collect();
    for (path, digest) in &goes {
        let placed = &receipt.placed[path];
        if !moved.contains(path) {
            let (content, size) = (placed.content.clone(), placed.size);
            change.files.push(FileLine {
                act: FileAct::Aside,
                path: path.clone(),
                from: None,
                size,
                content,
            });
        }
        change.steps.push(Step::SetAside { path: path.clone(), before: *digest });
    }
    make_folders(present, &mut change);
    remove_folders(present, &mut change);
    Ok(change)
}

/// Files of ours that are there and no longer belong there.
fn going(desired: &Desired, receipt: &Receipt, present: &Present) -> Vec<(TreePath, Digest)> {
    let mut wanted = Ascending::new(&desired.placements);
    receipt
        .placed
        .keys()
        .filter(|path| wanted.get(path).is_none() && !stays_beside(path, desired, present))
        .filter_map(|path| present.files.get(path).map(|(digest, _)| (path.clone(), *digest)))
        .collect()
}

/// What the receipt lists afterwards: mostly the same as before.
fn placed_by(desired: &Desired, receipt: &Receipt) -> Arc<BTreeMap<TreePath, Placed>> {
    let is_same = |((at, placed), (path, wanted)): ((&TreePath, &Placed), (&TreePath, &Placement))| {
        placed.digest == wanted.digest
            && placed.size == wanted.size
            && placed.content == wanted.content
            && at == path
    };
    if receipt.placed.len() == desired.placements.len()
        && receipt.placed.iter().zip(&desired.placements).all(is_same)
    {
        return Arc::clone(&receipt.placed);
    }
    let placed = desired.placements.iter().map(|(path, Placement { content, size, digest })| {
        (path.clone(), Placed { content: content.clone(), size: *size, digest: *digest })
    });
    Arc::new(placed.collect())
}

fn place_files(
    desired: &Desired,
    receipt: &Receipt,
    present: &Present,
    goes: &[(TreePath, Digest)],
    change: &mut ChangeSet,
) {
    // Equal files are moved in path order, each to its own new place.
    let mut moves: HashMap<Digest, VecDeque<&TreePath>> = HashMap::new();
    for (path, digest) in goes {
        moves.entry(*digest).or_default().push_back(path);
    }
    change.receipt.placed = placed_by(desired, receipt);
    let new = desired.placements.len().saturating_sub(receipt.placed.len());
    change.steps.reserve(new);
    change.files.reserve(new);
    let mut there = Ascending::new(&present.files);
    for (path, placement) in &desired.placements {
        let before = there.get(path).map(|(digest, _)| *digest);
        if before == Some(placement.digest) {
            continue;
        }
        let from = moves.get(&placement.digest).and_then(VecDeque::front);
        let owned = receipt.placed.get(path);
        if let (Some(now), Some(owned)) = (before, owned)
            && now != owned.digest
            && !present.replaces(path)
        {
            keep_changed((path, placement), receipt, present, change);
            continue;
        }
        let act = match (before, owned) {
            (None, None) if from.is_some() => FileAct::Move,
            (None, None) => FileAct::Put,
            (None, Some(owned)) if owned.digest == placement.digest => FileAct::Restore,
            (_, Some(_)) => FileAct::Replace,
            (Some(_), None) => FileAct::Displace,
        };
        let (content, size) = (placement.content.clone(), placement.size);
        let from =
            moves.get_mut(&placement.digest).filter(|_| act == FileAct::Move).and_then(VecDeque::pop_front);
        let from = from.cloned();
        change.files.push(FileLine { act, path: path.clone(), from, size, content });
        change.steps.push(Step::Put {
            path: path.clone(),
            source: Source::Payload,
            before,
            after: placement.digest,
            size: placement.size,
        });
    }
}

/// Whether a newer file still lies beside one that somebody has changed and that stays.
fn stays_beside(path: &TreePath, desired: &Desired, present: &Present) -> bool {
    let kept = path.as_str().strip_suffix(BESIDE).and_then(|path| TreePath::new(path).ok());
    kept.is_some_and(|kept| {
        let newest = desired.placements.get(&kept).map(|placement| placement.digest);
        newest.is_some()
            && present.files.get(&kept).is_some_and(|(digest, _)| Some(*digest) != newest)
            && !present.replaces(&kept)
    })
}

/// What is added to the name of a file whose place holds one that somebody has changed.
const BESIDE: &str = ".newer";

/// Where a newer file is put whose place holds one that somebody has changed.
fn beside_file(path: &TreePath) -> Option<TreePath> {
    TreePath::new(&format!("{path}{BESIDE}")).ok()
}

/// Somebody has changed a file since it was put there: it stays. Where its content has a newer one, that is put beside it.
fn keep_changed(
    (path, placement): (&TreePath, &Placement),
    receipt: &Receipt,
    present: &Present,
    change: &mut ChangeSet,
) {
    let owned = &receipt.placed[path];
    let mut line = KeptLine {
        path: path.clone(),
        content: Some(placement.content.clone()),
        put: owned.digest,
        beside: None,
    };
    if let Some(beside) = beside_file(path) {
        let is_new = owned.digest != placement.digest;
        // If somebody removed it, it is not put there again.
        let is_there = receipt.placed.contains_key(&beside) && present.files.contains_key(&beside);
        if !is_new && !is_there {
            change.kept.push(line);
            return;
        }
        let before = present.files.get(&beside).map(|(digest, _)| *digest);
        if is_new && before != Some(placement.digest) {
            change.steps.push(Step::Put {
                path: beside.clone(),
                source: Source::Payload,
                before,
                after: placement.digest,
                size: placement.size,
            });
        }
        let Placement { content, size, digest } = placement.clone();
        let placed = Placed { content, size, digest };
        Arc::make_mut(&mut change.receipt.placed).insert(beside.clone(), placed);
        line.beside = Some(beside);
    }
    change.kept.push(line);
}

fn edit_files(
    desired: &Desired,
    receipt: &Receipt,
    present: &Present,
    change: &mut ChangeSet,
    steps: &mut Vec<Step>,
) -> Result<(), PlanChangeError> {
    let mut files: BTreeMap<&TreePath, (Format, Vec<&Registration>, Vec<OwnedEntry>)> = BTreeMap::new();
    for entry in &receipt.entries {
        let file = files.entry(&entry.file).or_insert_with(|| (entry.format, Vec::new(), Vec::new()));
        file.2.push(entry.clone());
    }
    for registration in &desired.registrations {
        let file =
            files.entry(&registration.file).or_insert_with(|| (registration.format, Vec::new(), Vec::new()));
        // How the file is read is what the definition says now, and not what it said when the receipt was written.
        file.0 = registration.format;
        dispute(&file.1, registration)?;
        file.1.push(registration);
    }
    for (path, update) in &present.merged {
        files.entry(path).or_insert_with(|| (update.format, Vec::new(), Vec::new()));
    }
    for (path, (format, wanted, owned)) in files {
        let failed = |source: EditDocumentError| PlanChangeError::Edit { path: path.clone(), source };
        let now = present.texts.get(path);
        let head = receipt.created.get(path).cloned();
        if now.is_none() && wanted.iter().all(|registration| registration.waits) {
            if let Some(first) = wanted.first() {
                let (path, content) = (path.clone(), first.content.clone());
                change.pending.push(PendingLine { path, content, settings: wanted.len() });
            }
            continue;
        }
        let create =
            head.clone().unwrap_or_else(|| wanted.first().map_or_else(String::new, |r| r.create.clone()));
        let update = present.merged.get(path);
        let text = match update {
            Some(update) => update.merged.text.as_str(),
            None => now.map_or(create.as_str(), TextFile::text),
        };
        let document = match Document::parse(format, text) {
            Ok(document) => document,
            Err(error) if present.skip_broken => {
                change.receipt.entries.extend(owned);
                change.receipt.created.extend(head.map(|head| (path.clone(), head)));
                change.skipped.push((path.clone(), error.line, error.expected));
                continue;
            }
            Err(error) => return Err(failed(error.into())),
        };
        let compiled = entries::compile(document, &owned, &wanted).map_err(failed)?;
        let ours = head.is_some() || now.is_none();
        let removed = ours && wanted.is_empty() && compiled.text == create;
        change.receipt.entries.extend(compiled.entries);
        if ours && !removed {
            change.receipt.created.insert(path.clone(), create);
        }
        let before = now.map(|file| Digest::of(&file.bytes()));
        let line = ConfigLine {
            diff: diff(now.map_or("", TextFile::text), if removed { "" } else { &compiled.text }),
            merged: update.map(|update| MergedLine {
                taken: update.merged.taken.len(),
                kept: update.merged.kept.clone(),
            }),
            ..ConfigLine::new(path, now.is_none(), removed, compiled.lines)
        };
        if let Some(update) = update.filter(|update| update.has_conflict()) {
            beside(path, update, present, change, steps);
        }
        match before {
            Some(before) if removed => steps.push(Step::SetAside { path: path.clone(), before }),
            _ if now.is_some_and(|file| file.text() == compiled.text) => continue,
            _ => {
                let new = now.cloned().unwrap_or_default().with(compiled.text);
                let new = new.map_err(|source| PlanChangeError::Encode { path: path.clone(), source })?;
                steps.push(put_text(path, before, new));
            }
        }
        change.config.push(line);
    }
    Ok(())
}

/// Returns the step that puts a configuration file's new text.
pub fn put_text(path: &TreePath, before: Option<Digest>, file: TextFile) -> Step {
    let bytes = file.bytes();
    Step::Put {
        path: path.clone(),
        before,
        after: Digest::of(&bytes),
        size: bytes.len() as u64,
        source: Source::Text(file),
    }
}

impl Update {
    fn has_conflict(&self) -> bool {
        self.merged.kept.iter().any(|kept| kept.why == KeptWhy::Changed)
    }

    /// Returns where the new defaults are kept, beside a settings file.
    pub fn beside(path: &TreePath) -> Option<TreePath> {
        TreePath::new(&format!("{path}.defaults")).ok()
    }
}

/// Keeps the new defaults beside a settings file that could not take all of them.
fn beside(
    path: &TreePath,
    update: &Update,
    present: &Present,
    change: &mut ChangeSet,
    steps: &mut Vec<Step>,
) {
    let Some(at) = Update::beside(path) else { return };
    let now = present.texts.get(&at);
    if now.is_some_and(|file| file.text() == update.defaults) {
        return;
    }
    let line = ConfigLine::new(&at, now.is_none(), false, Vec::new());
    change.config.push(ConfigLine { diff: diff(now.map_or("", TextFile::text), &update.defaults), ..line });
    steps.push(put_text(&at, now.map(|file| Digest::of(&file.bytes())), update.defaults.as_str().into()));
}

/// Two contents must not write one place. What a tweak writes nobody else writes, not even the same.
fn dispute(earlier: &[&Registration], registration: &Registration) -> Result<(), PlanChangeError> {
    let sets = |r: &Registration| matches!(r.entry, Entry::Set(_));
    if !sets(registration) && !registration.exclusive {
        return Ok(());
    }
    let clash = |other: &&&Registration| {
        if other.content == registration.content {
            return other.entry != registration.entry
                && sets(registration)
                && sets(other)
                && other.pointer == registration.pointer;
        }
        let exclusive = other.exclusive && registration.exclusive;
        match (sets(other), sets(registration)) {
            (true, true) => {
                let (one, two) = (other.pointer.tokens(), registration.pointer.tokens());
                let within = one.starts_with(two) || two.starts_with(one);
                within && (one.len() != two.len() || exclusive || other.entry != registration.entry)
            }
            (false, false) => {
                exclusive && other.pointer == registration.pointer && other.entry == registration.entry
            }
            _ => false,
        }
    };
    match earlier.iter().find(clash) {
        None => Ok(()),
        Some(other) => Err(PlanChangeError::Dispute {
            path: registration.file.clone(),
            pointer: registration.pointer.to_string(),
            first: other.content.clone(),
            second: registration.content.clone(),
        }),
    }
}

fn make_folders(present: &Present, change: &mut ChangeSet) {
    let puts = change.steps.iter().filter_map(|step| match step {
        Step::Put { path, .. } => Some(path),
        _ => None,
    });
    let mut needed = folders_above(puts);
    needed.retain(|folder| !present.folders.contains(folder));
    change.receipt.folders.extend(needed.iter().cloned());
    // Sorted by path, so that the outer one comes first.
    let steps: Vec<Step> = needed.into_iter().map(|path| Step::MakeFolder { path }).collect();
    change.steps.splice(0..0, steps);
}

/// Folders of ours in which nothing of ours will lie: removed where they are empty by then.
fn remove_folders(present: &Present, change: &mut ChangeSet) {
    let entries = change.receipt.entries.iter().map(|entry| &entry.file);
    let used = folders_above(change.receipt.placed.keys().chain(entries));
    let unused: Vec<TreePath> =
        change.receipt.folders.iter().filter(|folder| !used.contains(*folder)).cloned().collect();
    for path in unused.into_iter().rev() {
        change.receipt.folders.remove(&path);
        if present.folders.contains(&path) {
            change.steps.push(Step::RemoveFolder { path });
        }
    }
}
