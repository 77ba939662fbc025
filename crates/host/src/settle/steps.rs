//! One step at a time: staging, doing, taking back. Doing a step twice is doing it once.

use std::{
    collections::{HashMap, HashSet},
    fs::File,
    io::{self, Read},
    path::Path,
    sync::atomic::{AtomicUsize, Ordering},
    thread,
};

use yalotheca_core::{
    change::{Source, Step},
    id::{Digest, TreePath},
};

use super::{
    SealKey, SettleError, fault,
    journal::{Journal, folder_of, inner},
    staging::{self, staged_at},
};
use crate::{
    sources::{ByteSource, Sources},
    tree::{Attributes, LocalTree, Tree, TreeError},
};

/// Makes sure that what lies at the paths of all steps is still what the change was computed from, and that something can be
/// put or removed there.
pub(super) fn check_unchanged(tree: &LocalTree, steps: &[Step]) -> Result<(), SettleError> {
    let checked: Vec<&Step> =
        steps.iter().filter(|step| matches!(step, Step::Put { .. } | Step::SetAside { .. })).collect();
    // In a folder that is made first nothing lies yet.
    let made: HashSet<&TreePath> = steps
        .iter()
        .filter_map(|step| if let Step::MakeFolder { path } = step { Some(path) } else { None })
        .collect();
    let is_new = |path: &TreePath| path.parent().is_some_and(|folder| made.contains(&folder));
    spread(&checked.chunks(FEW).collect::<Vec<_>>(), |step, _| {
        let (path, before) = match step {
            Step::Put { path, before, .. } => (path, *before),
            Step::SetAside { path, before } => (path, Some(*before)),
            Step::MakeFolder { .. } | Step::RemoveFolder { .. } => return Ok(()),
        };
        if before.is_none() && is_new(path) && tree.find(path)?.is_none() {
            return Ok(());
        }
        check_one(tree, path, before)?;
        Ok(tree.check_writable(path)?)
    })?;
    for step in steps {
        if let Step::RemoveFolder { path } | Step::MakeFolder { path } = step {
            tree.check_writable(path)?;
        }
    }
    Ok(())
}

/// Makes sure that a path holds what it held when the change was computed. What was read then and has not been touched since
/// is not read again.
fn check_one(tree: &LocalTree, path: &TreePath, before: Option<Digest>) -> Result<(), SettleError> {
    let is_same = match before {
        Some(before) => tree.digest(path)?.is_some_and(|(digest, _)| digest == before),
        None => tree.find(path)?.is_none(),
    };
    if is_same { Ok(()) } else { Err(SettleError::Moved { path: path.clone() }) }
}

/// A file no larger than this is read whole before it is written.
const AT_ONCE: u64 = 1 << 20;

/// So many folders are made by a thread before it takes more; of files, about so many.
const FEW: usize = 64;
/// Of files a thread takes at least and at most so many.
const FILES: (usize, usize) = (16, 256);

/// Writes every new file beside the journal and checks its digest.
pub(super) fn stage(tree: &LocalTree, journal: &Journal, sources: &Sources) -> Result<(), SettleError> {
    let puts: Vec<(usize, &Step)> =
        journal.steps().iter().enumerate().filter(|(_, step)| matches!(step, Step::Put { .. })).collect();
    // Each file is given what it is going to have in its place before anybody sees it there.
    let attributes = attributes(tree, journal)?;
    let folders: Vec<(TreePath, Attributes)> = staging::folders(journal)?
        .into_iter()
        .map(|(folder, index)| (folder, index.and_then(|index| attributes[index])))
        .map(|(folder, attributes)| Ok((folder, attributes.map_or_else(|| tree.own_attributes(), Ok)?)))
        .collect::<Result<_, TreeError>>()?;
    spread(&folders.chunks(FEW).collect::<Vec<_>>(), |(folder, attributes), _| {
        Ok(tree.make_folder_as(folder, attributes)?)
    })?;
    spread(&by_folder(&puts), |put, buffer| {
        let attributes = attributes[put.0].map_or_else(|| tree.own_attributes(), Ok)?;
        stage_one(tree, journal, (*put, &attributes), sources, buffer)
    })
}

