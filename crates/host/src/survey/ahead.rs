//! What looking for contents is going to read far away, asked for level by level instead of file by file.

use std::collections::BTreeSet;

use yalotheca_core::{
    game::{Game, Shape},
    id::TreePath,
};

use super::inventory::bears_suffix;
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
