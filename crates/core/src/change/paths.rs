//! Very many paths, in order: which must be looked at, and in which folders they lie.

use std::{
    cmp::Ordering,
    collections::{BTreeMap, BTreeSet, btree_map},
};

use super::{Receipt, beside_file};
use crate::{desire::Desired, id::TreePath};

/// Looks paths up in a sorted map, each of them not before the last one: mostly the next entry is the one.
pub(super) struct Ascending<'a, V> {
    rest: btree_map::Iter<'a, TreePath, V>,
    next: Option<(&'a TreePath, &'a V)>,
}

impl<'a, V> Ascending<'a, V> {
    pub(super) fn new(map: &'a BTreeMap<TreePath, V>) -> Self {
        let mut rest = map.iter();
        let next = rest.next();
        Self { rest, next }
    }

    pub(super) fn get(&mut self, path: &TreePath) -> Option<&'a V> {
        while let Some((next, value)) = self.next {
            match next.cmp(path) {
                Ordering::Less => self.next = self.rest.next(),
                Ordering::Equal => return Some(value),
                Ordering::Greater => return None,
            }
        }
        None
    }
}

/// The paths that the host must read before [`plan`](super::plan): content files, sorted, then configuration files and folders.
pub fn paths_of_interest(
    desired: &Desired,
    receipt: &Receipt,
) -> (Vec<TreePath>, BTreeSet<TreePath>, BTreeSet<TreePath>) {
    let mut files = Vec::with_capacity(desired.placements.len().max(receipt.placed.len()));
    let mut newer = Vec::new();
    let mut wanted = desired.placements.iter().peekable();
    for (path, placed) in receipt.placed.iter() {
        while let Some((first, _)) = wanted.next_if(|(next, _)| *next < path) {
            files.push(first.clone());
        }
        if let Some((_, placement)) = wanted.next_if(|(next, _)| *next == path)
            && placement.digest != placed.digest
        {
            newer.extend(beside_file(path));
        }
        files.push(path.clone());
    }
    files.extend(wanted.map(|(path, _)| path.clone()));
    if !newer.is_empty() {
        files.extend(newer);
        files.sort();
        files.dedup();
    }
    let texts: BTreeSet<TreePath> = desired
        .registrations
        .iter()
        .map(|registration| registration.file.clone())
        .chain(receipt.entries.iter().map(|entry| entry.file.clone()))
        .collect();
    let mut folders = receipt.folders.clone();
    folders.extend(folders_above(files.iter().chain(&texts)));
    (files, texts, folders)
}

/// All folders in which some paths lie, but for the server's own. Very many files lie in few folders, so each is looked at once.
pub(super) fn folders_above<'p>(paths: impl Iterator<Item = &'p TreePath>) -> BTreeSet<TreePath> {
    let outer = |path: &TreePath| path.parent().filter(|folder| !folder.is_root());
    let mut folders = BTreeSet::new();
    let mut last = "";
    let mut last_folder = TreePath::root();
    for path in paths {
        let folder = path.as_str().rsplit_once('/').map_or("", |(folder, _)| folder);
        if folder == last {
            continue;
        }
        last = folder;
        let mut next = outer(path);
        // Those above the last one are known.
        let known = next.as_ref().map_or(last_folder.clone(), TreePath::clone);
        while let Some(folder) =
            next.filter(|folder| !last_folder.is_within(folder) && !folders.contains(folder))
        {
            next = outer(&folder);
            folders.insert(folder);
        }
        last_folder = known;
    }
    folders
}
