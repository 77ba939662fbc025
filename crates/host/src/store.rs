//! The cache: files by digest and remembered answers of catalogues. It may be deleted at any time.

use std::{
    fs::{self, File},
    io::{self, Read, Write},
    path::{Path, PathBuf},
};

use etcetera::BaseStrategy;
use yalotheca_core::{hint::Hint, id::Digest};

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
    fn hint(&self) -> Option<String> {
        Some("XDG_CACHE_HOME says where the cache is; it may be deleted at any time".into())
    }
}

/// A file smaller than this is read whole before it is written.
const AT_ONCE: u64 = 4 << 20;

/// How much of a larger one is read at a time.
const READ: usize = 256 << 10;

/// The user's cache.
#[derive(Debug, Clone)]
pub struct Store {
    root: PathBuf,
}

impl Store {
    /// Returns the cache in the user's cache folder.
    ///
    /// # Errors
    /// Where the user has no home folder.
    pub fn of_user() -> Result<Self, StoreError> {
        let strategy = etcetera::base_strategy::choose_base_strategy()
            .map_err(|error| StoreError { path: "~/.cache".into(), source: io::Error::other(error) })?;
        Ok(Self { root: strategy.cache_dir().join("yalotheca") })
    }

    /// Returns the cache in a folder.
    pub fn at(root: &Path) -> Self {
        Self { root: root.to_owned() }
    }

    fn error(path: &Path) -> impl FnOnce(io::Error) -> StoreError + use<> {
        let path = path.display().to_string();
        move |source| StoreError { path, source }
    }

    /// Returns where a file with that digest lies, if the cache has it.
    pub fn file(&self, digest: &Digest) -> Option<PathBuf> {
        Some(self.place(digest)).filter(|path| path.is_file())
    }

    fn place(&self, digest: &Digest) -> PathBuf {
        let hex = digest.to_string();
        self.root.join("files").join(&hex[..2]).join(hex)
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
    pub fn take_in(&self, from: &mut dyn Read) -> Result<io::Result<(Digest, u64)>, StoreError> {
        let mut start = Vec::new();
        if let Err(error) = from.take(AT_ONCE).read_to_end(&mut start) {
            return Ok(Err(error));
        }
        if (start.len() as u64) < AT_ONCE {
            let digest = Digest::of(&start);
            if self.file(&digest).is_none() {
                self.keep(&digest, &start)?;
            }
            return Ok(Ok((digest, start.len() as u64)));
        }
        let folder = self.root.join("files");
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

    /// Forgets a file, since its bytes turned out to be others than its digest says.
    pub fn forget(&self, digest: &Digest) {
        fs::remove_file(self.place(digest)).ok();
    }

    fn note_path(&self, sort: &str, of: &Digest) -> PathBuf {
        self.root.join(sort).join(format!("{of}.json"))
    }

    /// Notes something about what has a digest.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn note(&self, sort: &str, of: &Digest, bytes: &[u8]) -> Result<(), StoreError> {
        let path = self.note_path(sort, of);
        write(&path, bytes).map_err(Self::error(&path))
    }

    /// Returns what was noted.
    pub fn noted(&self, sort: &str, of: &Digest) -> Option<Vec<u8>> {
        fs::read(self.note_path(sort, of)).ok()
    }

    /// Returns where a download that is not complete yet is kept.
    ///
    /// # Errors
    /// Where its folder cannot be made.
    pub fn partial(&self, url: &str) -> Result<PathBuf, StoreError> {
        let folder = self.root.join("partial");
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
            fs::create_dir_all(path.parent().unwrap_or(&self.root))?;
            fs::rename(file, &path)
        };
        adopt().map_err(Self::error(&path))?;
        Ok(path)
    }

    fn answer_path(&self, url: &str, suffix: &str) -> PathBuf {
        self.root.join("answers").join(format!("{}.{suffix}", Digest::of(url.as_bytes()).short()))
    }

    /// Returns the remembered answer of an address: its entity tag and its bytes.
    pub fn answer(&self, url: &str) -> Option<(String, Vec<u8>)> {
        let tag = fs::read_to_string(self.answer_path(url, "tag")).ok()?;
        let bytes = fs::read(self.answer_path(url, "body")).ok()?;
        // The tag's file also holds the digest of the body it belongs to, so that the two are never mixed up.
        let (digest, tag) = tag.split_once('\n')?;
        (digest == Digest::of(&bytes).to_string()).then(|| (tag.to_owned(), bytes))
    }

    /// Remembers an answer.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn remember(&self, url: &str, tag: &str, bytes: &[u8]) -> Result<(), StoreError> {
        let path = self.answer_path(url, "body");
        write(&path, bytes).map_err(Self::error(&path))?;
        let path = self.answer_path(url, "tag");
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
    let begin = || tempfile::Builder::new().prefix(".new-").tempfile_in(folder);
    match begin() {
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            fs::create_dir_all(folder)?;
            begin()
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
