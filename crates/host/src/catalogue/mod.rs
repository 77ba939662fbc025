//! Catalogues: where contents come from. One file per kind of place.

mod ahead;
mod by_hand;
mod downloads;
mod error;
mod newest;
mod published;
mod reading;

use std::{
    collections::{BTreeMap, HashMap, HashSet},
    path::Path,
    sync::{Arc, Mutex, PoisonError},
};

use yalotheca_core::{
    catalogue::{Content, Recognised, Release, ReleaseFile, Universe},
    control::{CatalogueSource, ControlFile, Locked},
    game::{Game, Shape},
    id::{ContentId, Digest},
    route::{Payload, PayloadFile},
};

use crate::{
    arrival::{Arrived, LookOptions, look},
    container::by_name,
    fetch::Fetcher,
    sources::{ByteSource, Sources},
    unpack::container_of,
};
pub use ahead::PrefetchedCatalogues;
use ahead::{is_on_web, published_at};
use by_hand::ByHand;
pub use by_hand::{GivenInspector, look_at};
pub use downloads::Doubled;
use downloads::Downloads;
pub use error::CatalogueError;
use published::{Key, Published};
use reading::Reading;

/// A file in a folder of downloads that looks like a content and cannot be read as one, or such an entry of an index.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unreadable {
    /// The file or folder, or the catalogue.
    pub path: String,
    /// What is wrong with it.
    pub why: String,
}

/// One line about a content, for looking through a catalogue.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listing {
    /// Its id.
    pub id: ContentId,
    /// What people call it.
    pub title: String,
    /// What it is for.
    pub about: String,
}

enum Opened<'a> {
    Published(Published),
    Downloads(Downloads<'a>),
    ByHand(ByHand<'a>),
    /// It cannot be had now: what is locked of it is known all the same.
    Unreachable(Arc<CatalogueError>),
}

/// The catalogue of what was given by link, file or folder.
pub const BY_HAND: &str = "by-hand";

/// So many contents on this machine have to wait before another thread is worth having.
const FEW: usize = 16;

/// So many threads look for contents where most of the time goes into waiting for the network.
const MANY_THREADS: usize = 8;

/// All catalogues of one server, in the order that decides.
pub struct Catalogues<'a> {
    fetcher: &'a Fetcher,
    opened: Vec<(String, Opened<'a>)>,
    /// What is locked: it needs no catalogue to be known.
    locked: BTreeMap<ContentId, Locked>,
    game: &'a Game,
    /// What was found in archives that catalogues deliver, by the archive's digest.
    unpacked: Mutex<HashMap<Digest, Arc<Arrived>>>,
}

impl std::fmt::Debug for Catalogues<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries(self.opened.iter().map(|(name, _)| name)).finish()
    }
}

impl<'a> Catalogues<'a> {
    /// Opens catalogues, as far as they are not opened `ahead`. Relative folders are relative to `base`. If one
    /// is unreachable, only questions that the lock does not answer fail.
    ///
    /// # Errors
    /// Where one is broken, or not signed as it should be.
    pub fn open(
        wants: &ControlFile,
        (base, locked): (&Path, BTreeMap<ContentId, Locked>),
        game: &'a Game,
        fetcher: &'a Fetcher,
        inspector: &GivenInspector,
        ahead: &PrefetchedCatalogues,
    ) -> Result<Self, CatalogueError> {
        let mut opened = Vec::new();
        if !wants.given.is_empty() {
            let by_hand = ByHand::new(wants.given.clone(), base, game, fetcher, inspector);
            opened.push((BY_HAND.to_owned(), Opened::ByHand(by_hand)));
        }
        for source in &wants.catalogues {
            let CatalogueSource { name, at, key, older } = source;
            let key = key.as_deref().map(|key| Key { key, older: *older });
            let catalogue = if let Some(opened) = ahead.take(source) {
                opened.map(Opened::Published)
            } else if is_on_web(at) {
                Published::on_web(name, at, key, fetcher).map(Opened::Published)
            } else if let Some(folder) = published_at(source, base) {
                Published::in_folder(name, &folder, key).map(Opened::Published)
            } else {
                Downloads::open(name, &base.join(at), game, fetcher.store()).map(Opened::Downloads)
            };
            let catalogue = match catalogue {
                Err(error) if error.is_absence() => Opened::Unreachable(Arc::new(error)),
                catalogue => catalogue?,
            };
            opened.push((name.clone(), catalogue));
        }
        Ok(Self { fetcher, opened, locked, game, unpacked: Mutex::default() })
    }

