//! A server's folder on this machine.

use std::{
    collections::BTreeSet,
    fs::File,
    io::{self, Read, Write},
    os::unix::{ffi::OsStringExt, fs::MetadataExt, process::CommandExt},
    path::{Path, PathBuf},
    process::{Command, Stdio},
    sync::{Arc, Mutex, PoisonError, atomic::AtomicBool},
    thread::{self, JoinHandle},
    time::{Duration, SystemTime},
};

use rustix::{
    fs::{AtFlags, Dir, FileType, Mode, OFlags, Stat, linkat, mkdirat, renameat, unlinkat},
    io::Errno,
};
use yalotheca_core::id::{Digest, TreePath};

use crate::threads::{cores, spread};

use super::{
    Capabilities, EntryKind, Flush, FoundName, NameIndex, NameMetadata, NewFolder, ReadSeek, Tree, TreeError,
    Upload, UploadError,
    attributes::Attributes,
    digest::{Clock, Stamp, digest_of_file},
    known::{Cursor, Known},
    rooted::{Root, Spot, is_absent},
};

/// So many folders a thread makes before it takes more.
const FEW_FOLDERS: usize = 64;
/// So many files are flushed at a time.
const FEW_FLUSHES: usize = 8;

/// A folder on this machine.
#[derive(Debug, Clone)]
pub struct LocalTree {
    pub(super) root: Root,
    /// Whether the disk has refused to clone a file: then it is not asked again. Each time a new file would have to be made
    /// and removed, and some disks are slow to give its place to the next.
    pub(super) clones_nothing: Arc<AtomicBool>,
    /// What was read, so that it is not read again as long as it is the same.
    pub(super) known: Arc<Known>,
    /// Names that are not UTF-8 in folders that were listed.
    pub(super) odd_names: Arc<Mutex<BTreeSet<String>>>,
    /// Which of the files that are known from earlier are unchanged: found out by another thread, and good for one use.
    pub(super) ahead: Arc<Mutex<Option<JoinHandle<Vec<bool>>>>>,
    #[cfg(debug_assertions)]
    faults: Option<Arc<Faults>>,
}

/// Faults for tests: the n-th call that changes something fails, and all after it where the program is to seem dead.
#[cfg(debug_assertions)]
#[derive(Debug)]
struct Faults {
    fails_at: u64,
    dies_at: u64,
    made: std::sync::atomic::AtomicU64,
}

impl LocalTree {
    /// Returns the tree at a folder.
    pub fn new(root: &Path) -> Self {
        Self {
            root: Root::new(root),
            clones_nothing: Arc::default(),
            known: Arc::default(),
            odd_names: Arc::default(),
            ahead: Arc::default(),
            #[cfg(debug_assertions)]
            faults: None,
        }
    }

    /// Returns the same tree, of which one call that changes something fails, and another one and all after it, as if the program
    /// had been killed there; calls are counted from 1. For tests; release builds have none of it.
    #[cfg(debug_assertions)]
    #[must_use]
    pub fn failing_at(self, fails_at: u64, dies_at: u64) -> Self {
        Self {
            faults: Some(Arc::new(Faults { fails_at, dies_at, made: std::sync::atomic::AtomicU64::new(0) })),
            ..self
        }
    }

    /// Returns how many calls that change something there were.
    #[cfg(debug_assertions)]
    pub fn calls(&self) -> u64 {
        self.faults.as_ref().map_or(0, |faults| faults.made.load(std::sync::atomic::Ordering::SeqCst))
    }

    #[cfg(debug_assertions)]
    pub(super) fn fault(&self) -> io::Result<()> {
        let Some(faults) = &self.faults else { return Ok(()) };
        let made = faults.made.fetch_add(1, std::sync::atomic::Ordering::SeqCst) + 1;
        if made == faults.fails_at || made >= faults.dies_at { Err(Errno::NOSPC.into()) } else { Ok(()) }
    }

