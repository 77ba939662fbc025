//! Digests of a server's files that are known from earlier, so that a file is not read again as long as it is the same.
//!
//! A cache: it may be deleted at any time, and a damaged one is ignored. A file counts as unchanged if its disk, inode, size and dates are.
//! Its digest is noted only if those dates were old enough when it was read: two changes within one tick of the clock have the same date.

use std::{
    collections::HashMap,
    fs, io,
    io::Write,
    path::{Path, PathBuf},
    sync::{
        Mutex, OnceLock, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, SystemTime, UNIX_EPOCH},
};

use yalotheca_core::id::{Digest, TreePath};

use super::digest::Stamp;

/// How the file begins: with the number of its format.
const MAGIC: &[u8; 16] = b"yalotheca-known1";
/// The head: the magic, the count, when it was written, and in which run of the machine.
const HEAD: usize = 16 + 8 + 8 + 40;
/// A stamp and a digest.
const RECORD: usize = Stamp::LENGTH + 32;
/// What was written so short a time before the machine went down may not have reached the disk.
const UNSETTLED: Duration = Duration::from_secs(180);

type New = HashMap<TreePath, Option<(Stamp, Digest)>, foldhash::fast::RandomState>;

/// The digests that are known.
#[derive(Debug, Default)]
pub(super) struct Known {
    /// Where they are kept; nowhere if this tree is looked at once only.
    file: Option<PathBuf>,
    earlier: OnceLock<Earlier>,
    new: Mutex<New>,
    /// Whether so much was learned that it is worth writing.
    is_new: AtomicBool,
}

/// What was read from the file, sorted by path.
#[derive(Debug, Default)]
struct Earlier {
    bytes: Vec<u8>,
    count: usize,
    /// Files changed at this time or later are not believed: the machine has been restarted.
    trusted_before: Option<u64>,
}

/// Where the last path was found: the next one is mostly the next.
#[derive(Debug, Default, Clone, Copy)]
pub(super) struct Cursor(usize);

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

impl Earlier {
    /// Reads the file; nothing is known if it is not there, or not as it was written.
    fn read(file: &Path) -> Self {
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
        let earlier = Self { bytes, count, trusted_before };
        let are_sorted = (1..count).all(|at| earlier.path(at - 1) < earlier.path(at));
        if are_sorted { earlier } else { Self::default() }
    }

    fn end(&self, at: usize) -> usize {
        let from = HEAD + self.count * RECORD + at * 4;
        number(&self.bytes[from..from + 4])
    }

    fn path(&self, at: usize) -> &[u8] {
        let texts = HEAD + self.count * (RECORD + 4);
        let begin = if at == 0 { 0 } else { self.end(at - 1) };
        self.bytes.get(texts + begin..texts.saturating_add(self.end(at))).unwrap_or_default()
    }

    fn record(&self, at: usize) -> (Stamp, Digest) {
        let record = &self.bytes[HEAD + at * RECORD..][..RECORD];
        let mut digest = [0; 32];
        digest.copy_from_slice(&record[Stamp::LENGTH..]);
        (Stamp::read(&record[..Stamp::LENGTH]), Digest::from_bytes(digest))
    }

    fn find(&self, cursor: &mut Cursor, path: &[u8]) -> Option<(Stamp, Digest)> {
        let next = cursor.0 + 1;
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
        cursor.0 = at;
        let (stamp, digest) = self.record(at);
        let is_trusted = self.trusted_before.is_none_or(|time| stamp.changed_at() < time);
        is_trusted.then_some((stamp, digest))
    }
}

impl Known {
    /// Returns the digests that a file of the cache holds.
    pub(super) fn in_file(file: PathBuf) -> Self {
        let mut known = Self::default();
        known.file = Some(file);
        known
    }

    fn earlier(&self) -> &Earlier {
        self.earlier.get_or_init(|| self.file.as_deref().map_or_else(Earlier::default, Earlier::read))
    }

    /// Returns how many files are known from earlier.
    pub(super) fn count(&self) -> usize {
        self.earlier().count
    }

    /// Calls a function with each file that is known from earlier, in the order of their paths: its path, and its stamp if it is believed.
    pub(super) fn each(&self, mut act: impl FnMut(&str, Option<Stamp>)) {
        let earlier = self.earlier();
        for at in 0..earlier.count {
            let (stamp, _) = earlier.record(at);
            let is_trusted = earlier.trusted_before.is_none_or(|time| stamp.changed_at() < time);
            act(std::str::from_utf8(earlier.path(at)).unwrap_or_default(), is_trusted.then_some(stamp));
        }
    }

