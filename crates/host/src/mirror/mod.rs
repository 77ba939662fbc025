//! A web folder from which players' games download files.
//!
//! Its record is in the folder itself, in `.yalotheca/mirror.json`, so that any administrator's next change knows what is there. A file is
//! replaced only by a complete one, and files that were not put there by a mirror command stay.

mod record;
pub mod serve;

use std::{
    collections::BTreeSet,
    fs::File,
    io::{self, Read, Write},
    path::Path,
    sync::Arc,
    time::Duration,
};

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde::Serialize;
use yalotheca_core::{
    game::Compression,
    hint::{Advice, Hint},
    id::{Digest, TreePath},
};

pub(crate) use self::record::RECORD;
pub use self::record::{MirrorRecord, MirroredFile, read_record};
use crate::{
    settle::{SettleError, claim},
    threads::{cores, spread},
    tree::{Access, EntryKind, Flush, Tree, TreeError, Upload, UploadError, UploadSource},
};

/// So many bytes of sources, or files, are handled at a time.
const BATCH: (u64, usize) = (64 << 20, 1_000);

/// A file that a mirror is to have.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WantedFile {
    /// Its path in the mirror.
    pub name: TreePath,
    /// The server's file.
    pub from: TreePath,
    /// The folder below which it lies, if that is not the server's.
    pub outside: Option<String>,
    /// The digest of that file.
    pub source: Digest,
    /// The size of that file.
    pub bytes: u64,
    /// How it is compressed.
    pub compress: Option<Compression>,
}

/// How to bring a mirror up to date.
#[derive(Debug, Clone, Copy)]
pub struct MirrorOptions<'a> {
    /// The time, in seconds since 1970.
    pub now: u64,
    /// How long files that are not needed any more stay.
    pub grace: Duration,
    /// Whether to replace files that somebody else put there.
    pub replace: bool,
    /// A folder of this machine for temporary files.
    pub temporary: &'a Path,
}

/// What was done to a mirror.
#[derive(Debug, Default, Clone, PartialEq, Eq, Serialize)]
pub struct MirrorDone {
    /// The files that were added or replaced.
    pub written: Vec<TreePath>,
    /// The number of files that were up to date.
    pub unchanged: usize,
    /// The files that are not needed any more and stay for now.
    pub waiting: Vec<TreePath>,
    /// The files that were removed.
    pub removed: Vec<TreePath>,
    /// The size of all files that are needed, in bytes.
    pub bytes: u64,
}

/// Why a mirror could not be brought up to date.
#[derive(Debug, thiserror::Error)]
pub enum MirrorError {
    /// The folder could not be read or written.
    #[error(transparent)]
    Tree(#[from] TreeError),
    /// Somebody else works on it.
    #[error(transparent)]
    Lock(#[from] SettleError),
    /// Files of somebody else are in the way.
    #[error("{place} has {}{} already, and no mirror command put {} there", .paths[0], more(.paths.len()), if .paths.len() == 1 { "it" } else { "them" })]
    Foreign {
        /// The mirror.
        place: String,
        /// The files.
        paths: Vec<TreePath>,
    },
    /// A file of the server could not be read or compressed.
    #[error("{path}: {source}")]
    Source {
        /// The file.
        path: TreePath,
        /// Why.
        source: io::Error,
    },
    /// A file changed on its way.
    #[error("{name} could not be written: {why}")]
    Upload {
        /// The file.
        name: String,
        /// Why.
        why: String,
    },
    /// The record is not one.
    #[error("{path} cannot be read: {why}")]
    Record {
        /// Its path.
        path: String,
        /// Why.
        why: String,
    },
}

fn own(name: &str) -> TreePath {
    TreePath::new(&format!(".yalotheca/{name}")).unwrap_or_else(|_| TreePath::root())
}

fn more(count: usize) -> String {
    match count {
        0 | 1 => String::new(),
        count => format!(" and {} more", count - 1),
    }
}

impl Hint for MirrorError {
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::Tree(error) => error.hint(),
            Self::Lock(error) => error.hint(),
            Self::Foreign { .. } => Some(Advice::OtherMirrorFolderOrReplace),
            Self::Source { .. } => Some("run the command again; if it fails again, check the disk".into()),
            Self::Upload { .. } => Some("run the command again; what arrived is not sent twice".into()),
            Self::Record { .. } => Some("remove that file; all files are then compared once".into()),
        }
    }
}

/// The bytes of a wanted file, written to a writer.
pub type Produce<'a> = dyn Fn(&WantedFile, &mut dyn Write) -> io::Result<()> + Sync + 'a;

