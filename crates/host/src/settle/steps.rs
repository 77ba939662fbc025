//! One step at a time: staging, doing, taking back. Doing a step twice is doing it once.

use std::{
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
    SettleError, fault,
    journal::Journal,
    staging::{self, staged_at},
};
use crate::{
    catalogue::{ByteSource, Sources},
    tree::{LocalTree, Tree, TreeError},
};

/// Makes sure that the configuration files are still those from which the change was computed.
pub(super) fn check_unchanged(tree: &LocalTree, steps: &[Step]) -> Result<(), SettleError> {
    for step in steps {
        if let Step::Put { path, source: Source::Text(_), before, .. } = step {
            let now = tree.digest(path)?.map(|(digest, _)| digest);
            if now != *before {
                return Err(SettleError::Moved { path: path.clone() });
            }
        }
    }
    Ok(())
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
    let folders = staging::folders(journal)?;
    spread(&folders.chunks(FEW).collect::<Vec<_>>(), |folder, _| Ok(tree.make_folder(folder)?))?;
    spread(&by_folder(&puts), |put, buffer| stage_one(tree, journal, *put, sources, buffer))
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
    (index, step): (usize, &Step),
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
            return Ok(tree.bring(&mut file, &staged)?);
        }
        buffer.clear();
        buffer.reserve(usize::try_from(length).unwrap_or(0));
        file.take(length).read_to_end(buffer).map_err(|error| unreadable(from, error))?;
        tree.put(buffer, &staged)?;
        Ok(Digest::of(buffer))
    };
    let found = sources.get(after);
    let digest = match source {
        Source::Text(file) => {
            let bytes = file.bytes();
            if journal.is_unwritten() {
                // What others wrote into it as well nobody could bring again.
                tree.write(&staged, &bytes)?;
            } else {
                tree.put(&bytes, &staged)?;
            }
            Digest::of(&bytes)
        }
        Source::Attic { settle, step } => {
            let old = Journal::open(tree, *settle)?.inner(&format!("attic/{step}"))?;
            let old = tree.at(&old);
            copy(&old, open(&old)?)?
        }
        Source::Payload => match found {
            None => return Err(wrong("its bytes are nowhere to be had".into())),
            Some(ByteSource::File(from)) => copy(from, open(from)?)?,
            Some(ByteSource::Cached(from) | ByteSource::Fresh(from)) => {
                let mut file = open(from)?;
                // What this process has looked at itself need not be looked at again.
                let is_known = matches!(found, Some(ByteSource::Fresh(_)));
                // What stands there keeps its permissions, and they would be the cache's as well.
                let is_shared = is_alone()? && tree.share((from, &file), &staged);
                match is_shared {
                    true if is_known => *after,
                    true => tree.digest(&staged)?.map_or(*after, |(digest, _)| digest),
                    false if is_known && tree.copy(&mut file, *size, &staged)? == *size => *after,
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
    if journal.whole(index).is_none() {
        tree.like(&staged, path)?;
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

/// Does one step.
pub(super) fn carry_out(
    tree: &LocalTree,
    journal: &Journal,
    index: usize,
    step: &Step,
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
        Step::Put { path, .. } => {
            let staged = staged_at(journal, index)?;
            if tree.find(&staged)?.is_some() {
                if tree.find(path)?.is_some() {
                    tree.keep(path, &journal.inner(&format!("attic/{index}"))?)?;
                    fault::point();
                }
                tree.rename(&staged, path)?;
            }
        }
        Step::SetAside { path, .. } => {
            if tree.find(path)?.is_some() {
                tree.rename(path, &journal.inner(&format!("attic/{index}"))?)?;
            }
        }
    }
    Ok(Done::Alone)
}

/// Takes one step back that may have been done.
pub(super) fn take_back(
    tree: &LocalTree,
    journal: &Journal,
    index: usize,
    step: &Step,
) -> Result<(), SettleError> {
    let attic = journal.inner(&format!("attic/{index}"))?;
    let bring_back = |path: &TreePath| -> Result<bool, TreeError> {
        let kept = tree.find(&attic)?.is_some();
        if kept {
            tree.rename(&attic, path)?;
        }
        Ok(kept)
    };
    match step {
        Step::MakeFolder { path } => drop(tree.remove_folder(path)?),
        Step::RemoveFolder { path } => tree.make_folder(path)?,
        Step::SetAside { path, .. } => drop(bring_back(path)?),
        Step::Put { path, .. } => {
            let staged = staged_at(journal, index)?;
            let was_put = tree.find(&staged)?.is_none();
            if was_put && tree.find(path)?.is_some() && tree.find(&attic)?.is_none() {
                if let Some(folder) = staged.parent() {
                    tree.make_folder(&folder)?;
                }
                tree.rename(path, &staged)?;
            }
            bring_back(path)?;
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
