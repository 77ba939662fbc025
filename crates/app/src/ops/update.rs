//! Updating contents.

use serde::Serialize;
use yalotheca_core::{
    control::{ControlFile, Given, LockFile},
    hint::Advice,
    id::ContentId,
    solve::Explanation,
    version::ReleaseVersion,
};

use crate::{
    AppError, Fresh, OpenCatalogues, Server, pack,
    plan::{PlanOptions, Planned, newer, plan_change},
};

/// What an update does, and what it does not.
#[derive(Debug)]
pub struct UpdateReport {
    /// The change.
    pub planned: Planned,
    /// Contents that are not updated to a newer release, and why.
    pub held_back: Vec<HeldBackContent>,
    /// Catalogues and links that could not be asked, why, and what that means.
    pub absent: Vec<String>,
    /// Whether none of them could be asked.
    pub is_blind: bool,
}

/// The contents that an update may change, after their links were asked what they give now.
#[derive(Debug)]
pub struct LinksAsked {
    /// What may become newer.
    pub fresh: Fresh,
    /// The wants, with the digests of the files that the links give now.
    pub wants: ControlFile,
    /// How many links were asked.
    pub asked: usize,
    /// Links that give no file now, and why.
    pub silent: Vec<String>,
}

/// Asks the links by which contents came whether they give other files by now: of these contents, or of all where none is named.
///
/// # Errors
/// Where one is not installed or switched off.
pub fn ask_links(server: &Server, names: &[String]) -> Result<LinksAsked, AppError> {
    let fresh = if names.is_empty() {
        Fresh::All
    } else {
        let ids = names.iter().map(|name| ContentId::new(name)).collect::<Result<_, _>>()?;
        Fresh::These(ids)
    };
    if let Fresh::These(ids) = &fresh {
        for id in ids {
            refuse_what_is_not_on(server, id)?;
        }
    }
    let mut wants = server.control.wants.clone();
    let is_asked = |id: &ContentId| fresh.has(id) && !wants.off.contains_key(id);
    let linked: Vec<(ContentId, Given)> = wants
        .given
        .iter()
        .filter(|(id, given)| given.link.is_some() && is_asked(id))
        .map(|(id, given)| (id.clone(), given.clone()))
        .collect();
    let links: Vec<String> = linked.iter().filter_map(|(_, given)| given.link.clone()).collect();
    if server.fetcher.is_offline() {
        return Ok(LinksAsked { fresh, wants, asked: 0, silent: Vec::new() });
    }
    let mut silent = Vec::new();
    for ((id, given), digest) in linked.into_iter().zip(server.fetcher.digests_behind(&links)) {
        match digest {
            Ok(digest) if given.blake3 == Some(digest) => {}
            Ok(digest) => wants.give(&id, &Given { blake3: Some(digest), ..given }),
            Err(error) => silent.push(format!("{id}: {error}")),
        }
    }
    Ok(LinksAsked { fresh, wants, asked: links.len(), silent })
}

fn refuse_what_is_not_on(server: &Server, id: &ContentId) -> Result<(), AppError> {
    if server.control.lock.get(id).is_none() {
        return Err(server.not_here(id, Advice::Install(id.to_string())));
    }
    if server.control.wants.off.contains_key(id) {
        return Err(AppError::Usage {
            what: format!("{id} is switched off, and what is off is not updated"),
            hint: Some(Advice::SwitchOn(id.to_string())),
        });
    }
    Ok(())
}

/// Plans an update of what may become newer.
///
/// # Errors
/// Where it cannot be planned.
pub fn update(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    links: &LinksAsked,
) -> Result<UpdateReport, AppError> {
    let LinksAsked { fresh, wants, asked, silent } = links;
    let mut options = PlanOptions::default();
    let mut absent = Vec::new();
    let (mut sources, mut heard) = (*asked, asked.saturating_sub(silent.len()));
    if matches!(fresh, Fresh::All) && wants.pack.is_some() {
        sources += 1;
        match pack::resolve(server, wants, true) {
            Ok(pack) => {
                options.pack = pack;
                heard += 1;
            }
            Err(error) => absent.push(format!("{error}. The resource pack stays as it is.")),
        }
    }
    let planned = plan_change(server, catalogues, wants, fresh, &options)?;
    let unreachable = catalogues.get()?.unreachable();
    sources += wants.catalogues.len();
    heard += wants.catalogues.len().saturating_sub(unreachable.len());
    absent.extend(
        unreachable.iter().map(|error| format!("{error}. What is only in that catalogue stays as it is.")),
    );
    absent.extend(silent.iter().map(|silent| format!("{silent}. It stays as it is.")));
    let held_back = held_back(server, catalogues, &planned.lock, fresh)?;
    Ok(UpdateReport { planned, held_back, absent, is_blind: sources > 0 && heard == 0 })
}

/// A content that is not updated to a newer release.
#[derive(Debug, Clone, Serialize)]
pub struct HeldBackContent {
    /// The content.
    pub id: ContentId,
    /// The version that is installed.
    pub has: ReleaseVersion,
    /// The newest one.
    pub newest: ReleaseVersion,
    /// The range in `yalotheca.toml` that it does not fit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by_you: Option<String>,
    /// Why it does not fit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub because: Option<Explanation>,
}

/// Finds what has a newer release than the plan takes, and why it is not taken.
fn held_back(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    lock: &LockFile,
    fresh: &Fresh,
) -> Result<Vec<HeldBackContent>, AppError> {
    let mut held = Vec::new();
    for locked in lock.on() {
        if let Fresh::These(ids) = fresh
            && !ids.contains(&locked.id)
        {
            continue;
        }
        let newer = match newer(server, catalogues, &locked.id, &locked.release.version) {
            // What is newer in a catalogue that cannot be read is not known; the user was told about that catalogue.
            Err(AppError::Catalogue(_)) => continue,
            newer => newer?,
        };
        let Some(newer) = newer else { continue };
        held.push(HeldBackContent {
            id: locked.id.clone(),
            has: locked.release.version.clone(),
            newest: newer.version,
            by_you: newer.by_you,
            because: newer.because,
        });
    }
    Ok(held)
}
