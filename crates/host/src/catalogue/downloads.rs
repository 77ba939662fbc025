//! A folder of downloaded contents: archives and folders are recognised by what is inside them.

use std::{
    fs, io,
    path::{Path, PathBuf},
    sync::{Arc, OnceLock},
    time::SystemTime,
};

use yalotheca_core::{
    catalogue::{Content, Recognised, Release, ReleaseFile},
    control::Locked,
    game::{DescribeError, Game, Shape},
    id::{ContentId, TreePath},
    route::{Asked, Payload, PayloadFile, recognise, sort_out},
    version::ReleaseVersion,
};

use super::{CatalogueError, Listing, Unreadable};
use crate::sources::{ByteSource, Sources};
use crate::{
    archive::{FolderBundle, ZipBundle, folder_payload},
    arrival::{ArrivalError, Arrived, LookOptions, is_file_kind, look},
    container::{Container, bare_name},
    store::Store,
    tree::{LocalTree, Tree, digest_of},
    unpack::container_of,
};

/// How deep folders are looked through.
const DEEPEST: usize = 4;

#[derive(Debug, Clone)]
enum Where {
    /// The archive is the payload.
    Archive(PathBuf),
    /// A folder.
    Folder(PathBuf),
    /// Something in an archive, or a file with its companions: where it lies in that.
    Inside(PathBuf, String),
}

struct Known {
    found: Recognised,
    at: Where,
    /// Its files, once somebody has asked for them.
    payload: OnceLock<Arc<Payload>>,
}

impl Known {
    fn new(found: Recognised, at: Where) -> Self {
        Self { found, at, payload: OnceLock::new() }
    }

    fn path(&self) -> &Path {
        match &self.at {
            Where::Archive(path) | Where::Folder(path) | Where::Inside(path, _) => path,
        }
    }

    /// Returns when a file of it was changed last.
    fn modified(&self) -> Option<SystemTime> {
        let files = walkdir::WalkDir::new(self.path()).follow_root_links(true).into_iter().flatten();
        let files = files.filter(|entry| entry.file_type().is_file());
        files.filter_map(|entry| entry.metadata().ok()?.modified().ok()).max()
    }
}

/// Two contents of one id and version with other bytes in one folder of downloads.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Doubled {
    /// The content.
    pub id: ContentId,
    /// The one that counts, since its files are newer.
    pub newer: String,
    /// The others.
    pub older: Vec<String>,
}

pub(super) struct Downloads<'a> {
    name: String,
    game: &'a Game,
    store: Store,
    known: Vec<Known>,
    unreadable: Vec<Unreadable>,
}

