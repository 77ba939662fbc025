//! Moving what is there: over what is in the way, or past it.

use std::io;

use yalotheca_core::id::TreePath;

use super::{
    RemoteTree,
    looking::is_no_folder,
    seen::{Found, OLD},
    stamp_of,
};
use crate::tree::{TreeError, known::Cursor as Known};

impl RemoteTree {
    /// Moves a file to where another one may be.
    pub(super) fn move_over(&self, from: &TreePath, to: &TreePath, is_there: bool) -> io::Result<()> {
        let (source, target) = (self.at(from.as_str()), self.at(to.as_str()));
        if !is_there || self.server.features().replaces {
            return self.rename_each(&[(source, target)]).pop().unwrap_or(Ok(()));
        }
        // The old one is known by its own name until the new one has it.
        let folder = to.parent().unwrap_or_else(TreePath::root);
        let old = folder.join(&format!("{OLD}{}", to.name())).map_err(io::Error::other)?;
        let old = self.at(old.as_str());
        let gone = |result: io::Result<()>| match result {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        };
        let remove = || self.retried(1, |_| self.server.remove_files(std::slice::from_ref(&old)));
        // An earlier replacement that was interrupted has left it so.
        let is_away = self.seen().is_alias(&folder, to.name());
        if !is_away {
            gone(remove().pop().unwrap_or(Ok(())))?;
            self.rename_each(&[(target.clone(), old.clone())]).pop().unwrap_or(Ok(()))?;
        }
        self.rename_each(&[(source, target)]).pop().unwrap_or(Ok(()))?;
        gone(remove().pop().unwrap_or(Ok(())))
    }

    /// Renames; a rename whose answer was lost may have been done.
    fn rename_each(&self, moves: &[(String, String)]) -> Vec<io::Result<()>> {
        let is_first = std::cell::Cell::new(true);
        self.retried(moves.len(), |indices| {
            let asked: Vec<(String, String)> = indices.iter().map(|index| moves[*index].clone()).collect();
            let mut done = self.server.rename(&asked);
            if !is_first.replace(false) {
                for (result, (from, to)) in done.iter_mut().zip(&asked) {
                    let is_gone = result.as_ref().is_err_and(is_no_folder);
                    if is_gone
                        && self
                            .server
                            .metadata(std::slice::from_ref(to))
                            .pop()
                            .is_some_and(|there| there.is_ok())
                        && self
                            .server
                            .metadata(std::slice::from_ref(from))
                            .pop()
                            .is_some_and(|there| there.is_err())
                    {
                        *result = Ok(());
                    }
                }
            }
            done
        })
    }

    pub(super) fn move_all(&self, moves: &[(&TreePath, &TreePath)]) -> Result<(), TreeError> {
        if moves.is_empty() {
            return Ok(());
        }
        let (from, to): (Vec<TreePath>, Vec<TreePath>) =
            moves.iter().map(|(from, to)| ((*from).clone(), (*to).clone())).unzip();
        let sources = self.look_at_links(&from)?;
        let targets = self.look(&to)?;
        let (mut plain, mut over) = (Vec::new(), Vec::new());
        for ((at, source), target) in sources.into_iter().enumerate().zip(targets) {
            let failed = |error: io::Error| self.error("moving a file to", &to[at])(error);
            let (source, called) = match source {
                Found::There { real, called, .. } => (real, called),
                Found::Absent { .. } => return Err(failed(io::ErrorKind::NotFound.into())),
                Found::Refused(refusal) => return Err(failed(io::Error::other(refusal))),
            };
            match target {
                Found::Absent { real: Some(real) } => plain.push((source, called, real)),
                Found::There { real, .. } => over.push((source, called, real)),
                Found::Absent { real: None } => return Err(failed(io::ErrorKind::NotFound.into())),
                Found::Refused(refusal) => return Err(failed(io::Error::other(refusal))),
            }
        }
        if self.server.features().replaces {
            plain.append(&mut over);
        }
        let asked: Vec<(String, String)> =
            plain.iter().map(|(_, called, to)| (self.at(called), self.at(to.as_str()))).collect();
        let mut failed = None;
        for ((source, _, target), moved) in plain.iter().zip(self.rename_each(&asked)) {
            match moved {
                Ok(()) => self.note_moved(source, target),
                Err(error) => {
                    failed.get_or_insert(self.error("moving a file to", target)(error));
                }
            }
        }
        if let Some(error) = failed {
            self.seen().forget();
            return Err(error);
        }
        for (source, _, target) in over {
            self.move_over(&source, &target, true).map_err(self.error("moving a file to", &target))?;
            self.note_moved(&source, &target);
        }
        Ok(())
    }

    /// Notes a move, with the digests of the moved files.
    fn note_moved(&self, from: &TreePath, to: &TreePath) {
        let mut seen = self.seen();
        let mut cursor = Known::default();
        for (path, metadata) in seen.files_within(from) {
            if let Some(stamp) = stamp_of(&metadata)
                && let Some(digest) = self.known.find(&mut cursor, &path, &stamp)
                && let Some(moved) = path.moved(from, to)
            {
                self.known.insert(&moved, stamp, digest);
            }
            self.known.forget(&mut cursor, &path);
        }
        seen.moved(from, to);
    }

    pub(super) fn exchange_all(
        &self,
        exchanges: &[(&TreePath, &TreePath, &TreePath)],
    ) -> Result<(), TreeError> {
        if exchanges.is_empty() {
            return Ok(());
        }
        let features = self.server.features();
        if !(features.replaces && features.hard_links) {
            // For a moment nothing is there.
            let away: Vec<(&TreePath, &TreePath)> =
                exchanges.iter().map(|(_, to, attic)| (*to, *attic)).collect();
            self.move_all(&away)?;
            let moves: Vec<(&TreePath, &TreePath)> =
                exchanges.iter().map(|(from, to, _)| (*from, *to)).collect();
            return self.move_all(&moves);
        }
        let mut links = Vec::with_capacity(exchanges.len());
        for (_, to, attic) in exchanges {
            let (real, metadata) = self.target("keeping a copy at", to)?;
            links.push((real, (*attic).clone(), metadata));
        }
        let asked: Vec<(String, String)> =
            links.iter().map(|(real, attic, _)| (self.at(real.as_str()), self.at(attic.as_str()))).collect();
        let linked = self.retried(asked.len(), |indices| {
            self.server.link(&indices.iter().map(|index| asked[*index].clone()).collect::<Vec<_>>())
        });
        for ((_, attic, metadata), linked) in links.into_iter().zip(linked) {
            match linked {
                Err(error) if error.kind() != io::ErrorKind::AlreadyExists => {
                    return Err(self.error("keeping a copy at", &attic)(error));
                }
                _ => {
                    if let Some(metadata) = metadata {
                        self.seen().put(&attic, metadata);
                    }
                }
            }
        }
        let moves: Vec<(&TreePath, &TreePath)> = exchanges.iter().map(|(from, to, _)| (*from, *to)).collect();
        self.move_all(&moves)
    }
}
