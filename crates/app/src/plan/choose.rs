//! Which releases: solving, with contents read from the catalogues as they turn out to matter.

use std::collections::BTreeMap;

use yalotheca_core::{
    catalogue::Universe,
    control::{ControlFile, Locked},
    id::ContentId,
    solve::{Explanation, Question, Resolution, Selection, WayAct, solve},
    version::{ReleaseVersion, VersionRange},
};

use super::{ground, lock_one};
use crate::{AppError, Fresh, Mend, OpenCatalogues, Server};

/// What was chosen, and whether the lock alone knew enough for it.
pub(super) struct Chosen {
    pub(super) selection: Selection,
    pub(super) by_lock: Option<Universe>,
}

/// Chooses releases. Where the lock alone answers, no catalogue is opened.
pub(super) fn choose(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    control: &ControlFile,
    (fresh, prefer): (&Fresh, &[(ContentId, ReleaseVersion)]),
) -> Result<Chosen, AppError> {
    let lock = &server.control.lock;
    let is_on = |id: &ContentId| !control.off.contains_key(id);
    let wants: &BTreeMap<ContentId, VersionRange> = &control
        .wants
        .iter()
        .filter(|(id, _)| is_on(id))
        .map(|(id, range)| (id.clone(), range.clone()))
        .collect();
    let mut locked: Selection = lock.contents.iter().map(Locked::chosen).collect();
    locked.retain(|id, _| !fresh.has(id) && is_on(id));
    if *fresh == Fresh::None
        && let Some(chosen) = by_lock(server, catalogues, wants, &locked)
    {
        return Ok(chosen);
    }
    catalogues.prefer_editions(fresh, &mut locked)?;
    for (id, version) in prefer.iter().filter(|(id, _)| lock.get(id).is_none() && is_on(id)) {
        locked.insert(id.clone(), version.clone());
    }
    let ground = ground::choose(server, catalogues, wants, &locked)?;
    let platform = ground.platform(&server.survey.platform);
    // What is installed may go on as it is where a catalogue is out of reach, though something was wrong with it before.
    let as_installed = || {
        // What was given just now is not here yet, or has other bytes.
        if matches!(fresh, Fresh::Given(_)) {
            return None;
        }
        let on = lock.contents.iter().filter(|locked| is_on(&locked.id));
        by_lock(server, catalogues, wants, &on.map(Locked::chosen).collect())
    };
    let answer = match catalogues.solve(&platform, &ground.wants(wants), &locked) {
        Err(error @ AppError::Catalogue(_)) => return as_installed().ok_or(error),
        answer => answer?,
    };
    match answer {
        Resolution::Lineup(selection) => Ok(Chosen { selection, by_lock: None }),
        Resolution::None(explanation) => {
            // An unreachable catalogue shows only what is locked, so its other releases might still fit.
            if let Some(error) = catalogues.get()?.unreachable().into_iter().next() {
                return as_installed().ok_or_else(|| error.into());
            }
            let noted = &server.control.wants;
            let explanation = with_acts(explanation, wants, &noted.wants);
            let switched_on: Vec<&ContentId> = noted.off.keys().filter(|id| is_on(id)).collect();
            Err(AppError::NoLineup(Box::new(leaving_off(explanation, &switched_on))))
        }
        answer @ (Resolution::Unread(_) | Resolution::Defect { .. }) => {
            unreachable!("the catalogues answered {answer:?}")
        }
    }
}

/// Returns the versions to which an update of everything would lead. Of a content that gets other files under the same version, it is
/// that version. Nothing is in it where no versions fit together.
///
/// # Errors
/// Where a catalogue that is needed for that cannot be read.
pub fn newest(server: &Server, wants: &ControlFile) -> Result<BTreeMap<ContentId, ReleaseVersion>, AppError> {
    let catalogues = server.catalogues_for(wants);
    catalogues.set_fresh(&Fresh::All);
    let off = &wants.off;
    let mut wants = wants.wants.clone();
    wants.retain(|id, _| !off.contains_key(id));
    let mut preferred = Selection::new();
    catalogues.prefer_editions(&Fresh::All, &mut preferred)?;
    let Resolution::Lineup(selection) = catalogues.solve(&server.survey.platform, &wants, &preferred)? else {
        return Ok(BTreeMap::new());
    };
    let universe = catalogues.universe();
    let known = server.control.lock.by_id();
    let changed = selection.into_iter().filter(|(id, version)| {
        let (Some(locked), Some(release)) = (known.get(id), universe.release(id, version)) else {
            return false;
        };
        lock_one((&universe, &catalogues), Some(locked), (id, release), &Fresh::All).release != locked.release
    });
    Ok(changed.collect())
}

/// Returns whether there are versions with which an installed content has all that it needs.
pub fn can_mend(server: &Server, id: &ContentId) -> Result<bool, AppError> {
    let catalogues = server.catalogues();
    catalogues.mend(&Mend::These([id.clone()].into()));
    match choose(server, &catalogues, &server.control.wants, (&Fresh::None, &[])) {
        Err(AppError::NoLineup(_)) => Ok(false),
        chosen => chosen.map(|_| true),
    }
}