/// Returns the owner, group and mode that what each step makes or puts is going to have: those of what it replaces, else of the
/// nearest folder that is there.
fn attributes(tree: &LocalTree, journal: &Journal) -> Result<Vec<Option<Attributes>>, TreeError> {
    let mut of_folders: HashMap<TreePath, Attributes> = HashMap::new();
    let mut found = Vec::with_capacity(journal.steps().len());
    for (index, step) in journal.steps().iter().enumerate() {
        let one = match step {
            Step::Put { path, before: Some(_), .. } => tree.attributes(path)?,
            Step::Put { path, .. } | Step::MakeFolder { path } => {
                let outer = journal.whole(index).map_or(path, |whole| journal.steps()[whole].path());
                let folder = outer.parent().unwrap_or_else(TreePath::root);
                if let Some(known) = of_folders.get(&folder) {
                    *known
                } else {
                    // Of a file that is not there, not of the folder itself.
                    let new = tree.attributes_below(&folder)?;
                    of_folders.insert(folder, new);
                    new
                }
            }
            Step::SetAside { .. } | Step::RemoveFolder { .. } => {
                found.push(None);
                continue;
            }
        };
        found.push(Some(one));
    }
    Ok(found)
}

/// Splits files among threads so that two of them seldom make files in one folder, where one would wait for the other; disks
/// give folders made one after the other to parts of theirs that do not wait for one another.
fn by_folder<'a, 'b>(puts: &'a [(usize, &'b Step)]) -> Vec<&'a [(usize, &'b Step)]> {
    fn folder<'a>((_, step): &'a (usize, &Step)) -> &'a str {
        step.path().as_str().rsplit_once('/').map_or("", |(folder, _)| folder)
    }
    let (least, most) = FILES;
    let (mut few, mut rest) = (Vec::new(), puts);
    while !rest.is_empty() {
        let mut count = least.min(rest.len());
        while count < rest.len().min(most) && folder(&rest[count]) == folder(&rest[count - 1]) {
            count += 1;
        }
        let (first, others) = rest.split_at(count);
        few.push(first);
        rest = others;
    }
    few
}

/// Has something done with each of many by several threads. Each has a buffer, and takes the next few until none are left: some
/// have more to wait for than others.
fn spread<T: Sync>(
    all: &[&[T]],
    act: impl Fn(&T, &mut Vec<u8>) -> Result<(), SettleError> + Sync,
) -> Result<(), SettleError> {
    let cores = thread::available_parallelism().map_or(1, usize::from);
    let threads = all.len().clamp(1, cores);
    let next = AtomicUsize::new(0);
    let work = || {
        let mut buffer = Vec::new();
        while let Some(few) = all.get(next.fetch_add(1, Ordering::Relaxed)) {
            for one in *few {
                act(one, &mut buffer)?;
            }
        }
        Ok(())
    };
    thread::scope(|scope| {
        let others: Vec<_> = (1..threads).map(|_| scope.spawn(work)).collect();
        let mut done = work();
        for other in others {
            let theirs = other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
            done = done.and(theirs);
        }
        done
    })
}

