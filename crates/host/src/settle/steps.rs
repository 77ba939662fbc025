//! Steps in runs of one kind: staging, doing, taking back. Doing a step twice is doing it once.

use std::{
    collections::{HashMap, HashSet},
    ops::Range,
};

use yalotheca_core::{
    change::{Source, Step},
    id::{Digest, TreePath},
};

use super::{
    SealKey, SettleError, fault,
    journal::{Journal, in_attic},
    staging::{self, staged_at},
};
use crate::{
    sources::{ByteSource, Sources},
    tree::{Access, EntryKind, NewFolder, Tree, TreeError, Upload, UploadError, UploadSource},
};

/// Makes sure that what lies at the paths of all steps is still what the change was computed from, and that something can be
/// put or removed there.
pub(super) fn check_unchanged(tree: &dyn Tree, steps: &[Step]) -> Result<(), SettleError> {
    let made: Vec<TreePath> = steps
        .iter()
        .filter_map(|step| if let Step::MakeFolder { path } = step { Some(path.clone()) } else { None })
        .collect();
    // In a folder that is not there nothing lies yet.
    let kinds = tree.metadata(&made)?;
    let new: HashSet<&TreePath> =
        made.iter().zip(kinds).filter(|(_, kind)| kind.is_none()).map(|(path, _)| path).collect();
    let is_new = |path: &TreePath| path.parent().is_some_and(|folder| new.contains(&folder));
    let (mut absent, mut there, mut digests, mut written) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for step in steps {
        let (path, before) = match step {
            Step::Put { path, before, .. } => (path, *before),
            Step::SetAside { path, before } => (path, Some(*before)),
            Step::MakeFolder { path } | Step::RemoveFolder { path } => {
                written.push(path);
                continue;
            }
        };
        match before {
            None if is_new(path) => continue,
            None => absent.push(path.clone()),
            Some(before) => {
                there.push(path.clone());
                digests.push(before);
            }
        }
        written.push(path);
    }
    for (path, kind) in absent.iter().zip(tree.metadata(&absent)?) {
        if kind.is_some() {
            return Err(SettleError::Moved { path: path.clone() });
        }
    }
    let now = tree.digest_as(&there, &digests.iter().copied().map(Some).collect::<Vec<_>>())?;
    for ((path, before), now) in there.iter().zip(digests).zip(now) {
        if now.is_none_or(|(digest, _)| digest != before) {
            return Err(SettleError::Moved { path: path.clone() });
        }
    }
    Ok(tree.check_writable(&written)?)
}

/// Writes every new file beside the journal and checks its digest.
pub(super) fn stage(tree: &dyn Tree, journal: &Journal, sources: &Sources) -> Result<(), SettleError> {
    // Each file is given what it is going to have in its place before anybody sees it there: what it replaces has, else what the
    // nearest folder that is there gives.
    let around = |index: usize| {
        let step = &journal.steps()[index];
        let outer = journal.whole(index).map_or(step.path(), |whole| journal.steps()[whole].path());
        outer.parent().unwrap_or_else(TreePath::root)
    };
    let folders: Vec<(TreePath, Option<TreePath>)> =
        staging::folders(journal)?.into_iter().map(|(folder, index)| (folder, index.map(around))).collect();
    let new: Vec<NewFolder<'_>> = folders
        .iter()
        .map(|(path, around)| NewFolder { path, access: around.as_ref().map_or(Access::Own, Access::Below) })
        .collect();
    tree.create_folders(&new)?;
    let puts: Vec<(usize, TreePath, TreePath)> = journal
        .steps()
        .iter()
        .enumerate()
        .filter(|(_, step)| matches!(step, Step::Put { .. }))
        .map(|(index, _)| Ok((index, staged_at(journal, index)?, around(index))))
        .collect::<Result<_, SettleError>>()?;
    let mut uploads = Vec::with_capacity(puts.len());
    for (index, staged, around) in &puts {
        let Step::Put { path, source, before, after, size } = &journal.steps()[*index] else { continue };
        uploads.push(Upload {
            path: staged,
            source: bytes_of(journal, (path, source, after), sources)?,
            access: if before.is_some() { Access::Like(path) } else { Access::Below(around) },
            digest: *after,
            size: *size,
            // A file that is replaced keeps its permissions; sharing it with the cache would change the cache's.
            may_share: before.is_none(),
        });
    }
    tree.upload(&uploads).map_err(|error| match error {
        UploadError::Tree(error) => error.into(),
        UploadError::Bytes { index, why } => {
            let path = journal.steps()[puts[index].0].path().to_string();
            SettleError::Bytes { path, why }
        }
    })
}