    #[cfg(not(debug_assertions))]
    #[expect(clippy::unused_self, clippy::unnecessary_wraps, reason = "as in builds for tests")]
    pub(super) const fn fault(&self) -> io::Result<()> {
        Ok(())
    }

    /// Returns the tree at another folder of this machine, with the faults of this one.
    #[must_use]
    pub fn beside(&self, root: &Path) -> Self {
        Self {
            #[cfg(debug_assertions)]
            faults: self.faults.clone(),
            ..Self::new(root)
        }
    }

    /// Returns the folder.
    pub fn root(&self) -> &Path {
        self.root.path()
    }

    /// Returns where a path lies on this machine, for messages and for programs that are started there. Nothing is opened by
    /// that: a link on the way may lead out of the folder.
    pub fn at(&self, path: &TreePath) -> PathBuf {
        if path.is_root() { self.root().to_owned() } else { self.root().join(path.as_str()) }
    }

    /// Opens a file for reading; nothing where there is none.
    ///
    /// # Errors
    /// Where it cannot be read, a link leads out of the folder, or it is no file.
    pub fn open_file(&self, path: &TreePath) -> Result<Option<File>, TreeError> {
        self.root.read(path.as_str()).map_err(self.error("reading", path))
    }

    /// Returns the disk and the number of a folder, by which it is known whichever link led to it.
    pub fn folder_number(&self, path: &TreePath) -> Option<(u64, u64)> {
        self.root.stat(path.as_str()).ok().flatten().map(|stat| (stat.st_dev, stat.st_ino))
    }

    pub(super) fn error(
        &self,
        verb: &'static str,
        path: &TreePath,
    ) -> impl FnOnce(io::Error) -> TreeError + use<> {
        let path = self.at(path).display().to_string();
        move |source| TreeError { verb, path, source }
    }
}

pub(super) fn sort_of(stat: &Stat) -> EntryKind {
    match FileType::from_raw_mode(stat.st_mode) {
        FileType::RegularFile => EntryKind::File(u64::try_from(stat.st_size).unwrap_or(0)),
        FileType::Directory => EntryKind::Folder,
        _ => EntryKind::Other,
    }
}

/// Moves a file to another disk: it is whole and on that disk before its source goes.
fn copy_over(tree: &LocalTree, source: &Spot, target: &Spot) -> io::Result<()> {
    let mut from = source.open(OFlags::RDONLY | OFlags::NONBLOCK, 0)?;
    let metadata = from.metadata()?;
    if !metadata.is_file() {
        return Err(Errno::XDEV.into());
    }
    LocalTree::replace_at(target, |file| {
        io::copy(&mut from, file)?;
        file.set_modified(metadata.modified()?)?;
        Attributes { mode: metadata.mode() & 0o777, owner: metadata.uid(), group: metadata.gid() }.give(file)
    })?;
    tree.fault()?;
    unlinkat(&source.folder, &source.name, AtFlags::empty())?;
    source.sync_folder()
}

/// Removes an entry and, where it is a folder, all that lies in it. A link goes itself.
fn remove_whole(spot: &Spot) -> io::Result<()> {
    let is_folder = spot.stat()?.is_some_and(|stat| sort_of(&stat) == EntryKind::Folder);
    if !is_folder {
        return Ok(unlinkat(&spot.folder, &spot.name, AtFlags::empty())?);
    }
    let folder = spot.open(OFlags::RDONLY | OFlags::DIRECTORY, 0)?;
    for entry in Dir::read_from(&folder)? {
        let name = entry?.file_name().to_owned();
        if name.to_bytes() != b"." && name.to_bytes() != b".." {
            let name = std::os::unix::ffi::OsStringExt::from_vec(name.into_bytes());
            remove_whole(&Spot { folder: folder.try_clone()?.into(), name })?;
        }
    }
    Ok(unlinkat(&spot.folder, &spot.name, AtFlags::REMOVEDIR)?)
}

