//! The maps of a server: where each comes from, where it is named, its size, and what is wrong with it.

mod folders;

use std::collections::BTreeMap;

pub use folders::{Saves, add_saves, folder_of};
use serde::Serialize;
use yalotheca_core::{
    control::MapsSection,
    game::{Kind, MapForm, Maps, Shape},
    id::{ContentId, TreePath},
};
use yalotheca_host::survey::{self, FoundContent, value_at};

use crate::{AppError, Server, mirror};

/// Where a map comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum MapSource {
    /// It is in the lineup.
    Lineup,
    /// Somebody put it there.
    ByHand,
    /// The game's package brings it.
    Game,
    /// It is named, and nowhere.
    Nowhere,
}

/// One map.
#[derive(Debug, Clone, Serialize)]
pub struct MapLine {
    /// What the server calls it: the name of its file without the suffix, or of its folder.
    pub name: String,
    /// The content that it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub id: Option<ContentId>,
    /// Where it comes from.
    pub origin: MapSource,
    /// Whether the server starts with it.
    pub plays: bool,
    /// Its place among those that are played in turn, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub turn: Option<usize>,
    /// Whether players may choose it.
    pub offered: bool,
    /// Its size.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// Its saves.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub saves: Option<Saves>,
    /// What keeps it from being played.
    #[serde(rename = "troubles", skip_serializing_if = "Vec::is_empty")]
    pub problems: Vec<String>,
    /// What is worth knowing.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
}

/// The bound on what the server sends to players, in megabytes. Where they download from a mirror there is none.
pub fn cap(server: &Server, rule: &Maps) -> Option<u64> {
    let place = rule.cap.as_ref()?;
    let has_mirror = server
        .game
        .mirror
        .as_ref()
        .is_some_and(|mirror| mirror::address(server, mirror).is_ok_and(|address| address.is_some()));
    if has_mirror {
        return None;
    }
    value_at(&*server.tree, place, &server.survey.scope).ok()??.trim().parse().ok()
}

/// The maps named in a server's own files.
struct NamedMaps {
    play: Option<String>,
    rotate: Vec<String>,
    offer: Vec<String>,
}

impl NamedMaps {
    fn of(server: &Server) -> Result<Self, AppError> {
        let MapsSection { play, rotate, offer } =
            survey::played(&*server.tree, &server.game, &server.survey.scope)?;
        Ok(Self { play, rotate: rotate.unwrap_or_default(), offer: offer.unwrap_or_default() })
    }

    fn all(&self) -> impl Iterator<Item = &String> {
        self.play.iter().chain(&self.rotate).chain(&self.offer)
    }
}

impl MapLine {
    fn new(name: &str, origin: MapSource, named: &NamedMaps) -> Self {
        Self {
            plays: named.play.as_deref() == Some(name),
            turn: named.rotate.iter().position(|other| other == name).map(|at| at + 1),
            offered: named.offer.iter().any(|other| other == name),
            name: name.to_owned(),
            id: None,
            origin,
            bytes: None,
            saves: None,
            problems: Vec::new(),
            notes: Vec::new(),
        }
    }
}

/// Returns the maps of a server, the one that plays first. The game's own are included where they are named, or if `all` is set.
pub fn list(server: &Server, rule: &Maps, all: bool) -> Result<Vec<MapLine>, AppError> {
    let named = NamedMaps::of(server)?;
    let mut maps = match &rule.form {
        MapForm::Kind(kind) => contents(server, (rule, kind), &named, all)?,
        MapForm::Folders(folders) => folders::list(server, folders, &named)?,
    };
    maps.sort_by_key(|map| (!map.plays, map.turn.unwrap_or(usize::MAX), map.origin, map.name.clone()));
    Ok(maps)
}

