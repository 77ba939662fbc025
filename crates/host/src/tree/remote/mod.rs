//! A server's folder behind a file server: everything that a tree can do, made of the few words that file-transfer protocols have.
//!
//! Folders are listed once and remembered until the lock is taken or a change begins, and every call asks for all that it needs at once.
//! A file whose size and date are as they were when it was read or written is not read again.

mod address;
mod certificate;
pub mod file_server;
mod foresight;
pub mod ftp;
mod looking;
mod moving;
mod names;
mod reading;
mod removing;
mod seen;
pub mod sftp;
mod writing;

use std::{
    fmt, io,
    path::{Path, PathBuf},
    sync::{
        Arc, Mutex, MutexGuard, OnceLock, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    thread::{self, JoinHandle},
    time::{Duration, SystemTime, UNIX_EPOCH},
};

use yalotheca_core::id::{Digest, TreePath};

use super::{
    Access, Capabilities, EntryKind, Flush, FoundName, NameIndex, NameMetadata, NewFolder, ReadSeek, Tree,
    TreeError, Upload, UploadError, digest::Stamp, known::Known,
};
use crate::watch::{Nobody, Watch};
pub use address::{ParseAddressError, Protocol, RemoteAddress};
pub use certificate::{KnownCertificates, KnownCertificatesError, Pins};
use file_server::{FileServer, RemoteEntry, RemoteKind, RemoteMetadata, is_torn};
pub use foresight::Foresight;
use seen::{Found, Seen};

/// So often a torn connection is opened again for one call.
const TRIES: u32 = 5;

/// The prefix of temporary files beside a server's own.
const TEMPORARY: &str = ".yalotheca-new-";

/// A folder behind a file server.
pub struct RemoteTree {
    server: Arc<dyn FileServer>,
    /// Where it is, as a URL without a password.
    location: String,
    /// The folder's path on the file server, without a slash at its end.
    root: String,
    seen: Arc<Mutex<Seen>>,
    known: Arc<Known>,
    /// Where records that were read are kept on this machine.
    records: Option<PathBuf>,
    root_mode: OnceLock<Option<u32>>,
    watch: Arc<dyn Watch>,
    /// Folders that another thread lists meanwhile.
    ahead: Mutex<Option<ListingAhead>>,
}

/// Folders that are being listed, and what was found in each.
type ListingAhead = JoinHandle<Vec<(TreePath, io::Result<Vec<RemoteEntry>>)>>;

impl fmt::Debug for RemoteTree {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("RemoteTree").field(&self.location).finish()
    }
}

impl RemoteTree {
    /// Returns the tree at a folder of a file server.
    pub fn new(server: Arc<dyn FileServer>, root: &str, location: String) -> Self {
        Self {
            server,
            location,
            root: root.trim_end_matches('/').to_owned(),
            seen: Arc::default(),
            known: Arc::default(),
            records: None,
            root_mode: OnceLock::new(),
            watch: Arc::new(Nobody),
            ahead: Mutex::default(),
        }
    }

    /// Returns the same tree, whose transfers somebody looks on at.
    #[must_use]
    pub fn watched(self, watch: Arc<dyn Watch>) -> Self {
        Self { watch, ..self }
    }

    fn seen(&self) -> MutexGuard<'_, Seen> {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Records that a read failed because the connection was lost. The caller may have continued as if the file did not exist.
    fn heard<T>(&self, read: Result<T, TreeError>, path: Option<&TreePath>) -> Result<T, TreeError> {
        if let (Err(error), Some(path)) = (&read, path)
            && is_torn(&error.source)
        {
            let told = io::Error::new(error.source.kind(), error.source.to_string());
            self.seen().failure.get_or_insert((path.clone(), told));
        }
        read
    }

    /// After a failure the tree's state is unknown, so it is listed again.
    fn sure<T, E>(&self, done: Result<T, E>) -> Result<T, E> {
        if done.is_err() {
            self.seen().forget();
        }
        done
    }

    /// Returns a path as the file server knows it.
    fn at(&self, path: &str) -> String {
        match (path.is_empty(), self.root.is_empty()) {
            (true, true) => "/".to_owned(),
            (true, false) => self.root.clone(),
            (false, _) => format!("{}/{path}", self.root),
        }
    }

