//! Who owns what is put on a server, and who may do what with it.

use std::{fs::File, io, os::unix::fs::MetadataExt};

use rustix::fs::{Gid, Mode, Stat, Uid, fchmod, fchown};

/// Who owns a file or a folder, and who may do what with it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Attributes {
    /// The nine bits of the mode.
    pub(super) mode: u32,
    /// The user's number.
    pub(super) owner: u32,
    /// The group's number.
    pub(super) group: u32,
}

impl Attributes {
    pub(super) fn of(stat: &Stat) -> Self {
        Self { mode: stat.st_mode & 0o777, owner: stat.st_uid, group: stat.st_gid }
    }

    /// What a new file in a folder gets.
    pub(super) fn below(folder: &Stat) -> Self {
        Self { mode: folder.st_mode & 0o664 | 0o600, ..Self::of(folder) }
    }

    pub(super) fn own(root: &Stat) -> Self {
        let group = if root.st_mode & 0o050 == 0o050 { 0o040 } else { 0 };
        Self { mode: 0o600 | group, ..Self::of(root) }
    }

    /// Returns these without any right of the group.
    #[must_use]
    pub(super) fn secret(self) -> Self {
        Self { mode: self.mode & 0o700, ..self }
    }

    /// Who may read a folder's files may enter it.
    #[must_use]
    pub(super) fn as_folder(self) -> Self {
        Self { mode: self.mode | (self.mode & 0o444) >> 2, ..self }
    }

    /// Whether an existing file, shared by a second name, has these already.
    pub(super) fn has(self, metadata: &std::fs::Metadata) -> bool {
        metadata.mode() & 0o777 == self.mode && (metadata.uid(), metadata.gid()) == self.wanted_owner()
    }

    /// Only root may give files away; others make files of their own.
    pub(super) fn wanted_owner(self) -> (u32, u32) {
        let (user, group) = (rustix::process::geteuid(), rustix::process::getegid());
        if user.is_root() { (self.owner, self.group) } else { (user.as_raw(), group.as_raw()) }
    }

    /// Gives them to an open file or folder.
    pub(super) fn give(self, file: &File) -> io::Result<()> {
        let now = rustix::fs::fstat(file)?;
        let (owner, group) = self.wanted_owner();
        if rustix::process::geteuid().is_root() && (now.st_uid, now.st_gid) != (owner, group) {
            fchown(file, Some(Uid::from_raw(owner)), Some(Gid::from_raw(group)))?;
        } else if now.st_gid != self.group {
            // Only members of the group and root can set it.
            fchown(file, None, Some(Gid::from_raw(self.group))).ok();
        }
        if now.st_mode & 0o777 != self.mode {
            fchmod(file, Mode::from_raw_mode(self.mode))?;
        }
        Ok(())
    }
}
