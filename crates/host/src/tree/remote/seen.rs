//! What a command has seen of a remote tree: listings of folders, kept until somebody else may have changed them, and where paths lead.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap, VecDeque},
    sync::Arc,
};

use yalotheca_core::id::TreePath;

use super::file_server::{RemoteEntry, RemoteKind, RemoteMetadata};
use crate::tree::{is_own, odd_name, rooted::Refusal};

/// A name that a file has while another one is put in its place, where the file server cannot replace it in one act. If that was
/// interrupted, the file is still known by its own name.
pub(super) const OLD: &str = ".yalotheca-old-";

/// So many blocks of opened files are kept.
const MOST_BLOCKS: usize = 8_000;

/// So many links may follow one another.
const MOST_LINKS: usize = 40;

/// A name in a folder.
#[derive(Debug, Clone)]
pub(super) struct Entry {
    pub(super) metadata: RemoteMetadata,
    /// Its name on the file server, if that is another one.
    called: Option<String>,
}

pub(super) type Listing = BTreeMap<String, Entry>;

/// What was read of a file: its size and date then, and its bytes.
type Text = (u64, Option<u64>, Arc<Vec<u8>>);

/// What was seen.
#[derive(Debug, Default)]
pub(super) struct Seen {
    /// Listings; nothing for a folder that is not there.
    folders: HashMap<TreePath, Option<Listing>>,
    links: HashMap<TreePath, String>,
    texts: HashMap<TreePath, Text>,
    /// Blocks of files that were opened, by where they begin.
    blocks: HashMap<(TreePath, u64), Text>,
    /// Whether the host takes names that differ in case only for one; nothing as long as it did not matter.
    pub(super) ignores_case: Option<bool>,
    /// Names that are not UTF-8, as far as they can be shown.
    pub(super) odd_names: BTreeSet<String>,
    /// A failure to read an open file.
    pub(super) failure: Option<(TreePath, std::io::Error)>,
    /// The mode of the tree's folder, if its listing tells.
    pub(super) root_mode: Option<u32>,
}

/// Where a path leads.
#[derive(Debug, Clone)]
pub(super) enum Found {
    /// Nothing is there.
    Absent {
        /// The path without links, if its folder is there.
        real: Option<TreePath>,
    },
    /// Something is there.
    There {
        /// The path without links.
        real: TreePath,
        /// The path by which the file server knows it, below the root.
        called: String,
        /// What it is.
        metadata: RemoteMetadata,
    },
    /// A link on the way is not followed.
    Refused(Refusal),
}

/// Where a folder's path leads.
pub(super) struct KnownFolder {
    asked: String,
    real: TreePath,
}

/// What must be known before it can be said where a path leads.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Unseen {
    Folder(TreePath),
    /// Whether a file, or a folder, is at a path, though only a name in another case is listed.
    Case(TreePath, bool),
    Link(TreePath),
}

impl Seen {
    pub(super) fn forget(&mut self) {
        let (failure, ignores_case) = (self.failure.take(), self.ignores_case);
        *self = Self { ignores_case, failure, ..Self::default() };
    }

    pub(super) fn listing(&self, folder: &TreePath) -> Option<&Option<Listing>> {
        self.folders.get(folder)
    }

    pub(super) fn forget_folder(&mut self, folder: &TreePath) {
        self.folders.remove(folder);
    }

    pub(super) fn listed(&mut self, folder: TreePath, entries: Option<Vec<RemoteEntry>>) {
        if folder.is_root() {
            let own = entries.iter().flatten().find(|entry| entry.name.as_deref() == Ok("."));
            self.root_mode = own.and_then(|entry| entry.metadata.mode);
        }
        let listing = entries.map(|entries| {
            let mut listing = Listing::new();
            for entry in entries {
                match entry.name {
                    Ok(name) if name != "." && name != ".." && !name.contains('/') => {
                        listing.insert(name, Entry { metadata: entry.metadata, called: None });
                    }
                    Ok(_) => {}
                    // It could not be written again as it is.
                    Err(bytes) => drop(self.odd_names.insert(odd_name(&folder, &bytes))),
                }
            }
            let old: Vec<(String, Entry)> = listing
                .iter()
                .filter_map(|(name, entry)| {
                    let own = name.strip_prefix(OLD)?;
                    let called = Some(name.clone());
                    let entry = Entry { metadata: entry.metadata.clone(), called };
                    (!listing.contains_key(own)).then(|| (own.to_owned(), entry))
                })
                .collect();
            listing.extend(old);
            listing
        });
        self.folders.insert(folder, listing);
    }

    /// Whether a folder at the top is listed as one.
    pub(super) fn is_folder(&self, path: &TreePath) -> bool {
        let listing = self.folders.get(&TreePath::root()).and_then(Option::as_ref);
        let entry = listing.and_then(|listing| listing.get(path.as_str()));
        entry.is_some_and(|entry| entry.metadata.kind == RemoteKind::Folder)
    }

