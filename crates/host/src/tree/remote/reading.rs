//! Reading files: whole, in parts, and their digests.

use std::{
    collections::{BTreeSet, HashMap},
    fs,
    io::{self, Read, Seek, SeekFrom},
    ops::Range,
    path::PathBuf,
    sync::{Arc, Mutex, PoisonError},
};

use yalotheca_core::id::{Digest, TreePath};

use super::{
    RemoteTree,
    file_server::{FileServer, RemoteKind, RemoteMetadata, is_torn},
    now, retried,
    seen::{Found, Seen},
    stamp_of,
};
use crate::tree::{
    ReadSeek, Tree as _, TreeError,
    fingerprint::{LARGE, fingerprint_of},
    known::Cursor,
};

/// So many bytes are worth a word about how far they are.
const WORTH: u64 = 1 << 20;
/// So many bytes are asked for at a time.
const AT_ONCE: u64 = 16 << 20;
/// A part of a file that is asked for is no longer than this.
const PART: u64 = 1 << 20;
/// A file no larger than this is remembered when it was read.
const TEXT: u64 = 1 << 20;
/// A file that is opened is read in blocks of this size, and many of them at a time where they follow one another.
const BLOCK: u64 = 8 << 10;
const BLOCKS_AT_ONCE: u64 = 16;

/// A file that is to be read: its path, the path by which the file server knows it, and what it is.
pub(super) struct Wanted {
    pub(super) real: TreePath,
    pub(super) called: String,
    pub(super) metadata: RemoteMetadata,
}

impl RemoteTree {
    /// Returns the files among some paths; nothing for one that is not there.
    pub(super) fn files(&self, paths: &[TreePath]) -> Result<Vec<Option<Wanted>>, TreeError> {
        let found = self.look(paths)?;
        let file = |(path, found): (&TreePath, Found)| match found {
            Found::Absent { .. } => Ok(None),
            Found::Refused(refusal) => Err(self.error("reading", path)(io::Error::other(refusal))),
            Found::There { real, called, metadata } => match metadata.kind {
                RemoteKind::File => Ok(Some(Wanted { real, called, metadata })),
                RemoteKind::Folder => Err(self.error("reading", path)(io::ErrorKind::IsADirectory.into())),
                RemoteKind::Link | RemoteKind::Other => {
                    let why = crate::tree::Refusal::NotAFile("something else");
                    Err(self.error("reading", path)(io::Error::other(why)))
                }
            },
        };
        paths.iter().zip(found).map(file).collect()
    }

    /// Passes the bytes of files on, part after part. A file that is gone by now ends.
    pub(super) fn download(
        &self,
        files: &[&Wanted],
        mut each: impl FnMut(usize, &[u8]),
    ) -> Result<(), TreeError> {
        let total: u64 = files.iter().map(|file| file.metadata.size).sum();
        let told = (total > WORTH)
            .then(|| self.watch.begin(&format!("reading {} files", files.len()), 0, Some(total)));
        let done = self.download_parts(files, |file, part| {
            if let Some(told) = told {
                self.watch.came(told, part.len() as u64);
            }
            each(file, part);
        });
        if let Some(told) = told {
            self.watch.end(told);
            self.watch.all_done();
        }
        done
    }

    fn download_parts(&self, files: &[&Wanted], mut each: impl FnMut(usize, &[u8])) -> Result<(), TreeError> {
        let mut parts: Vec<(usize, Range<u64>)> = Vec::new();
        let mut bytes = 0;
        let mut flush = |parts: &mut Vec<(usize, Range<u64>)>| -> Result<(), TreeError> {
            let read = self.retried(parts.len(), |indices| {
                let asked = indices.iter().map(|index| {
                    let (file, range) = &parts[*index];
                    (self.at(&files[*file].called), range.clone())
                });
                self.server.read(&asked.collect::<Vec<_>>())
            });
            for ((file, _), read) in parts.drain(..).zip(read) {
                match read {
                    Ok(read) => each(file, &read),
                    Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                    Err(error) => return Err(self.error("reading", &files[file].real)(error)),
                }
            }
            Ok(())
        };
        for (index, file) in files.iter().enumerate() {
            let mut start = 0;
            while start < file.metadata.size {
                let end = (start + PART).min(file.metadata.size);
                parts.push((index, start..end));
                bytes += end - start;
                start = end;
                if bytes >= AT_ONCE {
                    flush(&mut parts)?;
                    bytes = 0;
                }
            }
        }
        flush(&mut parts)
    }

