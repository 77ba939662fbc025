//! Why a content is installed, and what keeps it from being newer.

use crate::words::ServerName;
use serde::Serialize;
use yalotheca_core::{
    catalogue::AnyOf,
    hint::Advice,
    id::ContentId,
    solve::Explanation,
    version::{ReleaseVersion, VersionRange},
};

use crate::{AppError, Server, plan::newer};

/// Why a content is installed.
#[derive(Debug, Serialize)]
pub struct WhyReport {
    /// The server.
    pub server: ServerName,
    /// The content.
    pub id: ContentId,
    /// Its version.
    pub version: ReleaseVersion,
    /// The want, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub you_want: Option<String>,
    /// Who needs it.
    pub needed: Vec<AskingContent>,
    /// Contents that welcome it.
    pub welcomed: Vec<AskingContent>,
    /// What is newer, if anything is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub newer: Option<NewerRelease>,
}

/// Another content that asks for it.
#[derive(Debug, Serialize)]
pub struct AskingContent {
    /// The other content.
    pub by: ContentId,
    /// Its version.
    pub version: ReleaseVersion,
    /// By which name, where it is not its own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub as_name: Option<ContentId>,
    /// The versions that it asks for, in words.
    pub range: String,
}

/// A newer release.
#[derive(Debug, Serialize)]
pub struct NewerRelease {
    /// Its version.
    pub version: ReleaseVersion,
    /// Whether it fits this server.
    pub fits: bool,
    /// The range in `yalotheca.toml` that it does not fit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by_you: Option<String>,
    /// Why it does not fit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub because: Option<Explanation>,
}

/// Says why a content is installed, and what keeps it from being newer.
///
/// # Errors
/// Where it is not installed, or a catalogue cannot be read.
pub fn why(server: &Server, name: &str) -> Result<WhyReport, AppError> {
    let lock = &server.control.lock;
    let id = ContentId::new(name)?;
    let Some(locked) = lock.get(&id) else {
        return Err(server.not_here(&id, Advice::SeeWhetherItFits(id.to_string())));
    };
    let (mut needed, mut welcomed) = (Vec::new(), Vec::new());
    for other in lock.on().filter(|other| other.id != id) {
        let release = &other.release;
        let asks = |(name, range): (&ContentId, &VersionRange)| {
            locked.release.stands_for(&id, name).then(|| AskingContent {
                by: other.id.clone(),
                version: release.version.clone(),
                as_name: (*name != id).then(|| name.clone()),
                range: if range.is_any() { String::new() } else { range.in_words() },
            })
        };
        needed.extend(release.needs.iter().filter_map(asks));
        needed.extend(release.needs_any.iter().flat_map(AnyOf::iter).filter_map(asks));
        welcomed.extend(release.welcomes.iter().filter_map(asks));
    }
    let catalogues = server.catalogues();
    let newer = newer(server, &catalogues, &id, &locked.release.version)?.map(|newer| NewerRelease {
        fits: newer.by_you.is_none() && newer.because.is_none(),
        version: newer.version,
        by_you: newer.by_you,
        because: newer.because,
    });
    let off = server.control.wants.off.get(&id);
    let you_want = server.control.wants.wants.get(&id).map(|range| {
        if let Some(why) = off {
            let colon = if why.is_empty() { "" } else { ": " };
            format!("It is off{colon}{why}.")
        } else if range.is_any() {
            "You want it.".to_owned()
        } else if range.is_exact() {
            format!("You hold it at {}.", range.in_words())
        } else {
            format!("You want {}.", range.in_words())
        }
    });
    let version = locked.release.version.clone();
    Ok(WhyReport { server: server.shown(), id, version, you_want, needed, welcomed, newer })
}