/// Where the bytes of a step are.
fn bytes_of<'a>(
    journal: &Journal,
    (path, source, after): (&TreePath, &'a Source, &Digest),
    sources: &'a Sources,
) -> Result<UploadSource<'a>, SettleError> {
    Ok(match source {
        // It also holds what others wrote, so it could not be fetched again.
        Source::Text(file) if journal.is_unwritten() => UploadSource::Precious(file.bytes().into()),
        Source::Text(file) => UploadSource::Bytes(file.bytes().into()),
        Source::Attic { settle, step } => UploadSource::Tree(in_attic(*settle, *step)?),
        Source::Payload => match sources.get(after) {
            None => {
                let why = "its bytes are nowhere to be had".to_owned();
                return Err(SettleError::Bytes { path: path.to_string(), why });
            }
            Some(ByteSource::Server(path)) => UploadSource::Tree(path.clone()),
            Some(ByteSource::File(file)) => UploadSource::File(file),
            Some(ByteSource::Cached(file)) => UploadSource::Cached(file),
            Some(ByteSource::Fresh(file)) => UploadSource::Verified(file),
            Some(ByteSource::Built(file)) => UploadSource::Built(file),
        },
    })
}

/// Returns the runs of steps of one kind that follow one another: each is done with a few calls.
pub(super) fn runs(steps: &[Step]) -> Vec<Range<usize>> {
    let mut runs: Vec<Range<usize>> = Vec::new();
    for (index, step) in steps.iter().enumerate() {
        match runs.last_mut() {
            Some(run)
                if run.len() < LONGEST_RUN
                    && std::mem::discriminant(step) == std::mem::discriminant(&steps[run.start]) =>
            {
                run.end = index + 1;
            }
            _ => runs.push(index..index + 1),
        }
    }
    runs
}

/// A run longer than this is split.
const LONGEST_RUN: usize = 512;

/// Does a run of steps. Doing one twice is doing it once. What lies in the place of a step and is not what the plan says stops the
/// settle; when that is finished after an interruption, it goes to the attic as it was found, and that is noted. `moved` are the
/// folders that were moved into their places with everything that comes into them.
pub(super) fn carry_out(
    tree: &dyn Tree,
    journal: &Journal,
    run: Range<usize>,
    (finishing, moved): (Option<&SealKey>, &mut HashSet<usize>),
) -> Result<(), SettleError> {
    let is_moved = |moved: &HashSet<usize>, index: usize| {
        journal.whole(index).is_some_and(|whole| moved.contains(&whole))
    };
    match &journal.steps()[run.start] {
        Step::MakeFolder { .. } => make_folders(tree, journal, run, moved),
        Step::RemoveFolder { .. } => {
            for index in run {
                tree.remove_empty_folder(journal.steps()[index].path())?;
            }
            Ok(())
        }
        Step::Put { .. } => {
            let puts: Vec<usize> = run.filter(|index| !is_moved(moved, *index)).collect();
            put(tree, journal, &puts, finishing)
        }
        Step::SetAside { .. } => set_aside(tree, journal, run, finishing),
    }
}

fn make_folders(
    tree: &dyn Tree,
    journal: &Journal,
    run: Range<usize>,
    moved: &mut HashSet<usize>,
) -> Result<(), SettleError> {
    let outermost: Vec<usize> = run.clone().filter(|index| journal.whole(*index) == Some(*index)).collect();
    let paths: Vec<TreePath> = outermost.iter().map(|index| journal.steps()[*index].path().clone()).collect();
    for ((index, path), kind) in outermost.iter().zip(&paths).zip(tree.metadata(&paths)?) {
        // Where it lies on another disk its files are moved one by one.
        if kind.is_none() && tree.rename(&[(&staged_at(journal, *index)?, path)]).is_ok() {
            moved.insert(*index);
        }
    }
    let others: Vec<usize> =
        run.filter(|index| !journal.whole(*index).is_some_and(|whole| moved.contains(&whole))).collect();
    let folders: Vec<NewFolder<'_>> = others
        .iter()
        .map(|index| journal.steps()[*index].path())
        .map(|path| NewFolder { path, access: Access::Like(path) })
        .collect();
    if folders.is_empty() { Ok(()) } else { Ok(tree.create_folders(&folders)?) }
}

/// What lies at a path: what it is, and its digest if it is a file.
type Looked = (Option<EntryKind>, Option<Digest>);

/// Returns what lies at some paths, to be compared with other digests.
fn look(tree: &dyn Tree, paths: &[TreePath], others: &[Option<Digest>]) -> Result<Vec<Looked>, TreeError> {
    let kinds = tree.metadata(paths)?;
    let (files, others): (Vec<TreePath>, Vec<Option<Digest>>) = paths
        .iter()
        .zip(others)
        .zip(&kinds)
        .filter(|(_, kind)| matches!(kind, Some(EntryKind::File(_))))
        .map(|((path, other), _)| (path.clone(), *other))
        .unzip();
    let mut digests = tree.digest_as(&files, &others)?.into_iter();
    let looked = |kind: Option<EntryKind>| {
        let digest = matches!(kind, Some(EntryKind::File(_))).then(|| digests.next().flatten());
        (kind, digest.flatten().map(|(digest, _)| digest))
    };
    Ok(kinds.into_iter().map(looked).collect())
}