    fn error(&self, verb: &'static str, path: &TreePath) -> impl Fn(io::Error) -> TreeError + use<> {
        let path = if path.is_root() { self.location.clone() } else { format!("{}/{path}", self.location) };
        move |source| TreeError { verb, path: path.clone(), source }
    }

    fn retried<T>(&self, count: usize, act: impl Fn(&[usize]) -> Vec<io::Result<T>>) -> Vec<io::Result<T>> {
        retried(&*self.server, count, act)
    }

    /// The mode of the server's folder.
    fn root_mode(&self) -> Option<u32> {
        let listed = self.seen().root_mode;
        *self.root_mode.get_or_init(|| {
            if listed.is_some() {
                return listed;
            }
            let looked = self.retried(1, |_| self.server.metadata(&[self.at("")]));
            looked.into_iter().next()?.ok()?.mode
        })
    }

    /// The mode that a new file gets.
    fn file_mode(&self, access: Access<'_>) -> Result<Option<u32>, TreeError> {
        let own = |root: u32| 0o600 | if root & 0o050 == 0o050 { 0o040 } else { 0 };
        Ok(match access {
            Access::Own => self.root_mode().map(own),
            Access::Secret => Some(0o600),
            Access::Like(path) => match self.look(std::slice::from_ref(path))?.pop() {
                Some(Found::There { metadata, .. }) if metadata.kind == RemoteKind::File => metadata.mode,
                _ => self.mode_below(&path.parent().unwrap_or_else(TreePath::root))?,
            },
            Access::Below(folder) => self.mode_below(folder)?,
        })
    }

    fn mode_below(&self, folder: &TreePath) -> Result<Option<u32>, TreeError> {
        Ok(self.folder_mode(folder)?.map(|mode| mode & 0o664 | 0o600))
    }

    /// The mode of a folder, or of the nearest one above it that is there.
    fn folder_mode(&self, folder: &TreePath) -> Result<Option<u32>, TreeError> {
        let mut next = Some(folder.clone());
        while let Some(folder) = next {
            if folder.is_root() {
                break;
            }
            if let Some(Found::There { metadata, .. }) = self.look(std::slice::from_ref(&folder))?.pop() {
                return Ok(metadata.mode);
            }
            next = folder.parent();
        }
        Ok(self.root_mode())
    }

    /// The mode that a new folder gets.
    fn new_folder_mode(&self, access: Access<'_>) -> Result<Option<u32>, TreeError> {
        Ok(match access {
            Access::Own => self.root_mode().map(|root| 0o700 | if root & 0o050 == 0o050 { 0o050 } else { 0 }),
            Access::Secret => Some(0o700),
            Access::Like(folder) | Access::Below(folder) => {
                self.folder_mode(folder)?.map(|mode| mode | 0o700)
            }
        })
    }
}

/// Does something with each of so many things, and again with those at which the connection was torn.
fn retried<T>(
    server: &dyn FileServer,
    count: usize,
    act: impl Fn(&[usize]) -> Vec<io::Result<T>>,
) -> Vec<io::Result<T>> {
    let all: Vec<usize> = (0..count).collect();
    let mut results = if all.is_empty() { Vec::new() } else { act(&all) };
    for attempt in 0..TRIES {
        let torn: Vec<usize> = results
            .iter()
            .enumerate()
            .filter(|(_, result)| result.as_ref().err().is_some_and(is_torn))
            .map(|(index, _)| index)
            .collect();
        if torn.is_empty() {
            break;
        }
        thread::sleep(if attempt == 0 { Duration::ZERO } else { server.pause() * 2_u32.pow(attempt - 1) });
        if server.reconnect().is_ok() {
            for (index, result) in torn.iter().zip(act(&torn)) {
                results[*index] = result;
            }
        }
    }
    results
}

/// What tells that a remote file is still the same.
fn stamp_of(metadata: &RemoteMetadata) -> Option<Stamp> {
    Some(Stamp::remote(metadata.size, metadata.modified?))
}

fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs()
}

/// A name for a temporary file that no other has.
fn temporary() -> String {
    static MADE: AtomicU64 = AtomicU64::new(0);
    let number = MADE.fetch_add(1, Ordering::Relaxed);
    format!("{TEMPORARY}{}-{}-{number}", std::process::id(), now())
}

impl Tree for RemoteTree {
    fn location(&self) -> String {
        self.location.clone()
    }

    fn expect_upload(&self, bytes: u64) {
        self.server.expect_write(bytes);
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities { hard_links: self.server.features().hard_links }
    }

    fn elsewhere(&self, folder: &str) -> Arc<dyn Tree> {
        // Without the host's own part: a path of this kind is the same machine's.
        Arc::new(Self::new(Arc::clone(&self.server), folder, folder.to_owned()))
    }

    fn with_inventory(&self, file: Option<&Path>) -> Arc<dyn Tree> {
        let known = file.map_or_else(Known::default, |file| Known::in_file(file.to_owned()));
        Arc::new(Self {
            server: Arc::clone(&self.server),
            location: self.location.clone(),
            root: self.root.clone(),
            seen: Arc::clone(&self.seen),
            known: Arc::new(known),
            records: file.map(|file| file.with_extension("records")),
            root_mode: self.root_mode.clone(),
            watch: Arc::clone(&self.watch),
            ahead: Mutex::default(),
        })
    }

    fn check_reads(&self) -> Result<(), TreeError> {
        match self.seen().failure.take() {
            Some((path, error)) => Err(self.error("reading", &path)(error)),
            None => Ok(()),
        }
    }

    fn forget_seen(&self) {
        // What is still being listed is not waited for, and not believed.
        drop(self.take_ahead());
        self.seen().forget();
    }

    fn prefetch(&self) {
        self.list_ahead();
    }

    fn metadata(&self, paths: &[TreePath]) -> Result<Vec<Option<EntryKind>>, TreeError> {
        let looked = self.heard(self.look(paths), paths.first())?;
        Ok(looked.into_iter().map(kind_of).collect())
    }

    fn list(&self, folders: &[TreePath], _sizes: bool) -> Result<Vec<Vec<(String, EntryKind)>>, TreeError> {
        self.heard(self.list_folders(folders), folders.first())
    }

    fn read_ahead(&self, whole: &[TreePath], ends: &[TreePath]) {
        // Errors are reported when the files are read.
        self.read_small(whole).ok();
        self.read_ends(ends).ok();
    }

    fn read(&self, paths: &[TreePath]) -> Result<Vec<Option<Vec<u8>>>, TreeError> {
        self.heard(self.read_files(paths), paths.first())
    }

    fn open(&self, path: &TreePath) -> Result<Option<Box<dyn ReadSeek>>, TreeError> {
        self.heard(self.open_file(path), Some(path))
    }

    fn digest(&self, paths: &[TreePath]) -> Result<Vec<Option<(Digest, u64)>>, TreeError> {
        self.heard(self.digest_files(paths), paths.first())
    }

    fn odd_names(&self) -> Vec<String> {
        let seen = self.seen();
        let mut names: Vec<String> = seen.odd_names.iter().cloned().collect();
        if seen.ignores_case == Some(true) {
            // A folder was listed by more than one name.
            names.sort_by_key(|name| name.to_ascii_lowercase());
            names.dedup_by(|one, other| one.eq_ignore_ascii_case(other));
        }
        names
    }

    fn copy_to(&self, path: &TreePath, to: &mut dyn io::Write) -> Result<bool, TreeError> {
        let Some(Some(file)) = self.files(std::slice::from_ref(path))?.pop() else { return Ok(false) };
        let mut written = Ok(());
        self.download(&[&file], |_, part| {
            if written.is_ok() {
                written = to.write_all(part);
            }
        })?;
        written.map(|()| true).map_err(self.error("copying", path))
    }

    fn fingerprint(&self, paths: &[TreePath]) -> Result<Vec<Option<(Digest, u64)>>, TreeError> {
        self.fingerprints(paths)
    }

