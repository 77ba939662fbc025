//! What was given by link, file or folder. Each want of that sort is looked into when it is first asked for.

use std::{
    collections::{BTreeMap, HashMap},
    path::{Path, PathBuf},
    sync::{Arc, Mutex, PoisonError},
};

use globset::Glob;
use yalotheca_core::{
    catalogue::Content,
    control::{Given, Locked},
    game::{DescribeError, Game, PACK_KIND},
    id::{ContentId, TreePath},
    route::{Asked, Payload},
};

use super::{BY_HAND, CatalogueError, Listing};
use crate::sources::Sources;
use crate::{
    arrival::{Arrival, ArrivalError, Arrived, LookOptions, look},
    fetch::{Fetcher, Wanted},
    unpack::UnpackOptions,
};

/// How to look into what is given, and what was seen. Each is looked into once: so what was previewed is what is placed.
/// Clones share it.
#[derive(Debug, Clone, Default)]
pub struct GivenInspector {
    unpack: UnpackOptions,
    seen: Arc<Mutex<HashMap<String, Arc<Arrival>>>>,
}

impl GivenInspector {
    /// Returns one that unpacks in that manner and has seen nothing yet.
    pub fn new(unpack: UnpackOptions) -> Self {
        Self { unpack, seen: Arc::default() }
    }
}

pub(super) struct ByHand<'a> {
    given: BTreeMap<ContentId, Given>,
    base: PathBuf,
    game: &'a Game,
    fetcher: &'a Fetcher,
    inspector: GivenInspector,
    looked: Mutex<BTreeMap<ContentId, Arc<Arrived>>>,
}

/// Looks at what was given: brings it to this machine where it is a link, and looks into it.
///
/// # Errors
/// Where it cannot be had, or nothing in it is a content.
pub fn look_at(
    given: &Given,
    base: &Path,
    game: &Game,
    fetcher: &Fetcher,
    inspector: &GivenInspector,
) -> Result<Arc<Arrival>, CatalogueError> {
    let wrong = |file: &str, why: String| {
        let source = DescribeError { file: file.into(), why };
        CatalogueError::Given(ArrivalError::Describe { path: "yalotheca.toml".into(), source })
    };
    let glob = |text: &str| {
        Glob::new(text)
            .map(|glob| glob.compile_matcher())
            .map_err(|error| wrong(text, error.kind().to_string()))
    };
    let mut asked = Asked { kind: given.kind.clone(), ..Asked::default() };
    for (pattern, folder) in &given.place {
        let folder =
            TreePath::new(folder.trim_end_matches('/')).map_err(|error| wrong(folder, error.to_string()))?;
        asked.place.push((glob(pattern)?, folder));
    }
    asked.leave = given.leave.iter().map(|pattern| glob(pattern)).collect::<Result<_, _>>()?;
    let (path, name) = match (&given.link, &given.file) {
        (Some(link), _) => {
            let name = given.name.clone().or_else(|| yalotheca_core::link::name_in_address(link));
            let shown = name.clone().unwrap_or_else(|| link.clone());
            let wanted = Wanted { url: link.clone(), name: shown, digest: given.blake3, ..Wanted::default() };
            let brought = fetcher
                .download(wanted)
                .map_err(|source| CatalogueError::Fetch { name: BY_HAND.into(), source })?;
            let digest = brought.digest.short();
            (brought.path, Some(name.or(brought.name).unwrap_or(digest)))
        }
        (None, file) => (base.join(file.as_deref().unwrap_or_default()), given.name.clone()),
    };
    let key = format!("{:?}", (&path, &name, &given.kind, &given.place, &given.leave));
    let seen = || inspector.seen.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = seen().get(&key) {
        return Ok(Arc::clone(known));
    }
    let options = LookOptions { asked, unpack: inspector.unpack.clone(), name };
    let arrival = Arc::new(look(&path, game, fetcher.store(), &options)?);
    seen().insert(key, Arc::clone(&arrival));
    Ok(arrival)
}