    /// Returns the catalogues that cannot be had now, and why.
    pub fn unreachable(&self) -> Vec<CatalogueError> {
        let all = self.opened.iter().filter_map(|(_, catalogue)| match catalogue {
            Opened::Unreachable(error) => Some(CatalogueError::Unreachable(Arc::clone(error))),
            _ => None,
        });
        all.collect()
    }

    /// What is locked of a content, as a catalogue of one release would have it.
    fn of_lock(&self, id: &ContentId, catalogue: &str) -> Option<Content> {
        let locked = self.locked.get(id).filter(|locked| locked.catalogue == catalogue)?;
        Some(Content {
            id: id.clone(),
            title: locked.title.clone(),
            about: String::new(),
            catalogue: catalogue.to_owned(),
            releases: vec![locked.release.clone()],
        })
    }

    /// Returns how many contents each catalogue has, by its name; nothing for one that cannot be reached.
    pub fn sizes(&self) -> BTreeMap<String, Option<usize>> {
        let size = |catalogue: &Opened| match catalogue {
            Opened::Published(published) => Some(published.listings().len()),
            Opened::Downloads(downloads) => Some(downloads.listings().len()),
            Opened::ByHand(by_hand) => Some(by_hand.listings().len()),
            Opened::Unreachable(_) => None,
        };
        self.opened.iter().map(|(name, catalogue)| (name.clone(), size(catalogue))).collect()
    }

    /// Returns what the catalogues have, by id; of one id the first catalogue's line.
    pub fn listings(&self) -> Vec<Listing> {
        let mut all: BTreeMap<ContentId, Listing> = BTreeMap::new();
        for (_, catalogue) in &self.opened {
            let listings = match catalogue {
                Opened::Published(published) => published.listings(),
                Opened::Downloads(downloads) => downloads.listings(),
                Opened::ByHand(by_hand) => by_hand.listings(),
                Opened::Unreachable(_) => Vec::new(),
            };
            for listing in listings {
                all.entry(listing.id.clone()).or_insert(listing);
            }
        }
        all.into_values().collect()
    }

    /// Returns the content in a folder of downloads with this number or other fact.
    pub fn known_as(&self, fact: &str) -> Option<ContentId> {
        self.opened.iter().find_map(|(_, catalogue)| {
            let Opened::Downloads(downloads) = catalogue else { return None };
            downloads.known_as(fact)
        })
    }

    /// Returns what looks like a content and cannot be read.
    pub fn unreadable(&self) -> Vec<Unreadable> {
        let all = self.opened.iter().flat_map(|(_, catalogue)| match catalogue {
            Opened::ByHand(_) | Opened::Unreachable(_) => Vec::new(),
            Opened::Published(published) => published.unreadable(),
            Opened::Downloads(downloads) => downloads.unreadable_list().to_vec(),
        });
        all.collect()
    }

    /// Returns one content with all its releases, from the first catalogue that has it.
    ///
    /// # Errors
    /// Where its file cannot be fetched or read.
    pub fn content(&self, id: &ContentId) -> Result<Option<Content>, CatalogueError> {
        let mut absent = None;
        for (name, catalogue) in &self.opened {
            let found = match catalogue {
                Opened::Published(published) => published.content(id, self.fetcher),
                Opened::Downloads(downloads) => {
                    downloads.content(id, self.locked.get(id).map(|locked| &locked.release.version))
                }
                Opened::ByHand(by_hand) => by_hand.content(id),
                Opened::Unreachable(error) => Err(CatalogueError::Unreachable(Arc::clone(error))),
            };
            let found = match found {
                Err(error) if error.is_absence() => {
                    let locked = self.of_lock(id, name);
                    if locked.is_none() {
                        absent = absent.or(Some(error));
                    }
                    locked
                }
                found => found?,
            };
            if found.is_some() {
                return Ok(found);
            }
        }
        // It may be in the one that cannot be had.
        absent.map_or(Ok(None), Err)
    }

