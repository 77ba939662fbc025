//! The control folder: `yalotheca.toml` and `yalotheca.lock`, and the server that they are about.

use std::{
    io,
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
};

use yalotheca_core::{
    control::{ControlFile, LOCK_FILE, LockFile, ReadLockError, WANTS_FILE},
    hint::{Advice, Hint},
    id::TreePath,
    toml_file::ReadTomlError,
};

use crate::tree::{LocalTree, Tree, TreeError};

/// A control folder that cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum OpenControlError {
    /// There is none.
    #[error("there is no {WANTS_FILE} in {folder} or above it")]
    NoControl {
        /// Where it was looked for.
        folder: String,
    },
    /// A file cannot be read.
    #[error("{path}: {source}")]
    Read {
        /// The file.
        path: String,
        /// Why.
        source: io::Error,
    },
    /// A file cannot be read, or must not be.
    #[error(transparent)]
    Tree(#[from] TreeError),
    /// `yalotheca.toml` is wrong.
    #[error(transparent)]
    Wants(#[from] ReadTomlError),
    /// `yalotheca.lock` is wrong.
    #[error(transparent)]
    Lock(#[from] ReadLockError),
}

impl Hint for OpenControlError {
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::NoControl { .. } => Some(Advice::AdoptFirst),
            Self::Read { .. } => None,
            Self::Tree(error) => error.hint(),
            Self::Wants(error) => error.hint(),
            Self::Lock(error) => error.hint(),
        }
    }
}

/// Somebody else who could have put a control folder there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stranger {
    /// The user's number; of the folder's owner, where everybody may write there.
    pub owner: u32,
    /// In words.
    pub why: String,
}

impl Stranger {
    fn of(folder: &Path) -> io::Result<Option<Self>> {
        let own = rustix::process::geteuid().as_raw();
        let is_ours = |owner: u32| owner == own || owner == 0;
        let file = std::fs::metadata(folder.join(WANTS_FILE))?;
        let around = std::fs::metadata(folder)?;
        let why = |owner: u32, why: String| Ok(Some(Self { owner, why }));
        match (file.uid(), around.uid()) {
            (owner, _) if !is_ours(owner) => {
                why(owner, format!("it belongs to another user (number {owner})"))
            }
            (_, owner) if !is_ours(owner) => {
                why(owner, format!("its folder belongs to another user (number {owner})"))
            }
            (_, owner) if around.mode() & 0o002 != 0 => {
                why(owner, "everybody may write in its folder".into())
            }
            _ => Ok(None),
        }
    }
}

/// The files of a control folder.
#[derive(Debug, Clone)]
pub struct Control {
    /// The folder.
    pub folder: PathBuf,
    /// The wants.
    pub wants: ControlFile,
    /// The lineup.
    pub lock: LockFile,
    /// The text of `yalotheca.toml` as it is on the disk.
    pub wants_text: String,
    /// The text of `yalotheca.lock` as it is on the disk; nothing where there is none.
    pub lock_text: Option<String>,
}

impl Control {
    /// Returns the control folder at `start`, or the nearest one above it when `upward`; and, where another user could have put
    /// it there, why.
    ///
    /// # Errors
    /// Where there is none.
    pub fn find(start: &Path, upward: bool) -> Result<(PathBuf, Option<Stranger>), OpenControlError> {
        let start_full = std::path::absolute(start).unwrap_or_else(|_| start.to_owned());
        let mut folder = start_full.as_path();
        while !folder.join(WANTS_FILE).is_file() {
            folder = match folder.parent() {
                Some(parent) if upward => parent,
                _ => return Err(OpenControlError::NoControl { folder: start.display().to_string() }),
            };
        }
        let stranger = Stranger::of(folder).map_err(|source| OpenControlError::Read {
            path: folder.join(WANTS_FILE).display().to_string(),
            source,
        })?;
        Ok((folder.to_owned(), stranger))
    }

    /// Opens the control folder at `start`, or the nearest one above it when `upward`.
    ///
    /// # Errors
    /// Where there is none or a file in it is wrong.
    pub fn open(start: &Path, upward: bool) -> Result<Self, OpenControlError> {
        let (folder, _) = Self::find(start, upward)?;
        let control = Self::open_wants(&folder)?;
        let lock = match &control.lock_text {
            Some(text) if !text.is_empty() => {
                LockFile::parse(&folder.join(LOCK_FILE).display().to_string(), text)?
            }
            _ => LockFile::default(),
        };
        Ok(Self { lock, ..control })
    }

    /// Opens a control folder, and does not look into its lock.
    ///
    /// # Errors
    /// Where `yalotheca.toml` is not there or is wrong.
    pub fn open_wants(folder: &Path) -> Result<Self, OpenControlError> {
        let tree = LocalTree::new(folder);
        let shown = |name: &str| folder.join(name).display().to_string();
        let wants_text = read(&tree, WANTS_FILE)?.unwrap_or_default();
        let wants = ControlFile::parse(&shown(WANTS_FILE), &wants_text)?;
        let lock_text = read(&tree, LOCK_FILE)?;
        Ok(Self { folder: folder.to_owned(), wants, lock: LockFile::default(), wants_text, lock_text })
    }

    /// Returns the server's folder.
    pub fn server_folder(&self) -> PathBuf {
        let folder = self.folder.join(&self.wants.server.at);
        folder.canonicalize().unwrap_or(folder)
    }
}

fn read(tree: &LocalTree, name: &str) -> Result<Option<String>, OpenControlError> {
    let path = TreePath::new(name).unwrap_or_else(|_| TreePath::root());
    let Some(bytes) = tree.read_file(&path)? else { return Ok(None) };
    String::from_utf8(bytes).map(Some).map_err(|error| OpenControlError::Read {
        path: tree.at(&path).display().to_string(),
        source: io::Error::new(io::ErrorKind::InvalidData, error),
    })
}