    /// Whether a file is there by another name only.
    pub(super) fn is_alias(&self, folder: &TreePath, name: &str) -> bool {
        let listing = self.folders.get(folder).and_then(Option::as_ref);
        listing.and_then(|listing| listing.get(name)).is_some_and(|entry| entry.called.is_some())
    }

    pub(super) fn link(&mut self, path: TreePath, target: String) {
        self.links.insert(path, target);
    }

    /// Says where a path leads, or what must be seen first. The last name's link is followed on request. `before` remembers where the
    /// folder of the last path led: the next path is mostly in the same one.
    pub(super) fn find(
        &self,
        root: &str,
        path: &TreePath,
        follows: bool,
        before: &mut Option<KnownFolder>,
    ) -> Result<Found, Unseen> {
        let (above, own) = path.as_str().rsplit_once('/').unwrap_or(("", path.as_str()));
        let (mut names, mut folder) = match before {
            Some(known) if known.asked == above => (names(own).collect(), known.real.clone()),
            _ => (names(path.as_str()).collect::<VecDeque<String>>(), TreePath::root()),
        };
        let (mut links, mut is_folder_known) = (0, false);
        let mut last = folder_itself(&folder);
        while let Some(name) = names.pop_front() {
            if names.is_empty() && !is_folder_known {
                is_folder_known = true;
                if before.as_ref().is_none_or(|known| known.asked != above) {
                    *before = Some(KnownFolder { asked: above.to_owned(), real: folder.clone() });
                }
            }
            if name == ".." {
                let Some(above) = folder.parent() else { return Ok(out(path, "..")) };
                folder = above;
                last = folder_itself(&folder);
                continue;
            }
            let Some(listing) = self.folders.get(&folder) else { return Err(Unseen::Folder(folder)) };
            let Some(listing) = listing else { return Ok(Found::Absent { real: None }) };
            let Ok(mut at) = folder.join(&name) else { return Ok(Found::Absent { real: None }) };
            let mut listed = listing.get(&name);
            if listed.is_none()
                && self.ignores_case != Some(false)
                && let Some((other, entry)) = listing.iter().find(|(other, _)| is_variant(other, &name))
            {
                if self.ignores_case.is_none() {
                    return Err(Unseen::Case(at, entry.metadata.kind == RemoteKind::File));
                }
                let Ok(called) = folder.join(other) else { return Ok(Found::Absent { real: None }) };
                (at, listed) = (called, Some(entry));
            }
            let Some(entry) = listed else {
                return Ok(Found::Absent { real: names.is_empty().then_some(at) });
            };
            match entry.metadata.kind {
                RemoteKind::Link if follows || !names.is_empty() => {
                    if is_own(path) {
                        return Ok(Found::Refused(Refusal::OwnIsLink));
                    }
                    links += 1;
                    let target = entry.metadata.target.as_ref().or_else(|| self.links.get(&at));
                    let Some(target) = target else { return Err(Unseen::Link(at)) };
                    if links > MOST_LINKS {
                        return Ok(Found::Absent { real: None });
                    }
                    if target.starts_with('/') {
                        folder = TreePath::root();
                    }
                    let Some(below) = inside(root, &folder, target) else { return Ok(out(&at, target)) };
                    for name in self::names(below).collect::<Vec<_>>().into_iter().rev() {
                        names.push_front(name);
                    }
                    last = folder_itself(&folder);
                }
                RemoteKind::Folder => {
                    folder = at.clone();
                    last =
                        Found::There { called: at.to_string(), real: at, metadata: entry.metadata.clone() };
                }
                _ if names.is_empty() => {
                    let called = match &entry.called {
                        Some(name) if folder.is_root() => name.clone(),
                        Some(name) => format!("{folder}/{name}"),
                        None => at.to_string(),
                    };
                    return Ok(Found::There { called, real: at, metadata: entry.metadata.clone() });
                }
                _ => return Ok(Found::Absent { real: None }),
            }
        }
        Ok(last)
    }

    /// Returns the folders that a path needs, as far as its names tell.
    pub(super) fn around(path: &TreePath) -> BTreeSet<TreePath> {
        let mut folders = BTreeSet::new();
        let mut next = path.parent();
        while let Some(folder) = next {
            next = folder.parent();
            folders.insert(folder);
        }
        folders
    }

    pub(super) fn text(&self, path: &TreePath, metadata: &RemoteMetadata) -> Option<Arc<Vec<u8>>> {
        let (size, modified, bytes) = self.texts.get(path)?;
        (*size == metadata.size && *modified == metadata.modified).then(|| Arc::clone(bytes))
    }

    pub(super) fn note_text(&mut self, path: TreePath, metadata: &RemoteMetadata, bytes: Arc<Vec<u8>>) {
        self.texts.insert(path, (metadata.size, metadata.modified, bytes));
    }

