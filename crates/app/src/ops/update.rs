//! Updating contents.

use serde::Serialize;
use yalotheca_core::{
    control::LockFile, hint::Advice, id::ContentId, solve::Explanation, version::ReleaseVersion,
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
    /// What may become newer.
    pub fresh: Fresh,
    /// Contents that are not updated to a newer release, and why.
    pub held_back: Vec<HeldBackContent>,
    /// Catalogues that cannot be reached, and why.
    pub absent: Vec<String>,
}

/// Plans an update of these contents; of all where none is named.
///
/// # Errors
/// Where one is not installed or switched off, or the update cannot be planned.
pub fn update(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    names: &[String],
) -> Result<UpdateReport, AppError> {
    let lock = &server.control.lock;
    let fresh = if names.is_empty() {
        Fresh::All
    } else {
        let ids = names.iter().map(|name| ContentId::new(name)).collect::<Result<_, _>>()?;
        Fresh::These(ids)
    };
    if let Fresh::These(ids) = &fresh
        && let Some(id) = ids.iter().find(|id| lock.get(id).is_none())
    {
        return Err(server.not_here(id, Advice::Install(id.to_string())));
    }
    if let Fresh::These(ids) = &fresh
        && let Some(id) = ids.iter().find(|id| server.control.wants.off.contains_key(*id))
    {
        return Err(AppError::Usage {
            what: format!("{id} is switched off, and what is off is not updated"),
            hint: Some(Advice::SwitchOn(id.to_string())),
        });
    }
    let mut options = PlanOptions::default();
    let mut silent = None;
    if matches!(fresh, Fresh::All) {
        match pack::resolve(server, &server.control.wants, true) {
            Ok(pack) => options.pack = pack,
            Err(error) => silent = Some(error.to_string()),
        }
    }
    let planned = plan_change(server, catalogues, &server.control.wants, &fresh, &options)?;
    let unreachable = catalogues.get()?.unreachable().iter().map(ToString::to_string).collect::<Vec<_>>();
    let absent = unreachable.into_iter().chain(silent).collect();
    let held_back = held_back(server, catalogues, &planned.lock, &fresh)?;
    Ok(UpdateReport { planned, fresh, held_back, absent })
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
