//! What is installed, in which version and state, and whether something newer fits.

use crate::words::ServerName;
use serde::Serialize;
use yalotheca_core::{
    catalogue::Side, control::Locked, id::ContentId, solve::Selection, version::ReleaseVersion,
};

use super::update::ask_links;
use crate::{
    AppError, Server,
    plan::{newest, reasons},
};

/// What a content does on the server.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum ContentState {
    /// The server loads it.
    On,
    /// Some members of a pack are off.
    PartlyOn,
    /// It is installed and not enabled.
    Off,
    /// It is for players only.
    Player,
}

/// One installed content.
#[derive(Debug, Serialize)]
pub struct ListLine {
    /// The content.
    pub id: ContentId,
    /// Its version.
    pub version: ReleaseVersion,
    /// Its kind.
    pub kind: String,
    /// Its state.
    pub state: ContentState,
    /// Why it is here, or why it is off.
    pub why: String,
    /// Members of a pack that are off.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub members_off: Vec<ContentId>,
    /// The newest version that fits everything else.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub newer: Option<ReleaseVersion>,
}

/// What is installed.
#[derive(Debug, Serialize)]
pub struct ListReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// The contents.
    pub contents: Vec<ListLine>,
    /// What is in yalotheca.toml and not installed yet.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub not_installed: Vec<ContentId>,
    /// Whether it is known what is newer.
    #[serde(skip)]
    pub is_newer_known: bool,
}

/// What to list.
#[derive(Debug, Clone, Copy, Default)]
pub struct ListRequest {
    /// Whether the catalogues are asked now; else what was fetched last counts.
    pub fresh: bool,
}

/// Lists what is installed. Where it is not asked for, not knowing what is newer is no failure.
///
/// # Errors
/// Where a catalogue cannot be asked that was to be asked.
pub fn list(server: &Server, request: ListRequest) -> Result<ListReport, AppError> {
    let control = &server.control;
    let newer = newer(server, request.fresh)?;
    let mut reasons = reasons(&control.lock, &control.wants.wants);
    let contents = control.lock.contents.iter().map(|locked| {
        let why = reasons.remove(&locked.id).unwrap_or_default();
        line(server, locked, why, newer.as_ref().and_then(|newer| newer.get(&locked.id)))
    });
    let mut contents: Vec<ListLine> = contents.collect();
    contents.sort_by(|a, b| a.id.cmp(&b.id));
    let locked = control.lock.by_id();
    let not_installed = control.wants.wants.keys().filter(|id| !locked.contains_key(id)).cloned().collect();
    Ok(ListReport { server: server.shown(), contents, not_installed, is_newer_known: newer.is_some() })
}

fn line(server: &Server, locked: &Locked, why: String, newer: Option<&ReleaseVersion>) -> ListLine {
    let off = &server.control.wants.off;
    let release = &locked.release;
    let members = release.members.iter().filter(|member| off.contains_key(&member.id));
    let members_off: Vec<ContentId> = members.map(|member| member.id.clone()).collect();
    let state = if locked.off {
        ContentState::Off
    } else if release.side == Side::Player {
        ContentState::Player
    } else if members_off.is_empty() {
        ContentState::On
    } else {
        ContentState::PartlyOn
    };
    let why = match off.get(&locked.id) {
        Some(reason) if locked.off && !reason.is_empty() => reason.clone(),
        _ => why,
    };
    ListLine {
        id: locked.id.clone(),
        version: release.version.clone(),
        kind: release.kind.clone(),
        state,
        why,
        members_off,
        newer: newer.cloned(),
    }
}

/// What an update would choose; nothing where that is not known.
fn newer(server: &Server, is_asked: bool) -> Result<Option<Selection>, AppError> {
    let wants = if is_asked { ask_links(server, &[])?.wants } else { server.control.wants.clone() };
    let chosen = match newest(server, &wants) {
        Ok(newest) => return Ok(Some(newest)),
        Err(error) => error,
    };
    if is_asked {
        return Err(chosen);
    }
    Ok(None)
}