impl<'a> Downloads<'a> {
    pub(super) fn open(
        name: &str,
        folder: &Path,
        game: &'a Game,
        store: &Store,
    ) -> Result<Self, CatalogueError> {
        let (known, unreadable) = (Vec::new(), Vec::new());
        let mut downloads = Self { name: name.into(), game, store: store.clone(), known, unreadable };
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
                    Ok(Some(found)) => self.known.push(Known::new(found, Where::Folder(path))),
                    Ok(None) if depth < DEEPEST => self.look(&path, game, depth + 1)?,
                    Ok(None) => {}
                    Err(error) => self.unreadable(&path, &error),
                }
            } else if path.is_file() {
                self.look_into(&path, &name, game)?;
            }
        }
        Ok(())
    }

    fn unreadable(&mut self, path: &Path, error: &DescribeError) {
        self.unreadable.push(Unreadable { path: path.display().to_string(), why: error.to_string() });
    }

    fn look_into(&mut self, path: &Path, name: &str, game: &Game) -> Result<(), CatalogueError> {
        let container = container_of(path).map_err(self.disk(path))?;
        // A zip's list of members stands at its end, so that nothing need be unpacked to look into it.
        if container == Some(Container::Zip) {
            let mut bundle = match ZipBundle::open(path) {
                Ok(Some(bundle)) => bundle,
                Ok(None) => return Ok(()),
                Err(error) => {
                    let why = format!("a damaged archive: {error}");
                    self.unreadable(path, &DescribeError { file: name.into(), why });
                    return Ok(());
                }
            };
            match recognise(game, Shape::Archive, name, &mut bundle) {
                Ok(Some(mut found)) => {
                    let (blake3, size) = digest_of(path).map_err(self.disk(path))?;
                    found.release.files = vec![ReleaseFile { name: name.into(), size, blake3, at: None }];
                    self.known.push(Known::new(found, Where::Archive(path.into())));
                    return Ok(());
                }
                Ok(None) => {}
                Err(error) => {
                    self.unreadable(path, &error);
                    return Ok(());
                }
            }
            let is_content = is_file_kind(game, None, path, name).map_err(self.disk(path))?;
            match sort_out(game, bare_name(name), &mut bundle, &Asked::default()) {
                Ok(_) if is_content => {}
                Ok(sorted) if sorted.inner.is_empty() => {
                    for found in sorted.contents {
                        let at = Where::Inside(path.into(), found.root);
                        self.known.push(Known::new(found.content, at));
                    }
                    return Ok(());
                }
                Ok(_) => {}
                Err(error) => {
                    self.unreadable(path, &error);
                    return Ok(());
                }
            }
        }
        let may_be_one = container.is_some()
            || game.kinds.values().any(|kind| {
                kind.shape == Shape::File
                    && kind.suffix.as_ref().is_none_or(|suffix| name.ends_with(suffix.as_str()))
            });
        if !may_be_one {
            return Ok(());
        }
        match look(path, game, &self.store, &LookOptions::default()) {
            Ok(arrival) => {
                for arrived in arrival.contents {
                    let at = Where::Inside(path.into(), arrived.inside.clone());
                    let mut known = Known::new(arrived.content, at);
                    let release = &mut known.found.release;
                    release.payload = None;
                    if release.version.is_unversioned() {
                        release.version = ReleaseVersion::unversioned();
                    }
                    known.payload = OnceLock::from(arrived.payload);
                    self.known.push(known);
                }
            }
            // A file that has nothing to do with the game lies here by right.
            Err(ArrivalError::Nothing { .. }) if container.is_some() => {}
            Err(ArrivalError::Describe { source, .. }) => self.unreadable(path, &source),
            Err(error) => {
                self.unreadable(
                    path,
                    &DescribeError { file: name.into(), why: without_name(&error.to_string(), name) },
                );
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

    /// Returns the content of which a release has this number or other fact.
    pub(super) fn known_as(&self, fact: &str) -> Option<ContentId> {
        let known = self.known.iter().find(|known| known.found.release.is_known_as(fact))?;
        Some(known.found.id.clone())
    }

    pub(super) fn kind(&self, id: &ContentId) -> Option<String> {
        let known = self.known.iter().find(|known| known.found.id == *id)?;
        Some(known.found.release.kind.clone())
    }

    /// Returns a content with its releases. Where an author gives it no version, or something of the same version is `locked`, its
    /// bytes tell which edition it is.
    pub(super) fn content(
        &self,
        id: &ContentId,
        locked: Option<&ReleaseVersion>,
    ) -> Result<Option<Content>, CatalogueError> {
        let mut releases: Vec<(Release, &Known)> = Vec::new();
        let mut first: Option<&Recognised> = None;
        for known in self.known.iter().filter(|known| known.found.id == *id) {
            let release = self.release_of(known, locked)?;
            first.get_or_insert(&known.found);
            let same = |(other, _): &&mut (Release, &Known)| {
                other.version == release.version
                    || other.version.is_unversioned() && release.version.is_unversioned()
            };
            match releases.iter_mut().find(same) {
                // Of two with other bytes the newer counts; `doubled` tells it.
                Some((_, other)) if other.modified() >= known.modified() => {}
                Some(other) => *other = (release, known),
                None => releases.push((release, known)),
            }
        }
        let Some(first) = first else { return Ok(None) };
        Ok(Some(Content {
            id: id.clone(),
            title: first.title.clone(),
            about: first.about.clone(),
            catalogue: self.name.clone(),
            releases: releases.into_iter().map(|(release, _)| release).collect(),
        }))
    }

    /// Returns where a content of this version lies twice, with other bytes.
    pub(super) fn doubled(&self, id: &ContentId, version: &ReleaseVersion) -> Option<Doubled> {
        let own = self.find(id, version).ok()?;
        let is_other = |known: &&Known| {
            let (a, b) = (&known.found.release.version, &own.found.release.version);
            known.found.id == *id && !std::ptr::eq::<Known>(*known, own) && a == b
        };
        let mut older = Vec::new();
        for other in self.known.iter().filter(is_other) {
            let (Ok(one), Ok(two)) = (self.payload_of(own), self.payload_of(other)) else { continue };
            if !one.is_same_as(&two) {
                older.push(other.path().display().to_string());
            }
        }
        let newer = own.path().display().to_string();
        (!older.is_empty()).then(|| Doubled { id: id.clone(), newer, older })
    }

    fn find(&self, id: &ContentId, version: &ReleaseVersion) -> Result<&Known, CatalogueError> {
        let is_it = |known: &&Known| {
            let own = &known.found.release.version;
            known.found.id == *id
                && (own == version
                    || own.is_unversioned()
                        && version.is_unversioned()
                        && self.release_of(known, None).is_ok_and(|release| release.version == *version))
        };
        // Two of one version: the one that `content` takes.
        self.known.iter().filter(is_it).max_by_key(|known| known.modified()).ok_or_else(|| {
            let name = self.name.clone();
            let is_other =
                |known: &Known| known.found.id == *id && known.found.release.version.is_unversioned();
            if version.is_unversioned() && self.known.iter().any(is_other) {
                return CatalogueError::Changed { name, id: id.clone() };
            }
            CatalogueError::Missing { name, what: version.named(id) }
        })
    }

    /// Returns a release, known by its bytes where it has no version or that of what is `locked`.
    fn release_of(&self, known: &Known, locked: Option<&ReleaseVersion>) -> Result<Release, CatalogueError> {
        let mut release = known.found.release.clone();
        let by_bytes = release.version.is_unversioned() || locked == Some(&release.version);
        if by_bytes && release.files.is_empty() {
            release.payload = Some(self.payload_of(known)?.digest());
        }
        release.know_by_bytes();
        Ok(release)
    }

    /// Looks into what holds a content, and returns that content.
    fn arrived(&self, known: &Known, path: &Path, inside: &str) -> Result<Arrived, CatalogueError> {
        let arrival = look(path, self.game, &self.store, &LookOptions::default())
            .map_err(|source| CatalogueError::Arrival { name: self.name.clone(), source })?;
        let same = |arrived: &Arrived| arrived.inside == inside && arrived.content.id == known.found.id;
        arrival
            .contents
            .into_iter()
            .find(same)
            .ok_or_else(|| CatalogueError::Changed { name: self.name.clone(), id: known.found.id.clone() })
    }

    pub(super) fn payload(
        &self,
        id: &ContentId,
        version: &ReleaseVersion,
    ) -> Result<Payload, CatalogueError> {
        Ok(Payload::clone(&*self.payload_of(self.find(id, version)?)?))
    }

    fn payload_of(&self, known: &Known) -> Result<Arc<Payload>, CatalogueError> {
        if let Some(payload) = known.payload.get() {
            return Ok(Arc::clone(payload));
        }
        let payload = match &known.at {
            Where::Archive(path) => {
                let (digest, size) = digest_of(path).map_err(self.disk(path))?;
                let name =
                    path.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned());
                Payload { files: vec![PayloadFile { path: name, size, digest, to: None }] }.into()
            }
            Where::Folder(path) => {
                let tree = LocalTree::new(path);
                let tree = tree.with_inventory(Some(&self.store.inventory_of(&tree)));
                let payload = folder_payload(&*tree, &TreePath::root());
                payload.map_err(|error| self.disk(path)(error.source))?.into()
            }
            Where::Inside(path, inside) => self.arrived(known, path, inside)?.payload,
        };
        Ok(Arc::clone(known.payload.get_or_init(|| payload)))
    }

    pub(super) fn fetch(&self, locked: &Locked) -> Result<Sources, CatalogueError> {
        let known = self.find(&locked.id, &locked.release.version)?;
        let (payload, sources) = match &known.at {
            Where::Inside(path, inside) => {
                let arrived = self.arrived(known, path, inside)?;
                (arrived.payload, arrived.sources)
            }
            Where::Archive(path) | Where::Folder(path) => {
                let payload = self.payload(&locked.id, &locked.release.version)?;
                let is_folder = matches!(known.at, Where::Folder(_));
                let source = |inner: &str| if is_folder { path.join(inner) } else { path.clone() };
                let files = payload.files.iter();
                let sources = files.map(|file| (file.digest, ByteSource::File(source(&file.path)))).collect();
                (Arc::new(payload), Arc::new(sources))
            }
        };
        if locked.release.payload.is_some_and(|digest| digest != payload.digest()) {
            return Err(CatalogueError::Changed { name: self.name.clone(), id: locked.id.clone() });
        }
        Ok(Arc::unwrap_or_clone(sources))
    }
}

/// The list of what cannot be read names the file already.
fn without_name(text: &str, name: &str) -> String {
    text.strip_prefix(name).map_or(text, |rest| rest.trim_start_matches([':', ' '])).to_owned()
}