impl<'a> ByHand<'a> {
    pub(super) fn new(
        given: BTreeMap<ContentId, Given>,
        base: &Path,
        game: &'a Game,
        fetcher: &'a Fetcher,
        inspector: &GivenInspector,
    ) -> Self {
        Self {
            given,
            base: base.into(),
            game,
            fetcher,
            inspector: inspector.clone(),
            looked: Mutex::default(),
        }
    }

    fn arrived(&self, id: &ContentId) -> Result<Option<Arc<Arrived>>, CatalogueError> {
        let Some(given) = self.given.get(id) else { return self.bundled(id) };
        let known = self.looked.lock().unwrap_or_else(PoisonError::into_inner).get(id).cloned();
        if known.is_some() {
            return Ok(known);
        }
        let arrival = look_at(given, &self.base, self.game, self.fetcher, &self.inspector)?;
        let is_it = |arrived: &Arrived| match &given.inside {
            Some(inside) => arrived.inside == *inside,
            None => true,
        };
        let mut own: Vec<&Arrived> = arrival.contents.iter().filter(|arrived| is_it(arrived)).collect();
        if own.len() > 1 {
            own.retain(|arrived| arrived.content.id == *id);
        }
        let Some(mut arrived) = own.pop().cloned() else {
            let what = given.link.as_deref().or(given.file.as_deref()).unwrap_or_default();
            return Err(CatalogueError::Missing { name: BY_HAND.into(), what: format!("{id} in {what}") });
        };
        arrived.content.id = id.clone();
        if let Some(version) = &given.version {
            arrived.content.release.version = version.clone();
        }
        arrived.content.release.facts.extend(given.facts.clone());
        let arrived = Arc::new(arrived);
        self.looked.lock().unwrap_or_else(PoisonError::into_inner).insert(id.clone(), Arc::clone(&arrived));
        Ok(Some(arrived))
    }

    /// A content that one of the packs brings along.
    fn bundled(&self, id: &ContentId) -> Result<Option<Arc<Arrived>>, CatalogueError> {
        let packs = self.given.iter().filter(|(_, given)| given.kind.as_deref() == Some(PACK_KIND));
        for (pack, _) in packs {
            let Some(pack) = self.arrived(pack)? else { continue };
            if let Some(one) = pack.bundled.iter().find(|one| one.content.id == *id) {
                return Ok(Some(Arc::new(one.clone())));
            }
        }
        Ok(None)
    }

    pub(super) fn content(&self, id: &ContentId) -> Result<Option<Content>, CatalogueError> {
        let content = |arrived: Arc<Arrived>| Content {
            id: id.clone(),
            title: arrived.content.title.clone(),
            about: arrived.content.about.clone(),
            catalogue: BY_HAND.into(),
            releases: vec![arrived.content.release.clone()],
        };
        Ok(self.arrived(id)?.map(content))
    }

    pub(super) fn listings(&self) -> Vec<Listing> {
        let listing = |id: &ContentId| {
            let content = self.content(id).ok().flatten()?;
            Some(Listing { id: id.clone(), title: content.title, about: content.about })
        };
        self.given.keys().filter_map(listing).collect()
    }

    fn locked(&self, locked: &Locked) -> Result<Arc<Arrived>, CatalogueError> {
        let gone = || CatalogueError::Missing { name: BY_HAND.into(), what: locked.id.to_string() };
        self.arrived(&locked.id)?.ok_or_else(gone)
    }

    pub(super) fn payload(&self, locked: &Locked) -> Result<Payload, CatalogueError> {
        Ok(Payload::clone(&self.locked(locked)?.payload))
    }

    pub(super) fn fetch(&self, locked: &Locked) -> Result<Sources, CatalogueError> {
        let arrived = self.locked(locked)?;
        let release = &locked.release;
        let is_same = release.files.iter().all(|file| arrived.sources.contains_key(&file.blake3))
            && release.payload.is_none_or(|digest| {
                digest == arrived.content.release.payload.unwrap_or_else(|| arrived.payload.digest())
            });
        if is_same {
            return Ok(Sources::clone(&arrived.sources));
        }
        Err(CatalogueError::Changed { name: BY_HAND.into(), id: locked.id.clone() })
    }
}
