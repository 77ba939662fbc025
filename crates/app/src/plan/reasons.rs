//! Why each content is there, and what happens to it.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use serde::Serialize;
use yalotheca_core::{
    control::LockFile,
    id::ContentId,
    version::{ReleaseVersion, VersionRange},
};

use crate::{AppError, OpenCatalogues, Server, words::listed};

/// What happens to one content.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum ContentAct {
    /// It is installed.
    New,
    /// It becomes newer.
    Newer,
    /// It becomes older.
    Older,
    /// Another edition is installed: of the same version, or of a content without one.
    Changed,
    /// It is switched off.
    Off,
    /// It is switched on again.
    On,
    /// It is removed.
    Gone,
}

/// One line about a content.
#[derive(Debug, Clone, Serialize)]
pub struct ContentLine {
    /// What happens.
    pub act: ContentAct,
    /// The content.
    pub id: ContentId,
    /// The version that was installed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<ReleaseVersion>,
    /// The version that is installed then.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub to: Option<ReleaseVersion>,
    /// Why.
    pub why: String,
}

/// A companion that could come along.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Companion {
    /// The content.
    pub id: ContentId,
    /// The content that welcomes it.
    pub of: ContentId,
    /// Whether a catalogue has it.
    pub available: bool,
}

/// Says for each content in a lineup why it is there.
pub fn reasons(lock: &LockFile, wants: &BTreeMap<ContentId, VersionRange>) -> BTreeMap<ContentId, String> {
    let bearers = bearers(lock);
    let mut needed: BTreeMap<ContentId, Vec<String>> = BTreeMap::new();
    for locked in lock.on() {
        let needs: BTreeSet<&ContentId> = locked
            .release
            .needed_ids()
            .flat_map(|need| bearers.get(need).into_iter().flatten())
            .copied()
            .filter(|bearer| **bearer != locked.id)
            .collect();
        for bearer in needs {
            needed.entry(bearer.clone()).or_default().push(locked.id.to_string());
        }
    }
    lock.contents
        .iter()
        .map(|locked| {
            let why = match (wants.get(&locked.id), needed.get(&locked.id)) {
                (Some(range), _) if range.is_any() => "you want it".to_owned(),
                (Some(range), _) if range.is_exact() => format!("you hold it at {}", range.in_words()),
                (Some(range), _) => format!("you want {}", range.in_words()),
                (None, Some(by)) if by.len() > 3 => {
                    format!("{} and {} more need it", by[..3].join(", "), by.len() - 3)
                }
                (None, Some(by)) => {
                    format!("{} {} it", listed(by), if by.len() == 1 { "needs" } else { "need" })
                }
                (None, None) => String::new(),
            };
            (locked.id.clone(), why)
        })
        .collect()
}

/// Who in a lineup goes by each name: the content itself, and those that provide it.
fn bearers(lock: &LockFile) -> HashMap<&ContentId, Vec<&ContentId>> {
    let mut bearers: HashMap<&ContentId, Vec<&ContentId>> = HashMap::new();
    for locked in &lock.contents {
        bearers.entry(&locked.id).or_default().push(&locked.id);
        for name in locked.release.provides.keys().filter(|name| **name != locked.id) {
            bearers.entry(name).or_default().push(&locked.id);
        }
    }
    bearers
}

/// Says what happens to each content; `wanted` is what was wanted before.
pub fn content_lines(
    before: &LockFile,
    after: &LockFile,
    wants: &BTreeMap<ContentId, VersionRange>,
    wanted: &BTreeMap<ContentId, VersionRange>,
) -> Vec<ContentLine> {
    let why = reasons(after, wants);
    let (old, new) = (before.by_id(), after.by_id());
    let mut lines = Vec::new();
    for locked in &after.contents {
        let to = &locked.release.version;
        let old = old.get(&locked.id);
        let from = old.map(|old| &old.release.version);
        let act = match from {
            None => ContentAct::New,
            // Of two editions without a version none is newer.
            Some(from) if from != to && from.is_unversioned() && to.is_unversioned() => ContentAct::Changed,
            Some(from) if from < to => ContentAct::Newer,
            Some(from) if from > to => ContentAct::Older,
            Some(_) if old.is_some_and(|old| old.release.payload != locked.release.payload) => {
                ContentAct::Changed
            }
            Some(_) if old.is_some_and(|old| old.off != locked.off) => {
                if locked.off {
                    ContentAct::Off
                } else {
                    ContentAct::On
                }
            }
            Some(_) => continue,
        };
        let mut why = why.get(&locked.id).cloned().unwrap_or_default();
        // The solver chooses a pre-release without being asked only if no other release fits.
        let is_asked_for =
            wants.get(&locked.id).is_some_and(|range| range.names_prerelease_of(to) || range.is_exact());
        if to.is_prerelease() && !is_asked_for {
            why += if why.is_empty() { "" } else { "; " };
            why += "a pre-release, as no other release fits";
        }
        lines.push(ContentLine {
            act,
            id: locked.id.clone(),
            from: from.cloned(),
            to: Some(to.clone()),
            why,
        });
    }
    for locked in before.contents.iter().filter(|locked| !new.contains_key(&locked.id)) {
        let from = Some(locked.release.version.clone());
        let dropped = wanted.contains_key(&locked.id) && !wants.contains_key(&locked.id);
        let why = if dropped { "you dropped it" } else { "nothing needs it any more" }.to_owned();
        lines.push(ContentLine { act: ContentAct::Gone, id: locked.id.clone(), from, to: None, why });
    }
    lines
}

/// Companions that what is new would welcome and that are not there.
pub(super) fn companions(
    catalogues: &OpenCatalogues<'_>,
    before: &LockFile,
    after: &LockFile,
    server: &Server,
) -> Result<Vec<Companion>, AppError> {
    let mut found: Vec<Companion> = Vec::new();
    let (old, bearers) = (before.by_id(), bearers(after));
    for locked in after.contents.iter().filter(|locked| !old.contains_key(&locked.id)) {
        for id in locked.release.welcomes.keys() {
            let there = bearers.contains_key(id);
            let told = found.iter().any(|companion| companion.id == *id);
            if there || told || server.survey.platform.provides.contains_key(id) {
                continue;
            }
            let catalogues = catalogues.get()?;
            // An offer is no need: a catalogue that cannot be asked about it stands in nobody's way.
            let bearer = match catalogues.content(id) {
                Ok(Some(content)) => Some(content.id),
                Ok(None) => catalogues.providers(id).into_iter().next(),
                Err(_) => continue,
            };
            let available = bearer.is_some();
            let id = bearer.unwrap_or_else(|| id.clone());
            if !found.iter().any(|companion| companion.id == id) {
                found.push(Companion { id, of: locked.id.clone(), available });
            }
        }
    }
    found.sort_by_key(|companion| !companion.available);
    Ok(found)
}