    /// Returns a content's kind. A catalogue's index tells it, so that no content's file is read for that.
    ///
    /// # Errors
    /// Where what was given by hand cannot be looked into, or an index says something else.
    pub fn kind(&self, id: &ContentId) -> Result<Option<String>, CatalogueError> {
        let newest = |content: Content| content.releases.into_iter().next().map(|release| release.kind);
        for (_, catalogue) in &self.opened {
            let found = match catalogue {
                Opened::Published(published) => published.kind(id)?,
                Opened::Downloads(downloads) => downloads.kind(id),
                Opened::ByHand(_) | Opened::Unreachable(_) => self.content(id)?.and_then(newest),
            };
            if found.is_some() {
                return Ok(found);
            }
        }
        Ok(None)
    }

    /// Reads contents into an open universe, with who stands in for them. What nobody has is noted as such. The needs of
    /// the newest release of each that `may` be chosen are read as well: they would be asked for next. Returns everything that was read.
    ///
    /// # Errors
    /// Where a content's file cannot be fetched or read.
    pub fn read(
        &self,
        ids: &[ContentId],
        universe: &mut Universe,
        may: impl Fn(&ContentId, &Release) -> bool,
    ) -> Result<Vec<ContentId>, CatalogueError> {
        let reading = Reading::default();
        let mut known: HashSet<ContentId> = ids.iter().cloned().collect();
        let mut read: Vec<ContentId> = Vec::new();
        std::thread::scope(|scope| {
            let _ending = reading.ending();
            let mut waiting = reading.add(ids.iter().cloned());
            let (mut threads, (few, most)) = (1, self.readers());
            loop {
                while threads < most && waiting > threads * few {
                    threads += 1;
                    scope.spawn(|| {
                        let _ending = reading.ending();
                        reading.work(|id| self.content(id));
                    });
                }
                let next = reading.take(read.len(), |id| self.content(id));
                let Some((id, content)) = next else { return Ok(read) };
                for provider in self.providers(&id) {
                    universe.note_provider(&id, &provider);
                }
                match content? {
                    Some(content) => {
                        let likely = content.releases.iter().filter(|release| may(&id, release));
                        let release = likely.max_by(|a, b| a.version.cmp(&b.version));
                        let needed = release.into_iter().flat_map(Release::needed_ids);
                        let needed =
                            needed.filter(|id| universe.is_unread(id) && known.insert((*id).clone()));
                        waiting = reading.add(needed.cloned());
                        universe.add(content);
                    }
                    None => universe.close(&id),
                }
                read.push(id);
            }
        })
    }

    /// How many contents have to wait before another thread is worth having to read them, and how many threads are.
    fn readers(&self) -> (usize, usize) {
        let is_far = self.opened.iter().any(|(_, catalogue)| match catalogue {
            Opened::Published(published) => published.is_on_web(),
            Opened::Downloads(_) | Opened::ByHand(_) | Opened::Unreachable(_) => false,
        });
        let cores = || std::thread::available_parallelism().map_or(1, usize::from);
        if is_far { (1, MANY_THREADS) } else { (FEW, cores()) }
    }

    /// Returns the contents that stand in for another one.
    pub fn providers(&self, id: &ContentId) -> Vec<ContentId> {
        let all = self.opened.iter().flat_map(|(_, catalogue)| match catalogue {
            Opened::Published(published) => published.providers(id),
            Opened::Downloads(downloads) => downloads.providers(id),
            Opened::ByHand(_) | Opened::Unreachable(_) => Vec::new(),
        });
        all.collect()
    }

