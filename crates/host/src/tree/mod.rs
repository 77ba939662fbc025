//! A server's folder, wherever it is.
//!
//! One trait and one file per kind of place. Settling uses nothing but these few calls, so that a server on another
//! machine needs only them.

mod attributes;
mod below;
mod bulk;
mod digest;
mod fingerprint;
mod known;
mod local;
mod memory;
mod names;
mod own;
mod remote;
mod rooted;
mod upload;

use std::{
    borrow::Cow,
    fmt, io,
    path::{Path, PathBuf},
    slice,
    sync::Arc,
    time::SystemTime,
};

use yalotheca_core::{
    hint::{Advice, Hint},
    id::{Digest, TreePath},
};

pub use below::files_below;
pub use digest::{digest_of, digest_of_file};
pub use fingerprint::fingerprint_of;
pub use local::LocalTree;
pub use memory::{Faults, MemoryServer};
pub use names::{FoundName, NameIndex, NameKind, NameMetadata, NamePattern};
pub use own::Prepared;
pub use remote::{
    Foresight, KnownCertificates, KnownCertificatesError, ParseAddressError, Pins, Protocol, RemoteAddress,
    RemoteTree, file_server, ftp, sftp,
};
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

/// What a kind of tree can do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Capabilities {
    /// A file can have two names.
    pub hard_links: bool,
}

