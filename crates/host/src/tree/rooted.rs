//! Access below one folder that no symbolic link leads out of.
//!
//! A server's own account may write in the server's folder, and Yalotheca may run as another, mightier user. So nothing here
//! takes a path apart and believes that it stays what it was: each path is resolved by the system in one call that refuses to
//! leave the folder (`openat2` with `RESOLVE_BENEATH`), and what is done then is done relative to the open folder. A link to
//! another place inside the folder is followed. Pipes, sockets and devices are refused by kind and never opened.

use std::{
    collections::VecDeque,
    ffi::OsString,
    fs::File,
    io,
    os::{
        fd::{AsFd, AsRawFd, OwnedFd},
        unix::ffi::{OsStrExt, OsStringExt},
    },
    path::{Path, PathBuf},
    sync::{Arc, OnceLock},
};

use rustix::{
    fs::{
        AtFlags, CWD, FileType, Mode, OFlags, ResolveFlags, Stat, fstat, openat, openat2, readlinkat, statat,
    },
    io::Errno,
};

/// The folder of ours in a server's folder. It is a real folder, and so is all that lies in it.
pub(super) const OWN: &str = ".yalotheca";

/// A path that Yalotheca does not follow, or something there that it does not open.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// A symbolic link leads out of the folder.
    #[error("{link} is a symbolic link that leads out of this folder, to {target}")]
    LeadsOut {
        /// The link, below the folder.
        link: String,
        /// What it leads to.
        target: String,
    },
    /// Something in our own folder is a symbolic link.
    #[error("it is a symbolic link, and Yalotheca did not make it")]
    OwnIsLink,
    /// It is a pipe, a socket or a device.
    #[error("it is {0}, not a file")]
    NotAFile(&'static str),
}

impl Refusal {
    /// Returns the refusal behind an error, where there is one.
    pub fn of(error: &io::Error) -> Option<&Self> {
        error.get_ref()?.downcast_ref()
    }

    fn into_io(self) -> io::Error {
        io::Error::other(self)
    }
}

/// Returns what people call a sort of directory entry that is neither a file nor a folder.
fn called(kind: FileType) -> &'static str {
    match kind {
        FileType::Fifo => "a pipe",
        FileType::Socket => "a socket",
        FileType::CharacterDevice | FileType::BlockDevice => "a device",
        FileType::Symlink => "a symbolic link",
        _ => "something else",
    }
}

/// An entry: the open folder in which it lies, and its name there.
#[derive(Debug)]
pub(super) struct Spot {
    pub(super) folder: OwnedFd,
    pub(super) name: OsString,
}

