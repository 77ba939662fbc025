//! A copy of a server's folder, on which something is tried: nothing that happens there reaches the original.

use std::{
    fs, io,
    net::TcpListener,
    os::unix::fs::{MetadataExt, symlink},
    path::{Component, Path, PathBuf},
};

use tempfile::TempDir;

use crate::{interrupt, process::started, settle::OWN};

/// Files in our folder that are not copied: the history, and the state of the original's process and starts.
const NOT_COPIED: &[&str] =
    &["journal", "process", "server.log", "console", "lock", "good-start.json", "isolate.json"];
/// So much room is left on the disk, in bytes, or a twentieth of a small one.
const SPARE: u64 = 1 << 30;
/// The room is looked at each time that so many bytes were copied.
const CHECKED_EACH: u64 = 64 << 20;
/// A text larger than this is no configuration, in bytes.
const LARGEST_TEXT: u64 = 1 << 20;

/// Removes what killed programs have left behind beside a server.
fn remove_left(beside: &Path) {
    for entry in fs::read_dir(beside).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let pid =
            name.to_str().and_then(|name| name.strip_prefix(PREFIX)?.split('-').next()?.parse::<u32>().ok());
        let is_left = pid.is_some_and(|pid| started(pid).is_none());
        if is_left
            && fs::metadata(entry.path())
                .is_ok_and(|metadata| metadata.uid() == rustix::process::geteuid().as_raw())
        {
            fs::remove_dir_all(entry.path()).ok();
        }
    }
}

/// How copies are called; a process id follows.
const PREFIX: &str = "yalotheca-copy-";

/// A copy of a server's folder. It is removed in the end.
#[derive(Debug)]
pub struct ServerCopy {
    original: PathBuf,
    folder: TempDir,
    /// How many bytes were copied since the room on the disk was looked at.
    unchecked: u64,
}

impl ServerCopy {
    /// Copies a folder, beside it where that is allowed, so that file systems that can share the bytes. What `leave` matches stays out.
    ///
    /// # Errors
    /// If something cannot be read or written.
    pub fn make(original: &Path, leave: &dyn Fn(&str) -> bool) -> io::Result<Self> {
        let original = original.canonicalize()?;
        let prefix = format!("{PREFIX}{}-", std::process::id());
        if let Some(parent) = original.parent() {
            remove_left(parent);
        }
        remove_left(&std::env::temp_dir());
        let mut named = tempfile::Builder::new();
        named.prefix(&prefix);
        let folder = match original.parent().map(|parent| named.tempdir_in(parent)) {
            Some(Ok(folder)) => folder,
            _ => named.tempdir()?,
        };
        interrupt::remove_before_end(folder.path());
        let mut copy = Self { original, folder, unchecked: 0 };
        copy.copy_folder(Path::new(""), leave)?;
        Ok(copy)
    }

    /// Returns the copy's folder.
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// Returns the folder that was copied.
    pub fn original(&self) -> &Path {
        &self.original
    }

    fn copy_folder(&mut self, inside: &Path, leave: &dyn Fn(&str) -> bool) -> io::Result<()> {
        let to = self.folder.path().join(inside);
        if interrupt::is_ending() {
            return Err(io::ErrorKind::Interrupted.into());
        }
        // The copy itself is not made again where it was removed.
        match fs::create_dir(&to) {
            Err(error) if error.kind() != io::ErrorKind::AlreadyExists => return Err(error),
            _ => {}
        }
        let from = self.original.join(inside);
        fs::set_permissions(&to, fs::metadata(&from)?.permissions())?;
        for entry in fs::read_dir(&from)? {
            let entry = entry?;
            let path = inside.join(entry.file_name());
            let name = path.to_string_lossy();
            let is_own = inside == Path::new(OWN);
            if is_own && NOT_COPIED.iter().any(|own| entry.file_name() == *own) || leave(&name) {
                continue;
            }
            self.copy_entry(&path, entry.file_type()?, leave)?;
        }
        Ok(())
    }