    pub(super) fn block(
        &self,
        path: &TreePath,
        start: u64,
        metadata: &RemoteMetadata,
    ) -> Option<Arc<Vec<u8>>> {
        let (size, modified, bytes) = self.blocks.get(&(path.clone(), start))?;
        (*size == metadata.size && *modified == metadata.modified).then(|| Arc::clone(bytes))
    }

    pub(super) fn note_block(
        &mut self,
        path: TreePath,
        start: u64,
        metadata: &RemoteMetadata,
        bytes: Arc<Vec<u8>>,
    ) {
        if self.blocks.len() >= MOST_BLOCKS {
            self.blocks.clear();
        }
        self.blocks.insert((path, start), (metadata.size, metadata.modified, bytes));
    }

    /// Notes that something is at a path now.
    pub(super) fn put(&mut self, path: &TreePath, metadata: RemoteMetadata) {
        self.texts.remove(path);
        let folder = path.parent().unwrap_or_else(TreePath::root);
        if let Some(Some(listing)) = self.folders.get_mut(&folder) {
            listing.insert(path.name().to_owned(), Entry { metadata, called: None });
        } else {
            self.folders.remove(&folder);
        }
    }

    /// Notes that a folder was made, with nothing in it.
    pub(super) fn made(&mut self, path: &TreePath, mode: Option<u32>) {
        let kind = RemoteKind::Folder;
        self.put(path, RemoteMetadata { kind, size: 0, modified: None, mode, target: None });
        self.folders.insert(path.clone(), Some(Listing::new()));
    }

    /// Notes that nothing is at a path any more, and returns what was.
    pub(super) fn removed(&mut self, path: &TreePath) -> Option<RemoteMetadata> {
        self.texts.remove(path);
        let folder = path.parent().unwrap_or_else(TreePath::root);
        let entry = self.folders.get_mut(&folder).and_then(Option::as_mut)?.remove(path.name())?;
        if entry.metadata.kind == RemoteKind::Folder {
            self.folders.retain(|folder, _| !folder.is_within(path));
        }
        Some(entry.metadata)
    }

    /// Notes that something was moved.
    pub(super) fn moved(&mut self, from: &TreePath, to: &TreePath) {
        let inside: Vec<TreePath> =
            self.folders.keys().filter(|folder| folder.is_within(from)).cloned().collect();
        let inside: Vec<(TreePath, Option<Listing>)> =
            inside.into_iter().filter_map(|folder| self.folders.remove_entry(&folder)).collect();
        let text = self.texts.remove(from);
        let Some(metadata) = self.removed(from) else {
            self.forget_folder(&to.parent().unwrap_or_else(TreePath::root));
            return;
        };
        self.put(to, metadata);
        if let Some(text) = text {
            self.texts.insert(to.clone(), text);
        }
        for (folder, listing) in inside {
            if let Some(moved) = folder.moved(from, to) {
                self.folders.insert(moved, listing);
            }
        }
    }

    /// Returns the files that are known to be in a folder, or the file itself, with their metadata.
    pub(super) fn files_within(&self, path: &TreePath) -> Vec<(TreePath, RemoteMetadata)> {
        let mut files = Vec::new();
        let folder = path.parent().unwrap_or_else(TreePath::root);
        if let Some(Some(listing)) = self.folders.get(&folder)
            && let Some(entry) = listing.get(path.name())
            && entry.metadata.kind == RemoteKind::File
        {
            files.push((path.clone(), entry.metadata.clone()));
        }
        for (folder, listing) in self.folders.iter().filter(|(folder, _)| folder.is_within(path)) {
            for (name, entry) in listing.iter().flatten() {
                if entry.metadata.kind == RemoteKind::File
                    && let Ok(at) = folder.join(name)
                {
                    files.push((at, entry.metadata.clone()));
                }
            }
        }
        files
    }
}

fn names(path: &str) -> impl Iterator<Item = String> {
    path.split('/').filter(|name| !name.is_empty() && *name != ".").map(str::to_owned)
}

/// Returns whether two names differ in case only.
fn is_variant(one: &str, other: &str) -> bool {
    one.len() == other.len() && one.eq_ignore_ascii_case(other)
}

fn folder_itself(folder: &TreePath) -> Found {
    let metadata =
        RemoteMetadata { kind: RemoteKind::Folder, size: 0, modified: None, mode: None, target: None };
    Found::There { real: folder.clone(), called: folder.to_string(), metadata }
}

/// Returns what a link's target names below the tree's root or below the link's folder; nothing if it leads out of the tree.
fn inside<'t>(root: &str, folder: &TreePath, target: &'t str) -> Option<&'t str> {
    let below = if target.starts_with('/') {
        target.strip_prefix(root).filter(|below| below.is_empty() || below.starts_with('/'))?
    } else {
        target
    };
    let climbs = names(below).take_while(|name| name == "..").count();
    (climbs <= names(folder.as_str()).count()).then_some(below)
}

fn out(link: &TreePath, target: &str) -> Found {
    Found::Refused(Refusal::LeadsOut { link: link.to_string(), target: target.to_owned() })
}
