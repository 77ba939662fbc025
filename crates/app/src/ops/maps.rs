//! What a server plays.

use serde::Serialize;
use yalotheca_core::{
    game::Maps,
    hint::{Advice, Listing},
    suggest,
};

use super::change::Change;
use crate::{
    AppError, Server,
    maps::{self, MapLine, MapSource},
};

/// The maps of a server.
#[derive(Debug, Serialize)]
pub struct MapsReport {
    /// The server, as people call it.
    pub server: String,
    /// The bound on what is sent to players, in megabytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cap_mb: Option<u64>,
    /// The maps, those that play first.
    pub maps: Vec<MapLine>,
}

/// Lists the maps; `all` with the game's own.
///
/// # Errors
/// Where the game has none, or the server cannot be read.
pub fn maps(server: &Server, all: bool) -> Result<MapsReport, AppError> {
    let rule = rule(server)?;
    let maps = maps::list(server, rule, all)?;
    Ok(MapsReport { server: server.shown(), cap_mb: maps::cap(server, rule), maps })
}

/// Plays a map.
///
/// # Errors
/// Where it is not here or cannot be played.
pub fn play(server: &Server, name: &str) -> Result<Change, AppError> {
    let mut wants = server.control.wants.clone();
    let known = known(server, rule(server)?, &[name.to_owned()])?;
    wants.play(known.first().map(String::as_str));
    Ok(Change::to(wants, vec![format!("play {}", known.join(", "))]))
}

/// Plays these maps in turn, and no others.
///
/// # Errors
/// Where one is not here or cannot be played, or the game plays none in turn.
pub fn rotate(server: &Server, names: &[String]) -> Result<Change, AppError> {
    let rule = rule(server)?;
    if rule.rotate.is_none() {
        return Err(no_list(server, "that are played in turn"));
    }
    let mut wants = server.control.wants.clone();
    let names = known(server, rule, names)?;
    wants.rotate(Some(&names));
    Ok(Change::to(wants, vec![format!("rotate {}", names.join(", "))]))
}

/// Lets players choose among these maps, and no others.
///
/// # Errors
/// Where one is not here or cannot be played, or players choose none.
pub fn offer(server: &Server, names: &[String]) -> Result<Change, AppError> {
    let rule = rule(server)?;
    if rule.offer.is_none() {
        return Err(no_list(server, "that players choose from"));
    }
    let mut wants = server.control.wants.clone();
    let names = known(server, rule, names)?;
    wants.offer(Some(&names));
    Ok(Change::to(wants, vec![format!("offer {}", names.join(", "))]))
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
    let suffix = server.game.kinds.get(&rule.kind).and_then(|kind| kind.suffix.clone()).unwrap_or_default();
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
        if let Some(trouble) = map.troubles.first().filter(|_| map.bytes.is_some()) {
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