impl LocalTree {
    pub(super) fn digest_one(&self, path: &TreePath) -> Result<Option<(Digest, u64)>, TreeError> {
        let Some(mut file) = self.open_file(path)? else { return Ok(None) };
        let mut digest = || {
            let stamp = Stamp::of(&rustix::fs::fstat(&file)?);
            if let Some(digest) = self.known.find(&mut Cursor::default(), path, &stamp) {
                return Ok((digest, u64::try_from(stamp.size).unwrap_or(0)));
            }
            let clock = Clock::of(&file);
            let begun = SystemTime::now();
            let (digest, size) = digest_of_file(&mut file)?;
            if stamp.is_older_than(begun, clock) && Stamp::of(&rustix::fs::fstat(&file)?) == stamp {
                self.known.insert(path, stamp, digest);
            }
            Ok((digest, size))
        };
        digest().map(Some).map_err(self.error("reading", path))
    }

    /// Returns a file's bytes; nothing where there is no such file.
    fn read_one(&self, path: &TreePath) -> Result<Option<Vec<u8>>, TreeError> {
        let Some(mut file) = self.open_file(path)? else { return Ok(None) };
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes).map_err(self.error("reading", path))?;
        Ok(Some(bytes))
    }

    fn kind_at(&self, path: &TreePath) -> Result<Option<EntryKind>, TreeError> {
        match self.root.stat(path.as_str()) {
            Ok(stat) => Ok(stat.as_ref().map(sort_of)),
            Err(error) if super::Refusal::of(&error).is_some() => Ok(Some(EntryKind::Other)),
            Err(error) => Err(self.error("looking at", path)(error)),
        }
    }

    fn move_one(&self, from: &TreePath, to: &TreePath) -> Result<(), TreeError> {
        let rename = || {
            self.fault()?;
            let (source, target) = (self.root.spot(from.as_str())?, self.root.target(to.as_str())?);
            match renameat(&source.folder, &source.name, &target.folder, &target.name) {
                // A folder of the server may lie on another disk.
                Err(Errno::XDEV) => copy_over(self, &source, &target),
                moved => Ok(moved?),
            }
        };
        rename().map_err(self.error("moving a file to", to))
    }

    fn flush_one(&self, path: &TreePath) -> Result<(), TreeError> {
        let sync = || {
            let one = self.root.open(path.as_str(), OFlags::RDONLY | OFlags::NONBLOCK)?;
            Ok(rustix::fs::fsync(one)?)
        };
        match sync() {
            Err(error) if !is_absent(&error) => Err(self.error("writing to the disk of", path)(error)),
            _ => Ok(()),
        }
    }

    fn flush_all(&self) -> Result<(), TreeError> {
        let sync = || {
            self.fault()?;
            let folder = self.root.open("", OFlags::RDONLY | OFlags::DIRECTORY)?;
            Ok(rustix::fs::syncfs(folder)?)
        };
        sync().map_err(self.error("writing to the disk of", &TreePath::root()))
    }

    fn flush_in_background(&self) {
        // A thread that waits for the disk would hold up the end of the program.
        let mut sync = Command::new("sync");
        sync.arg("-f").arg(self.root()).process_group(0);
        sync.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        // Where there is no such program, the system writes all the same, only later.
        if let Ok(mut child) = sync.spawn() {
            thread::spawn(move || child.wait());
        }
    }
}

impl Tree for LocalTree {
    fn location(&self) -> String {
        self.root().display().to_string()
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities { hard_links: true }
    }

    fn local(&self) -> Option<&Self> {
        Some(self)
    }

    fn elsewhere(&self, folder: &str) -> Arc<dyn Tree> {
        Arc::new(Self::new(Path::new(folder)))
    }

    fn with_inventory(&self, file: Option<&Path>) -> Arc<dyn Tree> {
        let known = file.map_or_else(Known::default, |file| Known::in_file(file.to_owned()));
        Arc::new(Self { known: Arc::new(known), ..self.clone() })
    }

    fn prefetch(&self) {
        self.look_ahead();
    }

    fn metadata(&self, paths: &[TreePath]) -> Result<Vec<Option<EntryKind>>, TreeError> {
        paths.iter().map(|path| self.kind_at(path)).collect()
    }

