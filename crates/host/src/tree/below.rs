//! Files below folders, found with one listing for each depth.

use yalotheca_core::id::TreePath;

use super::{EntryKind, Tree, TreeError};

/// Returns the files below some folders for which `wanted` says so, sorted. Of the server's folder itself only the files directly in it are
/// looked at. Links are not followed.
///
/// # Errors
/// Where a folder cannot be listed.
pub fn files_below(
    tree: &dyn Tree,
    folders: &[&str],
    wanted: impl Fn(&str) -> bool,
) -> Result<Vec<TreePath>, TreeError> {
    let mut next: Vec<TreePath> = folders.iter().filter_map(|folder| TreePath::new(folder).ok()).collect();
    next.sort();
    next.dedup();
    let mut paths = Vec::new();
    while !next.is_empty() {
        let mut inner = Vec::new();
        for (folder, list) in next.iter().zip(tree.list(&next, false)?) {
            for (name, kind) in list {
                let Ok(path) = folder.join(&name) else { continue };
                match kind {
                    EntryKind::Folder if !folder.is_root() => inner.push(path),
                    EntryKind::File(_) if wanted(path.as_str()) => paths.push(path),
                    EntryKind::Folder | EntryKind::File(_) | EntryKind::Other => {}
                }
            }
        }
        next = inner;
    }
    paths.sort();
    paths.dedup();
    Ok(paths)
}
