//! Digests of files, and what tells that a file is still the one whose digest is known.

use std::{
    fs::File,
    io::{self, Read},
    path::Path,
    time::{Duration, SystemTime},
};

use rustix::fs::Stat;
use yalotheca_core::id::Digest;

/// How much is read and written at a time.
pub(super) const BUFFER: usize = 128 << 10;

/// A file larger than this is hashed by all cores, so much at a time.
const LARGE: u64 = 16 << 20;
const CHUNK: usize = 8 << 20;

/// What tells that a file is still the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Stamp {
    disk: u64,
    inode: u64,
    pub(super) size: i64,
    modified: (i64, u64),
    changed: (i64, u64),
}

impl Stamp {
    pub(super) fn of(stat: &Stat) -> Self {
        Self {
            disk: stat.st_dev,
            inode: stat.st_ino,
            size: stat.st_size,
            modified: (stat.st_mtime, stat.st_mtime_nsec),
            changed: (stat.st_ctime, stat.st_ctime_nsec),
        }
    }

    /// Two changes within one tick of the clock have the same date: such a one tells nothing.
    pub(super) fn is_older_than(&self, then: SystemTime) -> bool {
        const TICK: Duration = Duration::from_millis(20);
        let since = then.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        let (seconds, nanoseconds) = self.changed;
        let changed = u64::try_from(seconds)
            .ok()
            .and_then(|seconds| Some(Duration::new(seconds, u32::try_from(nanoseconds).ok()?)));
        changed.is_some_and(|changed| changed + TICK < since)
    }
}

/// Hashes what a reader gives and passes it on.
pub(super) struct Hashing<'a, R: ?Sized> {
    pub(super) inner: &'a mut R,
    pub(super) hasher: blake3::Hasher,
    pub(super) size: u64,
}

impl<R: Read + ?Sized> Read for Hashing<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.hasher.update(&buffer[..read]);
        self.size += read as u64;
        Ok(read)
    }
}

/// Returns the digest and the size of a file on this machine.
///
/// # Errors
/// Where it cannot be read.
pub fn digest_of(path: &Path) -> io::Result<(Digest, u64)> {
    digest_of_file(&mut File::open(path)?)
}

/// Returns the digest and the size of what is left to read of an open file.
///
/// # Errors
/// Where it cannot be read.
pub fn digest_of_file(file: &mut File) -> io::Result<(Digest, u64)> {
    if file.metadata()?.len() > LARGE {
        return digest_of_large(file);
    }
    let mut hashing = Hashing { inner: file, hasher: blake3::Hasher::new(), size: 0 };
    let mut buffer = vec![0; BUFFER];
    while hashing.read(&mut buffer)? > 0 {}
    Ok((Digest::from_bytes(*hashing.hasher.finalize().as_bytes()), hashing.size))
}

/// The same by all cores, a chunk at a time: a file that is mapped and cut meanwhile would end the program.
fn digest_of_large(file: &mut File) -> io::Result<(Digest, u64)> {
    let (mut hasher, mut size) = (blake3::Hasher::new(), 0);
    let mut chunk = Vec::with_capacity(CHUNK);
    loop {
        chunk.clear();
        if file.take(CHUNK as u64).read_to_end(&mut chunk)? == 0 {
            return Ok((Digest::from_bytes(*hasher.finalize().as_bytes()), size));
        }
        hasher.update_rayon(&chunk);
        size += chunk.len() as u64;
    }
}
