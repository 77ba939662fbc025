//! What is known of each map: where it is named, how large it is, and what is wrong with it.

use std::collections::BTreeMap;

use serde::Serialize;
use yalotheca_core::{
    game::{Kind, Maps},
    id::TreePath,
};
use yalotheca_host::{
    survey::{self, value_at},
    tree::Tree,
};

use crate::{error::CommandError, session::Session};

/// Where a map comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Origin {
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
pub(crate) struct MapLine {
    pub(crate) name: String,
    pub(crate) origin: Origin,
    pub(crate) plays: bool,
    /// Its place among those that are played in turn, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) turn: Option<usize>,
    pub(crate) offered: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) bytes: Option<u64>,
    /// What keeps it from being played.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) troubles: Vec<String>,
    /// What is worth knowing.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) notes: Vec<String>,
}

/// The bound on what is sent to players, in megabytes.
pub(super) fn cap(session: &Session, rule: &Maps) -> Option<u64> {
    let place = rule.cap.as_ref()?;
    value_at(&session.tree, place, &session.survey.scope).ok()??.trim().parse().ok()
}

/// Looks at the maps of a server, those that play first. The game's own are told where they are named, or all of them.
pub(crate) fn look(session: &Session, rule: &Maps, all: bool) -> Result<Vec<MapLine>, CommandError> {
    let played = survey::played(&session.tree, &session.game, &session.survey.scope)?;
    let (rotate, offer) = (played.rotate.unwrap_or_default(), played.offer.unwrap_or_default());
    let inventory = survey::inventory(&session.tree, &session.game, &session.survey.scope)?;
    let mut origins: BTreeMap<String, Origin> = BTreeMap::new();
    let is_map = |kind: &str| kind == rule.kind;
    for locked in session.control.lock.contents.iter().filter(|locked| is_map(&locked.release.kind)) {
        origins.insert(locked.id.to_string(), Origin::Lineup);
    }
    let by_hand = inventory.contents.iter().filter(|found| is_map(&found.content.release.kind));
    for found in by_hand {
        origins.entry(found.content.id.to_string()).or_insert(Origin::ByHand);
    }
    let named: Vec<&String> = played.play.iter().chain(&rotate).chain(&offer).collect();
    for id in session.survey.platform.provides.keys() {
        if all || named.iter().any(|name| name.as_str() == id.as_str()) {
            origins.entry(id.to_string()).or_insert(Origin::Game);
        }
    }
    let kind = session.game.kinds.get(&rule.kind);
    for (path, _) in &inventory.unreadable {
        if let Some(stem) = kind.map(|kind| kind.stem(path.name())).filter(|stem| *stem != path.name()) {
            origins.entry(stem.to_owned()).or_insert(Origin::ByHand);
        }
    }
    for name in named {
        origins.entry(name.clone()).or_insert(Origin::Nowhere);
    }
    let mut maps = Vec::new();
    for (name, origin) in origins {
        let mut map = MapLine {
            plays: played.play.as_ref() == Some(&name),
            turn: rotate.iter().position(|other| *other == name).map(|at| at + 1),
            offered: offer.contains(&name),
            bytes: None,
            troubles: Vec::new(),
            notes: Vec::new(),
            origin,
            name,
        };
        if let Some(kind) = kind {
            inspect(session, rule, kind, &mut map)?;
        }
        for (path, error) in &inventory.unreadable {
            if kind.is_some_and(|kind| kind.stem(path.name()) == map.name) {
                map.troubles.push(format!("{path}: {}", error.why));
            }
        }
        maps.push(map);
    }
    maps.sort_by_key(|map| (!map.plays, map.turn.unwrap_or(usize::MAX), map.origin, map.name.clone()));
    Ok(maps)
}

fn inspect(session: &Session, rule: &Maps, kind: &Kind, map: &mut MapLine) -> Result<(), CommandError> {
    let suffix = kind.suffix.as_deref().unwrap_or_default();
    let folder = kind.place.first().and_then(|place| place.into.render(&session.survey.scope).ok());
    let folder = TreePath::new(folder.unwrap_or_default().trim_end_matches('/'))?;
    let file = folder.join(&format!("{}{suffix}", map.name))?;
    let there = session.tree.find(&file)?;
    match there {
        Some(yalotheca_host::tree::Found::File(bytes)) => map.bytes = Some(bytes),
        _ if map.origin == Origin::Game => {}
        _ if map.origin == Origin::Nowhere || map.plays || map.turn.is_some() || map.offered => {
            map.troubles.push(format!("{file} is not there, and it is named"));
        }
        _ => map.troubles.push(format!("{file} is not there")),
    }
    if map.bytes.is_some() {
        for name in kind.companions_of(&map.name) {
            if session.tree.find(&folder.join(&name)?)?.is_none() {
                map.notes.push(format!("{name} does not lie beside it"));
            }
        }
    }
    let locked = session.control.lock.contents.iter().find(|locked| locked.id.as_str() == map.name);
    for id in locked.into_iter().flat_map(|locked| locked.release.welcomes.keys()) {
        if session.control.lock.get(id).is_none() && !session.survey.platform.provides.contains_key(id) {
            map.notes.push(format!("it names {id}, which is not here"));
        }
    }
    if let (Some(cap), Some(bytes)) = (cap(session, rule), map.bytes)
        && bytes > cap * 1_000_000
    {
        map.notes.push(format!("it is larger than the {cap} MB that the server sends to players"));
    }
    Ok(())
}