    /// Returns the place, the digest and the size of a file that is known from earlier.
    pub(super) fn earlier_at(&self, cursor: &mut Cursor, path: &TreePath) -> Option<(usize, Digest, u64)> {
        let (stamp, digest) = self.earlier().find(cursor, path.as_str().as_bytes())?;
        Some((cursor.0, digest, u64::try_from(stamp.size).unwrap_or(0)))
    }

    /// Returns the digest of a file if it is known and the file has not changed since.
    pub(super) fn find(&self, cursor: &mut Cursor, path: &TreePath, stamp: &Stamp) -> Option<Digest> {
        self.find_where(cursor, (path, stamp), |digest| !digest.is_fingerprint())
    }

    /// Returns the fingerprint of an archive, if it was noted with the same stamp.
    pub(super) fn fingerprint(&self, path: &TreePath, stamp: &Stamp) -> Option<Digest> {
        self.find_where(&mut Cursor::default(), (path, stamp), Digest::is_fingerprint)
    }

    fn find_where(
        &self,
        cursor: &mut Cursor,
        (path, stamp): (&TreePath, &Stamp),
        fits: impl Fn(&Digest) -> bool,
    ) -> Option<Digest> {
        if let Some((then, digest)) = self.earlier().find(cursor, path.as_str().as_bytes())
            && then == *stamp
            && fits(&digest)
        {
            return Some(digest);
        }
        let new = self.new.lock().unwrap_or_else(PoisonError::into_inner);
        let (then, digest) = (*new.get(path)?)?;
        (then == *stamp && fits(&digest)).then_some(digest)
    }

    /// Notes the digest of a file.
    pub(super) fn insert(&self, path: &TreePath, stamp: Stamp, digest: Digest) {
        let mut new = self.new.lock().unwrap_or_else(PoisonError::into_inner);
        new.insert(path.clone(), Some((stamp, digest)));
        self.is_new.store(true, Ordering::Relaxed);
    }

    /// Notes that a file that is known is gone.
    pub(super) fn forget(&self, cursor: &mut Cursor, path: &TreePath) {
        if self.file.is_some() && self.earlier().find(cursor, path.as_str().as_bytes()).is_some() {
            let mut new = self.new.lock().unwrap_or_else(PoisonError::into_inner);
            new.insert(path.clone(), None);
            self.is_new.store(true, Ordering::Relaxed);
        }
    }

    /// Writes what is known to its file if something is new. That this fails costs time only.
    fn write(&self) -> io::Result<()> {
        let Some(file) = self.file.as_deref().filter(|_| self.is_new.load(Ordering::Relaxed)) else {
            return Ok(());
        };
        let Some(folder) = file.parent() else { return Ok(()) };
        let bytes = self.text();
        fs::create_dir_all(folder)?;
        let mut temporary = tempfile::NamedTempFile::new_in(folder)?;
        temporary.write_all(&bytes)?;
        temporary.write_all(blake3::hash(&bytes).as_bytes())?;
        temporary.persist(file)?;
        Ok(())
    }

    fn text(&self) -> Vec<u8> {
        let new = self.new.lock().unwrap_or_else(PoisonError::into_inner);
        let earlier = self.earlier();
        let mut all: Vec<(&[u8], (Stamp, Digest))> = (0..earlier.count)
            .map(|at| (earlier.path(at), earlier.record(at)))
            .filter(|(path, (stamp, _))| {
                let is_known = std::str::from_utf8(path).is_ok_and(|path| new.contains_key(path));
                !is_known && earlier.trusted_before.is_none_or(|time| stamp.changed_at() < time)
            })
            .collect();
        all.extend(new.iter().filter_map(|(path, known)| Some((path.as_str().as_bytes(), (*known)?))));
        all.sort_unstable_by_key(|(path, _)| *path);
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs();
        let texts: usize = all.iter().map(|(path, _)| path.len()).sum();
        let mut bytes = Vec::with_capacity(HEAD + all.len() * (RECORD + 4) + texts + 32);
        bytes.extend_from_slice(MAGIC);
        bytes.extend_from_slice(&(all.len() as u64).to_le_bytes());
        bytes.extend_from_slice(&now.to_le_bytes());
        bytes.extend_from_slice(&boot());
        for (_, (stamp, digest)) in &all {
            stamp.write(&mut bytes);
            bytes.extend_from_slice(digest.bytes());
        }
        let mut end = 0_u32;
        for (path, _) in &all {
            end = end.saturating_add(u32::try_from(path.len()).unwrap_or(u32::MAX));
            bytes.extend_from_slice(&end.to_le_bytes());
        }
        for (path, _) in &all {
            bytes.extend_from_slice(path);
        }
        bytes
    }
}

