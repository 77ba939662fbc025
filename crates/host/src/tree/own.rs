//! What only a folder on this machine can do, and what settling does with files of ours: temporary ones, prepared ones, the lock.

use std::{
    fs::File,
    io::{self, Write},
    sync::atomic::{AtomicU64, Ordering},
};

use rustix::{
    fs::{self as system, AtFlags, Mode, OFlags, accessat, mkdirat, renameat, unlinkat},
    io::Errno,
};
use yalotheca_core::id::TreePath;

use super::{
    Access, EntryKind, LocalTree, TreeError,
    attributes::Attributes,
    is_own,
    local::sort_of,
    rooted::{Spot, is_absent},
};

/// The prefix of temporary files beside a server's own; recovering a settle removes left-over ones.
const TEMPORARY: &str = ".yalotheca-new-";

/// A file that is written and has not got its name yet; without that it goes again.
#[derive(Debug)]
pub struct Prepared {
    temporary: Spot,
    spot: Spot,
    is_done: bool,
}

impl Drop for Prepared {
    fn drop(&mut self) {
        if !self.is_done {
            unlinkat(&self.temporary.folder, &self.temporary.name, AtFlags::empty()).ok();
        }
    }
}

impl LocalTree {
    /// Makes a new file, or empties one of ours.
    pub(super) fn create(&self, path: &TreePath, attributes: &Attributes) -> io::Result<File> {
        self.fault()?;
        let spot = self.root.spot(path.as_str())?;
        let file = spot.open(OFlags::WRONLY | OFlags::CREATE | OFlags::TRUNC, 0o600)?;
        attributes.give(&file)?;
        Ok(file)
    }

    /// Makes a new file beside an entry, under a unique name.
    pub(super) fn temporary(spot: &Spot) -> io::Result<(File, Spot)> {
        static MADE: AtomicU64 = AtomicU64::new(0);
        loop {
            let number = MADE.fetch_add(1, Ordering::Relaxed);
            let name = format!("{TEMPORARY}{}-{number}", std::process::id());
            let folder = spot.folder.try_clone()?;
            let beside = Spot { folder, name: name.into() };
            match beside.open(OFlags::RDWR | OFlags::CREATE | OFlags::EXCL, 0o600) {
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                file => return Ok((file?, beside)),
            }
        }
    }

    /// Fills a new file beside an entry and gives it the entry's name once it is whole and on the disk.
    pub(super) fn replace_at(spot: &Spot, write: impl FnOnce(&mut File) -> io::Result<()>) -> io::Result<()> {
        let (mut file, temporary) = Self::temporary(spot)?;
        let replaced = write(&mut file)
            .and_then(|()| file.sync_all())
            .and_then(|()| Ok(renameat(&temporary.folder, &temporary.name, &spot.folder, &spot.name)?))
            .and_then(|()| spot.sync_folder());
        if replaced.is_err() {
            unlinkat(&temporary.folder, &temporary.name, AtFlags::empty()).ok();
        }
        replaced
    }

    /// Removes what a command that ended suddenly has left half-written in a folder.
    ///
    /// # Errors
    /// Where the folder cannot be read, or one cannot be removed.
    pub(super) fn sweep_folder(&self, folder: &TreePath) -> Result<(), TreeError> {
        for (name, found) in self.entries(folder, false)? {
            if name.starts_with(TEMPORARY) && matches!(found, EntryKind::File(_)) {
                let path = folder
                    .join(&name)
                    .map_err(|error| self.error("removing", folder)(io::Error::other(error)))?;
                self.remove_own_file(&path)?;
            }
        }
        Ok(())
    }

