//! A folder of downloaded contents: archives and folders are recognised by what is inside them.

use std::{
    collections::BTreeMap,
    fs, io,
    path::{Path, PathBuf},
};

use yalotheca_core::{
    catalogue::{Content, Release, ReleaseFile},
    control::Locked,
    game::{DescribeError, Game, Shape},
    id::{ContentId, Digest},
    route::{Payload, Recognised, recognise},
    version::ReleaseVersion,
};

use super::{ByteSource, CatalogueError, Listing, Unreadable};
use crate::{
    archive::{FolderBundle, ZipBundle, folder_payload},
    tree::digest_of,
};

/// How deep folders are looked through.
const DEEPEST: usize = 4;

#[derive(Debug, Clone)]
enum Where {
    /// The archive is the payload.
    Archive(PathBuf),
    /// A folder.
    Folder(PathBuf),
    /// A folder in an archive; none means its top.
    Inside(PathBuf, Option<String>),
}

struct Known {
    found: Recognised,
    at: Where,
}

pub(super) struct Downloads {
    name: String,
    known: Vec<Known>,
    unreadable: Vec<Unreadable>,
}

impl Downloads {
    pub(super) fn open(name: &str, folder: &Path, game: &Game) -> Result<Self, CatalogueError> {
        let mut downloads = Self { name: name.into(), known: Vec::new(), unreadable: Vec::new() };
        if !folder.is_dir() {
            let what = format!("the folder {}", folder.display());
            return Err(CatalogueError::Missing { name: name.into(), what });
        }
        downloads.look(folder, game, 0)?;
        Ok(downloads)
    }

    fn disk(&self, path: &Path) -> impl FnOnce(io::Error) -> CatalogueError + use<> {
        let (name, path) = (self.name.clone(), path.display().to_string());
        move |source| CatalogueError::Disk { name, path, source }
    }