impl Spot {
    /// Looks at the entry itself, even where it is a link.
    pub(super) fn stat(&self) -> io::Result<Option<Stat>> {
        match statat(&self.folder, &self.name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => Ok(Some(stat)),
            Err(Errno::NOENT | Errno::NOTDIR) => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    /// Opens the entry, which must not be a link.
    pub(super) fn open(&self, flags: OFlags, mode: u32) -> io::Result<File> {
        let flags = flags | OFlags::CLOEXEC | OFlags::NOFOLLOW | OFlags::NOCTTY;
        Ok(openat(&self.folder, &self.name, flags, Mode::from_raw_mode(mode))?.into())
    }

    /// Waits until the folder's entries are on the disk.
    pub(super) fn sync_folder(&self) -> io::Result<()> {
        let folder =
            openat(&self.folder, ".", OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())?;
        Ok(rustix::fs::fsync(folder)?)
    }
}

/// A folder that nothing leads out of.
#[derive(Debug, Clone)]
pub(super) struct Root {
    path: PathBuf,
    folder: Arc<OnceLock<OwnedFd>>,
}

fn is_own(path: &str) -> bool {
    path.split('/').next() == Some(OWN)
}

impl Root {
    pub(super) fn new(path: &Path) -> Self {
        Self { path: path.to_owned(), folder: Arc::default() }
    }

    pub(super) fn path(&self) -> &Path {
        &self.path
    }

    /// Returns the folder, open.
    pub(super) fn folder(&self) -> io::Result<&OwnedFd> {
        if let Some(folder) = self.folder.get() {
            return Ok(folder);
        }
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let opened = openat(CWD, &self.path, flags, Mode::empty())?;
        Ok(self.folder.get_or_init(|| opened))
    }

    /// Opens what lies at a path below the folder.
    pub(super) fn open(&self, path: &str, flags: OFlags) -> io::Result<OwnedFd> {
        let folder = self.folder()?;
        let path = if path.is_empty() { "." } else { path };
        let mut resolve = ResolveFlags::BENEATH | ResolveFlags::NO_MAGICLINKS;
        if is_own(path) {
            resolve |= ResolveFlags::NO_SYMLINKS;
        }
        let flags = flags | OFlags::CLOEXEC;
        loop {
            match openat2(folder, path, flags, Mode::empty(), resolve) {
                Ok(opened) => return Ok(opened),
                // Somebody renamed something at that moment.
                Err(Errno::AGAIN) => {}
                Err(Errno::LOOP) if is_own(path) => return Err(Refusal::OwnIsLink.into_io()),
                // A link with an absolute target, which may lead back into the folder; or a system, or a container, without
                // this call.
                Err(Errno::XDEV | Errno::NOSYS | Errno::PERM) => return self.open_by_hand(path, flags),
                Err(error) => return Err(error.into()),
            }
        }
    }

    fn open_by_hand(&self, path: &str, flags: OFlags) -> io::Result<OwnedFd> {
        let spot = self.follow(path)?;
        Ok(openat(&spot.folder, &spot.name, flags | OFlags::NOFOLLOW, Mode::empty())?)
    }

    /// Returns where an entry lies; where it is a link itself, the link.
    pub(super) fn spot(&self, path: &str) -> io::Result<Spot> {
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
        let folder = self.open(folder, OFlags::PATH | OFlags::DIRECTORY)?;
        Ok(Spot { folder, name: if name.is_empty() { ".".into() } else { name.into() } })
    }

    /// Returns where an entry lies; where it is a link, where that leads.
    pub(super) fn target(&self, path: &str) -> io::Result<Spot> {
        let spot = self.spot(path)?;
        let is_link = spot.stat()?.is_some_and(|stat| FileType::from_raw_mode(stat.st_mode).is_symlink());
        match is_link {
            false => Ok(spot),
            true if is_own(path) => Err(Refusal::OwnIsLink.into_io()),
            true => self.follow(path),
        }
    }

    /// Looks at what lies at a path; nothing where there is nothing.
    pub(super) fn stat(&self, path: &str) -> io::Result<Option<Stat>> {
        match self.open(path, OFlags::PATH) {
            Ok(opened) => Ok(Some(fstat(opened)?)),
            Err(error) if is_absent(&error) => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// Opens a file for reading; nothing where there is none. What is no file is never opened.
    pub(super) fn read(&self, path: &str) -> io::Result<Option<File>> {
        let opened = match self.open(path, OFlags::PATH) {
            Ok(opened) => opened,
            Err(error) if is_absent(&error) => return Ok(None),
            Err(error) => return Err(error),
        };
        match FileType::from_raw_mode(fstat(&opened)?.st_mode) {
            FileType::RegularFile => {}
            FileType::Directory => return Err(Errno::ISDIR.into()),
            other => return Err(Refusal::NotAFile(called(other)).into_io()),
        }
        // The very same file, not another one that has come to the path meanwhile.
        File::open(format!("/proc/self/fd/{}", opened.as_raw_fd())).map(Some)
    }

    /// Resolves a path and its links by hand, and returns the last name's folder. The last name itself is not a link.
    fn follow(&self, path: &str) -> io::Result<Spot> {
        const MOST: usize = 40;
        let root = self.folder()?;
        let mut above: Vec<(OwnedFd, OsString)> = Vec::new();
        let mut names: VecDeque<OsString> = names(Path::new(path)).collect();
        let mut links = 0;
        while let Some(name) = names.pop_front() {
            if name == ".." {
                if above.pop().is_none() {
                    return Err(out(path, Path::new("..")));
                }
                continue;
            }
            let folder = above.last().map_or(root.as_fd(), |(folder, _)| folder.as_fd());
            let kind = match statat(folder, &name, AtFlags::SYMLINK_NOFOLLOW) {
                Ok(stat) => Some(FileType::from_raw_mode(stat.st_mode)),
                Err(Errno::NOENT) => None,
                Err(error) => return Err(error.into()),
            };
            match kind {
                Some(FileType::Symlink) if is_own(path) => return Err(Refusal::OwnIsLink.into_io()),
                Some(FileType::Symlink) => {
                    links += 1;
                    if links > MOST {
                        return Err(Errno::LOOP.into());
                    }
                    let target = readlinkat(folder, &name, Vec::new())?;
                    let target = PathBuf::from(OsString::from_vec(target.into_bytes()));
                    let link = || {
                        let mut link: PathBuf = above.iter().map(|(_, name)| name).collect();
                        link.push(&name);
                        link.display().to_string()
                    };
                    let next = if target.is_absolute() {
                        let whole = std::path::absolute(&self.path).unwrap_or_else(|_| self.path.clone());
                        let Ok(below) = target.strip_prefix(whole) else { return Err(out(&link(), &target)) };
                        let below: Vec<OsString> = self::names(below).collect();
                        above.clear();
                        below
                    } else {
                        let climbs = self::names(&target).take_while(|name| name == "..").count();
                        if climbs > above.len() {
                            return Err(out(&link(), &target));
                        }
                        self::names(&target).collect()
                    };
                    for name in next.into_iter().rev() {
                        names.push_front(name);
                    }
                }
                _ if names.is_empty() => {
                    let folder = openat(
                        folder,
                        ".",
                        OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC,
                        Mode::empty(),
                    )?;
                    return Ok(Spot { folder, name });
                }
                _ => {
                    let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
                    let next = openat(folder, &name, flags, Mode::empty())?;
                    above.push((next, name));
                }
            }
        }
        // The path ends at a folder by way of `..`, or is the folder itself.
        let last = above.last().map_or(root.as_fd(), |(folder, _)| folder.as_fd());
        let folder = openat(last, ".", OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())?;
        Ok(Spot { folder, name: ".".into() })
    }
}

fn names(path: &Path) -> impl Iterator<Item = OsString> + use<> {
    let names: Vec<OsString> = path
        .as_os_str()
        .as_bytes()
        .split(|byte| *byte == b'/')
        .filter(|name| !name.is_empty() && *name != b".")
        .map(|name| OsString::from_vec(name.to_vec()))
        .collect();
    names.into_iter()
}

fn out(link: &str, target: &Path) -> io::Error {
    Refusal::LeadsOut { link: link.to_owned(), target: target.display().to_string() }.into_io()
}

pub(super) fn is_absent(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
}

#[cfg(test)]
mod tests {
    use std::{fs, os::unix::fs::symlink};

    use super::*;

    #[test]
    fn without_the_systems_help_no_link_leads_out_either() -> Result<(), Box<dyn std::error::Error>> {
        let folder = tempfile::tempdir()?;
        let server = folder.path().join("server");
        fs::create_dir_all(server.join("mods/bells"))?;
        fs::create_dir_all(server.join(OWN))?;
        fs::write(server.join("mods/bells/init.lua"), "ours")?;
        fs::write(folder.path().join("theirs"), "theirs")?;
        symlink("mods", server.join("same"))?;
        symlink(server.join("mods/bells"), server.join("absolute"))?;
        symlink("..", server.join("up"))?;
        symlink("../theirs", server.join("out"))?;
        symlink(folder.path(), server.join("far"))?;
        symlink("../mods", server.join(OWN).join("journal"))?;
        symlink("round", server.join("round"))?;
        let root = Root::new(&server);
        let read = |path: &str| -> io::Result<String> {
            io::read_to_string(File::from(root.open_by_hand(path, OFlags::RDONLY | OFlags::CLOEXEC)?))
        };
        for path in
            ["mods/bells/init.lua", "same/bells/init.lua", "absolute/init.lua", "same/../mods/bells/init.lua"]
        {
            assert_eq!(read(path)?, "ours", "{path}");
        }
        root.open_by_hand(".", OFlags::PATH | OFlags::DIRECTORY)?;
        for path in
            ["up/theirs", "out", "far/theirs", "../theirs", ".yalotheca/journal/bells/init.lua", "round"]
        {
            assert!(read(path).is_err(), "{path} was opened");
        }
        Ok(())
    }
}