/// Decides whether a step may be done on what lies in its place.
fn allow(
    tree: &dyn Tree,
    journal: &Journal,
    (index, path, before): (usize, &TreePath, Option<Digest>),
    (kind, now): Looked,
    finishing: Option<&SealKey>,
) -> Result<(), SettleError> {
    let is_same = match before {
        Some(before) => now == Some(before),
        None => kind.is_none(),
    };
    match (finishing, now) {
        _ if is_same => Ok(()),
        (Some(key), Some(digest)) => journal.note_found(tree, key, (index, digest)),
        (Some(_), None) => Ok(()),
        (None, _) => Err(SettleError::Moved { path: path.clone() }),
    }
}

fn put(
    tree: &dyn Tree,
    journal: &Journal,
    puts: &[usize],
    finishing: Option<&SealKey>,
) -> Result<(), SettleError> {
    let all: Vec<TreePath> =
        puts.iter().map(|index| staged_at(journal, *index)).collect::<Result<_, SettleError>>()?;
    // Those that do not wait any more were put.
    let waiting = all.into_iter().zip(puts);
    let kinds = tree.metadata(&waiting.clone().map(|(staged, _)| staged).collect::<Vec<_>>())?;
    let (staged, puts): (Vec<TreePath>, Vec<usize>) = waiting
        .zip(kinds)
        .filter(|(_, kind)| kind.is_some())
        .map(|((staged, index), _)| (staged, *index))
        .unzip();
    let paths: Vec<TreePath> = puts.iter().map(|index| journal.steps()[*index].path().clone()).collect();
    let attics: Vec<TreePath> =
        puts.iter().map(|index| journal.attic(*index)).collect::<Result<_, SettleError>>()?;
    let (mut moves, mut exchanges, mut removed) = (Vec::new(), Vec::new(), Vec::new());
    let befores: Vec<Option<Digest>> = puts.iter().map(|index| journal.steps()[*index].before()).collect();
    for (at, (kind, now)) in look(tree, &paths, &befores)?.into_iter().enumerate() {
        let (path, staged) = (&paths[at], &staged[at]);
        let Step::Put { before, after, .. } = &journal.steps()[puts[at]] else { continue };
        if finishing.is_some() && now == Some(*after) && !tree.is_same_disk(path, staged) {
            // It was put on another disk, and interrupted before its source went.
            removed.push(staged.clone());
            continue;
        }
        allow(tree, journal, (puts[at], path, *before), (kind, now), finishing)?;
        match kind {
            Some(_) => exchanges.push((staged, path, &attics[at])),
            None => moves.push((staged, path)),
        }
    }
    tree.remove_files(&removed)?;
    tree.exchange(&exchanges)?;
    fault::point();
    Ok(tree.rename(&moves)?)
}

fn set_aside(
    tree: &dyn Tree,
    journal: &Journal,
    run: Range<usize>,
    finishing: Option<&SealKey>,
) -> Result<(), SettleError> {
    let steps: Vec<usize> = run.collect();
    let paths: Vec<TreePath> = steps.iter().map(|index| journal.steps()[*index].path().clone()).collect();
    let attics: Vec<TreePath> =
        steps.iter().map(|index| journal.attic(*index)).collect::<Result<_, SettleError>>()?;
    let kept = tree.metadata(&attics)?;
    let (mut moves, mut removed) = (Vec::new(), Vec::new());
    let befores: Vec<Option<Digest>> = steps.iter().map(|index| journal.steps()[*index].before()).collect();
    for (at, (kind, now)) in look(tree, &paths, &befores)?.into_iter().enumerate() {
        let (path, attic) = (&paths[at], &attics[at]);
        let Step::SetAside { before, .. } = &journal.steps()[steps[at]] else { continue };
        if kept[at].is_some() {
            // It was done. On another disk it may have been interrupted before its source went.
            if now == Some(*before) && !tree.is_same_disk(path, attic) {
                removed.push(path.clone());
            }
            continue;
        }
        allow(tree, journal, (steps[at], path, Some(*before)), (kind, now), finishing)?;
        if kind.is_some() {
            moves.push((path, attic));
        }
    }
    tree.remove_files(&removed)?;
    Ok(tree.rename(&moves)?)
}

