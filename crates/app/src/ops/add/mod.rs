//! Installing contents: by name, link, file or folder.

mod once;
mod parameters;
mod queue;
mod typed;
mod ways;

use std::collections::BTreeSet;

use yalotheca_core::{
    control::ControlFile, game::TWEAK_SUFFIX, hint::Advice, id::ContentId, version::VersionRange,
};
use yalotheca_host::survey::FoundContent;

pub(super) use once::put as put_once;
pub use queue::{fetch, to_be_fetched};

use super::change::Change;
use crate::{AppError, Fresh, Front, OpenCatalogues, Server, apply::ChangeExtras, take_over::take_over_all};
use ways::{Resolved, ResolvedWant};

/// What to install.
#[derive(Debug, Clone, Default)]
pub struct AddRequest {
    /// Names, links, numbers of items, files or folders.
    pub names: Vec<String>,
    /// Whether every content is taken that is in it.
    pub all: bool,
    /// Take these of the contents that are in it.
    pub only: Vec<String>,
    /// What it is called, where it does not say.
    pub id: Option<String>,
    /// Its version, where it does not say.
    pub version: Option<String>,
    /// Its kind, where that cannot be seen.
    pub kind: Option<String>,
    /// Where to put files that have no known place, as `pattern=folder`.
    pub place: Vec<String>,
    /// Files of it that are left out, as patterns.
    pub leave: Vec<String>,
    /// Parameters of tweaks, as `name=value`.
    pub set: Vec<String>,
    /// Whether it is only noted: then nothing is noted that no catalogue has.
    pub later: bool,
}

/// Wants contents, with what they need.
///
/// # Errors
/// Where something is nowhere, cannot be fetched or read, or is none of this game's contents.
pub fn add(server: &mut Server, request: &AddRequest, front: &dyn Front) -> Result<Change, AppError> {
    let mut found = ways::resolve_names(server, &server.catalogues(), request, front)?;
    let mut wants = server.control.wants.clone();
    let mut given_anew = BTreeSet::new();
    let mut asked = Vec::new();
    for way in &found.ways {
        match way {
            ResolvedWant::Name(id, _) if wants.off.contains_key(id) => {
                return Err(AppError::Usage {
                    what: format!("{id} is installed and switched off"),
                    hint: Some(Advice::SwitchOn(id.to_string())),
                });
            }
            ResolvedWant::Name(id, range) => {
                asked.push(if range.is_any() { id.to_string() } else { format!("{id}@{range}") });
                wants.want(id, range);
            }
            ResolvedWant::Here(here) => {
                asked.push(here.content.id.to_string());
                found.notes.push(format!(
                    "{} was downloaded by the server itself; Yalotheca manages it from now on.",
                    here.content.id
                ));
                wants.want(&here.content.id, &VersionRange::any());
            }
            ResolvedWant::Given(id, given) => {
                asked.push(id.to_string());
                wants.give(id, given);
                given_anew.insert(id.clone());
            }
        }
    }
    // What a pack brings is the edition that it brings, unless somebody gave another one.
    given_anew.extend(found.bundled.iter().filter(|id| !wants.given.contains_key(*id)).cloned());
    let ids: Vec<_> = found.ways.iter().map(ResolvedWant::id).cloned().collect();
    let set = parameters::ask(server, &server.catalogues_for(&wants), &ids, &request.set, front)?;
    for (id, at, value) in &set {
        wants.ask_setting(id.as_str(), TWEAK_SUFFIX, at, Some(value));
    }
    if request.later {
        refuse_what_nobody_has(&server.catalogues_for(&wants), &found.ways)?;
    }
    // A content named with a range may move to fit it, and one that is given again is read again; the rest stays.
    let fresh = if given_anew.is_empty() { Fresh::None } else { Fresh::Given(given_anew) };
    let mut extras =
        ChangeExtras { asked, left_out: found.left_out, notes: found.notes, ..ChangeExtras::default() };
    if !request.later {
        once::put(server, &found.once, &mut extras)?;
    }
    let here = found.ways.iter().filter_map(|way| match way {
        ResolvedWant::Here(here) => Some(&**here),
        _ => None,
    });
    let here: Vec<&FoundContent> = here.collect();
    extras.plan.mend = take_over_all(server, &here)?;
    for found in here {
        for file in &found.payload.files {
            extras.came.push(found.path.join(&file.path)?);
        }
    }
    Ok(Change { wants, fresh, extras })
}

/// Finds what one request names, and returns what is wanted with it and the first content of it.
///
/// # Errors
/// As for [`add`].
pub fn wanted(
    server: &Server,
    request: &AddRequest,
    front: &dyn Front,
) -> Result<(ControlFile, Option<ContentId>), AppError> {
    let Resolved { ways, .. } = ways::resolve_names(server, &server.catalogues(), request, front)?;
    let mut wants = server.control.wants.clone();
    for way in &ways {
        match way {
            ResolvedWant::Name(id, range) => wants.want(id, range),
            ResolvedWant::Given(id, given) => wants.give(id, given),
            ResolvedWant::Here(here) => wants.want(&here.content.id, &VersionRange::any()),
        }
    }
    Ok((wants, ways.first().map(ResolvedWant::id).cloned()))
}

/// What no catalogue has is not noted: nothing could ever install it.
fn refuse_what_nobody_has(catalogues: &OpenCatalogues<'_>, ways: &[ResolvedWant]) -> Result<(), AppError> {
    const MOST: usize = 6;
    for way in ways {
        let ResolvedWant::Name(id, range) = way else { continue };
        if !catalogues.get()?.unreachable().is_empty() {
            return Ok(());
        }
        let Some(content) = catalogues.get()?.content(id)? else {
            return Err(catalogues.unknown(id)?);
        };
        if content.releases.iter().any(|release| range.matches(&release.version)) {
            continue;
        }
        let mut releases: Vec<_> = content.releases.iter().map(|release| &release.version).collect();
        releases.sort_by(|a, b| b.cmp(a));
        let mut versions: Vec<String> = releases.iter().take(MOST).map(ToString::to_string).collect();
        if content.releases.len() > MOST {
            versions.push("…".into());
        }
        return Err(AppError::Usage {
            what: format!("no release of {id} is {}", range.in_words()),
            hint: Some(format!("there are: {}", versions.join(", ")).into()),
        });
    }
    Ok(())
}