    fn identify(&self, paths: &[TreePath]) -> Result<Vec<Option<(Digest, u64)>>, TreeError> {
        self.identities(paths)
    }

    fn modified(&self, path: &TreePath) -> Result<Option<SystemTime>, TreeError> {
        let found = self.look(std::slice::from_ref(path))?.pop();
        let Some(Found::There { metadata, .. }) = found else { return Ok(None) };
        Ok(metadata.modified.map(|seconds| UNIX_EPOCH + Duration::from_secs(seconds)))
    }

    fn link_target(&self, path: &TreePath) -> Option<PathBuf> {
        match self.look_at_links(std::slice::from_ref(path)).ok()?.pop()? {
            Found::There { metadata, real, .. } if metadata.kind == RemoteKind::Link => {
                let target = metadata.target.map(Ok);
                let target = target.unwrap_or_else(|| self.server.read_link(&self.at(real.as_str())));
                target.ok().map(PathBuf::from)
            }
            _ => None,
        }
    }

    fn names(&self, file: &Path) -> NameIndex {
        self.index_names(file)
    }

    fn name_metadata(&self, names: &[FoundName]) -> Vec<NameMetadata> {
        self.metadata_of_names(names)
    }

    fn check_writable(&self, paths: &[&TreePath]) -> Result<(), TreeError> {
        // Whether it can be written, a file server tells only when it is. But no link may lead out.
        let paths: Vec<TreePath> = paths.iter().map(|path| (*path).clone()).collect();
        for (path, found) in paths.iter().zip(self.look(&paths)?) {
            if let Found::Refused(refusal) = found {
                return Err(self.error("writing", path)(io::Error::other(refusal)));
            }
        }
        Ok(())
    }

    fn create_folders(&self, folders: &[NewFolder<'_>]) -> Result<(), TreeError> {
        self.sure(self.make_folders(folders))
    }

    fn upload(&self, uploads: &[Upload<'_>]) -> Result<(), UploadError> {
        self.sure(self.upload_files(uploads))
    }

    fn replace(&self, path: &TreePath, bytes: &[u8]) -> Result<(), TreeError> {
        self.sure(self.replace_file(path, bytes))
    }

    fn rename(&self, moves: &[(&TreePath, &TreePath)]) -> Result<(), TreeError> {
        self.sure(self.move_all(moves))
    }

    fn exchange(&self, exchanges: &[(&TreePath, &TreePath, &TreePath)]) -> Result<(), TreeError> {
        self.sure(self.exchange_all(exchanges))
    }

    fn duplicate(&self, from: &TreePath, to: &TreePath) -> Result<(), TreeError> {
        self.sure(self.copy_file(from, to))
    }

    fn remove_empty_folder(&self, path: &TreePath) -> Result<bool, TreeError> {
        self.sure(self.remove_if_empty(path))
    }

    fn remove_files(&self, paths: &[TreePath]) -> Result<(), TreeError> {
        self.sure(self.remove_each(paths))
    }

    fn remove_lock(&self, file: &TreePath, folder: &TreePath) -> Result<(), TreeError> {
        self.remove_lock_by_name(file, folder)
    }

    fn remove_all(&self, path: &TreePath) -> Result<(), TreeError> {
        self.sure(self.remove_whole(path))
    }

    fn sweep_temporary(&self, folders: &[TreePath]) -> Result<(), TreeError> {
        self.sure(self.sweep_folders(folders))
    }

    fn flush(&self, _what: Flush<'_>) -> Result<(), TreeError> {
        // What a file server has acknowledged is its own to keep.
        Ok(())
    }

    fn create_exclusively(&self, folder: &TreePath) -> Result<bool, TreeError> {
        self.sure(self.make_once(folder))
    }
}

fn kind_of(found: Found) -> Option<EntryKind> {
    match found {
        Found::Absent { .. } => None,
        Found::Refused(_) => Some(EntryKind::Other),
        Found::There { metadata, .. } => Some(match metadata.kind {
            RemoteKind::File => EntryKind::File(metadata.size),
            RemoteKind::Folder => EntryKind::Folder,
            RemoteKind::Link | RemoteKind::Other => EntryKind::Other,
        }),
    }
}
