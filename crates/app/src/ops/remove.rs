//! Removing contents.

use yalotheca_core::{
    change::Placed,
    control::ControlFile,
    hint::Advice,
    id::{ContentId, TreePath},
    suggest,
};

use super::change::Change;
use crate::{AppError, Server, plan::reasons};

/// No longer wants these contents: their files and entries go, and what only they needed.
///
/// # Errors
/// Where one is not wanted, or is the map that plays.
pub fn remove(server: &Server, names: &[String]) -> Result<Change, AppError> {
    let mut wants = server.control.wants.clone();
    for name in names {
        let id = ContentId::new(name)?;
        if !wants.unwant(&id) {
            return Err(not_wanted(server, &id));
        }
        wants.switch_on(&id);
        for member in server.control.lock.get(&id).iter().flat_map(|locked| &locked.release.members) {
            wants.switch_on(&member.id);
        }
        take_off(&mut wants, name)?;
        keep_played(server, &id, &wants)?;
    }
    let asked = names.iter().map(|name| format!("without {name}")).collect();
    Ok(Change::to(wants, asked))
}

/// Refuses to remove the content with the map being played.
pub(super) fn keep_played(server: &Server, id: &ContentId, wants: &ControlFile) -> Result<(), AppError> {
    let folders = server.game.maps.as_ref().and_then(|rule| rule.folders());
    let Some((folders, map)) = folders.zip(wants.maps.play.as_deref()) else { return Ok(()) };
    let brings = |(path, placed): (&TreePath, &Placed)| {
        placed.content == *id && folders.map_of(path.as_str()) == Some(map)
    };
    if server.receipt()?.placed.iter().any(brings) {
        return Err(AppError::Usage {
            what: format!("{id} contains {map}, the map being played"),
            hint: Some(Advice::PlayAnotherMap),
        });
    }
    Ok(())
}

/// A map that goes is played no longer, neither in turn nor at all.
fn take_off(wants: &mut ControlFile, name: &str) -> Result<(), AppError> {
    if wants.maps.play.as_deref() == Some(name) {
        return Err(AppError::Usage {
            what: format!("{name} is the map that plays"),
            hint: Some(Advice::PlayAnotherMap),
        });
    }
    let without = |names: &Option<Vec<String>>| {
        let names = names.as_ref().filter(|names| names.iter().any(|other| other == name))?;
        Some(names.iter().filter(|other| *other != name).cloned().collect::<Vec<_>>())
    };
    if let Some(left) = without(&wants.maps.rotate) {
        if left.is_empty() {
            return Err(AppError::Usage {
                what: format!("{name} is the only map in the rotation"),
                hint: Some(Advice::LeaveOutOfRotation),
            });
        }
        wants.rotate(Some(&left));
    }
    if let Some(left) = without(&wants.maps.offer) {
        wants.offer(Some(left.as_slice()).filter(|left| !left.is_empty()));
    }
    Ok(())
}

fn not_wanted(server: &Server, id: &ContentId) -> AppError {
    let wants = &server.control.wants.wants;
    match reasons(&server.control.lock, wants).get(id) {
        Some(why) => AppError::Usage {
            what: format!("{id} is not in yalotheca.toml; it is installed because {why}"),
            hint: Some("drop what needs it, and it goes as well".into()),
        },
        None => AppError::Usage {
            what: format!("{id} is not in yalotheca.toml"),
            hint: suggest::did_you_mean(id.as_str(), wants.keys().map(ContentId::as_str)).map(Advice::Say),
        },
    }
}