    /// Writes a file beside the one whose name it is to get, and waits until it is on the disk: giving it the name needs no
    /// more room.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn prepare(&self, path: &TreePath, bytes: &[u8]) -> Result<Prepared, TreeError> {
        let attributes = self.attributes_for(path)?;
        let prepare = || {
            self.fault()?;
            let spot = self.root.target(path.as_str())?;
            let (mut file, temporary) = Self::temporary(&spot)?;
            let prepared = Prepared { temporary, spot, is_done: false };
            file.write_all(bytes)?;
            attributes.give(&file)?;
            file.sync_all()?;
            Ok(prepared)
        };
        prepare().map_err(self.error("writing", path))
    }

    /// Gives a prepared file its name.
    ///
    /// # Errors
    /// Where it cannot be done; then what was there before is still there.
    pub fn commit(&self, mut prepared: Prepared, path: &TreePath) -> Result<(), TreeError> {
        let Prepared { temporary, spot, is_done } = &mut prepared;
        let mut commit = || {
            self.fault()?;
            renameat(&temporary.folder, &temporary.name, &spot.folder, &spot.name)?;
            *is_done = true;
            spot.sync_folder()
        };
        commit().map_err(self.error("writing", path))
    }

    /// Opens a file of ours to lock it, and makes it where it is not there.
    ///
    /// # Errors
    /// Where it cannot be opened.
    pub fn open_own(&self, path: &TreePath) -> Result<File, TreeError> {
        let attributes = self.own_attributes()?;
        let open = || {
            let spot = self.root.spot(path.as_str())?;
            let file = spot.open(OFlags::RDWR | OFlags::CREATE | OFlags::APPEND, 0o600)?;
            // One that another administrator made stays theirs.
            attributes.give(&file).ok();
            Ok(file)
        };
        open().map_err(self.error("writing", path))
    }

    /// Removes one file of ours.
    ///
    /// # Errors
    /// Where it cannot be removed.
    pub(super) fn remove_own_file(&self, path: &TreePath) -> Result<(), TreeError> {
        let removed = self
            .fault()
            .and_then(|()| self.root.spot(path.as_str()))
            .and_then(|spot| Ok(unlinkat(&spot.folder, &spot.name, AtFlags::empty())?));
        match removed {
            Err(error) if !is_absent(&error) => Err(self.error("removing", path)(error)),
            _ => Ok(()),
        }
    }

    /// Makes sure that an entry can be put at a path, replaced or removed there, as far as that can be known without doing it.
    ///
    /// # Errors
    /// Where it cannot.
    pub(super) fn check_one_writable(&self, path: &TreePath) -> Result<(), TreeError> {
        let check = || {
            let spot = match self.root.target(path.as_str()) {
                // Its folder is made first.
                Err(error) if is_absent(&error) => return Ok(()),
                spot => spot?,
            };
            // The system refuses to write to what was made immutable even where nothing else stands against it.
            if let Err(error @ (Errno::PERM | Errno::ROFS)) =
                accessat(&spot.folder, &spot.name, system::Access::WRITE_OK, AtFlags::EACCESS)
            {
                return Err(error.into());
            }
            Ok(accessat(
                &spot.folder,
                ".",
                system::Access::WRITE_OK | system::Access::EXEC_OK,
                AtFlags::EACCESS,
            )?)
        };
        check().map_err(self.error("writing", path))
    }

    /// Returns the owner, group and mode that a file or folder at a path has, or that a new one there gets.
    ///
    /// # Errors
    /// Where that cannot be looked at.
    fn attributes(&self, path: &TreePath) -> Result<Attributes, TreeError> {
        let look = || {
            let there = self.root.stat(path.as_str())?.filter(|stat| sort_of(stat) != EntryKind::Other);
            Ok(there.map(|stat| Attributes::of(&stat)))
        };
        match look().map_err(self.error("looking at", path))? {
            Some(attributes) => Ok(attributes),
            None => self.attributes_below(&path.parent().unwrap_or_else(TreePath::root)),
        }
    }

    /// Returns what a new file in a folder gets.
    ///
    /// # Errors
    /// Where the folder cannot be looked at.
    fn attributes_below(&self, folder: &TreePath) -> Result<Attributes, TreeError> {
        let look = || {
            let mut next = Some(folder.clone());
            while let Some(folder) = next {
                if let Some(stat) = self.root.stat(folder.as_str())? {
                    return Ok(Attributes::below(&stat));
                }
                next = folder.parent();
            }
            Err(Errno::NOENT.into())
        };
        look().map_err(self.error("looking at", folder))
    }

    /// Returns the attributes of our own files: private, but readable by the group if the server's folder is.
    ///
    /// # Errors
    /// Where the server's folder cannot be looked at.
    pub(super) fn own_attributes(&self) -> Result<Attributes, TreeError> {
        let look = || Ok(Attributes::own(&self.root.stat("")?.ok_or(Errno::NOENT)?));
        look().map_err(self.error("looking at", &TreePath::root()))
    }

    pub(super) fn attributes_for(&self, path: &TreePath) -> Result<Attributes, TreeError> {
        if is_own(path) { self.own_attributes() } else { self.attributes(path) }
    }

    pub(super) fn attributes_by(&self, access: Access<'_>) -> Result<Attributes, TreeError> {
        match access {
            Access::Own => self.own_attributes(),
            Access::Secret => Ok(self.own_attributes()?.secret()),
            Access::Like(path) => self.attributes(path),
            Access::Below(folder) => self.attributes_below(folder),
        }
    }

    /// Makes a folder and those above it that are not there.
    pub(super) fn make(&self, path: &TreePath, attributes: &Attributes) -> io::Result<()> {
        let is_there = || {
            self.root
                .stat(path.as_str())
                .map(|stat| stat.is_some_and(|stat| sort_of(&stat) == EntryKind::Folder))
        };
        let spot = match self.root.spot(path.as_str()) {
            Err(error) if is_absent(&error) && !path.is_root() => {
                if let Some(above) = path.parent() {
                    self.make(&above, attributes)?;
                }
                self.root.spot(path.as_str())?
            }
            spot => spot?,
        };
        match mkdirat(&spot.folder, &spot.name, Mode::from_raw_mode(0o700)) {
            Ok(()) => attributes.as_folder().give(&spot.open(OFlags::RDONLY | OFlags::DIRECTORY, 0)?),
            Err(Errno::EXIST) if is_there()? => Ok(()),
            Err(error) => Err(error.into()),
        }
    }
}