    pub(super) fn read_files(&self, paths: &[TreePath]) -> Result<Vec<Option<Vec<u8>>>, TreeError> {
        let files = self.files(paths)?;
        let mut read: Vec<Option<Vec<u8>>> = files
            .iter()
            .map(|file| {
                let file = file.as_ref()?;
                let text = self.seen().text(&file.real, &file.metadata);
                text.map(|bytes| bytes.to_vec()).or_else(|| self.record(&file.real))
            })
            .collect();
        let missing: Vec<usize> =
            (0..files.len()).filter(|index| read[*index].is_none() && files[*index].is_some()).collect();
        let wanted: Vec<&Wanted> = missing.iter().filter_map(|index| files[*index].as_ref()).collect();
        let mut bytes: Vec<Vec<u8>> = wanted.iter().map(|_| Vec::new()).collect();
        self.download(&wanted, |file, part| bytes[file].extend_from_slice(part))?;
        for ((index, file), bytes) in missing.iter().zip(wanted).zip(bytes) {
            if file.metadata.size <= TEXT {
                self.keep_record(&file.real, &bytes);
                self.seen().note_text(file.real.clone(), &file.metadata, Arc::new(bytes.clone()));
            }
            read[*index] = Some(bytes);
        }
        Ok(read)
    }

    /// Reads files that are small enough to be remembered.
    pub(super) fn read_small(&self, paths: &[TreePath]) -> Result<(), TreeError> {
        let files = self.files(paths)?;
        let is_small = |file: &&Option<Wanted>| file.as_ref().is_some_and(|file| file.metadata.size <= TEXT);
        let small = files.iter().filter(is_small).flatten().map(|file| file.real.clone());
        self.read_files(&small.collect::<Vec<_>>()).map(drop)
    }

    /// Reads the first and the last block of files.
    pub(super) fn read_ends(&self, paths: &[TreePath]) -> Result<(), TreeError> {
        let files: Vec<Wanted> = self.files(paths)?.into_iter().flatten().collect();
        let mut blocks: Vec<(usize, u64)> = Vec::new();
        for (index, file) in files.iter().enumerate() {
            let last = file.metadata.size.saturating_sub(1) / BLOCK * BLOCK;
            // What ends a little behind a block needs the one before as well.
            let is_short = file.metadata.size - last < BLOCK / 4;
            let before = if is_short { last.saturating_sub(BLOCK) } else { last };
            for start in BTreeSet::from([0, before, last]) {
                if self.seen().block(&file.real, start, &file.metadata).is_none() {
                    blocks.push((index, start));
                }
            }
        }
        for few in blocks.chunks(1_000) {
            let read = self.retried(few.len(), |indices| {
                let part = |index: &usize| {
                    let (file, start) = few[*index];
                    let end = (start + BLOCK).min(files[file].metadata.size);
                    (self.at(&files[file].called), start..end)
                };
                self.server.read(&indices.iter().map(part).collect::<Vec<_>>())
            });
            for ((file, start), read) in few.iter().zip(read) {
                if let Ok(bytes) = read {
                    let file = &files[*file];
                    self.seen().note_block(file.real.clone(), *start, &file.metadata, Arc::new(bytes));
                }
            }
        }
        Ok(())
    }

    /// Returns where a record is kept on this machine. Its name is its digest, which is verified when it is read. The texts of
    /// control files may hold secrets and are not kept.
    fn record_at(&self, path: &TreePath) -> Option<PathBuf> {
        let name = path.as_str().strip_prefix(".yalotheca/records/")?;
        let is_kept = name.ends_with(".manifest") || name.ends_with(".receipt");
        self.records.as_ref().filter(|_| is_kept && !name.contains('/')).map(|folder| folder.join(name))
    }

    fn record(&self, path: &TreePath) -> Option<Vec<u8>> {
        let bytes = fs::read(self.record_at(path)?).ok()?;
        let name = path.name().rsplit_once('.')?.0;
        (Digest::of(&bytes).to_string() == name).then_some(bytes)
    }

