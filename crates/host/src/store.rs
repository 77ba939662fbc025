//! The cache: files by digest and remembered answers of catalogues. It may be deleted at any time.

use std::{
    collections::{HashMap, HashSet},
    fs::{self, File},
    io::{self, Read, Write},
    os::unix::fs::{MetadataExt, PermissionsExt},
    path::{Path, PathBuf},
    sync::{Arc, Mutex, OnceLock, PoisonError},
    time::{Duration, SystemTime},
};

use etcetera::BaseStrategy;
use foldhash::fast::RandomState;
use rustix::fs::{AtFlags, FileType, Stat, statat};
use serde::{Deserialize, Serialize};
use yalotheca_core::{
    hint::{Advice, Hint},
    id::Digest,
};

use crate::tree::{Tree, digest_of};

/// The cache folder could not be used.
#[derive(Debug, thiserror::Error)]
#[error("the cache at {path}: {source}")]
pub struct StoreError {
    /// The path.
    pub path: String,
    /// Why.
    pub source: io::Error,
}

impl Hint for StoreError {
    fn hint(&self) -> Option<Advice> {
        Some("XDG_CACHE_HOME says where the cache is; it may be deleted at any time".into())
    }
}

/// A file smaller than this is read whole before it is written.
const AT_ONCE: u64 = 4 << 20;

/// How much of a larger one is read at a time.
const READ: usize = 256 << 10;

/// A file that was read: what tells that it is still the same, and its digest.
type Known = (Stamp, Digest);

/// A file larger than this is remembered from one command to the next once it was read.
const LARGE: u64 = 16 << 20;

/// What happens within so short a time may have the same date.
const TICK: Duration = Duration::from_millis(20);

/// A file that was changed so shortly before it was read may be changed again without that its date tells.
const SETTLED: Duration = Duration::from_secs(2);

/// What tells that a file is still the same: its place on the disk, its size, and when its bytes and its entry were changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Stamp {
    disk: u64,
    inode: u64,
    size: u64,
    changed: (i64, i64),
    entry_changed: (i64, i64),
}

impl Stamp {
    fn of(metadata: &fs::Metadata) -> Self {
        Self {
            disk: metadata.dev(),
            inode: metadata.ino(),
            size: metadata.len(),
            changed: (metadata.mtime(), metadata.mtime_nsec()),
            entry_changed: (metadata.ctime(), metadata.ctime_nsec()),
        }
    }

    fn is_settled(&self) -> bool {
        let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        let last = self.changed.0.max(self.entry_changed.0);
        u64::try_from(last).is_ok_and(|last| Duration::from_secs(last) + SETTLED < now)
    }
}

/// The user's cache.
#[derive(Debug, Clone)]
pub struct Store {
    root: PathBuf,
    /// Where is written what the user's cache cannot take, since it may not be written: it goes with this process.
    aside: Option<Arc<tempfile::TempDir>>,
    /// What this process itself has put in or looked at: its bytes need not be looked at again.
    fresh: Arc<Mutex<HashSet<Digest, RandomState>>>,
    /// What it has found there to all appearance whole: whoever uses it checks its digest.
    likely: Arc<Mutex<HashSet<Digest, RandomState>>>,
    /// Archives whose members are known to be what was noted of them: the notes are dated anew once a server shares some.
    sealed: Arc<Mutex<Vec<Digest>>>,
    /// The folder of its files, once somebody has looked into it.
    files: Arc<OnceLock<File>>,
    /// Digests of files that this process has read.
    read: Arc<Mutex<HashMap<PathBuf, Known>>>,
}

