//! A server's folder, wherever it is.
//!
//! One trait and one file per kind of place. Settling uses nothing but these few calls, so that a server on another
//! machine needs only them.

mod attributes;
mod bulk;
mod digest;
mod known;
mod local;
mod names;
mod own;
mod rooted;

use std::{fs::File, io, path::Path};

use yalotheca_core::{
    hint::{Advice, Hint},
    id::{Digest, TreePath},
};

pub use digest::{digest_of, digest_of_file};
pub use local::LocalTree;
pub use names::{FoundName, NameIndex, NameKind, NameMetadata, NamePattern};
pub use own::Prepared;
pub use rooted::Refusal;

/// What lies at a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EntryKind {
    /// A file with so many bytes.
    File(u64),
    /// A folder.
    Folder,
    /// Something else.
    Other,
}

/// An act on a tree that failed.
#[derive(Debug, thiserror::Error)]
#[error("{verb} {path}: {source}")]
pub struct TreeError {
    /// What was tried.
    pub verb: &'static str,
    /// On what, as the person knows it.
    pub path: String,
    /// Why it failed.
    pub source: io::Error,
}

impl Hint for TreeError {
    fn hint(&self) -> Option<Advice> {
        match self.refusal() {
            Some(Refusal::LeadsOut { .. }) => {
                return Some("Yalotheca works inside the server's folder only; put a folder or a bind mount there instead of the link".into());
            }
            Some(Refusal::OwnIsLink) => {
                return Some("find out who made it, and remove it; nothing was changed".into());
            }
            Some(Refusal::NotAFile(_)) => return Some("find out who made it; it was not opened".into()),
            None => {}
        }
        match self.source.kind() {
            io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem => {
                Some("give yourself the right to write there, or run as the server's user".into())
            }
            io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => {
                Some("free some space on that disk".into())
            }
            _ => None,
        }
    }
}

impl TreeError {
    /// Returns why this was refused for safety, where it was.
    pub fn refusal(&self) -> Option<&Refusal> {
        Refusal::of(&self.source)
    }
}

/// Who owns a file or a folder, and who may do what with it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Attributes {
    /// The nine bits of the mode.
    pub mode: u32,
    /// The user's number.
    pub owner: u32,
    /// The group's number.
    pub group: u32,
}

/// A server's folder.
pub trait Tree {
    /// Returns the folder as a person knows it.
    fn shown(&self) -> String;
    /// Returns what lies at a path, following links that stay in the folder; one that leads out is something else.
    ///
    /// # Errors
    /// Where it cannot be looked at.
    fn find(&self, path: &TreePath) -> Result<Option<EntryKind>, TreeError>;
    /// Returns the names and sorts of what lies in a folder, by name; nothing where there is no such folder.
    ///
    /// # Errors
    /// Where it cannot be read.
    fn list(&self, path: &TreePath) -> Result<Vec<(String, EntryKind)>, TreeError>;
    /// Returns a file's bytes; nothing where there is no such file.
    ///
    /// # Errors
    /// Where it is there and cannot be read.
    fn read(&self, path: &TreePath) -> Result<Option<Vec<u8>>, TreeError>;
    /// Returns the digest and the size of a file; nothing where there is no such file.
    ///
    /// # Errors
    /// Where it is there and cannot be read.
    fn digest(&self, path: &TreePath) -> Result<Option<(Digest, u64)>, TreeError>;
    /// Returns the digest and the size of each of many files; nothing where there is no such file.
    ///
    /// # Errors
    /// Where one is there and cannot be read.
    fn digests(&self, paths: &[TreePath]) -> Result<Vec<Option<(Digest, u64)>>, TreeError> {
        paths.iter().map(|path| self.digest(path)).collect()
    }
    /// Writes a whole file: under another name first, then renamed, so that nobody ever sees half of it.
    ///
    /// # Errors
    /// Where it cannot be written.
    fn write(&self, path: &TreePath, bytes: &[u8]) -> Result<(), TreeError>;
    /// Writes the contents of the reader to `path` and returns the digest of what was written. Only [`Tree::sync`] makes
    /// sure that it is on the disk.
    ///
    /// # Errors
    /// Where it cannot be read or written.
    fn write_from(
        &self,
        from: &mut dyn io::Read,
        path: &TreePath,
        attributes: &Attributes,
    ) -> Result<Digest, TreeError>;
    /// Writes a file that nobody looks at yet. Only [`Tree::sync`] makes sure that it is on the disk.
    ///
    /// # Errors
    /// Where it cannot be written.
    fn put(&self, bytes: &[u8], path: &TreePath, attributes: &Attributes) -> Result<(), TreeError>;
    /// Copies a file of this machine whose bytes are known to be right, `size` of them, and returns how many there were: where
    /// it has more, more than that. Only [`Tree::sync`] makes sure that it is on the disk.
    ///
    /// # Errors
    /// Where it cannot be read or written.
    fn copy(
        &self,
        from: &mut File,
        size: u64,
        path: &TreePath,
        attributes: &Attributes,
    ) -> Result<u64, TreeError>;
    /// Reflinks or hard-links an open file of the cache to `path`, and returns whether it could. Both need the same disk; a hard link is
    /// made for one server only, so that what that server does to the file never reaches another.
    fn reflink_or_link(&self, from: (&Path, &File), path: &TreePath, attributes: &Attributes) -> bool;
    /// Moves a file over whatever is at the other path. Only [`Tree::sync`] makes sure that this is on the disk.
    ///
    /// # Errors
    /// Where it cannot be moved.
    fn rename(&self, from: &TreePath, to: &TreePath) -> Result<(), TreeError>;
    /// Gives a file a second name, or copies it where that cannot be.
    ///
    /// # Errors
    /// Where neither can be done.
    fn keep(&self, from: &TreePath, to: &TreePath) -> Result<(), TreeError>;
    /// Makes sure that everything done so far is on the disk: one call for many files.
    ///
    /// # Errors
    /// Where the disk fails.
    fn sync(&self) -> Result<(), TreeError>;
    /// Makes sure that a file's bytes, or what is called how in a folder, are on the disk; nothing where there is neither.
    ///
    /// # Errors
    /// Where the disk fails.
    fn sync_file(&self, path: &TreePath) -> Result<(), TreeError>;
    /// Has everything done so far written to the disk, and waits for none of it: that goes on when the program has ended.
    fn sync_in_background(&self);
    /// Makes a folder and those above it.
    ///
    /// # Errors
    /// Where it cannot be made.
    fn make_folder(&self, path: &TreePath) -> Result<(), TreeError>;
    /// Removes a folder where it is empty, and returns whether it is gone.
    ///
    /// # Errors
    /// Where it is empty and cannot be removed.
    fn remove_folder(&self, path: &TreePath) -> Result<bool, TreeError>;
    /// Removes a folder with all that is in it. Only for what is ours, in `.yalotheca/`.
    ///
    /// # Errors
    /// Where it cannot be removed.
    fn remove_all(&self, path: &TreePath) -> Result<(), TreeError>;
}