    /// Returns a content's files: from its release where it names them, else by looking into its folder or archive.
    ///
    /// # Errors
    /// Where the catalogue that it came from does not have it any more.
    pub fn payload(&self, locked: &Locked) -> Result<Payload, CatalogueError> {
        if let Some(payload) = payload_of_release(self.game, &locked.release) {
            return Ok(payload);
        }
        if is_to_be_unpacked(self.game, &locked.release) {
            return Ok(Payload::clone(&self.unpacked(locked)?.payload));
        }
        match self.named(&locked.catalogue) {
            Some(Opened::Downloads(downloads)) => downloads.payload(&locked.id, &locked.release.version),
            Some(Opened::ByHand(by_hand)) => by_hand.payload(locked),
            Some(Opened::Unreachable(error)) => Err(CatalogueError::Unreachable(Arc::clone(error))),
            _ => Err(no_source(locked, "the catalogue it came from is not listed in yalotheca.toml")),
        }
    }

    /// Returns where what is locked lies twice in its folder of downloads, with other bytes.
    pub fn doubled(&self, locked: &Locked) -> Option<Doubled> {
        let Some(Opened::Downloads(downloads)) = self.named(&locked.catalogue) else { return None };
        downloads.doubled(&locked.id, &locked.release.version)
    }

    fn named(&self, name: &str) -> Option<&Opened<'a>> {
        self.opened.iter().find(|(known, _)| known == name).map(|(_, catalogue)| catalogue)
    }

    /// Brings a content's files to this machine and returns where each lies, by digest.
    ///
    /// # Errors
    /// Where they cannot be had, or are others than promised.
    pub fn fetch(&self, locked: &Locked) -> Result<Sources, CatalogueError> {
        if is_to_be_unpacked(self.game, &locked.release) {
            let arrived = self.unpacked(locked)?;
            if locked.release.payload.is_some_and(|digest| digest != arrived.payload.digest()) {
                return Err(CatalogueError::Changed {
                    name: locked.catalogue.clone(),
                    id: locked.id.clone(),
                });
            }
            return Ok(Sources::clone(&arrived.sources));
        }
        self.fetch_files(locked)
    }

    /// Looks into the archive in which a catalogue delivers a content, as it is done with a file that is given by hand.
    fn unpacked(&self, locked: &Locked) -> Result<Arc<Arrived>, CatalogueError> {
        let [file] = locked.release.files.as_slice() else {
            unreachable!("what is to be unpacked is one file")
        };
        let known = || self.unpacked.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(arrived) = known().get(&file.blake3) {
            return Ok(Arc::clone(arrived));
        }
        let Some(ByteSource::Cached(path) | ByteSource::Fresh(path) | ByteSource::File(path)) =
            self.fetch_files(locked)?.remove(&file.blake3)
        else {
            return Err(no_source(locked, "its catalogue does not give its file"));
        };
        let name = locked.catalogue.clone();
        let container = container_of(&path).map_err(|source| CatalogueError::Disk {
            name,
            path: path.display().to_string(),
            source,
        })?;
        let wrong = |why: String| CatalogueError::Delivered {
            name: locked.catalogue.clone(),
            file: file.name.clone(),
            id: locked.id.clone(),
            why,
        };
        let arrived = if container.is_none() {
            let payload = payload_of_files(&locked.release);
            let sources = [(file.blake3, ByteSource::File(path))].into_iter().collect();
            let content = Recognised {
                id: locked.id.clone(),
                title: locked.title.clone(),
                about: String::new(),
                release: locked.release.clone(),
            };
            let (payload, sources) = (Arc::new(payload), Arc::new(sources));
            Arrived {
                content,
                inside: String::new(),
                payload,
                sources,
                bundled: Vec::new(),
                once: Vec::new(),
            }
        } else {
            let options = LookOptions { name: Some(file.name.clone()), ..LookOptions::default() };
            let arrival = look(&path, self.game, self.fetcher.store(), &options)
                .map_err(|source| CatalogueError::Arrival { name: locked.catalogue.clone(), source })?;
            if let Some((inner, why)) = arrival.broken.first() {
                return Err(wrong(format!("{inner}: {why}")));
            }
            if let Some(inner) = arrival.unrouted.first() {
                return Err(wrong(format!("it is not known where {inner} goes")));
            }
            let ids: Vec<String> = arrival.contents.iter().map(|one| one.content.id.to_string()).collect();
            let is_alone = arrival.contents.len() == 1;
            let is_it = |one: &Arrived| is_alone || one.content.id == locked.id;
            let found = arrival.contents.into_iter().find(is_it);
            found.ok_or_else(|| wrong(format!("it holds {}", ids.join(", "))))?
        };
        let arrived = Arc::new(arrived);
        known().insert(file.blake3, Arc::clone(&arrived));
        Ok(arrived)
    }

    fn fetch_files(&self, locked: &Locked) -> Result<Sources, CatalogueError> {
        if let Some(found) = self.in_store(&locked.release) {
            return Ok(found);
        }
        match self.named(&locked.catalogue) {
            Some(Opened::Published(published)) => published.fetch(locked, self.fetcher),
            Some(Opened::Downloads(downloads)) => downloads.fetch(locked),
            Some(Opened::ByHand(by_hand)) => by_hand.fetch(locked),
            Some(Opened::Unreachable(error)) => Err(CatalogueError::Unreachable(Arc::clone(error))),
            None if locked.catalogue.is_empty() => {
                Err(no_source(locked, "it was found on the server, and no catalogue has it"))
            }
            None => Err(no_source(locked, "the catalogue it came from is not listed in yalotheca.toml")),
        }
    }

    /// Downloads the files of several contents at once, as far as they lie on the web. What cannot be downloaded is
    /// told by [`Catalogues::fetch`].
    pub fn prefetch(&self, contents: &[&Locked]) {
        let mut wanted = Vec::new();
        for locked in contents {
            if let Some(Opened::Published(published)) = self.named(&locked.catalogue) {
                wanted.extend(published.wanted(locked));
            }
        }
        if wanted.len() > 1 {
            self.fetcher.download_all(wanted);
        }
    }

    /// Returns the addresses of a content's files, as far as they lie on the web.
    pub fn links(&self, locked: &Locked) -> Vec<(ReleaseFile, String)> {
        let Some(Opened::Published(published)) = self.named(&locked.catalogue) else { return Vec::new() };
        let files = locked.release.files.iter();
        files.filter_map(|file| Some((file.clone(), published.link(file)?))).collect()
    }

    fn in_store(&self, release: &Release) -> Option<Sources> {
        if release.files.is_empty() {
            return None;
        }
        let found = release.files.iter().map(|file| {
            let path = self.fetcher.store().file(&file.blake3)?;
            Some((file.blake3, ByteSource::Cached(path)))
        });
        found.collect()
    }
}

