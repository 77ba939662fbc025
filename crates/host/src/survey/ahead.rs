//! What looking for contents is going to read far away, asked for level by level instead of file by file.

use std::collections::BTreeSet;

use yalotheca_core::{
    game::{Game, Shape},
    id::TreePath,
};

use crate::tree::{EntryKind, Tree};

/// How deep contents are looked for.
const DEEPEST: usize = 9;

/// Asks for the descriptors of contents in some folders and below, and for the ends of archives. Errors are left to
/// the code that reads the files.
pub(super) fn fetch_ahead(
    tree: &dyn Tree,
    game: &Game,
    folders: &[TreePath],
    is_protected: &dyn Fn(&str) -> bool,
) {
    if tree.local().is_some() {
        return;
    }
    let of_shape = |shape: Shape| game.kinds.values().filter(move |kind| kind.shape == shape);
    let markers: BTreeSet<&str> =
        of_shape(Shape::Folder).flat_map(|kind| &kind.marker).map(String::as_str).collect();
    let descriptors: BTreeSet<&str> =
        of_shape(Shape::Folder).flat_map(|kind| &kind.describe).map(|rule| rule.file.as_str()).collect();
    let (mut whole, mut ends) = (Vec::new(), Vec::new());
    let mut level = folders.to_vec();
    for _ in 0..DEEPEST {
        let Ok(lists) = tree.list(&level, true) else { return };
        let mut next = Vec::new();
        for (folder, names) in level.iter().zip(lists) {
            let is_content = names.iter().any(|(name, _)| markers.contains(name.as_str()));
            for (name, kind) in names {
                let Ok(path) = folder.join(&name) else { continue };
                if is_protected(path.as_str()) {
                    continue;
                }
                match kind {
                    EntryKind::File(_) if is_content && descriptors.contains(name.as_str()) => {
                        whole.push(path);
                    }
                    EntryKind::File(_) if bears_suffix(game, &name) => {
                        ends.push(path);
                    }
                    EntryKind::Folder if !is_content && !name.starts_with(".yalotheca") => next.push(path),
                    _ => {}
                }
            }
        }
        if next.is_empty() {
            break;
        }
        level = next;
    }
    tree.read_ahead(&whole, &ends);
}

/// Returns whether a file's name says that it may be an archive with a content, though it may have been renamed since.
pub(super) fn bears_suffix(game: &Game, name: &str) -> bool {
    let mut kinds = game.kinds.values().filter(|kind| kind.shape == Shape::Archive);
    kinds.any(|kind| kind.suffix.as_ref().is_none_or(|suffix| name.contains(suffix.as_str())))
}
