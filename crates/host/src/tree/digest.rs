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
    /// How many bytes one is written in.
    pub(super) const LENGTH: usize = 56;

    /// Writes it in a fixed number of bytes.
    pub(super) fn write(&self, into: &mut Vec<u8>) {
        let numbers = [
            self.disk,
            self.inode,
            self.size.cast_unsigned(),
            self.modified.0.cast_unsigned(),
            self.modified.1,
            self.changed.0.cast_unsigned(),
            self.changed.1,
        ];
        into.extend(numbers.iter().flat_map(|number| number.to_le_bytes()));
    }

    /// Reads one as it was written.
    pub(super) fn read(bytes: &[u8]) -> Self {
        let mut numbers = bytes.chunks_exact(8).map(|bytes| {
            let mut number = [0; 8];
            number.copy_from_slice(bytes);
            u64::from_le_bytes(number)
        });
        let mut next = || numbers.next().unwrap_or_default();
        Self {
            disk: next(),
            inode: next(),
            size: next().cast_signed(),
            modified: (next().cast_signed(), next()),
            changed: (next().cast_signed(), next()),
        }
    }

    /// Returns when the file was changed last, in seconds.
    pub(super) fn changed_at(&self) -> u64 {
        u64::try_from(self.changed.0).unwrap_or(0)
    }

    #[cfg(test)]
    pub(super) fn of_test(seconds: u64) -> Self {
        let changed = (i64::try_from(seconds).unwrap(), 7);
        Self { disk: 1, inode: 2, size: 3, modified: (4, 5), changed }
    }

    /// Returns that of a file behind a file server, which tells its size and its date.
    pub(super) fn remote(size: u64, modified: u64) -> Self {
        let date = (i64::try_from(modified).unwrap_or(0), 0);
        Self { disk: 0, inode: 0, size: i64::try_from(size).unwrap_or(0), modified: date, changed: date }
    }

    pub(super) fn of(stat: &Stat) -> Self {
        Self {
            disk: stat.st_dev,
            inode: stat.st_ino,
            size: stat.st_size,
            modified: (stat.st_mtime, stat.st_mtime_nsec),
            changed: (stat.st_ctime, stat.st_ctime_nsec),
        }
    }

    /// Whether a change after a time must have another date: two within one tick of the clock have the same, and the clock of another
    /// machine may go wrong.
    pub(super) fn is_older_than(&self, then: SystemTime, clock: Clock) -> bool {
        let tick = clock.tick();
        let since = then.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        let (seconds, nanoseconds) = self.changed;
        let changed = u64::try_from(seconds)
            .ok()
            .and_then(|seconds| Some(Duration::new(seconds, u32::try_from(nanoseconds).ok()?)));
        changed.is_some_and(|changed| changed + tick < since)
    }
}

/// Whose clock dates the files of a disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Clock {
    /// This machine's.
    Own,
    /// Another one's, or a coarse one.
    Other,
}

impl Clock {
    /// Returns the clock of an open file's disk.
    pub(super) fn of(file: &File) -> Self {
        // ext, xfs, btrfs, tmpfs, overlay, zfs, f2fs, bcachefs.
        const OWN: [u64; 8] = [
            0xEF53,
            0x5846_5342,
            0x9123_683E,
            0x0102_1994,
            0x794C_7630,
            0x2FC1_2FC1,
            0xF2F5_2010,
            0xCA45_1A4E,
        ];
        let kind = rustix::fs::fstatfs(file).map(|stat| u64::try_from(stat.f_type).unwrap_or_default());
        if kind.is_ok_and(|kind| OWN.contains(&kind)) { Self::Own } else { Self::Other }
    }

    fn tick(self) -> Duration {
        match self {
            Self::Own => Duration::from_millis(20),
            Self::Other => Duration::from_secs(3600),
        }
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
    let length = file.metadata()?.len();
    if length > LARGE {
        return digest_of_large(file);
    }
    let mut hashing = Hashing { inner: file, hasher: blake3::Hasher::new(), size: 0 };
    let mut buffer = vec![0; BUFFER.min(usize::try_from(length).unwrap_or(BUFFER) + 1)];
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