/// Who may read a new file or folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Access<'a> {
    /// As our own files: the owner, and the group if the server's folder is readable by the group.
    Own,
    /// The owner only.
    Secret,
    /// As what is at this path.
    Like(&'a TreePath),
    /// As a new file in this folder.
    Below(&'a TreePath),
}

/// Where the bytes of an upload are.
#[derive(Debug)]
pub enum UploadSource<'a> {
    /// In memory.
    Bytes(Cow<'a, [u8]>),
    /// In memory, and they could not be fetched again: they are flushed at once.
    Precious(Cow<'a, [u8]>),
    /// In a file of this machine that others may change.
    File(&'a Path),
    /// In a file of the cache.
    Cached(&'a Path),
    /// In a file of the cache whose digest this process has verified.
    Verified(&'a Path),
    /// In a file that was just made: it gets the date of its writing.
    Built(&'a Path),
    /// In another file of the tree.
    Tree(TreePath),
}

/// A new file.
#[derive(Debug)]
pub struct Upload<'a> {
    /// Its path, in a folder of ours.
    pub path: &'a TreePath,
    /// Its bytes.
    pub source: UploadSource<'a>,
    /// Who may read it.
    pub access: Access<'a>,
    /// The digest that its bytes must have.
    pub digest: Digest,
    /// How many bytes there are.
    pub size: u64,
    /// Whether it may share its blocks, or the whole file, with the cache.
    pub may_share: bool,
}

impl<'a> Upload<'a> {
    /// Returns the upload of some bytes.
    pub fn of_bytes(path: &'a TreePath, bytes: &'a [u8], access: Access<'a>) -> Self {
        let source = UploadSource::Bytes(Cow::Borrowed(bytes));
        Self { path, source, access, digest: Digest::of(bytes), size: bytes.len() as u64, may_share: false }
    }
}

/// An upload that failed.
#[derive(Debug)]
pub enum UploadError {
    /// The tree could not be written.
    Tree(TreeError),
    /// The bytes of an upload cannot be read, or are not what they must be.
    Bytes {
        /// The upload, by its place in the list.
        index: usize,
        /// What is wrong.
        why: String,
    },
}

impl From<TreeError> for UploadError {
    fn from(error: TreeError) -> Self {
        Self::Tree(error)
    }
}

/// A new folder.
#[derive(Debug, Clone, Copy)]
pub struct NewFolder<'a> {
    /// Its path; folders above it are made as well.
    pub path: &'a TreePath,
    /// Who may read it.
    pub access: Access<'a>,
}

/// What is to be on the disk before the next step.
#[derive(Debug, Clone, Copy)]
pub enum Flush<'a> {
    /// Everything done so far.
    All,
    /// The bytes of these files, or the names in these folders. What is not there is left out.
    Entries(&'a [TreePath]),
    /// Everything done so far, without waiting: it goes on after the program has ended.
    Background,
}

/// A file of a tree, open for reading: parts of it are fetched as they are read.
pub trait ReadSeek: io::Read + io::Seek + Send {}

impl<T: io::Read + io::Seek + Send> ReadSeek for T {}

/// A server's folder.
///
/// Calls take many paths at once where there may be many, so that a slow connection costs few round trips. Symbolic links that stay
/// in the folder are followed; one that leads out of it is [`EntryKind::Other`], and nothing behind it is read or written.
pub trait Tree: fmt::Debug + Send + Sync {
    /// Returns the folder as a person knows it: a path, or a URL without its password.
    fn location(&self) -> String;

    /// Returns what this kind of tree can do.
    fn capabilities(&self) -> Capabilities;

    /// Returns the folder on this machine, for what only a local disk and its processes can do.
    fn local(&self) -> Option<&LocalTree> {
        None
    }

    /// Returns the tree at another folder of the same machine, by its absolute path, where one can be reached: it may not be there.
    fn elsewhere(&self, folder: &str) -> Arc<dyn Tree>;

    /// Returns the same tree, which also knows the digests that are kept in a file of the cache, and adds to them what it reads. Not for
    /// what was interrupted when the machine went down. Without a file, nothing is known from earlier: each file is read.
    fn with_inventory(&self, file: Option<&Path>) -> Arc<dyn Tree>;

    /// Forgets what was seen of the tree since it was opened, since others may have changed it.
    fn forget_seen(&self) {}

    /// Fails if the connection has ended while something was read: the code that read it may have gone on as if it were not there.
    ///
    /// # Errors
    /// Where that has happened since the last call.
    fn check_reads(&self) -> Result<(), TreeError> {
        Ok(())
    }

    /// Returns the names that are not UTF-8 in the folders that were listed, as a person recognises them. Nothing is done with such files.
    fn odd_names(&self) -> Vec<String>;

    /// Begins to look at the files that are known from earlier, since they are going to be asked about.
    fn prefetch(&self) {}

    /// Returns what is at each path.
    ///
    /// # Errors
    /// Where one cannot be looked at.
    fn metadata(&self, paths: &[TreePath]) -> Result<Vec<Option<EntryKind>>, TreeError>;

    /// Returns the names and kinds of what is in each folder, by name; nothing where there is no such folder. Without `sizes` each
    /// file may have the size 0.
    ///
    /// # Errors
    /// Where one cannot be read.
    fn list(&self, folders: &[TreePath], sizes: bool) -> Result<Vec<Vec<(String, EntryKind)>>, TreeError>;

    /// Fetches small files as a whole, and the beginnings and ends of others, since both are going to be read. For trees that are far away.
    fn read_ahead(&self, _whole: &[TreePath], _ends: &[TreePath]) {}

    /// Returns the bytes of each file; nothing where there is no such file.
    ///
    /// # Errors
    /// Where one is there and cannot be read.
    fn read(&self, paths: &[TreePath]) -> Result<Vec<Option<Vec<u8>>>, TreeError>;

    /// Opens a file for reading; nothing where there is none.
    ///
    /// # Errors
    /// Where it cannot be read, a link leads out of the folder, or it is no file.
    fn open(&self, path: &TreePath) -> Result<Option<Box<dyn ReadSeek>>, TreeError>;

    /// Copies a whole file to a writer, and returns whether it is there.
    ///
    /// # Errors
    /// Where it cannot be read, or the copy cannot be written.
    fn copy_to(&self, path: &TreePath, to: &mut dyn io::Write) -> Result<bool, TreeError> {
        let Some(mut file) = self.open(path)? else { return Ok(false) };
        let failed = |source| TreeError { verb: "copying", path: path.to_string(), source };
        io::copy(&mut file, to).map(|_| true).map_err(failed)
    }

    /// Returns the digest and the size of each file; nothing where there is no such file.
    ///
    /// # Errors
    /// Where one is there and cannot be read.
    fn digest(&self, paths: &[TreePath]) -> Result<Vec<Option<(Digest, u64)>>, TreeError>;

    /// Returns the digest and the size of each file of those that [`Tree::names`] has just found.
    ///
    /// # Errors
    /// Where one is there and cannot be read.
    fn digest_found(&self, paths: &[TreePath]) -> Result<Vec<Option<(Digest, u64)>>, TreeError> {
        self.digest(paths)
    }

    /// Returns the fingerprint and the size of each file, or the digest where it is no archive that has one.
    ///
    /// # Errors
    /// Where one is there and cannot be read.
    fn fingerprint(&self, paths: &[TreePath]) -> Result<Vec<Option<(Digest, u64)>>, TreeError> {
        let fingerprint = |path: &TreePath| {
            let Some(mut file) = self.open(path)? else { return Ok(None) };
            match fingerprint_of(&mut *file) {
                Ok(Some(found)) => Ok(Some(found)),
                Ok(None) => self.digest_file(path),
                Err(source) => Err(TreeError { verb: "reading", path: path.to_string(), source }),
            }
        };
        paths.iter().map(fingerprint).collect()
    }

    /// Returns what each file is known by: its digest, or the fingerprint of a large archive on another machine.
    ///
    /// # Errors
    /// Where one is there and cannot be read.
    fn identify(&self, paths: &[TreePath]) -> Result<Vec<Option<(Digest, u64)>>, TreeError> {
        self.digest(paths)
    }

    /// Returns the digest and the size of each file, to be compared with another digest: a fingerprint, where that is one.
    ///
    /// # Errors
    /// Where one is there and cannot be read.
    fn digest_as(
        &self,
        paths: &[TreePath],
        others: &[Option<Digest>],
    ) -> Result<Vec<Option<(Digest, u64)>>, TreeError> {
        let by_fingerprint: Vec<bool> =
            others.iter().map(|other| other.is_some_and(|other| other.is_fingerprint())).collect();
        if !by_fingerprint.contains(&true) {
            return self.digest(paths);
        }
        let of_kind = |wanted: bool| {
            let pairs = paths.iter().zip(&by_fingerprint).filter(move |(_, is_one)| **is_one == wanted);
            pairs.map(|(path, _)| path.clone()).collect::<Vec<_>>()
        };
        let mut prints = self.fingerprint(&of_kind(true))?.into_iter();
        let mut digests = self.digest(&of_kind(false))?.into_iter();
        let next = |is_one: &bool| if *is_one { prints.next() } else { digests.next() };
        Ok(by_fingerprint.iter().map(next).map(Option::flatten).collect())
    }

    /// Returns when a file was changed last; nothing where there is none.
    ///
    /// # Errors
    /// Where it cannot be looked at.
    fn modified(&self, path: &TreePath) -> Result<Option<SystemTime>, TreeError>;

    /// Returns where a symbolic link leads, as it is written.
    fn link_target(&self, path: &TreePath) -> Option<PathBuf>;

    /// Returns the names in the tree from its true root, hidden folders too. They are kept in a file of the cache for the next time.
    fn names(&self, file: &Path) -> NameIndex;

    /// Returns size, date and target of each name. Links are not followed.
    fn name_metadata(&self, names: &[FoundName]) -> Vec<NameMetadata>;

    /// Makes sure that an entry can be put at each path, replaced or removed there, as far as that can be known without doing it.
    ///
    /// # Errors
    /// Where one cannot.
    fn check_writable(&self, paths: &[&TreePath]) -> Result<(), TreeError>;

    /// Returns whether what is at two paths can be moved from one to the other in one act, as far as their folders tell.
    fn is_same_disk(&self, _one: &TreePath, _other: &TreePath) -> bool {
        true
    }

    /// Makes folders and those above them.
    ///
    /// # Errors
    /// Where one cannot be made.
    fn create_folders(&self, folders: &[NewFolder<'_>]) -> Result<(), TreeError>;

    /// Announces an upload of this many bytes, so that the tree can prepare for it.
    fn expect_upload(&self, _bytes: u64) {}

    /// Writes new files under staging names, and verifies their digests. Only [`Tree::flush`] makes sure that they are on the disk.
    ///
    /// # Errors
    /// Where one cannot be read or written, or has other bytes.
    fn upload(&self, uploads: &[Upload<'_>]) -> Result<(), UploadError>;

    /// Writes a whole file: under another name first, then renamed, so that a half-written file is never visible.
    ///
    /// # Errors
    /// Where it cannot be written.
    fn replace(&self, path: &TreePath, bytes: &[u8]) -> Result<(), TreeError>;

    /// Moves files or folders over whatever is at the other path. Only [`Tree::flush`] makes sure that this is on the disk.
    ///
    /// # Errors
    /// Where one cannot be moved; the earlier ones have been.
    fn rename(&self, moves: &[(&TreePath, &TreePath)]) -> Result<(), TreeError>;

    /// Moves each first file to where the second is, which is at the third path afterwards. In between, the second is there or nothing is.
    ///
    /// # Errors
    /// Where that cannot be done for one; the earlier ones have been.
    fn exchange(&self, exchanges: &[(&TreePath, &TreePath, &TreePath)]) -> Result<(), TreeError>;

    /// Gives a file a second name, or copies it where that cannot be. A file that is there already stays.
    ///
    /// # Errors
    /// Where neither can be done.
    fn duplicate(&self, from: &TreePath, to: &TreePath) -> Result<(), TreeError>;

    /// Removes a folder if it is empty, and returns whether it is gone.
    ///
    /// # Errors
    /// Where it is empty and cannot be removed.
    fn remove_empty_folder(&self, path: &TreePath) -> Result<bool, TreeError>;

    /// Removes files of ours.
    ///
    /// # Errors
    /// Where one cannot be removed.
    fn remove_files(&self, paths: &[TreePath]) -> Result<(), TreeError>;

    /// Removes a file of ours and then its folder, if that is empty. Both may be gone already.
    ///
    /// # Errors
    /// Where one cannot be removed.
    fn remove_lock(&self, file: &TreePath, folder: &TreePath) -> Result<(), TreeError> {
        self.remove_files(slice::from_ref(file))?;
        self.remove_empty_folder(folder).map(drop)
    }

    /// Removes a folder with all that is in it. Only for what is ours, in `.yalotheca/`.
    ///
    /// # Errors
    /// Where it cannot be removed.
    fn remove_all(&self, path: &TreePath) -> Result<(), TreeError>;

    /// Removes what a command that ended suddenly has left half-written in some folders.
    ///
    /// # Errors
    /// Where a folder cannot be read, or a file cannot be removed.
    fn sweep_temporary(&self, folders: &[TreePath]) -> Result<(), TreeError>;

    /// Makes sure that things are on the disk.
    ///
    /// # Errors
    /// Where the disk fails.
    fn flush(&self, what: Flush<'_>) -> Result<(), TreeError>;

    /// Makes a folder that was not there, and returns whether it did: of several that try at once, one does.
    ///
    /// # Errors
    /// Where it cannot be made.
    fn create_exclusively(&self, folder: &TreePath) -> Result<bool, TreeError>;

    /// Returns what is at a path.
    ///
    /// # Errors
    /// Where it cannot be looked at.
    fn kind_of(&self, path: &TreePath) -> Result<Option<EntryKind>, TreeError> {
        Ok(self.metadata(slice::from_ref(path))?.pop().flatten())
    }

    /// Returns the names and kinds of what is in a folder, by name; nothing where there is no such folder.
    ///
    /// # Errors
    /// Where it cannot be read.
    fn list_folder(&self, path: &TreePath) -> Result<Vec<(String, EntryKind)>, TreeError> {
        Ok(self.list(slice::from_ref(path), true)?.pop().unwrap_or_default())
    }

    /// Returns the digest and the size of a file, to be compared with another digest.
    ///
    /// # Errors
    /// Where it is there and cannot be read.
    fn digest_file_as(&self, path: &TreePath, other: Digest) -> Result<Option<(Digest, u64)>, TreeError> {
        Ok(self.digest_as(slice::from_ref(path), &[Some(other)])?.pop().flatten())
    }

    /// Returns the bytes of a file; nothing where there is no such file.
    ///
    /// # Errors
    /// Where it is there and cannot be read.
    fn read_file(&self, path: &TreePath) -> Result<Option<Vec<u8>>, TreeError> {
        Ok(self.read(slice::from_ref(path))?.pop().flatten())
    }

    /// Returns the digest and the size of a file; nothing where there is no such file.
    ///
    /// # Errors
    /// Where it is there and cannot be read.
    fn digest_file(&self, path: &TreePath) -> Result<Option<(Digest, u64)>, TreeError> {
        Ok(self.digest(slice::from_ref(path))?.pop().flatten())
    }

    /// Makes a folder as those around it, and those above it.
    ///
    /// # Errors
    /// Where it cannot be made.
    fn create_folder(&self, path: &TreePath) -> Result<(), TreeError> {
        let access = if is_own(path) { Access::Own } else { Access::Like(path) };
        self.create_folders(&[NewFolder { path, access }])
    }

    /// Writes a small new file. Only [`Tree::flush`] makes sure that it is on the disk.
    ///
    /// # Errors
    /// Where it cannot be written.
    fn write_new(&self, path: &TreePath, bytes: &[u8], access: Access<'_>) -> Result<(), TreeError> {
        match self.upload(&[Upload::of_bytes(path, bytes, access)]) {
            Ok(()) => Ok(()),
            Err(UploadError::Tree(error)) => Err(error),
            Err(UploadError::Bytes { why, .. }) => {
                let path = path.to_string();
                Err(TreeError { verb: "writing", path, source: io::Error::other(why) })
            }
        }
    }
}

/// Returns a name that is not UTF-8 in a way that a person recognises: mostly it is Latin-1.
pub(crate) fn odd_name(folder: &TreePath, bytes: &[u8]) -> String {
    // Some protocols show only that something is odd.
    let shown = std::str::from_utf8(bytes).map(str::to_owned);
    let name: String = shown.unwrap_or_else(|_| bytes.iter().map(|byte| char::from(*byte)).collect());
    if folder.is_root() { name } else { format!("{folder}/{name}") }
}

/// Returns whether a path is in our own folder.
pub(crate) fn is_own(path: &TreePath) -> bool {
    path.as_str().split('/').next() == Some(rooted::OWN)
}
