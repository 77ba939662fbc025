//! What a server plays.

use crate::words::ServerName;
use serde::Serialize;
use yalotheca_core::{
    control::ControlFile,
    game::Maps,
    hint::{Advice, Listing},
    suggest,
};
use yalotheca_host::survey;

use super::change::Change;
use crate::{
    AppError, Server,
    maps::{self, MapLine, MapSource, Saves},
    words,
};

/// The maps of a server.
#[derive(Debug, Serialize)]
pub struct MapsReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// The bound on what is sent to players, in megabytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cap_mb: Option<u64>,
    /// The maps, those that play first.
    pub maps: Vec<MapLine>,
    /// The saves of maps that are not installed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub saves_of_none: Vec<Saves>,
}

/// Lists the maps; `all` with the game's own.
///
/// # Errors
/// Where the game has none, or the server cannot be read.
pub fn maps(server: &Server, all: bool) -> Result<MapsReport, AppError> {
    let rule = rule(server)?;
    let mut maps = maps::list(server, rule, all)?;
    let saves_of_none = maps::add_saves(server, rule, &mut maps)?;
    Ok(MapsReport { server: server.shown(), cap_mb: maps::cap(server, rule), maps, saves_of_none })
}

/// Plays a map.
///
/// # Errors
/// Where it is not here or cannot be played.
pub fn play(server: &Server, name: &str) -> Result<Change, AppError> {
    let mut wants = server.control.wants.clone();
    let noted = play_in(server, name, &mut wants)?;
    let mut change = Change::to(wants, vec![noted]);
    let rule = rule(server)?;
    if let Some(next) = change.wants.maps.play.as_deref().filter(|_| rule.saves.is_some()) {
        change.extras.notes = about_saves(server, rule, next)?;
    }
    Ok(change)
}

/// Writes the map to play into the wants; returns a description of the change.
pub(super) fn play_in(server: &Server, name: &str, wants: &mut ControlFile) -> Result<String, AppError> {
    let known = known(server, rule(server)?, &[name.to_owned()])?;
    wants.play(known.first().map(String::as_str));
    Ok(format!("play {}", known.join(", ")))
}

/// Says what happens to the saves when the played map changes.
fn about_saves(server: &Server, rule: &Maps, next: &str) -> Result<Vec<String>, AppError> {
    let mut all = maps::list(server, rule, false)?;
    maps::add_saves(server, rule, &mut all)?;
    let mut notes = Vec::new();
    for map in all.iter().filter(|map| map.plays && map.name != next) {
        if let Some(saves) = &map.saves {
            notes.push(format!("The saves of {} stay in {}/", map.name, saves.folder));
        }
    }
    let begins = match all.iter().find(|map| map.name == next).and_then(|map| map.saves.as_ref()) {
        Some(saves) => format!(
            "{next} continues from its saves in {}/ ({})",
            saves.folder,
            words::count(saves.files, "file")
        ),
        None => match maps::folder_of(server, rule, next) {
            Some(folder) => format!("{next} starts fresh: there are no saves in {folder}/"),
            None => return Ok(notes),
        },
    };
    notes.push(begins);
    Ok(notes)
}

/// Plays these maps in turn, and no others.
///
/// # Errors
/// Where one is not here or cannot be played, or the game plays none in turn.
pub fn rotate(server: &Server, list: &MapList) -> Result<Change, AppError> {
    let rule = rule(server)?;
    if rule.rotate.is_none() {
        return Err(no_list(server, "that are played in turn"));
    }
    let mut wants = server.control.wants.clone();
    let told = || survey::played(&*server.tree, &server.game, &server.survey.scope);
    let names = list.names(|| Ok(wants.maps.rotate.clone().or(told()?.rotate)))?;
    let names = known(server, rule, &names)?;
    wants.rotate(Some(&names));
    Ok(Change::to(wants, vec![format!("rotate {}", names.join(", "))]))
}