    fn list(&self, folders: &[TreePath], sizes: bool) -> Result<Vec<Vec<(String, EntryKind)>>, TreeError> {
        folders.iter().map(|folder| self.entries(folder, sizes)).collect()
    }

    fn read(&self, paths: &[TreePath]) -> Result<Vec<Option<Vec<u8>>>, TreeError> {
        paths.iter().map(|path| self.read_one(path)).collect()
    }

    fn open(&self, path: &TreePath) -> Result<Option<Box<dyn ReadSeek>>, TreeError> {
        Ok(self.open_file(path)?.map(|file| Box::new(file) as Box<dyn ReadSeek>))
    }

    fn odd_names(&self) -> Vec<String> {
        self.odd_names.lock().unwrap_or_else(PoisonError::into_inner).iter().cloned().collect()
    }

    fn digest(&self, paths: &[TreePath]) -> Result<Vec<Option<(Digest, u64)>>, TreeError> {
        match paths {
            [path] => Ok(vec![self.digest_one(path)?]),
            paths => self.digests_by_threads(paths, false),
        }
    }

    fn digest_found(&self, paths: &[TreePath]) -> Result<Vec<Option<(Digest, u64)>>, TreeError> {
        self.digests_by_threads(paths, true)
    }

    fn modified(&self, path: &TreePath) -> Result<Option<SystemTime>, TreeError> {
        let stat = self.root.stat(path.as_str()).map_err(self.error("looking at", path))?;
        Ok(stat.map(|stat| {
            SystemTime::UNIX_EPOCH + Duration::from_secs(u64::try_from(stat.st_mtime).unwrap_or(0))
        }))
    }

    fn link_target(&self, path: &TreePath) -> Option<PathBuf> {
        let spot = self.root.spot(path.as_str()).ok()?;
        let target = rustix::fs::readlinkat(&spot.folder, &spot.name, Vec::new()).ok()?;
        Some(PathBuf::from(std::ffi::OsString::from_vec(target.into_bytes())))
    }

    fn names(&self, file: &Path) -> NameIndex {
        NameIndex::of(self, file)
    }

    fn name_metadata(&self, names: &[FoundName]) -> Vec<NameMetadata> {
        self.metadata_of(names)
    }

    fn check_writable(&self, paths: &[&TreePath]) -> Result<(), TreeError> {
        paths.iter().try_for_each(|path| self.check_one_writable(path))
    }

    fn is_same_disk(&self, one: &TreePath, other: &TreePath) -> bool {
        let disk = |path: &TreePath| {
            let folder = path.parent().unwrap_or_else(TreePath::root);
            self.root.stat(folder.as_str()).ok().flatten().map(|stat| stat.st_dev)
        };
        disk(one) == disk(other)
    }

    fn create_folders(&self, folders: &[NewFolder<'_>]) -> Result<(), TreeError> {
        let make = |NewFolder { path, access }: &NewFolder<'_>| {
            let attributes = self.attributes_by(*access)?;
            self.fault()
                .and_then(|()| self.make(path, &attributes))
                .map_err(self.error("making the folder", path))
        };
        match folders {
            [folder] => make(folder),
            folders => spread(folders, (cores(), FEW_FOLDERS), make).into_iter().collect(),
        }
    }