fn by_lock(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    wants: &BTreeMap<ContentId, VersionRange>,
    locked: &Selection,
) -> Option<Chosen> {
    if !wants.keys().all(|id| locked.contains_key(id)) {
        return None;
    }
    let mut universe = Universe::default();
    for content in server.control.lock.contents.iter().filter(|content| locked.contains_key(&content.id)) {
        universe.add_release(&content.id, &content.catalogue, catalogues.staying(content).clone());
    }
    let question = Question { universe: &universe, platform: &server.survey.platform, wants, locked };
    match solve(&question) {
        Resolution::Lineup(selection) => Some(Chosen { selection, by_lock: Some(universe) }),
        _ => None,
    }
}

/// What was asked for just now is not noted yet, so that a way out is another `add`, not a `drop`.
fn with_acts(
    mut explanation: Explanation,
    wants: &BTreeMap<ContentId, VersionRange>,
    noted: &BTreeMap<ContentId, VersionRange>,
) -> Explanation {
    let asked: Vec<(&ContentId, &VersionRange)> =
        wants.iter().filter(|(id, range)| noted.get(*id) != Some(*range)).collect();
    if asked.is_empty() {
        return explanation;
    }
    for way in explanation.ways_out.iter_mut().filter(|way| !way.wants.is_empty()) {
        let changed = |id: &ContentId| way.wants.iter().any(|(other, _)| other == id);
        let others = asked.iter().filter(|(id, _)| !changed(id));
        let others = others.map(|(id, range)| ((*id).clone(), (*range).clone()));
        let own = way
            .wants
            .iter()
            .filter_map(|(id, version)| Some((id.clone(), VersionRange::exactly(version.as_ref()?))));
        let gone = way.wants.iter().filter(|(id, version)| version.is_none() && noted.contains_key(id));
        let act = WayAct {
            drop: gone.map(|(id, _)| id.clone()).collect(),
            add: others.chain(own).collect(),
            ..WayAct::default()
        };
        way.act = (act != WayAct::default()).then_some(act);
    }
    explanation
}

/// What was off a moment ago can stay off: nothing has to be removed.
fn leaving_off(mut explanation: Explanation, switched_on: &[&ContentId]) -> Explanation {
    for way in &mut explanation.ways_out {
        let stays_off = |id: &&ContentId| way.wants.iter().any(|(other, _)| other == *id);
        let (off, on): (Vec<&ContentId>, Vec<&ContentId>) = switched_on.iter().copied().partition(stays_off);
        if off.is_empty() || off.len() < way.wants.len() || way.wants.iter().any(|(_, to)| to.is_some()) {
            continue;
        }
        let names: Vec<&str> = off.iter().map(|id| id.as_str()).collect();
        way.change = format!("leave {} off", names.join(" and "));
        let act = WayAct { switch_on: on.into_iter().cloned().collect(), ..WayAct::default() };
        way.act = (act != WayAct::default()).then_some(act);
    }
    explanation
}

/// Returns why a content cannot be had in a version, everything else staying as wanted.
pub fn why_not(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    id: &ContentId,
    version: &ReleaseVersion,
) -> Result<Option<Explanation>, AppError> {
    let mut wants = server.control.wants.wants.clone();
    wants.retain(|id, _| !server.control.wants.off.contains_key(id));
    // Of editions without a version the catalogue's is asked about, and no other.
    if version.is_unversioned() {
        wants.insert(id.clone(), VersionRange::any());
        let catalogues = server.catalogues_for(catalogues.wants());
        catalogues.set_fresh(&Fresh::Given([id.clone()].into()));
        return match catalogues.solve(&server.survey.platform, &wants, &Selection::new())? {
            Resolution::None(explanation) => Ok(Some(explanation)),
            _ => Ok(None),
        };
    }
    wants.insert(id.clone(), VersionRange::exactly(version));
    match catalogues.solve(&server.survey.platform, &wants, &Selection::new())? {
        Resolution::None(explanation) => Ok(Some(explanation)),
        _ => Ok(None),
    }
}

/// A release that is newer than the one that is here.
pub struct Newer {
    pub version: ReleaseVersion,
    /// The want that keeps it away, in words.
    pub by_you: Option<String>,
    /// What else keeps it away.
    pub because: Option<Explanation>,
}

/// Returns the newest release after the one that is here, and what keeps it away, if anything does.
pub fn newer(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    id: &ContentId,
    here: &ReleaseVersion,
) -> Result<Option<Newer>, AppError> {
    let Some(version) = catalogues.newest(id, here)? else { return Ok(None) };
    let range = server.control.wants.wants.get(id).filter(|range| !range.matches(&version));
    let by_you = range.map(VersionRange::in_words);
    let because = match &by_you {
        Some(_) => None,
        None => why_not(server, catalogues, id, &version)?,
    };
    Ok(Some(Newer { version, by_you, because }))
}
