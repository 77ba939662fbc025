//! Cross references on a server as it is, and as a change would leave it.

use std::collections::{BTreeMap, BTreeSet};

use globset::{Glob, GlobMatcher};
use yalotheca_core::{
    change::{ChangeSet, Source, Step},
    document::TextFile,
    id::TreePath,
    reference::{Break, Files, breaks},
};
use yalotheca_host::tree::{EntryKind, Tree};

use crate::Server;

/// A server's files, with what a change would put and set aside.
struct Overlaid<'a> {
    tree: &'a dyn Tree,
    /// Files that would be put; those of contents have no text here.
    put: BTreeMap<&'a TreePath, Option<&'a TextFile>>,
    gone: BTreeSet<&'a TreePath>,
    listed: BTreeMap<String, Vec<TreePath>>,
}

/// How deep a pattern is followed.
const DEEPEST: usize = 8;

impl<'a> Overlaid<'a> {
    fn of(tree: &'a dyn Tree, change: Option<&'a ChangeSet>) -> Self {
        let (mut put, mut gone) = (BTreeMap::new(), BTreeSet::new());
        for step in change.into_iter().flat_map(|change| &change.steps) {
            match step {
                Step::Put { path, source: Source::Text(file), .. } => drop(put.insert(path, Some(file))),
                Step::Put { path, .. } => drop(put.insert(path, None)),
                Step::SetAside { path, .. } => drop(gone.insert(path)),
                Step::MakeFolder { .. } | Step::RemoveFolder { .. } => {}
            }
        }
        Self { tree, put, gone, listed: BTreeMap::new() }
    }

    fn below(&self, folder: &TreePath, depth: usize, into: &mut Vec<TreePath>) {
        for (name, sort) in self.tree.list_folder(folder).unwrap_or_default() {
            let Ok(path) = folder.join(&name) else { continue };
            match sort {
                EntryKind::Folder if depth > 0 => self.below(&path, depth - 1, into),
                EntryKind::File(_) => into.push(path),
                _ => {}
            }
        }
    }
}

impl Files for Overlaid<'_> {
    fn may_hide(&mut self, pattern: &str) -> bool {
        // Compare folder by folder with the pattern's parts.
        let mut folders = vec![TreePath::root()];
        for part in pattern.trim_end_matches('/').split('/') {
            let Ok(glob) = Glob::new(part).map(|glob| glob.compile_matcher()) else { return false };
            let mut next = Vec::new();
            for folder in &folders {
                for (name, sort) in self.tree.list_folder(folder).unwrap_or_default() {
                    match (folder.join(&name), sort) {
                        (Ok(_), EntryKind::Other) if glob.is_match(&name) => return true,
                        (Ok(path), EntryKind::Folder) if glob.is_match(&name) => next.push(path),
                        _ => {}
                    }
                }
            }
            folders = next;
        }
        false
    }

    fn named(&mut self, pattern: &str, glob: &GlobMatcher) -> Vec<TreePath> {
        if !pattern.contains(['*', '?', '[', '{']) {
            let path = TreePath::new(pattern).into_iter();
            return path.filter(|path| self.has(path)).collect();
        }
        if let Some(known) = self.listed.get(pattern) {
            return known.clone();
        }
        let fixed = pattern.split('/').take_while(|part| !part.contains(['*', '?', '[', '{']));
        let base = fixed.collect::<Vec<_>>().join("/");
        let mut all = Vec::new();
        if let Ok(base) = TreePath::new(&base) {
            let depth = if pattern.contains("**") { DEEPEST } else { pattern.matches('/').count() };
            self.below(&base, depth, &mut all);
        }
        all.extend(self.put.keys().map(|path| (*path).clone()));
        all.retain(|path| glob.is_match(path.as_str()) && !self.gone.contains(path));
        all.sort();
        all.dedup();
        self.listed.insert(pattern.to_owned(), all.clone());
        all
    }

    fn text(&mut self, path: &TreePath) -> Option<TextFile> {
        match self.put.get(path) {
            Some(text) => text.cloned(),
            None if self.gone.contains(path) => None,
            None => self.tree.read_file(path).ok().flatten().map(TextFile::read),
        }
    }

    fn has(&mut self, path: &TreePath) -> bool {
        // A folder is there once something is put into it.
        self.put.keys().any(|put| put.is_within(path))
            || !self.gone.contains(path) && self.tree.kind_of(path).is_ok_and(|found| found.is_some())
    }
}

/// Returns the references that do not hold on the server as it is.
pub fn broken_references(server: &Server) -> Vec<Break> {
    breaks(&server.game.references, &mut Overlaid::of(&*server.tree, None))
}

/// Returns the references that a change would break.
pub fn newly_broken(server: &Server, change: &ChangeSet) -> Vec<Break> {
    if server.game.references.is_empty() || change.steps.is_empty() {
        return Vec::new();
    }
    // A line may move without anything being the matter with it.
    let same = |one: &Break| (one.called.clone(), one.value.clone(), one.at.file.clone());
    let before: BTreeSet<_> = broken_references(server).iter().map(same).collect();
    let mut after = breaks(&server.game.references, &mut Overlaid::of(&*server.tree, Some(change)));
    after.retain(|one| !before.contains(&same(one)));
    after
}