impl Store {
    /// Returns the cache in the user's cache folder.
    ///
    /// # Errors
    /// Where the user has no home folder.
    pub fn of_user() -> Result<Self, StoreError> {
        let strategy = etcetera::base_strategy::choose_base_strategy()
            .map_err(|error| StoreError { path: "~/.cache".into(), source: io::Error::other(error) })?;
        let store = Self::at(&strategy.cache_dir().join("yalotheca"));
        let nearest = store.root.ancestors().find(|path| path.exists()).unwrap_or(Path::new("/"));
        let may = rustix::fs::access(nearest, rustix::fs::Access::WRITE_OK | rustix::fs::Access::EXEC_OK);
        // Looking commands work without a writable cache.
        let aside = if may.is_err() { tempfile::tempdir().ok().map(Arc::new) } else { None };
        Ok(Self { aside, ..store })
    }

    /// Returns the cache in a folder.
    pub fn at(root: &Path) -> Self {
        Self {
            root: root.to_owned(),
            aside: None,
            fresh: Arc::default(),
            likely: Arc::default(),
            sealed: Arc::default(),
            files: Arc::default(),
            read: Arc::default(),
        }
    }

    /// Returns the cache's folder.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Returns where the names in a server's folder are kept.
    pub fn names_of(&self, tree: &dyn Tree) -> PathBuf {
        self.inventory_of(tree).with_extension("names")
    }

    /// Returns the path of the owners index of a server's folder.
    pub fn owners_of(&self, tree: &dyn Tree) -> PathBuf {
        self.inventory_of(tree).with_extension("owners")
    }

    /// Returns a folder for temporary files; a sweep removes what a command that ended suddenly left there.
    ///
    /// # Errors
    /// If it cannot be made.
    pub fn scratch(&self) -> Result<PathBuf, StoreError> {
        let folder = self.root.join("partial");
        fs::create_dir_all(&folder).map_err(Self::error(&folder))?;
        Ok(folder)
    }

    /// Returns where the inventory of a server's folder is kept.
    pub fn inventory_of(&self, tree: &dyn Tree) -> PathBuf {
        let location = match tree.local() {
            Some(tree) => tree.root().canonicalize().unwrap_or_else(|_| tree.root().to_owned()).into(),
            None => std::ffi::OsString::from(tree.location()),
        };
        self.root.join("inventories").join(Digest::of(location.as_encoded_bytes()).short())
    }

    /// Returns where it is kept what commands ask first of a server on another machine.
    pub fn foresight_of(&self, location: &str) -> PathBuf {
        self.root.join("inventories").join(Digest::of(location.as_bytes()).short()).with_extension("asked")
    }

    /// Returns where it is kept which signatures were good.
    pub fn signatures(&self) -> PathBuf {
        self.root.join("signatures")
    }

    /// Returns where it is kept what a host can do.
    pub fn capabilities_of(&self, host: &str) -> PathBuf {
        self.root.join("hosts").join(Digest::of(host.as_bytes()).short())
    }

    fn error(path: &Path) -> impl FnOnce(io::Error) -> StoreError + use<> {
        let path = path.display().to_string();
        move |source| StoreError { path, source }
    }

    /// Returns where a file with that digest lies, if the cache has it.
    /// One that a server shares is looked at first, since the server may have changed it; then it is none any more. What this
    /// process knows already is not looked at again.
    pub fn file(&self, digest: &Digest) -> Option<PathBuf> {
        let path = self.either(|root| Self::place_in(root, digest));
        let is_likely = || self.likely.lock().unwrap_or_else(PoisonError::into_inner).contains(digest);
        if self.is_fresh(digest) || is_likely() {
            return Some(path);
        }
        let metadata = fs::metadata(&path).ok().filter(fs::Metadata::is_file)?;
        if metadata.nlink() > 1 {
            if !digest_of(&path).is_ok_and(|(found, _)| found == *digest) {
                self.forget(digest);
                return None;
            }
            self.fresh.lock().unwrap_or_else(PoisonError::into_inner).insert(*digest);
        }
        Some(path)
    }

