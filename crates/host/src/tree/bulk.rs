//! Many files of a server's folder at once: their digests, by several threads, and the names in a folder.

use std::{
    io,
    os::fd::OwnedFd,
    sync::{Arc, PoisonError},
    thread,
};

use rustix::{
    fs::{AtFlags, Dir, FileType, OFlags, statat},
    io::Errno,
};
use yalotheca_core::id::{Digest, TreePath};

use super::{
    EntryKind, LocalTree, TreeError, digest::Stamp, known::Cursor, local::sort_of, odd_name,
    rooted::is_absent,
};

use crate::threads::{cores, spread};

/// So many files are worth a thread.
const MANY: usize = 2_000;

impl LocalTree {
    /// Has another thread look whether the files are unchanged that are known from earlier, since they are going to be asked about soon.
    /// What is gone is forgotten.
    pub fn look_ahead(&self) {
        let (root, known) = (self.root.clone(), Arc::clone(&self.known));
        let look = move || {
            if known.count() < MANY {
                return Vec::new();
            }
            let (mut are_same, mut gone) = (Vec::with_capacity(known.count()), Vec::new());
            let mut last: Option<(String, Option<OwnedFd>)> = None;
            known.each(|path, stamp| {
                let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
                if last.as_ref().is_none_or(|(known, _)| known != folder) {
                    let opened = root.open(folder, OFlags::PATH | OFlags::DIRECTORY).ok();
                    last = Some((folder.to_owned(), opened));
                }
                let opened = last.as_ref().and_then(|(_, opened)| opened.as_ref());
                let now = opened.and_then(|folder| statat(folder, name, AtFlags::SYMLINK_NOFOLLOW).ok());
                are_same.push(stamp.is_some() && now.map(|now| Stamp::of(&now)) == stamp);
                if now.is_none() {
                    gone.extend(TreePath::new(path));
                }
            });
            for path in &gone {
                known.forget(&mut Cursor::default(), path);
            }
            are_same
        };
        *self.ahead.lock().unwrap_or_else(PoisonError::into_inner) = Some(thread::spawn(look));
    }

    /// Returns the digests of files. `are_walked` says that no symbolic link is in the way to any of them.
    pub(super) fn digests_by_threads(
        &self,
        paths: &[TreePath],
        are_walked: bool,
    ) -> Result<Vec<Option<(Digest, u64)>>, TreeError> {
        let take = || self.ahead.lock().unwrap_or_else(PoisonError::into_inner).take();
        let ahead = if paths.len() < MANY { None } else { take() };
        let are_same = ahead.map_or_else(Vec::new, |thread| thread.join().unwrap_or_default());
        if !are_same.is_empty() {
            return self.digests_of(paths, (&are_same, are_walked));
        }
        // Neighbours share a folder, so each thread gets one long part.
        let least = if are_walked { MANY / 4 } else { MANY };
        let parts: Vec<&[TreePath]> = paths.chunks(paths.len().div_ceil(cores()).max(least)).collect();
        let mut digests = Vec::with_capacity(paths.len());
        for part in spread(&parts, (cores(), 1), |part| self.digests_of(part, (&[], are_walked))) {
            digests.extend(part?);
        }
        Ok(digests)
    }

    /// Lists a folder by name; without `with_sizes`, files are not looked at.
    pub(super) fn entries(
        &self,
        path: &TreePath,
        with_sizes: bool,
    ) -> Result<Vec<(String, EntryKind)>, TreeError> {
        let folder = match self.root.open(path.as_str(), OFlags::RDONLY | OFlags::DIRECTORY) {
            Ok(folder) => folder,
            Err(error) if is_absent(&error) => return Ok(Vec::new()),
            Err(error) => return Err(self.error("reading", path)(error)),
        };
        let list = || {
            let mut found = Vec::new();
            for entry in Dir::read_from(&folder)? {
                let entry = entry?;
                // Names that are not UTF-8 cannot be ours.
                let Ok(name) = entry.file_name().to_str() else {
                    let odd = odd_name(path, entry.file_name().to_bytes());
                    self.odd_names.lock().unwrap_or_else(PoisonError::into_inner).insert(odd);
                    continue;
                };
                if name == "." || name == ".." {
                    continue;
                }
                let sort = match entry.file_type() {
                    FileType::Directory => EntryKind::Folder,
                    FileType::RegularFile if !with_sizes => EntryKind::File(0),
                    _ => match statat(&folder, name, AtFlags::SYMLINK_NOFOLLOW) {
                        Ok(stat) if FileType::from_raw_mode(stat.st_mode).is_symlink() => {
                            self.linked(path, name)
                        }
                        Ok(stat) => sort_of(&stat),
                        // It has gone meanwhile.
                        Err(_) => EntryKind::Other,
                    },
                };
                found.push((name.to_owned(), sort));
            }
            Ok::<_, io::Error>(found)
        };
        let mut found = list().map_err(self.error("reading", path))?;
        found.sort_by(|a, b| a.0.cmp(&b.0));
        Ok(found)
    }

