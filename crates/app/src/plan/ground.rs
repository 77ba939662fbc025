//! What the rest stands on: engines and loaders that are wanted, or that a wanted pack needs. They are chosen first, since
//! everything else must fit them.

use std::collections::BTreeMap;

use yalotheca_core::{
    catalogue::Platform,
    game::PACK_KIND,
    id::ContentId,
    solve::{Resolution, Selection},
    version::{ReleaseVersion, VersionRange},
};

use crate::{AppError, OpenCatalogues, Server};

/// The chosen engine and loaders.
#[derive(Debug, Default)]
pub(super) struct ChosenPlatform {
    /// The part of the platform, the content, and its version.
    chosen: Vec<(String, ContentId, ReleaseVersion)>,
    /// What an engine asks of a server that does not say what it has: an empty one, say.
    assumed: BTreeMap<String, ReleaseVersion>,
}

impl ChosenPlatform {
    /// Returns the platform with what was chosen in place of what is there now.
    pub(super) fn platform(&self, now: &Platform) -> Platform {
        let mut platform = now.clone();
        for (part, _, version) in &self.chosen {
            platform.parts.insert(part.clone(), version.clone());
        }
        for (part, version) in &self.assumed {
            platform.parts.entry(part.clone()).or_insert_with(|| version.clone());
        }
        platform
    }

    /// Returns the wants with what was chosen held.
    pub(super) fn wants(
        &self,
        wants: &BTreeMap<ContentId, VersionRange>,
    ) -> BTreeMap<ContentId, VersionRange> {
        let mut wants = wants.clone();
        for (_, id, version) in &self.chosen {
            if let Some(range) = wants.get_mut(id) {
                *range = VersionRange::exactly(version);
            }
        }
        wants
    }
}

/// Chooses engines and loaders, one part of the platform after another: a loader may ask for an engine.
pub(super) fn choose(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    wants: &BTreeMap<ContentId, VersionRange>,
    locked: &Selection,
) -> Result<ChosenPlatform, AppError> {
    let mut ground = ChosenPlatform::default();
    if server.game.kinds.values().all(|kind| kind.brings.is_none()) {
        return Ok(ground);
    }
    let mut asked: BTreeMap<ContentId, (String, VersionRange)> = BTreeMap::new();
    let lock = server.control.lock.by_id();
    let part_of = |id: &ContentId| -> Result<Option<String>, AppError> {
        let locked = lock.get(id).map(|locked| locked.release.kind.clone());
        let kind = match locked {
            Some(kind) => Some(kind),
            None => catalogues.get()?.kind(id)?,
        };
        Ok(kind.and_then(|kind| server.game.kinds.get(&kind)?.brings.clone()))
    };
    for (id, range) in wants {
        if let Some(part) = part_of(id)? {
            asked.insert(id.clone(), (part, range.clone()));
        }
        let given = catalogues.given(id).filter(|given| given.kind.as_deref() == Some(PACK_KIND));
        if given.is_some() {
            let content = catalogues.get()?.content(id)?;
            for (need, range) in
                content.iter().flat_map(|content| &content.releases).flat_map(|release| &release.needs)
            {
                if let Some(part) = part_of(need)? {
                    asked.entry(need.clone()).or_insert((part, range.clone()));
                }
            }
        }
    }
    for (id, (_, range)) in &asked {
        let Some(content) = catalogues.get()?.content(id)? else { continue };
        let fitting = content.releases.iter().find(|release| range.matches(&release.version));
        let brought =
            |part: &str| server.game.kinds.values().any(|kind| kind.brings.as_deref() == Some(part));
        for (part, range) in fitting.iter().flat_map(|release| &release.platforms).flatten() {
            if let (false, false, Some(version)) =
                (server.survey.platform.parts.contains_key(part), brought(part), range.only_version())
            {
                ground.assumed.insert(part.clone(), version);
            }
        }
    }
    // What asks for no part that is still to be chosen comes first; twice is enough for an engine and its loader.
    for _ in 0..2 {
        for (id, (part, range)) in &asked {
            let only: BTreeMap<ContentId, VersionRange> = [(id.clone(), range.clone())].into();
            let platform = ground.platform(&server.survey.platform);
            if let Resolution::Lineup(selection) = catalogues.solve(&platform, &only, locked)?
                && let Some(version) = selection.get(id)
            {
                ground.chosen.retain(|(_, known, _)| known != id);
                ground.chosen.push((part.clone(), id.clone(), version.clone()));
            }
        }
    }
    Ok(ground)
}