/// Lets players choose among these maps, and no others.
///
/// # Errors
/// Where one is not here or cannot be played, or players choose none.
pub fn offer(server: &Server, list: &MapList) -> Result<Change, AppError> {
    let rule = rule(server)?;
    if rule.offer.is_none() {
        return Err(no_list(server, "that players choose from"));
    }
    let mut wants = server.control.wants.clone();
    let told = || survey::played(&*server.tree, &server.game, &server.survey.scope);
    let names = list.names(|| Ok(wants.maps.offer.clone().or(told()?.offer)))?;
    let names = known(server, rule, &names)?;
    wants.offer(Some(&names));
    Ok(Change::to(wants, vec![format!("offer {}", names.join(", "))]))
}

/// Which maps a list is to have.
#[derive(Debug, Clone)]
pub enum MapList {
    /// These, and no others.
    These(Vec<String>),
    /// Those that it has, with some and without others.
    Changed {
        /// What is added at its end.
        add: Vec<String>,
        /// What is taken out.
        remove: Vec<String>,
    },
}

impl MapList {
    fn names(
        &self,
        now: impl FnOnce() -> Result<Option<Vec<String>>, AppError>,
    ) -> Result<Vec<String>, AppError> {
        let (add, remove) = match self {
            Self::These(names) => return Ok(names.clone()),
            Self::Changed { add, remove } => (add, remove),
        };
        let mut names = now()?.unwrap_or_default();
        if let Some(wrong) = remove.iter().find(|name| !names.contains(name)) {
            return Err(AppError::Usage {
                what: format!("{wrong} is not in the list"),
                hint: Some(format!("it has {}", names.join(", ")).into()),
            });
        }
        names.retain(|name| !remove.contains(name));
        for name in add {
            if !names.contains(name) {
                names.push(name.clone());
            }
        }
        if names.is_empty() {
            return Err(AppError::Usage { what: "the list would be empty".into(), hint: None });
        }
        Ok(names)
    }
}

/// Returns the game's rule about maps.
///
/// # Errors
/// Where it has none.
pub fn rule(server: &Server) -> Result<&Maps, AppError> {
    server.game.maps.as_ref().ok_or_else(|| AppError::Usage {
        what: format!("a {} has no maps to choose from, as far as its definition says", server.game.title),
        hint: Some(Advice::List(Listing::Definition(server.game.name.clone()))),
    })
}

fn no_list(server: &Server, which: &str) -> AppError {
    AppError::Usage { what: format!("a {} has no list of maps {which}", server.game.title), hint: None }
}

/// Names as the server wants them: each must be here, and a file's suffix is taken off.
fn known(server: &Server, rule: &Maps, names: &[String]) -> Result<Vec<String>, AppError> {
    let suffix = rule.kind().and_then(|kind| server.game.kinds.get(kind)?.suffix.clone()).unwrap_or_default();
    let here = maps::list(server, rule, true)?;
    let mut found: Vec<String> = Vec::new();
    for name in names {
        let bare = name.strip_suffix(suffix.as_str()).filter(|_| !suffix.is_empty()).unwrap_or(name);
        let is_here = |map: &&MapLine| map.origin != MapSource::Nowhere;
        let by_id = |map: &&MapLine| map.id.as_ref().is_some_and(|id| id.as_str() == bare);
        let map = here.iter().find(|map| map.name == bare).filter(is_here);
        let map = map.or_else(|| here.iter().filter(is_here).find(by_id));
        let Some(map) = map else {
            let names =
                here.iter().filter(|map| map.origin != MapSource::Nowhere).map(|map| map.name.as_str());
            return Err(AppError::Usage {
                what: format!("there is no map {bare} here"),
                hint: suggest::did_you_mean(bare, names)
                    .map_or(Some(Advice::List(Listing::Maps)), |near| Some(near.into())),
            });
        };
        if let Some(trouble) = map.problems.first().filter(|_| map.bytes.is_some()) {
            return Err(AppError::Refused {
                what: format!("{bare} cannot be played: {trouble}"),
                hint: Some("fetch it again and add it; or take the file away".into()),
            });
        }
        if !found.contains(&map.name) {
            found.push(map.name.clone());
        }
    }
    Ok(found)
}