    /// The digests of files, best sorted by path: a folder is opened once for those that follow one another.
    /// `are_same` says which of those known from earlier were unchanged just now.
    fn digests_of(
        &self,
        paths: &[TreePath],
        (are_same, are_walked): (&[bool], bool),
    ) -> Result<Vec<Option<(Digest, u64)>>, TreeError> {
        let whole_paths = self.root.folder().ok().filter(|_| are_walked);
        let mut cursor = Cursor::for_count(paths.len());
        let mut last: Option<(&str, Option<OwnedFd>)> = None;
        let mut digests = Vec::with_capacity(paths.len());
        for (index, path) in paths.iter().enumerate() {
            if !are_same.is_empty()
                && let Some((at, digest, size)) = self.known.earlier_at(&mut cursor, path)
                && are_same.get(at) == Some(&true)
            {
                digests.push(Some((digest, size)));
                continue;
            }
            let (folder, name) = path.as_str().rsplit_once('/').unwrap_or(("", path.as_str()));
            let is_alone = || {
                let next = paths.get(index + 1).and_then(|next| next.as_str().rsplit_once('/'));
                next.is_none_or(|(next, _)| next != folder)
            };
            let is_near = last.as_ref().is_some_and(|(known, _)| *known == folder);
            // Opening a folder for one file takes longer than looking at the file.
            if let Some(root) = whole_paths.filter(|_| !is_near && is_alone())
                && let Ok(stat) = statat(root, path.as_str(), AtFlags::SYMLINK_NOFOLLOW)
                && let Some(digest) = self.known.find(&mut cursor, path, &Stamp::of(&stat))
            {
                digests.push(Some((digest, u64::try_from(stat.st_size).unwrap_or(0))));
                continue;
            }
            if !is_near {
                last = Some((folder, self.root.open(folder, OFlags::PATH | OFlags::DIRECTORY).ok()));
            }
            let opened = last.as_ref().and_then(|(_, opened)| opened.as_ref());
            let stat = opened.map(|folder| statat(folder, name, AtFlags::SYMLINK_NOFOLLOW));
            digests.push(match stat {
                Some(Err(Errno::NOENT)) => {
                    self.known.forget(&mut cursor, path);
                    None
                }
                Some(Ok(stat)) if FileType::from_raw_mode(stat.st_mode).is_file() => {
                    match self.known.find(&mut cursor, path, &Stamp::of(&stat)) {
                        Some(digest) => Some((digest, u64::try_from(stat.st_size).unwrap_or(0))),
                        None => self.digest_one(path)?,
                    }
                }
                // A link, a folder that cannot be opened, or what is no file.
                _ => self.digest_one(path)?,
            });
        }
        Ok(digests)
    }

    /// What a link in a folder leads to. One that leads to a folder in which it lies itself would have no end.
    fn linked(&self, folder: &TreePath, name: &str) -> EntryKind {
        let Ok(path) = folder.join(name) else { return EntryKind::Other };
        let Ok(Some(stat)) = self.root.stat(path.as_str()) else { return EntryKind::Other };
        let sort = sort_of(&stat);
        if sort == EntryKind::Folder {
            let own = (stat.st_dev, stat.st_ino);
            let mut above = Some(folder.clone());
            while let Some(folder) = above {
                if self.folder_number(&folder) == Some(own) {
                    return EntryKind::Other;
                }
                above = folder.parent();
            }
        }
        sort
    }
}