    fn copy_entry(
        &mut self,
        path: &Path,
        kind: fs::FileType,
        leave: &dyn Fn(&str) -> bool,
    ) -> io::Result<()> {
        let (from, to) = (self.original.join(path), self.folder.path().join(path));
        if kind.is_dir() {
            return self.copy_folder(path, leave);
        }
        if kind.is_file() {
            return self.copy_file(&from, &to);
        }
        if kind.is_symlink() {
            let target = fs::read_link(&from)?;
            let full = normal(&from.parent().unwrap_or(&self.original).join(&target));
            return match full.strip_prefix(&self.original) {
                // Even a relative target may lead out and back in, which from the copy would lead to the original.
                Ok(inside) => symlink(self.folder.path().join(inside), &to),
                // What is elsewhere must not be written to by the copy.
                Err(_) => self.copy_elsewhere(&full, &to, &mut Vec::new()),
            };
        }
        // Sockets and pipes are made by who uses them.
        Ok(())
    }

    /// Copies what a link leads to. `above` are the folders that are being copied: a link back to one of them is left out.
    fn copy_elsewhere(&mut self, from: &Path, to: &Path, above: &mut Vec<PathBuf>) -> io::Result<()> {
        // A link that leads nowhere does so in the copy as well.
        let Ok(real) = from.canonicalize() else { return Ok(()) };
        let holds_us = [self.original.as_path(), self.folder.path()].iter().any(|own| own.starts_with(&real));
        if holds_us || above.contains(&real) {
            return Ok(());
        }
        let metadata = fs::metadata(&real)?;
        if metadata.is_file() {
            return self.copy_file(&real, to);
        }
        if !metadata.is_dir() {
            return Ok(());
        }
        fs::create_dir(to)?;
        above.push(real.clone());
        for entry in fs::read_dir(&real)? {
            let entry = entry?;
            self.copy_elsewhere(&entry.path(), &to.join(entry.file_name()), above)?;
        }
        above.pop();
        Ok(())
    }

    /// Copies a file with its date; the bytes are shared where the file system can.
    fn copy_file(&mut self, from: &Path, to: &Path) -> io::Result<()> {
        if interrupt::is_ending() {
            return Err(io::ErrorKind::Interrupted.into());
        }
        let copied = fs::copy(from, to)?;
        self.unchecked += copied;
        if self.unchecked >= CHECKED_EACH {
            self.unchecked = 0;
            self.require_room()?;
        }
        let modified = fs::metadata(from)?.modified()?;
        let dated = fs::File::options().write(true).open(to).and_then(|file| file.set_modified(modified));
        // A file that may not be written has another date, and is read once more.
        dated.or(Ok(()))
    }

    /// Refuses to fill the disk: a running server would fail with it.
    fn require_room(&self) -> io::Result<()> {
        let disk = rustix::fs::statvfs(self.folder.path())?;
        let (room, all) = (disk.f_bavail * disk.f_frsize, disk.f_blocks * disk.f_frsize);
        if room >= SPARE.min(all / 20) {
            return Ok(());
        }
        Err(io::Error::new(io::ErrorKind::StorageFull, "the copy would fill the disk"))
    }

    /// Brings what matches back to how it is in the original: the copy's own starts have changed it.
    ///
    /// # Errors
    /// If something cannot be read or written.
    pub fn renew(&mut self, which: &dyn Fn(&str) -> bool) -> io::Result<()> {
        self.renew_in(Path::new(""), which)
    }

    fn renew_in(&mut self, inside: &Path, which: &dyn Fn(&str) -> bool) -> io::Result<()> {
        let mut names: Vec<_> = Vec::new();
        for folder in [self.original.join(inside), self.folder.path().join(inside)] {
            let entries = fs::read_dir(folder).into_iter().flatten().flatten();
            names.extend(entries.map(|entry| entry.file_name()));
        }
        names.sort();
        names.dedup();
        for name in names {
            let path = inside.join(&name);
            if path == Path::new(OWN) {
                continue;
            }
            let (from, to) = (self.original.join(&path), self.folder.path().join(&path));
            if which(&path.to_string_lossy()) {
                match fs::symlink_metadata(&to) {
                    Ok(there) if there.is_dir() => fs::remove_dir_all(&to)?,
                    Ok(_) => fs::remove_file(&to)?,
                    Err(_) => {}
                }
                if let Ok(metadata) = fs::symlink_metadata(&from) {
                    self.copy_entry(&path, metadata.file_type(), &|_| false)?;
                }
            } else if fs::symlink_metadata(&to).is_ok_and(|there| there.is_dir()) {
                self.renew_in(&path, which)?;
            }
        }
        Ok(())
    }