/// Brings a mirror up to date: new and changed files are written, files that players do not need any more are removed after the
/// grace. `index` is written after all others.
///
/// # Errors
/// If something cannot be read or written; every file is then complete, old or new.
pub fn bring_up_to_date(
    mirror: &Arc<dyn Tree>,
    wanted: &[WantedFile],
    index: Option<(&TreePath, &[u8])>,
    produce: &Produce<'_>,
    options: MirrorOptions<'_>,
) -> Result<MirrorDone, MirrorError> {
    let claim = claim(mirror)?;
    let mut update =
        Update { mirror: &**mirror, record: read_record(&**mirror)?, done: MirrorDone::default() };
    update.record.format = 1;
    let done = update.run(wanted, index, produce, options);
    drop(claim);
    done
}

struct Update<'a> {
    mirror: &'a dyn Tree,
    record: MirrorRecord,
    done: MirrorDone,
}

impl Update<'_> {
    fn run(
        mut self,
        wanted: &[WantedFile],
        index: Option<(&TreePath, &[u8])>,
        produce: &Produce<'_>,
        options: MirrorOptions<'_>,
    ) -> Result<MirrorDone, MirrorError> {
        let pending = self.pending(wanted, options)?;
        let mut rest = pending.as_slice();
        while !rest.is_empty() {
            let mut bytes = 0;
            let count = rest.iter().take(BATCH.1).take_while(|file| {
                let fits = bytes == 0 || bytes + file.bytes <= BATCH.0;
                bytes += file.bytes;
                fits
            });
            let (batch, others) = rest.split_at(count.count().max(1));
            self.write(batch, produce, options.temporary)?;
            // What was sent is not sent again if the next batch fails.
            self.save()?;
            rest = others;
        }
        if let Some((path, bytes)) = index {
            self.write_index(path, bytes)?;
        }
        let index = index.map(|(path, _)| path);
        self.sweep(&wanted.iter().map(|file| &file.name).chain(index).collect(), options)?;
        self.save()?;
        self.mirror.flush(Flush::All)?;
        self.done.bytes =
            wanted.iter().filter_map(|file| self.record.files.get(&file.name)).map(|file| file.bytes).sum();
        Ok(self.done)
    }

    /// Returns the files that are new or have changed.
    fn pending<'w>(
        &mut self,
        wanted: &'w [WantedFile],
        options: MirrorOptions<'_>,
    ) -> Result<Vec<&'w WantedFile>, MirrorError> {
        let names: Vec<TreePath> = wanted.iter().map(|file| file.name.clone()).collect();
        let (mut pending, mut foreign) = (Vec::new(), Vec::new());
        for (file, there) in wanted.iter().zip(self.mirror.metadata(&names)?) {
            match (self.record.files.get_mut(&file.name), there) {
                (Some(known), Some(EntryKind::File(bytes)))
                    if known.source == file.source && known.bytes == bytes =>
                {
                    known.unneeded_since = None;
                    self.done.unchanged += 1;
                }
                (None, Some(_)) => foreign.push(file),
                _ => pending.push(file),
            }
        }
        self.take_over(foreign, &mut pending, options)?;
        pending.sort_by(|one, other| one.name.cmp(&other.name));
        Ok(pending)
    }

    /// Decides about files that somebody else put where a wanted one belongs: those with the right bytes are taken over.
    fn take_over<'w>(
        &mut self,
        foreign: Vec<&'w WantedFile>,
        pending: &mut Vec<&'w WantedFile>,
        options: MirrorOptions<'_>,
    ) -> Result<(), MirrorError> {
        let names: Vec<TreePath> = foreign.iter().map(|file| file.name.clone()).collect();
        let mut others = Vec::new();
        for (file, there) in foreign.into_iter().zip(self.mirror.digest(&names)?) {
            match there {
                Some((digest, bytes)) if file.compress.is_none() && digest == file.source => {
                    self.note(file, digest, bytes);
                    self.done.unchanged += 1;
                }
                _ => others.push(file),
            }
        }
        if others.is_empty() {
            return Ok(());
        }
        if !options.replace {
            let paths = others.iter().map(|file| file.name.clone()).collect();
            return Err(MirrorError::Foreign { place: self.mirror.location(), paths });
        }
        for file in &others {
            let aside = own(&format!("replaced/{}", file.name));
            self.make_folder_of(&aside)?;
            self.mirror.rename(&[(&file.name, &aside)])?;
        }
        pending.extend(others);
        Ok(())
    }

    fn note(&mut self, file: &WantedFile, digest: Digest, bytes: u64) {
        let (from, source) = (file.from.clone(), file.source);
        let mirrored = MirroredFile { from, source, bytes, digest, unneeded_since: None };
        self.record.files.insert(file.name.clone(), mirrored);
    }

    fn make_folder_of(&self, path: &TreePath) -> Result<(), MirrorError> {
        let Some(folder) = path.parent().filter(|folder| !folder.is_root()) else { return Ok(()) };
        Ok(self.mirror.create_folder(&folder)?)
    }

    /// Writes some files under staging names, and then gives them their own.
    fn write(
        &mut self,
        batch: &[&WantedFile],
        produce: &Produce<'_>,
        temporary: &Path,
    ) -> Result<(), MirrorError> {
        let failed = |path: &TreePath, source| MirrorError::Source { path: path.clone(), source };
        let scratch = tempfile::tempdir_in(temporary).map_err(|error| failed(&batch[0].from, error))?;
        let numbered: Vec<(usize, &&WantedFile)> = batch.iter().enumerate().collect();
        let produce_one = |(at, file): &(usize, &&WantedFile)| -> io::Result<(Digest, u64)> {
            let mut hashing = HashingWriter {
                inner: io::BufWriter::with_capacity(
                    1 << 16,
                    File::create(scratch.path().join(at.to_string()))?,
                ),
                hasher: blake3::Hasher::new(),
                bytes: 0,
            };
            produce(file, &mut hashing)?;
            hashing.flush()?;
            Ok((Digest::from_bytes(*hashing.hasher.finalize().as_bytes()), hashing.bytes))
        };
        let made = spread(&numbered, (cores(), 1), produce_one);
        let made: Vec<(Digest, u64)> = made
            .into_iter()
            .zip(batch)
            .map(|(made, file)| made.map_err(|error| failed(&file.from, error)))
            .collect::<Result<_, _>>()?;
        let staged: Vec<TreePath> = (0..batch.len()).map(|at| own(&format!("arriving/{at}"))).collect();
        self.mirror.create_folder(&own("arriving"))?;
        let folders: BTreeSet<TreePath> = batch.iter().filter_map(|file| file.name.parent()).collect();
        for folder in folders.iter().filter(|folder| !folder.is_root()) {
            self.mirror.create_folder(folder)?;
        }
        // What an interrupted command left there would be in the way.
        let left: Vec<TreePath> = (staged.iter().zip(self.mirror.metadata(&staged)?))
            .filter_map(|(path, there)| there.map(|_| path.clone()))
            .collect();
        self.mirror.remove_files(&left)?;
        let paths: Vec<_> = (0..batch.len()).map(|at| scratch.path().join(at.to_string())).collect();
        let root = TreePath::root();
        let parents: Vec<TreePath> =
            batch.iter().map(|file| file.name.parent().unwrap_or(root.clone())).collect();
        let uploads: Vec<Upload<'_>> = (0..batch.len())
            .map(|at| Upload {
                path: &staged[at],
                // It was just written and digested, and nothing else knows of it.
                source: UploadSource::Verified(&paths[at]),
                access: Access::Below(&parents[at]),
                digest: made[at].0,
                size: made[at].1,
                may_share: true,
            })
            .collect();
        self.mirror.expect_upload(made.iter().map(|(_, bytes)| bytes).sum());
        self.mirror.upload(&uploads).map_err(|error| match error {
            UploadError::Tree(error) => MirrorError::Tree(error),
            UploadError::Bytes { index, why } => {
                MirrorError::Upload { name: batch[index].name.to_string(), why }
            }
        })?;
        self.mirror.flush(Flush::Entries(&staged))?;
        let moves: Vec<(&TreePath, &TreePath)> =
            staged.iter().zip(batch.iter().map(|file| &file.name)).collect();
        self.mirror.rename(&moves)?;
        for (file, (digest, bytes)) in batch.iter().zip(made) {
            self.note(file, digest, bytes);
            self.done.written.push(file.name.clone());
        }
        Ok(())
    }

    fn write_index(&mut self, path: &TreePath, bytes: &[u8]) -> Result<(), MirrorError> {
        let digest = Digest::of(bytes);
        let is_same = self.mirror.read_file(path)?.is_some_and(|there| there == bytes);
        if !is_same {
            self.make_folder_of(path)?;
            self.mirror.replace(path, bytes)?;
            self.done.written.push(path.clone());
        }
        let own = WantedFile {
            outside: None,
            name: path.clone(),
            from: path.clone(),
            source: digest,
            bytes: bytes.len() as u64,
            compress: None,
        };
        self.note(&own, digest, own.bytes);
        Ok(())
    }

    /// Removes what has not been needed for the grace, if it still is what was put there.
    fn sweep(&mut self, needed: &BTreeSet<&TreePath>, options: MirrorOptions<'_>) -> Result<(), MirrorError> {
        let mut ripe = Vec::new();
        for (name, file) in &mut self.record.files {
            if needed.contains(name) {
                continue;
            }
            let since = *file.unneeded_since.get_or_insert(options.now);
            if options.now.saturating_sub(since) >= options.grace.as_secs() {
                ripe.push((name.clone(), file.digest));
            } else {
                self.done.waiting.push(name.clone());
            }
        }
        let names: Vec<TreePath> = ripe.iter().map(|(name, _)| name.clone()).collect();
        let there = self.mirror.digest(&names)?;
        let ours: Vec<TreePath> = ripe
            .iter()
            .zip(there)
            .filter(|((_, digest), there)| there.is_some_and(|(there, _)| there == *digest))
            .map(|((name, _), _)| name.clone())
            .collect();
        self.mirror.remove_files(&ours)?;
        for name in &names {
            self.record.files.remove(name);
        }
        let folders: BTreeSet<TreePath> = ours.iter().filter_map(TreePath::parent).collect();
        for folder in folders.iter().rev().filter(|folder| !folder.is_root()) {
            self.mirror.remove_empty_folder(folder)?;
        }
        self.done.removed = ours;
        Ok(())
    }

    fn save(&self) -> Result<(), MirrorError> {
        let path = own(RECORD);
        let failed =
            |error: serde_json::Error| MirrorError::Record { path: path.to_string(), why: error.to_string() };
        let bytes = serde_json::to_vec_pretty(&self.record).map_err(failed)?;
        Ok(self.mirror.replace(&path, &bytes)?)
    }
}