/// Returns the maps of a server whose maps are contents of one kind.
fn contents(
    server: &Server,
    (rule, kind_name): (&Maps, &str),
    named: &NamedMaps,
    all: bool,
) -> Result<Vec<MapLine>, AppError> {
    let inventory = survey::inventory(&*server.tree, &server.game, &server.survey.scope)?;
    let mut origins: BTreeMap<String, (MapSource, Option<ContentId>)> = BTreeMap::new();
    let is_map = |kind: &str| kind == kind_name;
    let kind = server.game.kinds.get(kind_name);
    for locked in server.control.lock.contents.iter().filter(|locked| is_map(&locked.release.kind)) {
        let own = server.receipt()?.placed.iter().filter(|(_, one)| one.content == locked.id);
        let name = name_of(kind, &locked.id, own.map(|(path, _)| path));
        origins.insert(name, (MapSource::Lineup, Some(locked.id.clone())));
    }
    let here = inventory.contents.iter().filter(|found| is_map(&found.content.release.kind));
    let here: BTreeMap<String, &FoundContent> =
        here.map(|found| (kind.map_or("", |kind| kind.stem(found.path.name())).to_owned(), found)).collect();
    for (name, found) in &here {
        origins.entry(name.clone()).or_insert_with(|| (MapSource::ByHand, Some(found.content.id.clone())));
    }
    for id in server.survey.platform.provides.keys() {
        if all || named.all().any(|name| name == id.as_str()) {
            origins.entry(id.to_string()).or_insert((MapSource::Game, None));
        }
    }
    for (path, _) in &inventory.unreadable {
        if let Some(stem) = kind.map(|kind| kind.stem(path.name())).filter(|stem| *stem != path.name()) {
            origins.entry(stem.to_owned()).or_insert((MapSource::ByHand, None));
        }
    }
    for name in named.all() {
        origins.entry(name.clone()).or_insert((MapSource::Nowhere, None));
    }
    let cap = cap(server, rule);
    let mut maps = Vec::new();
    for (name, (origin, id)) in origins {
        let mut map = MapLine::new(&name, origin, named);
        map.id = id;
        if let Some(kind) = kind {
            inspect(server, kind, here.get(&map.name).copied(), &mut map)?;
        }
        tell_more(server, cap, &mut map);
        for (path, error) in &inventory.unreadable {
            if kind.is_some_and(|kind| kind.stem(path.name()) == map.name) {
                map.problems.push(format!("{path}: {}", error.why));
            }
        }
        maps.push(map);
    }
    Ok(maps)
}

/// Returns what the server calls a map whose files lie at these paths.
pub fn name_of<'p>(
    kind: Option<&Kind>,
    id: &ContentId,
    mut paths: impl Iterator<Item = &'p TreePath>,
) -> String {
    let kind = kind.filter(|kind| kind.shape == Shape::File);
    let stem = kind.and_then(|kind| {
        paths.find_map(|path| Some(kind.stem(path.name())).filter(|stem| *stem != path.name()))
    });
    stem.map_or_else(|| id.to_string(), str::to_owned)
}

/// Looks at the files of a map.
fn inspect(
    server: &Server,
    kind: &Kind,
    here: Option<&FoundContent>,
    map: &mut MapLine,
) -> Result<(), AppError> {
    let mut gone = |path: &str| {
        let is_named = map.origin == MapSource::Nowhere || map.plays || map.turn.is_some() || map.offered;
        let named = if is_named { ", and it is named" } else { "" };
        map.problems.push(format!("{path} is not there{named}"));
    };
    if kind.shape != Shape::File {
        match here {
            Some(found) => map.bytes = Some(found.payload.files.iter().map(|file| file.size).sum()),
            None if map.origin == MapSource::Game => {}
            None => gone(&map.name.clone()),
        }
        return Ok(());
    }
    let suffix = kind.suffix.as_deref().unwrap_or_default();
    let folder = kind.place.first().and_then(|place| place.into.render(&server.survey.scope).ok());
    let folder = TreePath::new(folder.unwrap_or_default().trim_end_matches('/'))?;
    let file = folder.join(&format!("{}{suffix}", map.name))?;
    let there = server.tree.kind_of(&file)?;
    match there {
        Some(yalotheca_host::tree::EntryKind::File(bytes)) => map.bytes = Some(bytes),
        _ if map.origin == MapSource::Game => {}
        _ => gone(file.as_str()),
    }
    if map.bytes.is_none() {
        return Ok(());
    }
    if map.origin == MapSource::Nowhere {
        // It is no content, and the server plays it all the same.
        map.origin = MapSource::ByHand;
    }
    for name in kind.companions_of(&map.name) {
        if server.tree.kind_of(&folder.join(&name)?)?.is_none() {
            map.notes.push(format!("{name} does not lie beside it"));
        }
    }
    Ok(())
}

/// Adds what a map goes with, and whether players get it.
fn tell_more(server: &Server, cap: Option<u64>, map: &mut MapLine) {
    let locked = map.id.as_ref().and_then(|id| server.control.lock.get(id));
    for id in locked.into_iter().flat_map(|locked| locked.release.welcomes.keys()) {
        if server.control.lock.get(id).is_none() && !server.survey.platform.provides.contains_key(id) {
            map.notes.push(format!("it names {id}, which is not here"));
        }
    }
    if let (Some(cap), Some(bytes)) = (cap, map.bytes)
        && bytes > cap * 1_000_000
    {
        map.notes.push(format!("it is larger than the {cap} MB that the server sends to players"));
    }
}
