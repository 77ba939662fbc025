//! A server's folder on this machine.

use std::{
    fs::{self, File},
    io::{self, Read, Write},
    os::unix::{fs::MetadataExt, process::CommandExt},
    path::{Path, PathBuf},
    process::{Command, Stdio},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    thread,
};

use yalotheca_core::id::{Digest, TreePath};

use super::{Found, Tree, TreeError};

/// How much is read and written at a time.
const BUFFER: usize = 128 << 10;

/// A file larger than this is hashed by all cores, so much at a time.
const LARGE: u64 = 16 << 20;
const CHUNK: usize = 8 << 20;

/// A folder on this machine.
#[derive(Debug, Clone)]
pub struct LocalTree {
    root: PathBuf,
    /// Whether the disk has refused to clone a file: then it is not asked again. Each time a new file would have to be made
    /// and removed, and some disks are slow to give its place to the next.
    clones_nothing: Arc<AtomicBool>,
}

impl LocalTree {
    /// Returns the tree at a folder.
    pub fn new(root: &Path) -> Self {
        Self { root: root.to_owned(), clones_nothing: Arc::default() }
    }

    /// Returns the folder.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Returns where a path lies on this machine.
    pub fn at(&self, path: &TreePath) -> PathBuf {
        if path.is_root() { self.root.clone() } else { self.root.join(path.as_str()) }
    }

    fn error(&self, verb: &'static str, path: &TreePath) -> impl FnOnce(io::Error) -> TreeError + use<> {
        let path = self.at(path).display().to_string();
        move |source| TreeError { verb, path, source }
    }

    fn temporary(&self, path: &TreePath) -> PathBuf {
        let at = self.at(path);
        let name = at.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned());
        at.with_file_name(format!(".{name}.yalotheca-{}", std::process::id()))
    }
}

/// Makes sure that a folder's entries are on the disk.
fn sync_folder(path: &Path) -> io::Result<()> {
    match path.parent() {
        Some(folder) => File::open(folder)?.sync_all(),
        None => Ok(()),
    }
}

fn sort_of(metadata: &fs::Metadata) -> Found {
    if metadata.is_file() {
        Found::File(metadata.len())
    } else if metadata.is_dir() {
        Found::Folder
    } else {
        Found::Other
    }
}

/// Where a link to a file leads; links stay links, and what they lead to is changed.
fn real(path: PathBuf) -> PathBuf {
    let is_link = fs::symlink_metadata(&path).is_ok_and(|metadata| metadata.is_symlink());
    if is_link { fs::canonicalize(&path).unwrap_or(path) } else { path }
}

/// Moves a file to another disk: under another name first, then renamed.
fn copy_over(source: &Path, target: &Path) -> io::Result<()> {
    let name = target.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let temporary = target.with_file_name(format!(".{name}.yalotheca-{}", std::process::id()));
    let copied = fs::copy(source, &temporary).and_then(|_| fs::rename(&temporary, target));
    if copied.is_err() {
        fs::remove_file(&temporary).ok();
    }
    copied.and_then(|()| fs::remove_file(source))
}

/// Makes a new file that has the bytes of another by sharing its blocks, until one of the two is changed.
fn clone(source: &File, target: &Path) -> io::Result<()> {
    let file = File::create_new(target)?;
    rustix::fs::ioctl_ficlone(&file, source).map_err(|error| {
        fs::remove_file(target).ok();
        error.into()
    })
}

fn is_absent(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
}

/// Hashes what a reader gives and passes it on.
struct Hashing<'a, R: ?Sized> {
    inner: &'a mut R,
    hasher: blake3::Hasher,
    size: u64,
}

impl<R: Read + ?Sized> Read for Hashing<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.hasher.update(&buffer[..read]);
        self.size += read as u64;
        Ok(read)
    }
}

/// Returns the digest and the size of a file on this machine.
///
/// # Errors
/// Where it cannot be read.
pub fn digest_of(path: &Path) -> io::Result<(Digest, u64)> {
    let mut file = File::open(path)?;
    if file.metadata()?.len() > LARGE {
        return digest_of_large(&mut file);
    }
    let mut hashing = Hashing { inner: &mut file, hasher: blake3::Hasher::new(), size: 0 };
    let mut buffer = vec![0; BUFFER];
    while hashing.read(&mut buffer)? > 0 {}
    Ok((Digest::from_bytes(*hashing.hasher.finalize().as_bytes()), hashing.size))
}

