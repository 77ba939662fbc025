//! The cache: files by digest and remembered answers of catalogues. It may be deleted at any time.

use std::{
    fs,
    io::{self, Write},
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
    let folder = path.parent().unwrap_or(Path::new("."));
    fs::create_dir_all(folder)?;
    let mut file = tempfile::NamedTempFile::new_in(folder)?;
    file.write_all(bytes)?;
    file.persist(path).map_err(|error| error.error)?;
    Ok(())
}
