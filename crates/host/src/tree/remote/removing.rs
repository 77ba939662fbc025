//! Removing: empty folders, files of ours, and what was left half-written.

use std::{collections::BTreeSet, io};

use yalotheca_core::id::TreePath;

use super::{
    RemoteTree, TEMPORARY,
    file_server::RemoteKind,
    looking::is_no_folder,
    seen::{Found, OLD},
};
use crate::tree::{TreeError, known::Cursor as Known};

impl RemoteTree {
    /// Returns the paths without links on their way; nothing for one that is not there, or that a link leads out to.
    fn without_links(&self, paths: &[TreePath]) -> Result<Vec<Option<TreePath>>, TreeError> {
        let real = |found| match found {
            Found::There { real, .. } => Some(real),
            Found::Absent { .. } | Found::Refused(_) => None,
        };
        Ok(self.look_at_links(paths)?.into_iter().map(real).collect())
    }

    pub(super) fn remove_if_empty(&self, path: &TreePath) -> Result<bool, TreeError> {
        let real = self.without_links(std::slice::from_ref(path))?.pop().flatten();
        let Some(path) = &real else { return Ok(true) };
        let asked = [self.at(path.as_str())];
        let removed = self.retried(1, |_| self.server.remove_folders(&asked)).pop().unwrap_or(Ok(()));
        match removed {
            Ok(()) => {
                self.seen().removed(path);
                Ok(true)
            }
            Err(error) if is_no_folder(&error) => {
                self.seen().removed(path);
                Ok(true)
            }
            Err(error) if error.kind() == io::ErrorKind::DirectoryNotEmpty => Ok(false),
            Err(error) => {
                // Many a server has one word for all that can go wrong.
                self.seen().forget_folder(path);
                let is_empty =
                    self.list_folders(std::slice::from_ref(path))?.pop().is_none_or(|list| list.is_empty());
                if is_empty { Err(self.error("removing the folder", path)(error)) } else { Ok(false) }
            }
        }
    }

    pub(super) fn remove_each(&self, paths: &[TreePath]) -> Result<(), TreeError> {
        let paths: Vec<TreePath> = self.without_links(paths)?.into_iter().flatten().collect();
        let asked: Vec<String> = paths.iter().map(|path| self.at(path.as_str())).collect();
        let removed = self.retried(asked.len(), |indices| {
            self.server.remove_files(&indices.iter().map(|index| asked[*index].clone()).collect::<Vec<_>>())
        });
        for (path, removed) in paths.iter().zip(removed) {
            match removed {
                Err(error) if !is_no_folder(&error) => return Err(self.error("removing", path)(error)),
                _ => {
                    self.known.forget(&mut Known::default(), path);
                    self.seen().removed(path);
                }
            }
        }
        Ok(())
    }

    /// Removes the file and the folder of a lock by their names: they are not looked at first.
    pub(super) fn remove_lock_by_name(&self, file: &TreePath, folder: &TreePath) -> Result<(), TreeError> {
        // In a folder of ours that is known to be no link.
        let is_plain = folder.parent().is_some_and(|own| self.seen().is_folder(&own));
        if !is_plain {
            self.remove_each(std::slice::from_ref(file))?;
            return self.remove_if_empty(folder).map(drop);
        }
        let (asked, above) = (self.at(file.as_str()), self.at(folder.as_str()));
        // Somebody else's lock may be in the folder by now: then it stays.
        for removed in self.retried(1, |_| vec![self.server.remove_with_folder(&asked, &above)]) {
            removed
                .or_else(|error| if is_no_folder(&error) { Ok(()) } else { Err(error) })
                .map_err(self.error("removing", file))?;
        }
        let mut seen = self.seen();
        seen.removed(file);
        seen.removed(folder);
        Ok(())
    }

    pub(super) fn remove_whole(&self, path: &TreePath) -> Result<(), TreeError> {
        let (mut files, mut levels) = (Vec::new(), vec![vec![path.clone()]]);
        match self.look_at_links(std::slice::from_ref(path))?.pop() {
            Some(Found::There { metadata, .. }) if metadata.kind == RemoteKind::Folder => {}
            Some(Found::There { .. }) => return self.remove_each(std::slice::from_ref(path)),
            _ => return Ok(()),
        }
        while let Some(level) = levels.last().filter(|level| !level.is_empty()) {
            self.see(level)?;
            let mut next = Vec::new();
            let seen = self.seen();
            for folder in level {
                for (name, entry) in seen.listing(folder).into_iter().flatten().flatten() {
                    let Ok(inner) = folder.join(name) else { continue };
                    if entry.metadata.kind == RemoteKind::Folder {
                        next.push(inner);
                    } else {
                        files.push(inner);
                    }
                }
            }
            drop(seen);
            levels.push(next);
        }
        self.remove_each(&files)?;
        levels.reverse();
        if self.server.features().ordered {
            // Inner ones go first, so all of them can be asked for at once.
            levels = vec![levels.into_iter().flatten().collect()];
        }
        for level in levels {
            let asked: Vec<String> = level.iter().map(|folder| self.at(folder.as_str())).collect();
            let removed = self.retried(asked.len(), |indices| {
                self.server
                    .remove_folders(&indices.iter().map(|index| asked[*index].clone()).collect::<Vec<_>>())
            });
            for (folder, removed) in level.iter().zip(removed) {
                match removed {
                    Err(error) if !is_no_folder(&error) => {
                        return Err(self.error("removing", folder)(error));
                    }
                    _ => drop(self.seen().removed(folder)),
                }
            }
        }
        Ok(())
    }

    pub(super) fn sweep_folders(&self, folders: &[TreePath]) -> Result<(), TreeError> {
        let listed = self.list_folders(folders)?;
        let mut left = Vec::new();
        for (folder, names) in folders.iter().zip(listed) {
            let known: BTreeSet<&str> = names.iter().map(|(name, _)| name.as_str()).collect();
            for (name, _) in &names {
                let is_old = name.strip_prefix(OLD).is_some_and(|own| {
                    let is_alias = self.seen().is_alias(folder, own);
                    known.contains(own) && !is_alias
                });
                if name.starts_with(TEMPORARY) || is_old {
                    left.extend(folder.join(name));
                }
            }
        }
        self.remove_each(&left)
    }
}