/// The same by all cores, a chunk at a time: a file that is mapped and cut meanwhile would end the program.
fn digest_of_large(file: &mut File) -> io::Result<(Digest, u64)> {
    let (mut hasher, mut size) = (blake3::Hasher::new(), 0);
    let mut chunk = Vec::with_capacity(CHUNK);
    loop {
        chunk.clear();
        if file.take(CHUNK as u64).read_to_end(&mut chunk)? == 0 {
            return Ok((Digest::from_bytes(*hasher.finalize().as_bytes()), size));
        }
        hasher.update_rayon(&chunk);
        size += chunk.len() as u64;
    }
}

impl Tree for LocalTree {
    fn shown(&self) -> String {
        self.root.display().to_string()
    }

    fn find(&self, path: &TreePath) -> Result<Option<Found>, TreeError> {
        match fs::metadata(self.at(path)) {
            Ok(metadata) => Ok(Some(sort_of(&metadata))),
            Err(error) if is_absent(&error) => Ok(None),
            Err(error) => Err(self.error("looking at", path)(error)),
        }
    }

    fn list(&self, path: &TreePath) -> Result<Vec<(String, Found)>, TreeError> {
        let entries = match fs::read_dir(self.at(path)) {
            Ok(entries) => entries,
            Err(error) if is_absent(&error) => return Ok(Vec::new()),
            Err(error) => return Err(self.error("reading", path)(error)),
        };
        let mut found = Vec::new();
        for entry in entries {
            let entry = entry.map_err(self.error("reading", path))?;
            // Names that are not UTF-8 cannot be ours; links to nothing are neither file nor folder.
            if let Ok(name) = entry.file_name().into_string() {
                let sort = fs::metadata(entry.path()).map_or(Found::Other, |metadata| sort_of(&metadata));
                found.push((name, sort));
            }
        }
        found.sort_by(|a, b| a.0.cmp(&b.0));
        Ok(found)
    }