    /// Looks at a file of the cache, from the folder that they all lie in: of thousands the way there would be gone each time.
    fn find(&self, digest: &Digest) -> Option<Stat> {
        if self.files.get().is_none() {
            self.files.set(File::open(self.root.join("files")).ok()?).ok();
        }
        let hex = digest.hex();
        statat(self.files.get()?, format!("{}/{}", &hex[..2], &hex[..]), AtFlags::empty()).ok()
    }

    /// Where is written.
    fn out(&self) -> &Path {
        self.aside.as_ref().map_or(&self.root, |aside| aside.path())
    }

    /// Returns where something lies that may have been written aside.
    fn either(&self, place: impl Fn(&Path) -> PathBuf) -> PathBuf {
        let own = place(&self.root);
        match &self.aside {
            Some(aside) if !own.exists() => place(aside.path()),
            _ => own,
        }
    }

    fn place(&self, digest: &Digest) -> PathBuf {
        Self::place_in(self.out(), digest)
    }

    fn place_in(root: &Path, digest: &Digest) -> PathBuf {
        let hex = digest.hex();
        let mut path = PathBuf::with_capacity(root.as_os_str().len() + hex.len() + 12);
        path.push(root);
        path.extend(["files", &hex[..2], &hex[..]]);
        path
    }

