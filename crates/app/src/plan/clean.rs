//! What `settle --clean-first` sets aside: what is recognised as a content, or as a leftover of one, in the folders that the game
//! definition says hold contents. Everything else stays and is listed.

use std::collections::BTreeSet;

use globset::GlobSet;
use yalotheca_core::{
    change::{FileAct, FileLine, Step},
    game::{Kind, Shape},
    id::{ContentId, TreePath},
};
use yalotheca_host::{
    survey::{self, Inventory},
    tree::EntryKind,
};

use crate::{
    AppError, Server,
    plan::{Planned, reserved},
};

/// Adds the steps that set aside what is left over.
pub fn set_aside(server: &Server, planned: &mut Planned, spare: &GlobSet) -> Result<(), AppError> {
    let (game, scope) = (&server.game, &server.survey.scope);
    let inventory = survey::inventory(&*server.tree, game, scope)?;
    let folders = survey::content_folders(game, scope);
    let kept = kept(server, planned);
    let found = left_over(server, &inventory, &folders)?;
    let content = ContentId::new(&game.name)?;
    let (mut steps, mut emptied) = (Vec::new(), BTreeSet::new());
    for path in found.iter().filter(|path| !kept.contains(*path) && !spare.is_match(path.as_str())) {
        let Some((before, size)) = server.tree.digest_file(path)? else { continue };
        emptied.extend(path.parent());
        let (path, content) = (path.clone(), content.clone());
        planned.change.files.push(FileLine {
            act: FileAct::Aside,
            path: path.clone(),
            from: None,
            size,
            content,
        });
        steps.push(Step::SetAside { path, before });
    }
    planned.staying = staying(server, &folders, (&found, &kept), spare)?;
    // Inner folders first; one that is not empty stays, and so does one in which contents lie.
    let mut removed: BTreeSet<TreePath> = BTreeSet::new();
    for folder in emptied {
        let mut next = Some(folder);
        while let Some(folder) = next.filter(|folder| !folder.is_root() && !folders.contains(folder)) {
            next = folder.parent();
            removed.insert(folder);
        }
    }
    steps.extend(removed.into_iter().rev().map(|path| Step::RemoveFolder { path }));
    steps.append(&mut planned.change.steps);
    planned.change.steps = steps;
    Ok(())
}

/// How deep the folders of contents are looked through.
const DEEPEST: usize = 8;

fn is_in(folders: &BTreeSet<TreePath>, path: &TreePath) -> bool {
    folders.iter().any(|folder| path.is_within(folder))
}

/// Files of contents that are recognised in the folders of contents, and files there that bear a content's name and cannot be
/// read.
fn left_over(
    server: &Server,
    inventory: &Inventory,
    folders: &BTreeSet<TreePath>,
) -> Result<BTreeSet<TreePath>, AppError> {
    let mut found = BTreeSet::new();
    for one in inventory.contents.iter().filter(|one| is_in(folders, &one.path)) {
        let shape = server.game.kinds.get(&one.content.release.kind).map(|kind| kind.shape);
        for file in &one.payload.files {
            let path = match shape {
                Some(Shape::Folder) => one.path.join(&file.path)?,
                Some(Shape::File) => one.path.parent().unwrap_or_else(TreePath::root).join(&file.path)?,
                _ => one.path.clone(),
            };
            found.insert(path);
        }
    }
    // What bears the name of a content and is none is what is left of one; many other things are called `.zip`.
    let bears = |path: &TreePath, kind: &Kind| {
        let is_own = |suffix: &&String| !matches!(suffix.as_str(), ".zip" | ".so" | ".txt" | ".json");
        kind.suffix.as_ref().filter(is_own).is_some_and(|suffix| path.name().ends_with(suffix.as_str()))
    };
    let protected = survey::protected(&server.game, &server.survey.scope)?;
    let mut next: Vec<(TreePath, usize)> = folders.iter().map(|folder| (folder.clone(), 0)).collect();
    while let Some((folder, depth)) = next.pop() {
        for (name, sort) in server.tree.list_folder(&folder)? {
            let path = folder.join(&name)?;
            if protected.is_match(path.as_str()) {
                continue;
            }
            match sort {
                EntryKind::Folder if depth < DEEPEST => next.push((path, depth + 1)),
                EntryKind::File(_) if server.game.kinds.values().any(|kind| bears(&path, kind)) => {
                    found.insert(path);
                }
                _ => {}
            }
        }
    }
    Ok(found)
}

/// What lies in the folders of contents and stays there, as it lies there: a folder as one.
fn staying(
    server: &Server,
    folders: &BTreeSet<TreePath>,
    (found, kept): (&BTreeSet<TreePath>, &BTreeSet<TreePath>),
    spare: &GlobSet,
) -> Result<Vec<TreePath>, AppError> {
    let mut staying = Vec::new();
    let is_ours = |path: &TreePath| {
        (found.contains(path) && !spare.is_match(path.as_str()))
            || kept.contains(path)
            || found.iter().chain(kept).any(|other| other.is_within(path))
    };
    for folder in folders {
        for (name, _) in server.tree.list_folder(folder)? {
            let path = folder.join(&name)?;
            if !is_ours(&path) && !folders.iter().any(|other| other.is_within(&path)) {
                staying.push(path);
            }
        }
    }
    Ok(staying)
}

/// What the lineup places and writes, what this change touches, and every file that the game definition reads.
fn kept(server: &Server, planned: &Planned) -> BTreeSet<TreePath> {
    let mut kept: BTreeSet<TreePath> = planned.desired.placements.keys().cloned().collect();
    kept.extend(planned.desired.registrations.iter().map(|registration| registration.file.clone()));
    kept.extend(planned.change.steps.iter().map(|step| step.path().clone()));
    kept.extend(reserved::used(&server.game, &server.survey.scope));
    kept
}