/// Takes a run of steps back that may have been done. Taking back twice is taking back once, and what was not done is left alone.
pub(super) fn take_back(tree: &dyn Tree, journal: &Journal, run: Range<usize>) -> Result<(), SettleError> {
    let path_of = |index: usize| journal.steps()[index].path();
    match &journal.steps()[run.start] {
        Step::MakeFolder { .. } => {
            for index in run.rev() {
                tree.remove_empty_folder(path_of(index))?;
            }
            Ok(())
        }
        Step::RemoveFolder { .. } => {
            let folders: Vec<NewFolder<'_>> = run
                .rev()
                .map(|index| NewFolder { path: path_of(index), access: Access::Like(path_of(index)) })
                .collect();
            Ok(tree.create_folders(&folders)?)
        }
        Step::SetAside { .. } => take_set_aside_back(tree, journal, run),
        Step::Put { .. } => take_put_back(tree, journal, run),
    }
}

fn take_set_aside_back(tree: &dyn Tree, journal: &Journal, run: Range<usize>) -> Result<(), SettleError> {
    let attics: Vec<TreePath> =
        run.clone().map(|index| journal.attic(index)).collect::<Result<_, SettleError>>()?;
    let kept = tree.metadata(&attics)?;
    let steps: Vec<usize> = run.collect();
    let kept: Vec<usize> = (0..steps.len()).filter(|at| kept[*at].is_some()).collect();
    let attics: Vec<TreePath> = kept.iter().map(|at| attics[*at].clone()).collect();
    let steps = kept.iter().map(|at| &journal.steps()[steps[*at]]);
    let (paths, befores): (Vec<TreePath>, Vec<Option<Digest>>) =
        steps.map(|step| (step.path().clone(), step.before())).unzip();
    let there = look(tree, &paths, &befores)?;
    // An attic's file is read only if something is in its place.
    let doubtful: Vec<usize> = (0..attics.len()).filter(|at| there[*at].0.is_some()).collect();
    let (kept, others): (Vec<TreePath>, Vec<Option<Digest>>) =
        doubtful.iter().map(|at| (attics[*at].clone(), befores[*at])).unzip();
    let digests = tree.digest_as(&kept, &others)?.into_iter();
    let digests: HashMap<usize, Digest> = doubtful
        .into_iter()
        .zip(digests)
        .filter_map(|(at, found)| found.map(|(digest, _)| (at, digest)))
        .collect();
    let (mut moves, mut removed) = (Vec::new(), Vec::new());
    for (at, (attic, path)) in attics.iter().zip(&paths).enumerate() {
        match there[at] {
            (None, _) => moves.push((attic, path)),
            // On another disk it was interrupted before its source went.
            (_, Some(now)) if digests.get(&at) == Some(&now) => removed.push(attic.clone()),
            // Somebody has put another file there since: that stays, and so does the attic's.
            _ => {}
        }
    }
    tree.remove_files(&removed)?;
    Ok(tree.rename(&moves)?)
}

fn take_put_back(tree: &dyn Tree, journal: &Journal, run: Range<usize>) -> Result<(), SettleError> {
    let steps: Vec<usize> = run.collect();
    let staged: Vec<TreePath> =
        steps.iter().map(|index| staged_at(journal, *index)).collect::<Result<_, SettleError>>()?;
    let attics: Vec<TreePath> =
        steps.iter().map(|index| journal.attic(*index)).collect::<Result<_, SettleError>>()?;
    let paths: Vec<TreePath> = steps.iter().map(|index| journal.steps()[*index].path().clone()).collect();
    let (waiting, kept) = (tree.metadata(&staged)?, tree.metadata(&attics)?);
    let (mut moves, mut removed, mut folders) = (Vec::new(), Vec::new(), Vec::new());
    let afters: Vec<Option<Digest>> = steps.iter().map(|index| journal.steps()[*index].after()).collect();
    for (at, (kind, now)) in look(tree, &paths, &afters)?.into_iter().enumerate() {
        let (path, staged, attic) = (&paths[at], &staged[at], &attics[at]);
        let step = &journal.steps()[steps[at]];
        let Step::Put { after, .. } = step else { continue };
        let is_there = now == Some(*after);
        // On another disk a file may have been put and its source not have gone yet.
        let was_put = waiting[at].is_none() || is_there && !tree.is_same_disk(path, staged);
        if kept[at].is_some() {
            if was_put || kind.is_none() {
                moves.push((attic, path));
            } else {
                removed.push(attic.clone());
            }
        // What the machine took down with it is no longer what was put.
        } else if was_put && step.is_new() && kind.is_some() && (journal.is_unwritten() || is_there) {
            folders.extend(staged.parent());
            moves.push((path, staged));
        }
    }
    folders.sort();
    folders.dedup();
    let folders: Vec<NewFolder<'_>> =
        folders.iter().map(|path| NewFolder { path, access: Access::Own }).collect();
    if !folders.is_empty() {
        tree.create_folders(&folders)?;
    }
    tree.remove_files(&removed)?;
    Ok(tree.rename(&moves)?)
}