    /// Keeps a file whose digest was checked, and returns where.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn keep(&self, digest: &Digest, bytes: &[u8]) -> Result<PathBuf, StoreError> {
        let path = self.place(digest);
        write(&path, bytes).map_err(Self::error(&path))?;
        Ok(path)
    }

    /// Keeps what a reader gives, under its digest, and returns that and the size. The inner error is the reader's.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn insert_from(&self, from: &mut dyn Read) -> Result<io::Result<(Digest, u64)>, StoreError> {
        let mut start = Vec::new();
        if let Err(error) = from.take(AT_ONCE).read_to_end(&mut start) {
            return Ok(Err(error));
        }
        if (start.len() as u64) < AT_ONCE {
            let digest = Digest::of(&start);
            self.keep_small(&digest, &start)?;
            return Ok(Ok((digest, start.len() as u64)));
        }
        let folder = self.out().join("files");
        let mut file = temporary(&folder).map_err(Self::error(&folder))?;
        let (mut hasher, mut size) = (blake3::Hasher::new(), 0);
        let mut buffer = start;
        let mut filled = buffer.len();
        while filled > 0 {
            hasher.update(&buffer[..filled]);
            file.write_all(&buffer[..filled]).map_err(Self::error(&folder))?;
            size += filled as u64;
            buffer.resize(READ, 0);
            filled = match from.read(&mut buffer) {
                Ok(read) => read,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Ok(Err(error)),
            };
        }
        let digest = Digest::from_bytes(*hasher.finalize().as_bytes());
        let path = self.place(&digest);
        persist(file, &path).map_err(Self::error(&path))?;
        Ok(Ok((digest, size)))
    }

    /// Keeps a small file under its own name at once, which is quicker than to rename it. Should the program end while it
    /// is written, its size tells (see [`Store::has`]), and whoever uses it checks the digest.
    fn keep_small(&self, digest: &Digest, bytes: &[u8]) -> Result<(), StoreError> {
        let path = self.place(digest);
        let create = || File::options().write(true).create_new(true).open(&path);
        let is_whole = || Ok::<bool, io::Error>(fs::metadata(&path)?.len() == bytes.len() as u64);
        let keep = || {
            let mut file = create();
            if file.as_ref().is_err_and(|error| error.kind() == io::ErrorKind::NotFound) {
                fs::create_dir_all(path.parent().unwrap_or(self.out()))?;
                file = create();
            }
            match file {
                // Another command may be at it just now: a whole file takes its place then.
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                    if is_whole()? {
                        Ok(false)
                    } else {
                        write(&path, bytes).map(|()| true)
                    }
                }
                file => file?.write_all(bytes).map(|()| true),
            }
        };
        if !keep().map_err(Self::error(&path))? {
            return Ok(());
        }
        self.fresh.lock().unwrap_or_else(PoisonError::into_inner).insert(*digest);
        Ok(())
    }

    /// Returns the digest and the size of a file anywhere, which is read once as long as it stays the same; a large one by all
    /// commands together.
    ///
    /// # Errors
    /// Where it cannot be read.
    pub fn digest_of(&self, path: &Path) -> io::Result<(Digest, u64)> {
        let stamp = Stamp::of(&fs::metadata(path)?);
        let read = || self.read.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, digest)) = read().get(path).filter(|(then, _)| *then == stamp) {
            return Ok((*digest, stamp.size));
        }
        let name = Digest::of(path.as_os_str().as_encoded_bytes());
        let is_large = stamp.size > LARGE;
        let noted = || serde_json::from_slice::<Known>(&self.noted("read", &name)?.0).ok();
        let known = if is_large { noted().filter(|(then, _)| *then == stamp) } else { None };
        let (digest, size) = match &known {
            Some((_, digest)) => (*digest, stamp.size),
            None => digest_of(path)?,
        };
        // What changed while it was read is not remembered.
        if Stamp::of(&fs::metadata(path)?) == stamp {
            if is_large
                && known.is_none()
                && stamp.is_settled()
                && let Ok(text) = serde_json::to_vec(&(&stamp, digest))
            {
                // Not worth a failure: it would only be read again.
                self.note("read", &name, &text).ok();
            }
            read().insert(path.to_owned(), (stamp, digest));
        }
        Ok((digest, size))
    }

    /// Returns whether this process itself has put a file in.
    pub fn is_fresh(&self, digest: &Digest) -> bool {
        self.fresh.lock().unwrap_or_else(PoisonError::into_inner).contains(digest)
    }

    /// Keeps bytes under their digest, and returns that.
    ///
    /// # Errors
    /// Where they cannot be written.
    pub fn insert_bytes(&self, bytes: &[u8]) -> Result<Digest, StoreError> {
        let digest = Digest::of(bytes);
        self.keep_small(&digest, bytes)?;
        Ok(digest)
    }

    /// Returns whether the cache has all of a file, as far as its size and its dates tell: what a server shares and has not
    /// changed since `then` is not read for that. Where not even its entry was touched since, it is what it was when this
    /// was noted; else whoever uses it checks its digest.
    pub fn has(&self, digest: &Digest, size: u64, then: Option<SystemTime>) -> bool {
        let Some(found) = self.find(digest).filter(|found| FileType::from_raw_mode(found.st_mode).is_file())
        else {
            return false;
        };
        let then = then.and_then(|then| then.duration_since(SystemTime::UNIX_EPOCH).ok());
        let since = |seconds: i64, nanoseconds: u64| {
            Some(Duration::new(seconds.try_into().ok()?, nanoseconds.try_into().ok()?))
        };
        let is_old = || since(found.st_mtime, found.st_mtime_nsec) <= then && then.is_some();
        let has = u64::try_from(found.st_size) == Ok(size)
            && (found.st_nlink == 1 || is_old() || self.file(digest).is_some());
        let is_untouched = || Some(since(found.st_ctime, found.st_ctime_nsec)? < then?.checked_sub(TICK)?);
        if has && is_untouched() == Some(true) {
            self.fresh.lock().unwrap_or_else(PoisonError::into_inner).insert(*digest);
        } else if has {
            self.likely.lock().unwrap_or_else(PoisonError::into_inner).insert(*digest);
        }
        has
    }

    /// Remembers that all that was noted of an archive is so now.
    pub(crate) fn note_verified(&self, archive: &Digest) {
        self.sealed.lock().unwrap_or_else(PoisonError::into_inner).push(*archive);
    }

    /// Dates anew what was noted of archives whose members are known to be so. To be called when a server has come to share
    /// some of them: that touched the files, and they are still what they were.
    pub fn refresh_dates(&self) {
        for of in self.sealed.lock().unwrap_or_else(PoisonError::into_inner).drain(..) {
            let note = File::options().write(true).open(Self::note_path(self.out(), "unpacked", &of));
            // Not worth a failure: the files are read once more than need be.
            note.and_then(|note| note.set_modified(SystemTime::now())).ok();
        }
    }

    /// Forgets a file, since its bytes turned out to be others than its digest says.
    pub fn forget(&self, digest: &Digest) {
        for known in [&self.fresh, &self.likely] {
            known.lock().unwrap_or_else(PoisonError::into_inner).remove(digest);
        }
        fs::remove_file(self.place(digest)).ok();
    }

    /// Takes out what nobody has used for so long: files, and downloads that were never completed. Where the rest is larger
    /// than `most` bytes, the longest unused goes as well. Returns how many files went, and their bytes.
    ///
    /// # Errors
    /// Where one cannot be removed.
    pub fn sweep(&self, unused: Duration, most: Option<u64>) -> Result<(usize, u64), StoreError> {
        let mut files: Vec<(SystemTime, u64, PathBuf)> = Vec::new();
        for part in ["files", "partial", "unpacked", "answers", "read", "inventories"] {
            for entry in walkdir::WalkDir::new(self.root.join(part)).into_iter().flatten() {
                let Ok(metadata) = entry.metadata() else { continue };
                if metadata.is_file() {
                    let dates = [metadata.accessed(), metadata.modified()];
                    let used = dates.into_iter().flatten().max().unwrap_or(SystemTime::UNIX_EPOCH);
                    files.push((used, metadata.len(), entry.into_path()));
                }
            }
        }
        files.sort();
        let now = SystemTime::now();
        let mut left: u64 = files.iter().map(|(_, size, _)| size).sum();
        let (mut count, mut bytes) = (0, 0);
        for (used, size, path) in files {
            let is_old = now.duration_since(used).is_ok_and(|age| age >= unused);
            if is_old || most.is_some_and(|most| left > most) {
                fs::remove_file(&path).map_err(Self::error(&path))?;
                (count, bytes, left) = (count + 1, bytes + size, left - size);
            }
        }
        Ok((count, bytes))
    }

    fn note_path(root: &Path, sort: &str, of: &Digest) -> PathBuf {
        root.join(sort).join(format!("{of}.json"))
    }

    /// Notes something about what has a digest.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn note(&self, sort: &str, of: &Digest, bytes: &[u8]) -> Result<(), StoreError> {
        let path = Self::note_path(self.out(), sort, of);
        write(&path, bytes).map_err(Self::error(&path))
    }

    /// Returns what was noted, and when.
    pub fn noted(&self, sort: &str, of: &Digest) -> Option<(Vec<u8>, Option<SystemTime>)> {
        let mut bytes = Vec::new();
        let mut file = File::open(self.either(|root| Self::note_path(root, sort, of))).ok()?;
        file.read_to_end(&mut bytes).ok()?;
        Some((bytes, file.metadata().and_then(|metadata| metadata.modified()).ok()))
    }

    /// Returns where a download that is not complete yet is kept.
    ///
    /// # Errors
    /// Where its folder cannot be made.
    pub fn partial(&self, url: &str) -> Result<PathBuf, StoreError> {
        let folder = self.out().join("partial");
        fs::create_dir_all(&folder).map_err(Self::error(&folder))?;
        Ok(folder.join(Digest::of(url.as_bytes()).short()))
    }

    /// Takes a complete download over, whose digest was computed while it came.
    ///
    /// # Errors
    /// Where it cannot be moved.
    pub fn adopt(&self, file: &Path, digest: &Digest) -> Result<PathBuf, StoreError> {
        let path = self.place(digest);
        let adopt = || {
            fs::create_dir_all(path.parent().unwrap_or(self.out()))?;
            fs::rename(file, &path)
        };
        adopt().map_err(Self::error(&path))?;
        Ok(path)
    }

    fn answer_path(root: &Path, url: &str, suffix: &str) -> PathBuf {
        root.join("answers").join(format!("{}.{suffix}", Digest::of(url.as_bytes()).short()))
    }

    /// Returns the remembered answer of an address: its entity tag and its bytes.
    pub fn answer(&self, url: &str) -> Option<(String, Vec<u8>)> {
        let tag = fs::read_to_string(self.either(|root| Self::answer_path(root, url, "tag"))).ok()?;
        let bytes = fs::read(self.either(|root| Self::answer_path(root, url, "body"))).ok()?;
        // The tag's file also holds the digest of the body it belongs to, so that the two are never mixed up.
        let (digest, tag) = tag.split_once('\n')?;
        (digest == Digest::of(&bytes).to_string()).then(|| (tag.to_owned(), bytes))
    }

    /// Remembers an answer.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn remember(&self, url: &str, tag: &str, bytes: &[u8]) -> Result<(), StoreError> {
        let path = Self::answer_path(self.out(), url, "body");
        write(&path, bytes).map_err(Self::error(&path))?;
        let path = Self::answer_path(self.out(), url, "tag");
        write(&path, format!("{}\n{tag}", Digest::of(bytes)).as_bytes()).map_err(Self::error(&path))
    }
}