fn stage_one(
    tree: &LocalTree,
    journal: &Journal,
    ((index, step), attributes): ((usize, &Step), &Attributes),
    sources: &Sources,
    buffer: &mut Vec<u8>,
) -> Result<(), SettleError> {
    let Step::Put { path, source, after, size, .. } = step else { return Ok(()) };
    let wrong = |why: String| SettleError::Bytes { path: path.to_string(), why };
    let staged = staged_at(journal, index)?;
    // In a folder that is new with everything in it nothing stands yet.
    let is_alone = || Ok::<bool, TreeError>(journal.whole(index).is_some() || tree.find(path)?.is_none());
    let unreadable = |from: &Path, error: io::Error| wrong(format!("{}: {error}", from.display()));
    let open = |from: &Path| File::open(from).map_err(|error| unreadable(from, error));
    let mut copy = |from: &Path, mut file: File| -> Result<Digest, SettleError> {
        let length = file.metadata().map_err(|error| unreadable(from, error))?.len();
        if length > AT_ONCE {
            return Ok(tree.write_from(&mut file, &staged, attributes)?);
        }
        buffer.clear();
        buffer.reserve(usize::try_from(length).unwrap_or(0));
        file.take(length).read_to_end(buffer).map_err(|error| unreadable(from, error))?;
        tree.put(buffer, &staged, attributes)?;
        Ok(Digest::of(buffer))
    };
    let found = sources.get(after);
    let digest = match source {
        Source::Text(file) => {
            let bytes = file.bytes();
            tree.put(&bytes, &staged, attributes)?;
            if journal.is_unwritten() {
                // What others wrote into it as well nobody could bring again.
                tree.sync_file(&staged)?;
            }
            Digest::of(&bytes)
        }
        Source::Attic { settle, step } => {
            let old = inner(&folder_of(*settle)?, &format!("attic/{step}"))?;
            let file = tree.open(&old)?.ok_or_else(|| wrong(format!("{old} has been swept")))?;
            copy(&tree.at(&old), file)?
        }
        Source::Payload => match found {
            None => return Err(wrong("its bytes are nowhere to be had".into())),
            Some(ByteSource::File(from)) => copy(from, open(from)?)?,
            Some(ByteSource::Cached(from) | ByteSource::Fresh(from)) => {
                let mut file = open(from)?;
                // What this process has looked at itself need not be looked at again.
                let is_known = matches!(found, Some(ByteSource::Fresh(_)));
                // What stands there keeps its permissions, and they would be the cache's as well.
                let is_shared = is_alone()? && tree.reflink_or_link((from, &file), &staged, attributes);
                match is_shared {
                    true if is_known => *after,
                    true => tree.digest(&staged)?.map_or(*after, |(digest, _)| digest),
                    false if is_known && tree.copy(&mut file, *size, &staged, attributes)? == *size => *after,
                    false if is_known => {
                        return Err(wrong(format!("{} has another size by now", from.display())));
                    }
                    false => copy(from, file)?,
                }
            }
        },
    };
    if digest != *after {
        let why = format!("it has the digest {}, and {} was promised", digest.short(), after.short());
        if let Some(ByteSource::Cached(from) | ByteSource::Fresh(from)) = found {
            // The cache is no good for it any more: the next command gets it anew.
            std::fs::remove_file(from).ok();
        }
        return Err(wrong(why));
    }
    Ok(())
}

/// What was done.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Done {
    /// The step.
    Alone,
    /// A folder was moved into its place with everything that comes into it.
    WithAllInIt,
}

/// Does one step. Doing it twice is doing it once. What lies in the place of a step and is not what the plan says stops the
/// settle; where that is finished after an interruption, it goes to the attic as it was found, and that is noted.
pub(super) fn carry_out(
    tree: &LocalTree,
    journal: &Journal,
    (index, step): (usize, &Step),
    finishing: Option<&SealKey>,
) -> Result<Done, SettleError> {
    match step {
        Step::MakeFolder { path } => {
            let is_moved = journal.whole(index) == Some(index)
                && tree.find(path)?.is_none()
                && tree.rename(&staged_at(journal, index)?, path).is_ok();
            if is_moved {
                return Ok(Done::WithAllInIt);
            }
            tree.make_folder(path)?;
        }
        Step::RemoveFolder { path } => drop(tree.remove_folder(path)?),
        Step::Put { path, before, after, .. } => {
            let staged = staged_at(journal, index)?;
            if tree.find(&staged)?.is_none() {
                return Ok(Done::Alone);
            }
            let attic = journal.attic(index)?;
            if let Some(key) = finishing {
                let is_there =
                    || Ok::<_, TreeError>(tree.digest(path)?.is_some_and(|(digest, _)| digest == *after));
                if !tree.is_same_disk(path, &staged) && is_there()? {
                    // It was put on another disk, and interrupted before its source went.
                    tree.remove_own_file(&staged)?;
                    return Ok(Done::Alone);
                }
                note_other(tree, journal, (index, path, *before), key)?;
            } else {
                check_one(tree, path, *before)?;
            }
            if tree.find(path)?.is_some() {
                tree.keep(path, &attic)?;
                fault::point();
            }
            tree.rename(&staged, path)?;
        }
        Step::SetAside { path, before } => {
            let attic = journal.attic(index)?;
            if tree.find(&attic)?.is_some() {
                // It was done. On another disk it may have been interrupted before its source went.
                if tree.digest(path)?.is_some_and(|(digest, _)| digest == *before)
                    && !tree.is_same_disk(path, &attic)
                {
                    tree.remove_own_file(path)?;
                }
                return Ok(Done::Alone);
            }
            if let Some(key) = finishing {
                note_other(tree, journal, (index, path, Some(*before)), key)?;
            } else {
                check_one(tree, path, Some(*before))?;
            }
            if tree.find(path)?.is_some() {
                tree.rename(path, &attic)?;
            }
        }
    }
    Ok(Done::Alone)
}

