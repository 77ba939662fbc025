//! What players need for a server: which contents, in which version, and from where.

use std::{collections::BTreeMap, path::Path};

use serde::{Deserialize, Serialize};
use yalotheca_core::{
    catalogue::Side,
    control::Locked,
    game::PlayersPart,
    id::{ContentId, Digest, TreePath},
    link::{user_of, without_user},
    version::ReleaseVersion,
};
use yalotheca_host::{settle::OWN, tree::Tree};

use super::export::{Bundling, ExportReport, ExportRequest, Sides, export};
use crate::{
    AppError, Server, mirror,
    pack::{self, PackAsTold},
};

/// What players need.
#[derive(Debug, Clone, Serialize)]
pub struct Handout {
    /// What people call the server.
    pub server: String,
    /// The game.
    pub game: String,
    /// The contents that players install, in load order.
    pub install: Vec<HandoutItem>,
    /// The contents that their games download.
    pub download: Vec<HandoutItem>,
    /// The resource pack.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pack: Option<PackAsTold>,
    /// Where their games download files from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mirror: Option<String>,
    /// What was in the handout before and is not needed any more.
    pub removed: Vec<ContentId>,
}

/// A content that players need.
#[derive(Debug, Clone, Serialize)]
pub struct HandoutItem {
    /// Its id.
    pub id: ContentId,
    /// What people call it.
    pub title: String,
    /// Its version.
    pub version: ReleaseVersion,
    /// Its kind.
    pub kind: String,
    /// Where it comes from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub link: Option<String>,
    /// The name of its file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The size of its file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// The digest of its file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub blake3: Option<Digest>,
    /// Whether its author lets others pass it on.
    pub redistribute: bool,
    /// What has changed since the last handout.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub change: Option<HandoutChange>,
}

/// What has changed about a content since the last handout.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum HandoutChange {
    /// It is new.
    New,
    /// It had this version.
    From(ReleaseVersion),
}

/// What the last handout listed.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Listed {
    format: u32,
    contents: BTreeMap<ContentId, ReleaseVersion>,
}

fn record() -> TreePath {
    TreePath::new(&format!("{OWN}/handout.json")).unwrap_or_else(|_| TreePath::root())
}

/// Returns what players need, compared with the last handout that was given out. Nothing of the server's own is in it.
///
/// # Errors
/// If the server cannot be read.
pub fn handout(server: &Server) -> Result<Handout, AppError> {
    let (mut install, mut download) = (Vec::new(), Vec::new());
    let before = listed(&*server.tree)?;
    for locked in server.control.lock.on() {
        let part = server.game.kinds.get(&locked.release.kind).map_or(PlayersPart::None, |kind| kind.players);
        let is_players = locked.release.side != Side::Server;
        match part {
            PlayersPart::Download => download.push(item(server, locked, before.as_ref())),
            PlayersPart::Install => install.push(item(server, locked, before.as_ref())),
            PlayersPart::BySide if is_players => install.push(item(server, locked, before.as_ref())),
            PlayersPart::BySide | PlayersPart::None => {}
        }
    }
    let is_listed = |id: &ContentId| install.iter().chain(&download).any(|item| item.id == *id);
    let removed = before.iter().flat_map(|before| before.contents.keys());
    let removed = removed.filter(|id| !is_listed(id)).cloned().collect();
    let told = pack::as_told(&*server.tree, &server.game, &server.survey.scope)?;
    let pack = Some(told).filter(|told| told.link.as_deref().is_some_and(is_public));
    let mirror = match &server.game.mirror {
        Some(rule) => mirror::address(server, rule)?.map(|address| without_user(&address)),
        None => None,
    };
    let game = server.game.title.clone();
    // The server's folder or address is private.
    let name = server.control.wants.server.name.clone();
    let name = if name.is_empty() { game.clone() } else { name };
    Ok(Handout { server: name, game, install, download, pack, mirror, removed })
}

fn item(server: &Server, locked: &Locked, before: Option<&Listed>) -> HandoutItem {
    let file = match locked.release.files.as_slice() {
        [only] => Some(only),
        _ => None,
    };
    let change = before.and_then(|before| match before.contents.get(&locked.id) {
        None => Some(HandoutChange::New),
        Some(version) if *version != locked.release.version => Some(HandoutChange::From(version.clone())),
        Some(_) => None,
    });
    HandoutItem {
        id: locked.id.clone(),
        title: locked.title.clone(),
        version: locked.release.version.clone(),
        kind: locked.release.kind.clone(),
        link: link(server, locked),
        file: file.map(|file| file.name.clone()),
        bytes: file.map(|file| file.size),
        blake3: file.map(|file| file.blake3),
        redistribute: locked.release.redistribute,
        change,
    }
}

/// Returns the public address of a content: the link that was given, or the file's in a catalogue on the web. Paths of this machine
/// and addresses with a user name are private.
fn link(server: &Server, locked: &Locked) -> Option<String> {
    let wants = &server.control.wants;
    let given = wants.given.get(&locked.id).and_then(|given| given.link.clone());
    let in_catalogue = || {
        let catalogue = wants.catalogues.iter().find(|catalogue| catalogue.name == locked.catalogue)?;
        let [file] = locked.release.files.as_slice() else { return None };
        let at = file.at.clone().unwrap_or_else(|| format!("files/{}", file.name));
        let is_whole = at.contains("://");
        Some(if is_whole { at } else { format!("{}/{at}", catalogue.at.trim_end_matches('/')) })
    };
    given.or_else(in_catalogue).filter(|link| is_public(link))
}

fn is_public(link: &str) -> bool {
    (link.starts_with("https://") || link.starts_with("http://")) && user_of(link).is_none()
}

fn listed(tree: &dyn Tree) -> Result<Option<Listed>, AppError> {
    let Some(bytes) = tree.read_file(&record())? else { return Ok(None) };
    // A record that cannot be read only means that changes are not marked.
    Ok(serde_json::from_slice::<Listed>(&bytes).ok().filter(|listed| listed.format == 1))
}

/// Remembers what was given out, so that the next handout can say what has changed.
///
/// # Errors
/// If the server's folder cannot be written.
pub fn remember(server: &Server, handout: &Handout) -> Result<(), AppError> {
    let all = handout.install.iter().chain(&handout.download);
    let contents = all.map(|item| (item.id.clone(), item.version.clone())).collect();
    let bytes = serde_json::to_vec_pretty(&Listed { format: 1, contents }).unwrap_or_default();
    Ok(server.tree.replace(&record(), &bytes)?)
}

/// Writes a pack of the players' edition with the files that may be passed on; the others are in it by name.
///
/// # Errors
/// If it would be empty or replace a file, or a file cannot be read or written.
pub fn bundle(server: &Server, file: &Path, force: bool) -> Result<ExportReport, AppError> {
    let request = ExportRequest {
        file: file.to_owned(),
        force,
        version: "1.0".into(),
        sides: Sides::Player,
        bundle: Bundling::Redistributable,
        ..ExportRequest::default()
    };
    export(server, &request)
}