    pub(super) fn keep_record(&self, path: &TreePath, bytes: &[u8]) {
        let Some(at) = self.record_at(path) else { return };
        // That it cannot be kept costs time only.
        let keep = || {
            let folder = at.parent()?;
            fs::create_dir_all(folder).ok()?;
            let mut file = tempfile::NamedTempFile::new_in(folder).ok()?;
            io::Write::write_all(&mut file, bytes).ok()?;
            file.persist(&at).ok()
        };
        drop(keep());
    }

    pub(super) fn digest_files(&self, paths: &[TreePath]) -> Result<Vec<Option<(Digest, u64)>>, TreeError> {
        let files = self.files(paths)?;
        let mut cursor = Cursor::default();
        let mut digests: Vec<Option<(Digest, u64)>> = files
            .iter()
            .map(|file| {
                let file = file.as_ref()?;
                let stamp = stamp_of(&file.metadata)?;
                let digest = self.known.find(&mut cursor, &file.real, &stamp);
                let read = || {
                    let text = self.seen().text(&file.real, &file.metadata)?;
                    Some(Digest::of(&text))
                };
                Some((digest.or_else(read)?, file.metadata.size))
            })
            .collect();
        let missing: Vec<usize> =
            (0..files.len()).filter(|index| digests[*index].is_none() && files[*index].is_some()).collect();
        let wanted: Vec<&Wanted> = missing.iter().filter_map(|index| files[*index].as_ref()).collect();
        let mut hashers: HashMap<usize, (blake3::Hasher, u64)> = HashMap::new();
        self.download(&wanted, |file, part| {
            let (hasher, size) = hashers.entry(file).or_default();
            hasher.update(part);
            *size += part.len() as u64;
        })?;
        for (at, (index, file)) in missing.iter().zip(wanted).enumerate() {
            let (hasher, size) = hashers.remove(&at).unwrap_or_default();
            let digest = Digest::from_bytes(*hasher.finalize().as_bytes());
            if size == file.metadata.size {
                self.note_digest(file, digest);
            }
            digests[*index] = Some((digest, size));
        }
        Ok(digests)
    }

    /// Returns the fingerprints of archives: known from earlier, or from their ends, which are fetched together.
    pub(super) fn fingerprints(&self, paths: &[TreePath]) -> Result<Vec<Option<(Digest, u64)>>, TreeError> {
        let files = self.files(paths)?;
        let known = |file: &Wanted| self.known.fingerprint(&file.real, &stamp_of(&file.metadata)?);
        let mut prints: Vec<Option<(Digest, u64)>> = files
            .iter()
            .map(|file| file.as_ref().and_then(|file| Some((known(file)?, file.metadata.size))))
            .collect();
        let missing: Vec<usize> =
            (0..files.len()).filter(|index| prints[*index].is_none() && files[*index].is_some()).collect();
        self.read_ends(&missing.iter().map(|index| paths[*index].clone()).collect::<Vec<_>>())?;
        let mut others = Vec::new();
        for index in missing {
            let Some(file) = &files[index] else { continue };
            let Some(mut opened) = self.open_file(&paths[index])? else { continue };
            match fingerprint_of(&mut *opened).map_err(self.error("reading", &file.real))? {
                Some((digest, size)) => {
                    self.note_digest(file, digest);
                    prints[index] = Some((digest, size));
                }
                None => others.push(index),
            }
        }
        let whole =
            self.digest_files(&others.iter().map(|index| paths[*index].clone()).collect::<Vec<_>>())?;
        for (index, digest) in others.into_iter().zip(whole) {
            prints[index] = digest;
        }
        Ok(prints)
    }

    /// Returns what files are known by.
    pub(super) fn identities(&self, paths: &[TreePath]) -> Result<Vec<Option<(Digest, u64)>>, TreeError> {
        let files = self.files(paths)?;
        let is_large = |path: &TreePath, file: &Wanted| {
            let is_digested = || {
                let stamp = stamp_of(&file.metadata)?;
                self.known.find(&mut Cursor::default(), path, &stamp)
            };
            file.metadata.size > LARGE && is_digested().is_none()
        };
        let large = files.iter().map(|file| file.as_ref().is_some_and(|file| is_large(&file.real, file)));
        let kinds: Vec<Option<Digest>> =
            large.map(|is_large| is_large.then(|| Digest::fingerprint_of(0, &[]))).collect();
        self.digest_as(paths, &kinds)
    }