struct HashingWriter<W> {
    inner: W,
    hasher: blake3::Hasher,
    bytes: u64,
}

impl<W: Write> Write for HashingWriter<W> {
    fn write(&mut self, buffer: &[u8]) -> io::Result<usize> {
        let written = self.inner.write(buffer)?;
        self.hasher.update(&buffer[..written]);
        self.bytes += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

/// Copies a file of a tree to a writer, compressed if asked.
///
/// # Errors
/// If it is not there, or cannot be read or written.
pub fn produce_from(tree: &dyn Tree, file: &WantedFile, to: &mut dyn Write) -> io::Result<()> {
    let outside = file.outside.as_ref().map(|folder| tree.elsewhere(folder));
    let opened = outside.as_deref().unwrap_or(tree).open(&file.from).map_err(io::Error::other)?;
    let mut reader: Box<dyn Read> = match opened {
        Some(opened) => Box::new(opened),
        None => return Err(io::Error::new(io::ErrorKind::NotFound, "it has gone since the command started")),
    };
    match file.compress {
        None => io::copy(&mut reader, to).map(drop),
        Some(how) => crate::compress::compress(how, reader, to),
    }
}

/// What is not encoded in an address.
const PLAIN: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~').remove(b'/');

/// Returns the address of a file in a mirror.
pub fn link_to(address: &str, name: &TreePath) -> String {
    format!("{}/{}", address.trim_end_matches('/'), utf8_percent_encode(name.as_str(), PLAIN))
}

/// Returns the SHA-1 of each file of a tree; nothing where there is no such file.
///
/// # Errors
/// If one cannot be read.
pub fn sha1_of(tree: &dyn Tree, paths: &[TreePath]) -> Result<Vec<Option<[u8; 20]>>, MirrorError> {
    let one = |path: &TreePath| -> Result<Option<[u8; 20]>, MirrorError> {
        let Some(mut file) = tree.open(path)? else { return Ok(None) };
        let mut hasher = Sha1Writer(sha1::Digest::new());
        io::copy(&mut file, &mut hasher)
            .map_err(|source| MirrorError::Source { path: path.clone(), source })?;
        Ok(Some(sha1::Digest::finalize(hasher.0).into()))
    };
    spread(paths, (cores(), 16), one).into_iter().collect()
}

struct Sha1Writer(sha1::Sha1);

impl Write for Sha1Writer {
    fn write(&mut self, buffer: &[u8]) -> io::Result<usize> {
        sha1::Digest::update(&mut self.0, buffer);
        Ok(buffer.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_become_addresses() -> Result<(), Box<dyn std::error::Error>> {
        let name = TreePath::new("maps/höhe 1.kmap")?;
        assert_eq!(link_to("https://x.example/k", &name), "https://x.example/k/maps/h%C3%B6he%201.kmap");
        assert_eq!(link_to("https://x.example/k/", &TreePath::new("a")?), "https://x.example/k/a");
        Ok(())
    }
}