/// Notes what lies in the place of a step, where that is not what the plan says.
fn note_other(
    tree: &LocalTree,
    journal: &Journal,
    (index, path, before): (usize, &TreePath, Option<Digest>),
    key: &SealKey,
) -> Result<(), SettleError> {
    match tree.digest(path)? {
        Some((digest, _)) if Some(digest) != before => journal.note_found(tree, key, (index, digest)),
        _ => Ok(()),
    }
}

/// Takes one step back that may have been done. Taking back twice is taking back once, and what was not done is left alone.
pub(super) fn take_back(
    tree: &LocalTree,
    journal: &Journal,
    index: usize,
    step: &Step,
) -> Result<(), SettleError> {
    let attic = journal.attic(index)?;
    match step {
        Step::MakeFolder { path } => drop(tree.remove_folder(path)?),
        Step::RemoveFolder { path } => tree.make_folder(path)?,
        Step::SetAside { path, .. } => {
            if tree.find(&attic)?.is_none() {
                return Ok(());
            }
            match (tree.digest(&attic)?, tree.digest(path)?) {
                (_, None) => tree.rename(&attic, path)?,
                // On another disk it was interrupted before its source went.
                (Some((kept, _)), Some((there, _))) if kept == there => tree.remove_own_file(&attic)?,
                // Somebody has put another file there since: that stays, and so does the attic's.
                _ => {}
            }
        }
        Step::Put { path, after, .. } => {
            let staged = staged_at(journal, index)?;
            let is_there = || -> Result<bool, TreeError> {
                Ok(tree.digest(path)?.is_some_and(|(digest, _)| digest == *after))
            };
            let waits = tree.find(&staged)?.is_some();
            // On another disk a file may have been put and its source not have gone yet.
            let was_put = if waits { !tree.is_same_disk(path, &staged) && is_there()? } else { true };
            if tree.find(&attic)?.is_some() {
                if was_put {
                    tree.rename(&attic, path)?;
                } else {
                    tree.remove_own_file(&attic)?;
                }
            // What the machine took down with it is no longer what was put.
            } else if was_put
                && step.is_new()
                && tree.find(path)?.is_some()
                && (journal.is_unwritten() || is_there()?)
            {
                if let Some(folder) = staged.parent() {
                    tree.make_folder(&folder)?;
                }
                tree.rename(path, &staged)?;
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_thread_takes_the_files_of_a_folder_and_never_too_many() {
        let put = |name: String| {
            let after = Digest::of(b"");
            Step::Put {
                path: TreePath::new(&name).unwrap(),
                source: Source::Payload,
                before: None,
                after,
                size: 0,
            }
        };
        let in_folder =
            |folder: &'static str, count: usize| (0..count).map(move |at| format!("{folder}/{at}"));
        let names =
            in_folder("a", 25).chain(in_folder("b", 3)).chain(in_folder("c", 600)).chain(in_folder("d", 1));
        let steps: Vec<Step> = names.map(put).collect();
        let puts: Vec<(usize, &Step)> = steps.iter().enumerate().collect();
        let few = by_folder(&puts);
        let counts: Vec<usize> = few.iter().map(|few| few.len()).collect();
        assert_eq!(counts, [25, 256, 256, 91, 1]);
        assert_eq!(
            few.concat().iter().map(|(index, _)| *index).collect::<Vec<_>>(),
            (0..629).collect::<Vec<_>>()
        );
        assert!(by_folder(&[]).is_empty());
    }
}