    /// Notes what a file is known by, unless it may have been changed in the same tick of the host's clock.
    fn note_digest(&self, file: &Wanted, digest: Digest) {
        let is_old = |modified: u64| modified + self.server.features().tick < now();
        if let Some(stamp) = stamp_of(&file.metadata)
            && file.metadata.modified.is_some_and(is_old)
            // Who asks for the fingerprint asks again.
            && (digest.is_fingerprint() || self.known.fingerprint(&file.real, &stamp).is_none())
        {
            self.known.insert(&file.real, stamp, digest);
        }
    }

    pub(super) fn open_file(&self, path: &TreePath) -> Result<Option<Box<dyn ReadSeek>>, TreeError> {
        let Some(Some(file)) = self.files(std::slice::from_ref(path))?.pop() else { return Ok(None) };
        if let Some(text) = self.seen().text(&file.real, &file.metadata) {
            return Ok(Some(Box::new(io::Cursor::new(text.to_vec()))));
        }
        let (server, seen) = (Arc::clone(&self.server), Arc::clone(&self.seen));
        let at = self.at(&file.called);
        Ok(Some(Box::new(RemoteReader { server, seen, at, file, position: 0, block: (0, Arc::default()) })))
    }
}

/// A remote file, open: blocks of it are fetched as they are read.
struct RemoteReader {
    server: Arc<dyn FileServer>,
    seen: Arc<Mutex<Seen>>,
    at: String,
    file: Wanted,
    position: u64,
    /// The last block: where it begins, and its bytes.
    block: (u64, Arc<Vec<u8>>),
}

impl RemoteReader {
    fn fetch(&mut self) -> io::Result<()> {
        let start = self.position / BLOCK * BLOCK;
        let seen = || self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        let known = seen().block(&self.file.real, start, &self.file.metadata);
        if let Some(bytes) = known {
            self.block = (start, bytes);
            return Ok(());
        }
        let follows = start > 0 && self.block.0 + BLOCK == start && !self.block.1.is_empty();
        let length = if follows { BLOCK * BLOCKS_AT_ONCE } else { BLOCK };
        let asked = [(self.at.clone(), start..(start + length).min(self.file.metadata.size))];
        let read = retried(&*self.server, 1, |_| self.server.read(&asked)).pop();
        let bytes = read.unwrap_or_else(|| Err(io::ErrorKind::NotFound.into()));
        let bytes = match bytes {
            Ok(bytes) => bytes,
            Err(error) => {
                if is_torn(&error) {
                    let told = io::Error::new(error.kind(), error.to_string());
                    seen().failure.get_or_insert((self.file.real.clone(), told));
                }
                return Err(error);
            }
        };
        let block = usize::try_from(BLOCK).map_err(io::Error::other)?;
        let mut blocks = bytes.chunks(block).map(|part| Arc::new(part.to_vec()));
        let first = blocks.next().unwrap_or_default();
        let mut seen = seen();
        for (bytes, at) in std::iter::once(Arc::clone(&first)).chain(blocks).zip((start..).step_by(block)) {
            seen.note_block(self.file.real.clone(), at, &self.file.metadata, bytes);
        }
        self.block = (start, first);
        Ok(())
    }
}

impl Read for RemoteReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.position >= self.file.metadata.size || buffer.is_empty() {
            return Ok(0);
        }
        let is_in = |block: &(u64, Arc<Vec<u8>>), position: u64| {
            (block.0..block.0 + block.1.len() as u64).contains(&position)
        };
        if !is_in(&self.block, self.position) {
            self.fetch()?;
        }
        let offset = usize::try_from(self.position - self.block.0).map_err(io::Error::other)?;
        let bytes = self.block.1.get(offset..).unwrap_or_default();
        let count = bytes.len().min(buffer.len());
        buffer[..count].copy_from_slice(&bytes[..count]);
        self.position += count as u64;
        Ok(count)
    }
}

impl Seek for RemoteReader {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let position = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(offset) => self.file.metadata.size.checked_add_signed(offset),
            SeekFrom::Current(offset) => self.position.checked_add_signed(offset),
        };
        self.position = position.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.position)
    }
}
