//! A file of stamps and digests, sorted by path.

use std::{
    fs,
    io::{self, Write},
    path::Path,
    time::{Duration, SystemTime, UNIX_EPOCH},
};

use yalotheca_core::id::Digest;

use super::super::digest::Stamp;

/// How the file begins: with the number of its format.
const MAGIC: &[u8; 16] = b"yalotheca-known1";
/// The head: the magic, the count, when it was written, and in which run of the machine.
const HEAD: usize = 16 + 8 + 8 + 40;
/// A stamp and a digest.
const RECORD: usize = Stamp::LENGTH + 32;
/// What was written so short a time before the machine went down may not have reached the disk.
const UNSETTLED: Duration = Duration::from_secs(180);

/// What a file holds.
#[derive(Debug, Default)]
pub(super) struct Records {
    bytes: Vec<u8>,
    pub(super) count: usize,
    /// Files changed at this time or later are not believed: the machine has been restarted.
    trusted_before: Option<u64>,
}

fn number(bytes: &[u8]) -> usize {
    let mut all = [0; 8];
    all[..bytes.len()].copy_from_slice(bytes);
    usize::try_from(u64::from_le_bytes(all)).unwrap_or(usize::MAX)
}

/// The run of the machine, in a field of fixed length.
fn boot() -> [u8; 40] {
    let mut field = [0; 40];
    let text = fs::read("/proc/sys/kernel/random/boot_id").unwrap_or_default();
    let length = text.len().min(40);
    field[..length].copy_from_slice(&text[..length]);
    field
}

impl Records {
    /// Reads the file; nothing is known if it is not there, or not as it was written.
    pub(super) fn read(file: &Path) -> Self {
        let Ok(mut bytes) = fs::read(file) else { return Self::default() };
        let Some(end) = bytes.len().checked_sub(32) else { return Self::default() };
        if end < HEAD || &bytes[..16] != MAGIC || *blake3::hash(&bytes[..end]).as_bytes() != bytes[end..] {
            return Self::default();
        }
        bytes.truncate(end);
        let count = number(&bytes[16..24]);
        let is_whole = count.checked_mul(RECORD + 4).is_some_and(|length| HEAD + length <= bytes.len());
        if !is_whole {
            return Self::default();
        }
        let written = number(&bytes[24..32]) as u64;
        let is_this_run = bytes[32..HEAD] == boot();
        let trusted_before = (!is_this_run).then(|| written.saturating_sub(UNSETTLED.as_secs()));
        let records = Self { bytes, count, trusted_before };
        let are_sorted = (1..count).all(|at| records.path(at - 1) < records.path(at));
        if are_sorted { records } else { Self::default() }
    }

    fn end(&self, at: usize) -> usize {
        let from = HEAD + self.count * RECORD + at * 4;
        number(&self.bytes[from..from + 4])
    }

    pub(super) fn path(&self, at: usize) -> &[u8] {
        let texts = HEAD + self.count * (RECORD + 4);
        let begin = if at == 0 { 0 } else { self.end(at - 1) };
        self.bytes.get(texts + begin..texts.saturating_add(self.end(at))).unwrap_or_default()
    }

    pub(super) fn record(&self, at: usize) -> (Stamp, Digest) {
        let record = &self.bytes[HEAD + at * RECORD..][..RECORD];
        let mut digest = [0; 32];
        digest.copy_from_slice(&record[Stamp::LENGTH..]);
        (Stamp::read(&record[..Stamp::LENGTH]), Digest::from_bytes(digest))
    }

    /// Returns whether a record is believed: one written shortly before the machine went down may be wrong.
    pub(super) fn is_trusted(&self, stamp: &Stamp) -> bool {
        self.trusted_before.is_none_or(|time| stamp.changed_at() < time)
    }

    /// Returns all records that are believed, with their paths.
    pub(super) fn trusted(&self) -> impl Iterator<Item = (&[u8], (Stamp, Digest))> {
        let all = (0..self.count).map(|at| (self.path(at), self.record(at)));
        all.filter(|(_, (stamp, _))| self.is_trusted(stamp))
    }

    /// Returns the record of a path, if there is one and it is believed. `last` is where the last path was found; the next path is
    /// usually right after it.
    pub(super) fn find(&self, last: &mut usize, path: &[u8]) -> Option<(Stamp, Digest)> {
        let next = *last + 1;
        let at = if next < self.count && self.path(next) == path {
            next
        } else {
            let (mut low, mut high) = (0, self.count);
            while low < high {
                let middle = low.midpoint(high);
                if self.path(middle) < path { low = middle + 1 } else { high = middle }
            }
            (low < self.count && self.path(low) == path).then_some(low)?
        };
        *last = at;
        Some(self.record(at)).filter(|(stamp, _)| self.is_trusted(stamp))
    }
}

/// Writes records to a file, whole or not at all.
pub(super) fn write(file: &Path, mut records: Vec<(&[u8], (Stamp, Digest))>) -> io::Result<()> {
    let Some(folder) = file.parent() else { return Ok(()) };
    records.sort_unstable_by_key(|(path, _)| *path);
    let bytes = encode(&records);
    fs::create_dir_all(folder)?;
    let mut temporary = tempfile::NamedTempFile::new_in(folder)?;
    temporary.write_all(&bytes)?;
    temporary.write_all(blake3::hash(&bytes).as_bytes())?;
    temporary.persist(file)?;
    Ok(())
}

fn encode(records: &[(&[u8], (Stamp, Digest))]) -> Vec<u8> {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs();
    let texts: usize = records.iter().map(|(path, _)| path.len()).sum();
    let mut bytes = Vec::with_capacity(HEAD + records.len() * (RECORD + 4) + texts + 32);
    bytes.extend_from_slice(MAGIC);
    bytes.extend_from_slice(&(records.len() as u64).to_le_bytes());
    bytes.extend_from_slice(&now.to_le_bytes());
    bytes.extend_from_slice(&boot());
    for (_, (stamp, digest)) in records {
        stamp.write(&mut bytes);
        bytes.extend_from_slice(digest.bytes());
    }
    let mut end = 0_u32;
    for (path, _) in records {
        end = end.saturating_add(u32::try_from(path.len()).unwrap_or(u32::MAX));
        bytes.extend_from_slice(&end.to_le_bytes());
    }
    for (path, _) in records {
        bytes.extend_from_slice(path);
    }
    bytes
}