fn write(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let mut file = temporary(path.parent().unwrap_or(Path::new(".")))?;
    file.write_all(bytes)?;
    persist(file, path)
}

/// A new file in a folder, which is made where it is not there.
fn temporary(folder: &Path) -> io::Result<tempfile::NamedTempFile<File>> {
    let create = || {
        // As any other file that the user makes.
        let permissions = fs::Permissions::from_mode(0o666);
        tempfile::Builder::new().prefix(".new-").permissions(permissions).tempfile_in(folder)
    };
    match create() {
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            fs::create_dir_all(folder)?;
            create()
        }
        file => file,
    }
}

fn persist(file: tempfile::NamedTempFile<File>, path: &Path) -> io::Result<()> {
    match file.persist(path) {
        Err(failed) if failed.error.kind() == io::ErrorKind::NotFound => {
            fs::create_dir_all(path.parent().unwrap_or(Path::new(".")))?;
            failed.file.persist(path).map(drop).map_err(|error| error.error)
        }
        kept => kept.map(drop).map_err(|error| error.error),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_large_file_is_read_once_by_all_commands_as_long_as_it_stays_the_same() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("festival.zip");
        let file = File::create(&path).unwrap();
        file.set_len(LARGE + 1).unwrap();
        let own = Digest::of(&vec![0; usize::try_from(LARGE + 1).unwrap()]);
        let store = || Store::at(&folder.path().join("cache"));
        let name = Digest::of(path.as_os_str().as_encoded_bytes());
        assert_eq!(store().digest_of(&path).unwrap(), (own, LARGE + 1));
        assert!(
            store().noted("read", &name).is_none(),
            "it may still change within the same tick of the clock"
        );
        // As an earlier command noted it, with a digest by which that can be told.
        let stamp = Stamp::of(&fs::metadata(&path).unwrap());
        let noted = Digest::of(b"noted");
        store().note("read", &name, &serde_json::to_vec(&(&stamp, noted)).unwrap()).unwrap();
        assert_eq!(store().digest_of(&path).unwrap(), (noted, LARGE + 1));
        // The same size and the same date, and other bytes: its entry tells.
        let date = file.metadata().unwrap().modified().unwrap();
        std::thread::sleep(Duration::from_millis(20));
        std::os::unix::fs::FileExt::write_at(&file, b"x", 7).unwrap();
        file.set_modified(date).unwrap();
        let (other, _) = store().digest_of(&path).unwrap();
        assert!(other != noted && other != own);
    }
}
