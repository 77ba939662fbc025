//! Looking: listings, and where paths lead.

use std::{
    collections::BTreeSet,
    io,
    sync::{Arc, PoisonError},
    thread,
};

use yalotheca_core::id::TreePath;

use super::{
    ListingAhead, RemoteTree,
    file_server::{RemoteEntry, RemoteKind, is_torn},
    kind_of,
    seen::{Found, Seen, Unseen},
};
use crate::tree::{EntryKind, TreeError};

/// So often paths are resolved again after something new was seen: links may lead to links.
const ROUNDS: usize = 100;
/// So many folders are worth another thread.
const MANY: usize = 40;
/// So many paths are worth waiting for what the other thread lists.
const MANY_PATHS: usize = 1_000;

impl RemoteTree {
    /// Says where each path leads.
    pub(super) fn look(&self, paths: &[TreePath]) -> Result<Vec<Found>, TreeError> {
        self.resolve(paths, true)
    }

    /// The same, and a link at the end of a path is not followed.
    pub(super) fn look_at_links(&self, paths: &[TreePath]) -> Result<Vec<Found>, TreeError> {
        self.resolve(paths, false)
    }

    fn resolve(&self, paths: &[TreePath], follows: bool) -> Result<Vec<Found>, TreeError> {
        if paths.len() >= MANY_PATHS {
            self.see_ahead();
        }
        for round in 0..ROUNDS {
            let mut found = Vec::with_capacity(paths.len());
            let (mut folders, mut links) = (BTreeSet::new(), BTreeSet::new());
            let (mut case, mut before) = (None, None);
            let seen = self.seen();
            for path in paths {
                match seen.find(&self.root, path, follows, &mut before) {
                    Ok(one) => found.push(one),
                    Err(Unseen::Folder(folder)) => {
                        // Mostly there is no link on the way, so all of it is asked for at once.
                        if round == 0 {
                            let around = Seen::around(path);
                            folders
                                .extend(around.into_iter().filter(|folder| seen.listing(folder).is_none()));
                        }
                        folders.insert(folder);
                    }
                    Err(Unseen::Link(link)) => drop(links.insert(link)),
                    Err(Unseen::Case(path, is_file)) => case = Some((path, is_file)),
                }
            }
            drop(seen);
            if found.len() == paths.len() {
                return Ok(found);
            }
            self.see(&Vec::from_iter(folders))?;
            if let Some((path, is_file)) = case {
                let asked = self.at(path.as_str());
                // Some servers answer what something is from the listing of its folder.
                let is_there = |_: &[usize]| {
                    let there = if is_file {
                        self.server.read(&[(asked.clone(), 0..1)]).pop().map(|read| read.map(drop))
                    } else {
                        self.server.list(std::slice::from_ref(&asked)).pop().map(|list| list.map(drop))
                    };
                    vec![there.unwrap_or_else(|| Err(io::ErrorKind::NotFound.into()))]
                };
                match self.retried(1, is_there).pop() {
                    Some(Err(error)) if is_torn(&error) => {
                        return Err(self.error("looking at", &path)(error));
                    }
                    answer => self.seen().ignores_case = Some(matches!(answer, Some(Ok(())))),
                }
            }
            for link in links {
                let read = self.retried(1, |_| vec![self.server.read_link(&self.at(link.as_str()))]);
                let target = read.into_iter().next().unwrap_or_else(|| Err(io::ErrorKind::NotFound.into()));
                let target = match target {
                    Err(error) if is_torn(&error) => return Err(self.error("reading", &link)(error)),
                    target => target,
                };
                // One that cannot be read leads nowhere.
                self.seen().link(link.clone(), target.unwrap_or_else(|_| ".".into()));
            }
        }
        Ok(paths.iter().map(|_| Found::Absent { real: None }).collect())
    }

    /// Has the folders of all files that are known from earlier listed by another thread.
    pub(super) fn list_ahead(&self) {
        if !self.server.features().ordered {
            return;
        }
        let (server, known, root) = (Arc::clone(&self.server), Arc::clone(&self.known), self.at(""));
        let listing = thread::spawn(move || {
            let mut folders: BTreeSet<TreePath> = BTreeSet::new();
            let mut last = String::new();
            known.each(|path, _| {
                let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
                if folder != last {
                    folder.clone_into(&mut last);
                    folders.extend(TreePath::new(folder));
                }
            });
            if folders.len() < MANY {
                return Vec::new();
            }
            let below = |folder: &TreePath| format!("{}/{folder}", root.trim_end_matches('/'));
            let paths: Vec<String> = folders.iter().map(below).collect();
            folders.into_iter().zip(server.list(&paths)).collect()
        });
        *self.ahead.lock().unwrap_or_else(PoisonError::into_inner) = Some(listing);
    }

