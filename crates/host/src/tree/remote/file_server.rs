//! What a file server can be asked, in the few words that file-transfer protocols have in common.
//!
//! Calls take many things at once and answer for each, so that a protocol can have many requests in flight. Paths are absolute and
//! belong to the file server; nothing here follows symbolic links.

use std::{fmt, io, io::Read, ops::Range, time::Duration};

/// What a path is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RemoteKind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
    /// Something else.
    Other,
}

/// What a file server tells of a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RemoteMetadata {
    /// What it is.
    pub kind: RemoteKind,
    /// Its size in bytes.
    pub size: u64,
    /// When it was changed last, in seconds since 1970, if the server tells.
    pub modified: Option<u64>,
    /// The nine bits of its mode, if the server tells.
    pub mode: Option<u32>,
    /// Where a link leads, if the server tells that with its name.
    pub target: Option<String>,
}

/// A name in a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RemoteEntry {
    /// The name. One that is not UTF-8 is left out by the caller, since it cannot be written again as it is.
    pub name: Result<String, Vec<u8>>,
    /// What it is.
    pub metadata: RemoteMetadata,
}

/// A file that is to be written.
pub struct RemoteFile<'a> {
    /// Its path. What is there is replaced.
    pub path: String,
    /// How many bytes there are.
    pub size: u64,
    /// The mode that it gets, where there are modes.
    pub mode: Option<u32>,
    /// The time that it gets, where times can be set.
    pub modified: Option<u64>,
    /// Opens its bytes.
    pub open: Box<dyn Fn() -> io::Result<Box<dyn Read + Send + 'a>> + Send + Sync + 'a>,
}

impl fmt::Debug for RemoteFile<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("RemoteFile")
            .field("path", &self.path)
            .field("size", &self.size)
            .finish_non_exhaustive()
    }
}

/// What a file server can do. It is found out when it is met first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Features {
    /// A rename replaces a file in one act.
    pub replaces: bool,
    /// A file can have two names.
    pub hard_links: bool,
    /// What is asked later is done later, and what is acknowledged has arrived whole.
    pub ordered: bool,
    /// So many seconds after the date of a file, a change of it must have another date: whatever the server's clock counts in, and
    /// however far it may be from this machine's.
    pub tick: u64,
}

/// A file server.
///
/// An error of the kind [`io::ErrorKind::NotFound`] says that a path is not there, [`io::ErrorKind::AlreadyExists`] that it is; what
/// [`is_torn`] says means that the connection has ended, and that what was asked may have been done.
pub trait FileServer: fmt::Debug + Send + Sync {
    /// Returns what it can do.
    fn features(&self) -> Features;
    /// Opens the connection again. What was under way is over.
    ///
    /// # Errors
    /// Where that cannot be done.
    fn reconnect(&self) -> io::Result<()>;
    /// Returns how long to wait before the connection is opened once more; each next time twice as long.
    fn pause(&self) -> Duration {
        Duration::from_millis(200)
    }
    /// Announces a write of this many bytes, so that the connection can prepare for it.
    fn expect_write(&self, _bytes: u64) {}
    /// Lists folders.
    fn list(&self, folders: &[String]) -> Vec<io::Result<Vec<RemoteEntry>>>;
    /// Looks at paths.
    fn metadata(&self, paths: &[String]) -> Vec<io::Result<RemoteMetadata>>;
    /// Returns where links lead.
    fn read_link(&self, path: &str) -> io::Result<String>;
    /// Reads parts of files; less only where a file ends.
    fn read(&self, parts: &[(String, Range<u64>)]) -> Vec<io::Result<Vec<u8>>>;
    /// Writes files, and returns what the server says of each once it is written, where that costs nothing.
    fn write(&self, files: &[RemoteFile<'_>]) -> Vec<io::Result<Option<RemoteMetadata>>>;
    /// Moves files and folders. A file that is there is replaced if the server replaces.
    fn rename(&self, moves: &[(String, String)]) -> Vec<io::Result<()>>;
    /// Gives files second names.
    fn link(&self, links: &[(String, String)]) -> Vec<io::Result<()>>;
    /// Makes folders; outer ones come first, and only an ordered server gets both at once.
    fn create_folders(&self, folders: &[(String, Option<u32>)]) -> Vec<io::Result<()>>;
    /// Removes files.
    fn remove_files(&self, paths: &[String]) -> Vec<io::Result<()>>;
    /// Removes folders, none of which lies in another. One that is not empty stays, with the error
    /// [`io::ErrorKind::DirectoryNotEmpty`].
    fn remove_folders(&self, paths: &[String]) -> Vec<io::Result<()>>;
    /// Removes a file, and then its folder if that is empty; returns whether the file could be removed.
    fn remove_with_folder(&self, file: &str, folder: &str) -> io::Result<()> {
        let removed = self.remove_files(&[file.to_owned()]).pop().unwrap_or(Ok(()));
        self.remove_folders(&[folder.to_owned()]);
        removed
    }
}

/// Returns whether an error says that the connection has ended.
pub fn is_torn(error: &io::Error) -> bool {
    matches!(
        error.kind(),
        io::ErrorKind::BrokenPipe
            | io::ErrorKind::ConnectionAborted
            | io::ErrorKind::ConnectionReset
            | io::ErrorKind::NotConnected
            | io::ErrorKind::TimedOut
            | io::ErrorKind::UnexpectedEof
    )
}