fn no_source(locked: &Locked, why: &str) -> CatalogueError {
    let version = locked.release.version.to_string();
    CatalogueError::NoSource { id: locked.id.clone(), version, why: why.into() }
}

/// Returns the files that a release names itself; nothing where they only hold them.
pub fn payload_of_release(game: &Game, release: &Release) -> Option<Payload> {
    let is_named = !release.files.is_empty() && !is_to_be_unpacked(game, release);
    is_named.then(|| payload_of_files(release))
}

fn payload_of_files(release: &Release) -> Payload {
    let file = |file: &ReleaseFile| PayloadFile {
        path: file.name.clone(),
        size: file.size,
        digest: file.blake3,
        to: None,
    };
    Payload { files: release.files.iter().map(file).collect() }
}

/// Returns whether a release's one file is not what is placed but holds it: a folder content comes in an archive, and so may a file
/// whose kind has another suffix.
fn is_to_be_unpacked(game: &Game, release: &Release) -> bool {
    let ([file], Some(kind)) = (release.files.as_slice(), game.kinds.get(&release.kind)) else {
        return false;
    };
    let is_other = || kind.suffix.as_ref().is_some_and(|suffix| !file.name.ends_with(suffix.as_str()));
    match kind.shape {
        Shape::Folder => true,
        Shape::Archive | Shape::File => is_other() && by_name(&file.name).is_some(),
    }
}