impl Drop for Known {
    fn drop(&mut self) {
        self.write().ok();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn path(text: &str) -> TreePath {
        TreePath::new(text).unwrap()
    }

    fn find(known: &Known, text: &str, stamp: &Stamp) -> Option<Digest> {
        known.find(&mut Cursor::default(), &path(text), stamp)
    }

    #[test]
    fn what_was_noted_is_known_again_and_only_as_long_as_the_file_is_the_same() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("inventories/x");
        let (one, two) = (Stamp::of_test(1), Stamp::of_test(2));
        {
            let known = Known::in_file(file.clone());
            for (at, name) in ["b", "a/x", "a", "c", "ä"].iter().enumerate() {
                known.insert(&path(name), one, Digest::of(&[u8::try_from(at).unwrap()]));
            }
        }
        {
            let known = Known::in_file(file.clone());
            assert_eq!(find(&known, "a/x", &one), Some(Digest::of(&[1])));
            assert_eq!(find(&known, "ä", &one), Some(Digest::of(&[4])));
            assert_eq!(find(&known, "a/x", &two), None);
            assert_eq!(find(&known, "aa", &one), None);
            known.insert(&path("c"), two, Digest::of(b"new"));
            known.forget(&mut Cursor::default(), &path("b"));
            assert_eq!(find(&known, "c", &two), Some(Digest::of(b"new")));
        }
        let known = Known::in_file(file);
        assert_eq!(find(&known, "b", &one), None);
        assert_eq!(find(&known, "c", &one), None);
        assert_eq!(find(&known, "c", &two), Some(Digest::of(b"new")));
        assert_eq!(find(&known, "a", &one), Some(Digest::of(&[2])));
    }

    #[test]
    fn whatever_is_wrong_with_the_file_nothing_is_believed_and_nothing_fails() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("x");
        let stamp = Stamp::of_test(1);
        {
            let known = Known::in_file(file.clone());
            for at in 0..20_u8 {
                known.insert(&path(&format!("f{at}")), stamp, Digest::of(&[at]));
            }
        }
        let whole = fs::read(&file).unwrap();
        assert!(Earlier::read(&file).count == 20);
        for at in 0..whole.len() {
            let mut bytes = whole.clone();
            bytes[at] ^= 1 << (at % 8);
            fs::write(&file, &bytes).unwrap();
            assert_eq!(Earlier::read(&file).count, 0, "byte {at}");
            if at % 7 == 0 {
                fs::write(&file, &whole[..at]).unwrap();
                assert_eq!(Earlier::read(&file).count, 0, "cut at {at}");
            }
        }
        // With the right sum, whatever the numbers say: nothing ends the program.
        for at in 0..whole.len() - 32 {
            let mut bytes = whole[..whole.len() - 32].to_vec();
            bytes[at] = bytes[at].wrapping_add(u8::try_from(at % 250).unwrap() + 1);
            let sum = *blake3::hash(&bytes).as_bytes();
            bytes.extend_from_slice(&sum);
            fs::write(&file, &bytes).unwrap();
            let known = Known::in_file(file.clone());
            for at in 0..20_u8 {
                find(&known, &format!("f{at}"), &stamp);
            }
        }
    }

    #[test]
    fn after_a_restart_of_the_machine_what_was_written_just_before_is_read_again() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("x");
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs();
        let (old, young) = (Stamp::of_test(now - 3600), Stamp::of_test(now - 10));
        {
            let known = Known::in_file(file.clone());
            known.insert(&path("old"), old, Digest::of(b"old"));
            known.insert(&path("young"), young, Digest::of(b"young"));
        }
        let known = Known::in_file(file.clone());
        assert!(find(&known, "old", &old).is_some() && find(&known, "young", &young).is_some());
        drop(known);
        let mut bytes = fs::read(&file).unwrap();
        bytes[32..36].copy_from_slice(b"else");
        let end = bytes.len() - 32;
        let sum = *blake3::hash(&bytes[..end]).as_bytes();
        bytes[end..].copy_from_slice(&sum);
        fs::write(&file, &bytes).unwrap();
        let known = Known::in_file(file);
        assert!(find(&known, "old", &old).is_some() && find(&known, "young", &young).is_none());
    }
}