    fn look(&mut self, folder: &Path, game: &Game, depth: usize) -> Result<(), CatalogueError> {
        let entries = fs::read_dir(folder).map_err(self.disk(folder))?;
        let mut paths: Vec<PathBuf> = entries.flatten().map(|entry| entry.path()).collect();
        paths.sort();
        for path in paths {
            let name = path.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned());
            if name.starts_with('.') {
                continue;
            }
            if path.is_dir() {
                match recognise(game, Shape::Folder, &name, &mut FolderBundle::new(&path)) {
                    Ok(Some(found)) => self.known.push(Known { found, at: Where::Folder(path) }),
                    Ok(None) if depth < DEEPEST => self.look(&path, game, depth + 1)?,
                    Ok(None) => {}
                    Err(error) => self.unreadable(&path, error),
                }
            } else if path.is_file() {
                self.look_into(&path, &name, game)?;
            }
        }
        Ok(())
    }

    fn unreadable(&mut self, path: &Path, error: DescribeError) {
        self.unreadable.push(Unreadable { path: path.display().to_string(), error });
    }

    fn look_into(&mut self, path: &Path, name: &str, game: &Game) -> Result<(), CatalogueError> {
        let mut bundle = match ZipBundle::open(path) {
            Ok(Some(bundle)) => bundle,
            Ok(None) => return Ok(()),
            Err(error) => {
                self.unreadable(
                    path,
                    DescribeError { file: name.into(), why: format!("a damaged archive: {error}") },
                );
                return Ok(());
            }
        };
        match recognise(game, Shape::Archive, name, &mut bundle) {
            Ok(Some(mut found)) => {
                let (blake3, size) = digest_of(path).map_err(self.disk(path))?;
                found.release.files = vec![ReleaseFile { name: name.into(), size, blake3, at: None }];
                self.known.push(Known { found, at: Where::Archive(path.into()) });
                return Ok(());
            }
            Ok(None) => {}
            Err(error) => {
                self.unreadable(path, error);
                return Ok(());
            }
        }
        let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem);
        let wrapper = bundle.wrapper();
        for (folder, name) in [(None, stem)].into_iter().chain(wrapper.as_deref().map(|w| (Some(w), w))) {
            let Some(mut inner) = ZipBundle::open(path).map_err(self.disk(path))? else { return Ok(()) };
            if let Some(folder) = folder {
                inner = inner.inside(folder);
            }
            match recognise(game, Shape::Folder, name, &mut inner) {
                Ok(Some(found)) => {
                    let at = Where::Inside(path.into(), folder.map(str::to_owned));
                    self.known.push(Known { found, at });
                    return Ok(());
                }
                Ok(None) => {}
                Err(error) => {
                    self.unreadable(path, error);
                    return Ok(());
                }
            }
        }
        Ok(())
    }

    pub(super) fn listings(&self) -> Vec<Listing> {
        let listing = |known: &Known| Listing {
            id: known.found.id.clone(),
            title: known.found.title.clone(),
            about: known.found.about.clone(),
        };
        self.known.iter().map(listing).collect()
    }

    pub(super) fn unreadable_list(&self) -> &[Unreadable] {
        &self.unreadable
    }

    pub(super) fn providers(&self, id: &ContentId) -> Vec<ContentId> {
        let provides = self.known.iter().filter(|known| known.found.release.provides.contains_key(id));
        provides.map(|known| known.found.id.clone()).collect()
    }

    pub(super) fn content(&self, id: &ContentId) -> Option<Content> {
        let mut releases: Vec<Release> = Vec::new();
        let mut first: Option<&Recognised> = None;
        for known in self.known.iter().filter(|known| known.found.id == *id) {
            first.get_or_insert(&known.found);
            releases.push(known.found.release.clone());
        }
        let first = first?;
        Some(Content {
            id: id.clone(),
            title: first.title.clone(),
            about: first.about.clone(),
            catalogue: self.name.clone(),
            releases,
        })
    }

    fn find(&self, id: &ContentId, version: &ReleaseVersion) -> Result<&Known, CatalogueError> {
        self.known
            .iter()
            .find(|known| known.found.id == *id && known.found.release.version == *version)
            .ok_or_else(|| CatalogueError::Missing {
                name: self.name.clone(),
                what: format!("{id} {version}"),
            })
    }

    pub(super) fn payload(
        &self,
        id: &ContentId,
        version: &ReleaseVersion,
    ) -> Result<Payload, CatalogueError> {
        match &self.find(id, version)?.at {
            Where::Archive(path) => {
                let (digest, size) = digest_of(path).map_err(self.disk(path))?;
                let name =
                    path.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned());
                Ok(Payload { files: vec![yalotheca_core::route::PayloadFile { path: name, size, digest }] })
            }
            Where::Folder(path) => folder_payload(path).map_err(self.disk(path)),
            Where::Inside(path, folder) => {
                let bundle = ZipBundle::open(path).map_err(self.disk(path))?;
                let Some(mut bundle) = bundle else {
                    return Err(CatalogueError::Missing {
                        name: self.name.clone(),
                        what: path.display().to_string(),
                    });
                };
                if let Some(folder) = folder {
                    bundle = bundle.inside(folder);
                }
                bundle.payload().map_err(self.disk(path))
            }
        }
    }

    pub(super) fn fetch(&self, locked: &Locked) -> Result<BTreeMap<Digest, ByteSource>, CatalogueError> {
        let known = self.find(&locked.id, &locked.release.version)?;
        let payload = self.payload(&locked.id, &locked.release.version)?;
        if locked.release.payload.is_some_and(|digest| digest != payload.digest()) {
            return Err(CatalogueError::Changed { name: self.name.clone(), id: locked.id.clone() });
        }
        let source = |path: &str| match &known.at {
            Where::Archive(archive) => ByteSource::File(archive.clone()),
            Where::Folder(folder) => ByteSource::File(folder.join(path)),
            Where::Inside(archive, folder) => {
                ByteSource::Member { archive: archive.clone(), folder: folder.clone(), path: path.into() }
            }
        };
        Ok(payload.files.iter().map(|file| (file.digest, source(&file.path))).collect())
    }
}