    /// Replaces the original's full path by the copy's in a text file; returns whether it was in it.
    ///
    /// # Errors
    /// If it cannot be read or written.
    pub fn redirect(&self, path: &str) -> io::Result<bool> {
        let file = self.folder.path().join(path);
        let is_text =
            fs::metadata(&file).is_ok_and(|metadata| metadata.is_file() && metadata.len() <= LARGEST_TEXT);
        if !is_text {
            return Ok(false);
        }
        let Ok(text) = fs::read_to_string(&file) else { return Ok(false) };
        let (from, to) = (self.original.to_string_lossy(), self.folder.path().to_string_lossy());
        if from.len() < 2 || !text.contains(&*from) {
            return Ok(false);
        }
        fs::write(&file, text.replace(&*from, &to))?;
        Ok(true)
    }

    /// Writes a file of the copy.
    ///
    /// # Errors
    /// If it cannot be written.
    pub fn write(&self, path: &str, text: &[u8]) -> io::Result<()> {
        let file = self.folder.path().join(path);
        file.parent().map_or(Ok(()), fs::create_dir_all)?;
        fs::write(file, text)
    }
}

impl Drop for ServerCopy {
    fn drop(&mut self) {
        interrupt::keep_at_end(self.folder.path());
    }
}

/// Returns a port of this machine that is free over TCP and over UDP.
///
/// # Errors
/// If there is none.
pub fn free_port() -> io::Result<u16> {
    const TRIES: usize = 50;
    for _ in 0..TRIES {
        let port = TcpListener::bind(("127.0.0.1", 0))?.local_addr()?.port();
        if std::net::UdpSocket::bind(("127.0.0.1", port)).is_ok() {
            return Ok(port);
        }
    }
    Err(io::ErrorKind::AddrInUse.into())
}

/// Returns a path without `.` and `..`; links are not followed.
fn normal(path: &Path) -> PathBuf {
    let mut found = PathBuf::new();
    for part in path.components() {
        match part {
            Component::ParentDir => drop(found.pop()),
            Component::CurDir => {}
            part => found.push(part),
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_copy_is_whole_and_never_leads_to_the_original() -> io::Result<()> {
        let root = tempfile::tempdir()?;
        let (server, outside) = (root.path().join("server"), root.path().join("outside"));
        fs::create_dir_all(server.join("world"))?;
        fs::create_dir_all(&outside)?;
        fs::create_dir_all(server.join(OWN))?;
        fs::write(server.join(OWN).join("process"), "812 1")?;
        fs::write(server.join("world/map"), "one")?;
        fs::write(outside.join("shared"), "two")?;
        fs::write(server.join("a.conf"), format!("world = {}/world\n", server.canonicalize()?.display()))?;
        symlink(server.canonicalize()?.join("world"), server.join("absolute"))?;
        symlink("world/map", server.join("relative"))?;
        symlink(&outside, server.join("elsewhere"))?;
        symlink("nowhere", server.join("dangling"))?;
        // Out and back in, up to what holds the server, and in a circle.
        symlink("../server/world", server.join("round"))?;
        symlink("..", server.join("up"))?;
        symlink(&outside, outside.join("again"))?;
        let mut copy = ServerCopy::make(&server, &|_| false)?;
        let at = |name: &str| copy.folder().join(name);
        assert_eq!(fs::read_to_string(at("world/map"))?, "one");
        assert!(!at(".yalotheca/process").exists() && !at("up").exists() && !at("elsewhere/again").exists());
        for name in ["absolute/map", "relative", "round/map", "elsewhere/shared"] {
            fs::write(at(name), "changed")?;
        }
        assert_eq!(fs::read_to_string(server.join("world/map"))?, "one");
        assert_eq!(fs::read_to_string(outside.join("shared"))?, "two");
        assert!(copy.redirect("a.conf")? && !copy.redirect("a.conf")?);
        assert!(fs::read_to_string(at("a.conf"))?.contains(&*copy.folder().to_string_lossy()));
        fs::write(at("world/new"), "")?;
        copy.renew(&|path| path.starts_with("world"))?;
        assert_eq!(fs::read_to_string(copy.folder().join("world/map"))?, "one");
        assert!(!copy.folder().join("world/new").exists());
        Ok(())
    }
}
