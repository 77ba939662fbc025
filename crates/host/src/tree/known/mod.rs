//! Digests of a server's files that are known from earlier, so that a file is not read again as long as it is the same.
//!
//! A cache: it may be deleted at any time, and a damaged one is ignored. A file counts as unchanged if its disk, inode, size and dates are.
//! Its digest is noted only if those dates were old enough when it was read: two changes within one tick of the clock have the same date.
//!
//! Commands that ask about few of very many files, such as the names that two contents share, get a file of their own with copies of
//! those records, since reading all of them would take longer than the rest of the command.

mod records;

use std::{
    collections::HashMap,
    io,
    path::PathBuf,
    sync::{
        Mutex, OnceLock, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
};

use yalotheca_core::id::{Digest, TreePath};

use self::records::Records;
use super::digest::Stamp;

/// With so many records, a second file for those that are asked about is worth it.
const MANY: usize = 20_000;
/// The second file has at most one in so many.
const ONE_IN: usize = 16;
/// The second file is looked at only for so many files at once.
const FEW_AT_ONCE: usize = 10_000;

type New = HashMap<TreePath, Option<(Stamp, Digest)>, foldhash::fast::RandomState>;

/// The digests that are known.
#[derive(Debug, Default)]
pub(super) struct Known {
    /// Where they are kept; nowhere if this tree is looked at once only.
    file: Option<PathBuf>,
    earlier: OnceLock<Records>,
    /// Copies of the records that were asked about last.
    few: OnceLock<Records>,
    new: Mutex<New>,
    /// Whether so much was learned that it is worth writing.
    is_new: AtomicBool,
    /// What was asked about and is not among the few.
    asked: Mutex<HashMap<TreePath, (Stamp, Digest), foldhash::fast::RandomState>>,
}

/// Where the last path was found: the next one is usually right after it.
#[derive(Debug, Default, Clone, Copy)]
pub(super) struct Cursor {
    earlier: usize,
    /// Where among the few, if few are asked about.
    few: Option<usize>,
}

impl Cursor {
    /// Returns one for asking about so many files.
    pub(super) fn for_count(count: usize) -> Self {
        Self { earlier: 0, few: (count < FEW_AT_ONCE).then_some(0) }
    }
}

impl Known {
    /// Returns the digests that a file of the cache holds.
    pub(super) fn in_file(file: PathBuf) -> Self {
        let mut known = Self::default();
        known.file = Some(file);
        known
    }

    fn earlier(&self) -> &Records {
        self.earlier.get_or_init(|| self.file.as_deref().map_or_else(Records::default, Records::read))
    }

    fn few_file(&self) -> Option<PathBuf> {
        Some(self.file.as_ref()?.with_extension("few"))
    }

    fn few(&self) -> &Records {
        self.few.get_or_init(|| self.few_file().map_or_else(Records::default, |file| Records::read(&file)))
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
            let is_trusted = earlier.is_trusted(&stamp);
            act(std::str::from_utf8(earlier.path(at)).unwrap_or_default(), is_trusted.then_some(stamp));
        }
    }

    /// Returns the place, the digest and the size of a file that is known from earlier.
    pub(super) fn earlier_at(&self, cursor: &mut Cursor, path: &TreePath) -> Option<(usize, Digest, u64)> {
        let (stamp, digest) = self.earlier().find(&mut cursor.earlier, path.as_str().as_bytes())?;
        Some((cursor.earlier, digest, u64::try_from(stamp.size).unwrap_or(0)))
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
        let bytes = path.as_str().as_bytes();
        let is_it = |(then, digest): &(Stamp, Digest)| then == stamp && fits(digest);
        if let Some(last) = &mut cursor.few
            && let Some((_, digest)) = self.few().find(last, bytes).filter(is_it)
        {
            return Some(digest);
        }
        if let Some(found) = self.earlier().find(&mut cursor.earlier, bytes).filter(is_it) {
            if cursor.few.is_some() && self.earlier().count >= MANY {
                let mut asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
                asked.insert(path.clone(), found);
            }
            return Some(found.1);
        }
        let new = self.new.lock().unwrap_or_else(PoisonError::into_inner);
        let found = (*new.get(path)?)?;
        is_it(&found).then_some(found.1)
    }

    /// Notes the digest of a file.
    pub(super) fn insert(&self, path: &TreePath, stamp: Stamp, digest: Digest) {
        let mut new = self.new.lock().unwrap_or_else(PoisonError::into_inner);
        new.insert(path.clone(), Some((stamp, digest)));
        self.is_new.store(true, Ordering::Relaxed);
    }

    /// Notes that a file that is known is gone.
    pub(super) fn forget(&self, cursor: &mut Cursor, path: &TreePath) {
        if self.file.is_some() && self.earlier().find(&mut cursor.earlier, path.as_str().as_bytes()).is_some()
        {
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
        let new = self.new.lock().unwrap_or_else(PoisonError::into_inner);
        let is_new = |path: &[u8]| std::str::from_utf8(path).is_ok_and(|path| new.contains_key(path));
        let mut all: Vec<_> = self.earlier().trusted().filter(|(path, _)| !is_new(path)).collect();
        all.extend(new.iter().filter_map(|(path, known)| Some((path.as_str().as_bytes(), (*known)?))));
        records::write(file, all)
    }

    /// Writes copies of the records that were asked about, beside those of earlier commands if all together are few.
    fn write_few(&self) -> io::Result<()> {
        let asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(file) = self.few_file().filter(|_| !asked.is_empty()) else { return Ok(()) };
        let most = self.earlier().count / ONE_IN;
        if asked.len() > most {
            return Ok(());
        }
        let is_asked = |path: &[u8]| std::str::from_utf8(path).is_ok_and(|path| asked.contains_key(path));
        let mut few: Vec<_> = self.few().trusted().filter(|(path, _)| !is_asked(path)).collect();
        if few.len() + asked.len() > most {
            few.clear();
        }
        few.extend(asked.iter().map(|(path, known)| (path.as_str().as_bytes(), *known)));
        records::write(&file, few)
    }
}

impl Drop for Known {
    fn drop(&mut self) {
        self.write().ok();
        self.write_few().ok();
    }
}

#[cfg(test)]
mod tests {
    use std::{
        fs,
        time::{SystemTime, UNIX_EPOCH},
    };

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
    fn few_of_very_many_are_found_without_reading_all() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("x");
        let (one, two) = (Stamp::of_test(1), Stamp::of_test(2));
        let name = |at: usize| path(&format!("f{at:05}"));
        {
            let known = Known::in_file(file.clone());
            (0..MANY).for_each(|at| known.insert(&name(at), one, Digest::of(&at.to_le_bytes())));
        }
        let ask =
            |known: &Known, at: usize, stamp: &Stamp| known.find(&mut Cursor::for_count(3), &name(at), stamp);
        {
            let known = Known::in_file(file.clone());
            assert_eq!(ask(&known, 77, &one), Some(Digest::of(&77_usize.to_le_bytes())));
            known.insert(&name(5), two, Digest::of(b"new"));
        }
        // A changed file is never answered from the copies.
        let known = Known::in_file(file.clone());
        assert_eq!(ask(&known, 77, &two), None);
        assert_eq!((ask(&known, 5, &one), ask(&known, 5, &two)), (None, Some(Digest::of(b"new"))));
        drop(known);
        fs::remove_file(&file).unwrap();
        let known = Known::in_file(file);
        assert_eq!(ask(&known, 77, &one), Some(Digest::of(&77_usize.to_le_bytes())));
        assert_eq!(ask(&known, 5, &two), Some(Digest::of(b"new")));
        assert_eq!(ask(&known, 6, &one), None);
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
        assert!(Records::read(&file).count == 20);
        for at in 0..whole.len() {
            let mut bytes = whole.clone();
            bytes[at] ^= 1 << (at % 8);
            fs::write(&file, &bytes).unwrap();
            assert_eq!(Records::read(&file).count, 0, "byte {at}");
            if at % 7 == 0 {
                fs::write(&file, &whole[..at]).unwrap();
                assert_eq!(Records::read(&file).count, 0, "cut at {at}");
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