    fn upload(&self, uploads: &[Upload<'_>]) -> Result<(), UploadError> {
        self.upload_by_threads(uploads)
    }

    fn replace(&self, path: &TreePath, bytes: &[u8]) -> Result<(), TreeError> {
        let attributes = self.attributes_for(path)?;
        let write = || {
            self.fault()?;
            let spot = self.root.target(path.as_str())?;
            Self::replace_at(&spot, |file| {
                file.write_all(bytes)?;
                attributes.give(file)
            })
        };
        write().map_err(self.error("writing", path))
    }

    fn rename(&self, moves: &[(&TreePath, &TreePath)]) -> Result<(), TreeError> {
        moves.iter().try_for_each(|(from, to)| self.move_one(from, to))
    }

    fn exchange(&self, exchanges: &[(&TreePath, &TreePath, &TreePath)]) -> Result<(), TreeError> {
        exchanges.iter().try_for_each(|(from, to, attic)| {
            self.duplicate(to, attic)?;
            self.move_one(from, to)
        })
    }

    fn duplicate(&self, from: &TreePath, to: &TreePath) -> Result<(), TreeError> {
        let keep = || {
            self.fault()?;
            let (source, target) = (self.root.target(from.as_str())?, self.root.spot(to.as_str())?);
            match linkat(&source.folder, &source.name, &target.folder, &target.name, AtFlags::empty()) {
                Ok(()) | Err(Errno::EXIST) => Ok(()),
                Err(_) => {
                    let mut file = source.open(OFlags::RDONLY | OFlags::NONBLOCK, 0)?;
                    let metadata = file.metadata()?;
                    Self::replace_at(&target, |copy| {
                        io::copy(&mut file, copy)?;
                        copy.set_modified(metadata.modified()?)?;
                        let (owner, group) = (metadata.uid(), metadata.gid());
                        Attributes { mode: metadata.mode() & 0o777, owner, group }.give(copy)
                    })
                }
            }
        };
        keep().map_err(self.error("keeping a copy at", to))
    }

    fn remove_empty_folder(&self, path: &TreePath) -> Result<bool, TreeError> {
        let remove = || {
            self.fault()?;
            let spot = self.root.spot(path.as_str())?;
            Ok::<_, io::Error>(unlinkat(&spot.folder, &spot.name, AtFlags::REMOVEDIR)?)
        };
        match remove() {
            Ok(()) => Ok(true),
            Err(error) if is_absent(&error) => Ok(true),
            Err(error) if error.kind() == io::ErrorKind::DirectoryNotEmpty => Ok(false),
            Err(error) => Err(self.error("removing the folder", path)(error)),
        }
    }

    fn remove_files(&self, paths: &[TreePath]) -> Result<(), TreeError> {
        paths.iter().try_for_each(|path| self.remove_own_file(path))
    }

    fn remove_all(&self, path: &TreePath) -> Result<(), TreeError> {
        match self.fault().and_then(|()| self.root.spot(path.as_str())).and_then(|spot| remove_whole(&spot)) {
            Ok(()) => Ok(()),
            Err(error) if is_absent(&error) => Ok(()),
            Err(error) => Err(self.error("removing", path)(error)),
        }
    }

    fn sweep_temporary(&self, folders: &[TreePath]) -> Result<(), TreeError> {
        folders.iter().try_for_each(|folder| self.sweep_folder(folder))
    }

    fn flush(&self, what: Flush<'_>) -> Result<(), TreeError> {
        match what {
            Flush::All => self.flush_all(),
            // Several at a time, since a disk takes them in groups.
            Flush::Entries(paths) if paths.len() > FEW_FLUSHES => {
                spread(paths, (FEW_FLUSHES, 1), |path| self.flush_one(path)).into_iter().collect()
            }
            Flush::Entries(paths) => paths.iter().try_for_each(|path| self.flush_one(path)),
            Flush::Background => {
                self.flush_in_background();
                Ok(())
            }
        }
    }

    fn create_exclusively(&self, folder: &TreePath) -> Result<bool, TreeError> {
        let attributes = self.own_attributes()?;
        let make = || {
            self.fault()?;
            let spot = self.root.spot(folder.as_str())?;
            match mkdirat(&spot.folder, &spot.name, Mode::from_raw_mode(0o700)) {
                Ok(()) => {
                    attributes.as_folder().give(&spot.open(OFlags::RDONLY | OFlags::DIRECTORY, 0)?)?;
                    Ok(true)
                }
                Err(Errno::EXIST) => Ok(false),
                Err(error) => Err(error.into()),
            }
        };
        make().map_err(self.error("making the folder", folder))
    }
}