    pub(super) fn take_ahead(&self) -> Option<ListingAhead> {
        self.ahead.lock().unwrap_or_else(PoisonError::into_inner).take()
    }

    /// Takes over what another thread has listed meanwhile. What it could not list is listed again.
    fn see_ahead(&self) {
        let Some(listing) = self.take_ahead() else { return };
        let listed = listing.join().unwrap_or_default();
        let mut seen = self.seen();
        for (folder, entries) in listed {
            if let Ok(entries) = entries
                && seen.listing(&folder).is_none()
            {
                seen.listed(folder, Some(entries));
            }
        }
    }

    /// Lists folders that were not seen yet.
    pub(super) fn see(&self, folders: &[TreePath]) -> Result<(), TreeError> {
        if folders.len() >= MANY {
            self.see_ahead();
        }
        let unseen: Vec<&TreePath> = {
            let seen = self.seen();
            folders.iter().filter(|folder| seen.listing(folder).is_none()).collect()
        };
        let paths: Vec<String> = unseen.iter().map(|folder| self.at(folder.as_str())).collect();
        let listed = self.retried(paths.len(), |indices| {
            self.server.list(&indices.iter().map(|index| paths[*index].clone()).collect::<Vec<_>>())
        });
        for (folder, listed) in unseen.into_iter().zip(listed) {
            let entries: Option<Vec<RemoteEntry>> = match listed {
                Ok(entries) => Some(entries),
                Err(error) if is_no_folder(&error) && !folder.is_root() => None,
                Err(error) => return Err(self.error("reading", folder)(error)),
            };
            self.seen().listed(folder.clone(), entries);
        }
        Ok(())
    }

    pub(super) fn list_folders(
        &self,
        folders: &[TreePath],
    ) -> Result<Vec<Vec<(String, EntryKind)>>, TreeError> {
        // Where they are, and what is in them, mostly in one go.
        let all: BTreeSet<TreePath> = folders
            .iter()
            .flat_map(|folder| Seen::around(folder).into_iter().chain([folder.clone()]))
            .collect();
        self.see(&Vec::from_iter(all))?;
        let mut lists = Vec::with_capacity(folders.len());
        let (mut reals, mut links) = (Vec::new(), Vec::new());
        for (folder, found) in folders.iter().zip(self.look(folders)?) {
            match found {
                Found::There { real, metadata, .. } if metadata.kind == RemoteKind::Folder => {
                    reals.push(Some(real));
                }
                Found::There { .. } | Found::Absent { .. } => reals.push(None),
                Found::Refused(refusal) => {
                    return Err(self.error("reading", folder)(io::Error::other(refusal)));
                }
            }
        }
        let real: Vec<TreePath> = reals.iter().flatten().cloned().collect();
        self.see(&real)?;
        for (at, real) in reals.iter().enumerate() {
            let mut list = Vec::new();
            let seen = self.seen();
            if let Some(folder) = real
                && let Some(Some(listing)) = seen.listing(folder)
            {
                for (name, entry) in listing {
                    let kind = match entry.metadata.kind {
                        RemoteKind::File => EntryKind::File(entry.metadata.size),
                        RemoteKind::Folder => EntryKind::Folder,
                        RemoteKind::Link => {
                            links.extend(folder.join(name).map(|path| (at, list.len(), path)));
                            EntryKind::Other
                        }
                        RemoteKind::Other => EntryKind::Other,
                    };
                    list.push((name.clone(), kind));
                }
            }
            lists.push(list);
        }
        let paths: Vec<TreePath> = links.iter().map(|(.., path)| path.clone()).collect();
        for ((at, index, path), found) in links.iter().zip(self.look(&paths)?) {
            // One that leads to a folder in which it lies itself would have no end.
            let is_round = matches!(&found, Found::There { real, .. } if path.is_within(real));
            if !is_round && let Some(kind) = kind_of(found) {
                lists[*at][*index].1 = kind;
            }
        }
        Ok(lists)
    }
}

/// Whether an error says that there is no such folder.
pub(super) fn is_no_folder(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
}