    fn read(&self, path: &TreePath) -> Result<Option<Vec<u8>>, TreeError> {
        match fs::read(self.at(path)) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(error) if is_absent(&error) => Ok(None),
            Err(error) => Err(self.error("reading", path)(error)),
        }
    }

    fn digest(&self, path: &TreePath) -> Result<Option<(Digest, u64)>, TreeError> {
        match digest_of(&self.at(path)) {
            Ok(found) => Ok(Some(found)),
            Err(error) if is_absent(&error) => Ok(None),
            Err(error) => Err(self.error("reading", path)(error)),
        }
    }

    fn write(&self, path: &TreePath, bytes: &[u8]) -> Result<(), TreeError> {
        let at = real(self.at(path));
        let temporary = at.with_file_name(format!(".yalotheca-{}", std::process::id()));
        let written = (|| {
            let mut file = File::create(&temporary)?;
            file.write_all(bytes)?;
            if let Ok(metadata) = fs::metadata(&at) {
                fs::set_permissions(&temporary, metadata.permissions())?;
            }
            file.sync_all()?;
            fs::rename(&temporary, &at)?;
            sync_folder(&at)
        })();
        written.map_err(|error| {
            fs::remove_file(&temporary).ok();
            self.error("writing", path)(error)
        })
    }

    fn bring(&self, from: &mut dyn Read, path: &TreePath) -> Result<Digest, TreeError> {
        let mut hashing = Hashing { inner: from, hasher: blake3::Hasher::new(), size: 0 };
        let mut copy = || {
            let mut file = File::create(self.at(path))?;
            let mut buffer = vec![0; BUFFER];
            loop {
                match hashing.read(&mut buffer) {
                    Ok(0) => return Ok(()),
                    Ok(read) => file.write_all(&buffer[..read])?,
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                    Err(error) => return Err(error),
                }
            }
        };
        copy().map_err(self.error("writing", path))?;
        Ok(Digest::from_bytes(*hashing.hasher.finalize().as_bytes()))
    }

    fn put(&self, bytes: &[u8], path: &TreePath) -> Result<(), TreeError> {
        fs::write(self.at(path), bytes).map_err(self.error("writing", path))
    }

    fn copy(&self, from: &mut File, size: u64, path: &TreePath) -> Result<u64, TreeError> {
        let mut copy = || {
            let mut to = File::create(self.at(path))?;
            // Mostly the system does it in one go; what it leaves, or does not do at all, is done the long way.
            let most = usize::try_from(size.saturating_add(1)).unwrap_or(usize::MAX);
            match rustix::fs::copy_file_range(&*from, None, &to, None, most) {
                Ok(done) if done as u64 == size => Ok(size),
                Ok(done) => Ok(done as u64 + io::copy(from, &mut to)?),
                Err(_) => io::copy(from, &mut to),
            }
        };
        copy().map_err(self.error("writing", path))
    }

    fn share(&self, (from, file): (&Path, &File), path: &TreePath) -> bool {
        let target = self.at(path);
        // A clone of its own is better than a second name, where the disk can make one.
        if !self.clones_nothing.load(Ordering::Relaxed) {
            if clone(file, &target).is_ok() {
                return true;
            }
            self.clones_nothing.store(true, Ordering::Relaxed);
        }
        let is_alone = file.metadata().is_ok_and(|metadata| metadata.nlink() == 1);
        is_alone && fs::hard_link(from, &target).is_ok()
    }

    fn rename(&self, from: &TreePath, to: &TreePath) -> Result<(), TreeError> {
        let (source, target) = (self.at(from), real(self.at(to)));
        let moved = match fs::rename(&source, &target) {
            // A folder of the server may lie on another disk.
            Err(error) if error.kind() == io::ErrorKind::CrossesDevices => copy_over(&source, &target),
            moved => moved,
        };
        moved.map_err(self.error("moving a file to", to))
    }

    fn keep(&self, from: &TreePath, to: &TreePath) -> Result<(), TreeError> {
        let (source, target) = (real(self.at(from)), self.at(to));
        let keep = || match fs::hard_link(&source, &target) {
            Ok(()) => Ok(()),
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(()),
            Err(_) => {
                let temporary = self.temporary(to);
                fs::copy(&source, &temporary)?;
                File::open(&temporary)?.sync_all()?;
                fs::rename(&temporary, &target)
            }
        };
        keep().map_err(self.error("keeping a copy at", to))
    }

    fn like(&self, path: &TreePath, other: &TreePath) -> Result<(), TreeError> {
        match fs::metadata(self.at(other)) {
            Ok(metadata) => fs::set_permissions(self.at(path), metadata.permissions())
                .map_err(self.error("setting permissions of", path)),
            Err(_) => Ok(()),
        }
    }

    fn sync(&self) -> Result<(), TreeError> {
        let sync = || rustix::fs::syncfs(File::open(&self.root)?).map_err(io::Error::from);
        sync().map_err(self.error("writing to the disk of", &TreePath::root()))
    }

    fn sync_one(&self, path: &TreePath) -> Result<(), TreeError> {
        match File::open(self.at(path)).and_then(|one| one.sync_all()) {
            Err(error) if !is_absent(&error) => Err(self.error("writing to the disk of", path)(error)),
            _ => Ok(()),
        }
    }

    fn sync_behind(&self) {
        // A thread that waits for the disk would hold up the end of the program.
        let mut sync = Command::new("sync");
        sync.arg("-f").arg(&self.root).process_group(0);
        sync.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        // Where there is no such program, the system writes all the same, only later.
        if let Ok(mut child) = sync.spawn() {
            thread::spawn(move || child.wait());
        }
    }

    fn make_folder(&self, path: &TreePath) -> Result<(), TreeError> {
        fs::create_dir_all(self.at(path)).map_err(self.error("making the folder", path))
    }

    fn remove_folder(&self, path: &TreePath) -> Result<bool, TreeError> {
        match fs::remove_dir(self.at(path)) {
            Ok(()) => Ok(true),
            Err(error) if is_absent(&error) => Ok(true),
            Err(error) if error.kind() == io::ErrorKind::DirectoryNotEmpty => Ok(false),
            Err(error) => Err(self.error("removing the folder", path)(error)),
        }
    }

    fn remove_all(&self, path: &TreePath) -> Result<(), TreeError> {
        match fs::remove_dir_all(self.at(path)) {
            Ok(()) => Ok(()),
            Err(error) if is_absent(&error) => Ok(()),
            Err(error) => Err(self.error("removing", path)(error)),
        }
    }
}
