//! What players get: the resource pack that they are offered.

use std::{collections::BTreeMap, path::Path};

use serde::Serialize;
use yalotheca_core::{
    control::{ControlFile, LockedPack, PackSection},
    document::{Pointer, Value},
    game::{PackRule, SettingsFile},
    hint::{Advice, Listing},
    id::Digest,
    link::{user_of, without_user},
    settings::SERVER,
};

use super::change::Change;
use crate::{
    AppError, Server,
    pack::{self, AtLink, PackAsTold, PackFile},
    words::size,
};

/// The pack that players are offered.
#[derive(Debug, Serialize)]
pub struct PackReport {
    /// The server, as people call it.
    pub server: String,
    /// What the server tells players.
    #[serde(flatten)]
    pub told: PackAsTold,
    /// Other links that are tried where that one fails.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub others: Vec<String>,
    /// The size of what the link gives.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// What is wrong, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
    /// What could not be found out, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// Which pack players are to be offered.
#[derive(Debug, Clone, Default)]
pub struct PackRequest {
    /// Links, the first one first; and the file itself, if it is here.
    pub sources: Vec<String>,
    /// Whether players without it are turned away.
    pub must: Option<bool>,
    /// Whether none is offered any more.
    pub none: bool,
}

/// Shows the pack that players are offered, and whether its link gives it.
///
/// # Errors
/// Where the game has none, or the server cannot be read.
pub fn show_pack(server: &Server) -> Result<PackReport, AppError> {
    let rule = pack::rule(server)?;
    let mut told = pack::as_told(&*server.tree, &server.game, &server.survey.scope)?;
    let has_user = told.link.as_ref().is_some_and(|link| user_of(link).is_some());
    told.link = told.link.map(|link| without_user(&link));
    let others = server.control.wants.pack.iter().flat_map(|pack| &pack.links);
    let others = others.filter(|link| Some(*link) != told.link.as_ref()).cloned().collect();
    let mut report =
        PackReport { server: server.shown(), told, others, bytes: None, problem: None, note: None };
    if has_user {
        report.problem = Some("its link has a user and a password in it, which every player is told".into());
        return Ok(report);
    }
    if let Some(link) = report.told.link.as_deref().filter(|_| !server.fetcher.is_offline()) {
        match pack::at_link(server, rule, link, false) {
            AtLink::Pack(file) => {
                report.bytes = Some(file.bytes);
                let kind = rule.digest.as_ref().map(|(_, kind)| *kind);
                report.problem = kind.and_then(|kind| pack::difference(&report.told, &file, kind));
            }
            AtLink::Wrong(why) => report.problem = Some(why),
            AtLink::Silent(why) => report.note = Some(why),
            AtLink::NotRead(bytes) => report.bytes = Some(bytes),
        }
    }
    Ok(report)
}

/// Offers players a pack, or none.
///
/// # Errors
/// Where no link gives a pack, or another one than the file that was given.
pub fn offer_pack(server: &Server, request: &PackRequest) -> Result<Change, AppError> {
    let rule = pack::rule(server)?;
    let mut wants = server.control.wants.clone();
    if request.none {
        if wants.pack.is_none() {
            return Err(AppError::Usage { what: "no pack is offered".into(), hint: None });
        }
        wants.offer_pack(None);
        return Ok(Change::to(wants, vec!["no pack".into()]));
    }
    let is_link = |text: &&String| text.starts_with("http://") || text.starts_with("https://");
    let (links, files): (Vec<&String>, Vec<&String>) = request.sources.iter().partition(is_link);
    if links.iter().any(|link| user_of(link).is_some()) {
        return Err(AppError::Refused {
            what: "a link with a user's name in it would give that, and a password, to every player".into(),
            hint: Some("put the pack where everybody may fetch it, and give that link".into()),
        });
    }
    let mut section = wants.pack.clone().unwrap_or_default();
    if !links.is_empty() {
        section.links = links.into_iter().cloned().collect();
    }
    if request.must.is_some() {
        section.must = request.must;
        forget_setting(server, rule, &mut wants);
    }
    let file = match files.as_slice() {
        [] => None,
        [file] => Some((*file, pack::read(rule, Path::new(file), file)?)),
        _ => {
            return Err(AppError::Usage {
                what: "players are offered one pack, and several files were given".into(),
                hint: None,
            });
        }
    };
    if section.links.is_empty() {
        return Err(AppError::Usage {
            what: "players fetch the pack by a link, and none was given".into(),
            hint: Some("upload the file to a web host, and give the link as well".into()),
        });
    }
    wants.offer_pack(Some(&section));
    let locked = match &file {
        Some((name, file)) => same_at_one(server, &section, (name, file))?,
        None => pack::resolve(server, &wants, true)?,
    };
    let link = locked.as_ref().map_or_else(String::new, |pack| pack.link.clone());
    let mut change = Change::to(wants, vec![format!("pack {link}")]);
    if let Some(LockedPack { bytes: Some(bytes), .. }) = &locked {
        change.extras.notes.push(format!("{link} gives the pack itself ({}).", size(*bytes)));
    }
    if section.must.is_none() && rule.must.is_some() {
        let told = pack::as_told(&*server.tree, &server.game, &server.survey.scope)?;
        if told.must != Some(true) {
            change.extras.notes.push("Players may come without it.".into());
        }
    }
    change.extras.plan.pack = locked;
    Ok(change)
}

/// What was asked for as a setting is kept with the pack from now on.
fn forget_setting(server: &Server, rule: &PackRule, wants: &mut ControlFile) {
    let Some(must) = &rule.must else { return };
    let scope = &server.survey.scope;
    let pointer = must.place.pointer.render(scope).ok().and_then(|text| Pointer::parse(&text).ok());
    let Some((file, pointer)) = must.place.file.render(scope).ok().zip(pointer) else { return };
    let is_file = |one: &&SettingsFile| one.file.render(scope).is_ok_and(|path| path == file);
    let short = server.game.settings.iter().find(is_file).and_then(|one| one.short.render(scope).ok());
    let Some(short) = short else { return };
    let is_set = |files: &BTreeMap<String, BTreeMap<Pointer, Value>>| {
        files.get(&short).is_some_and(|places| places.contains_key(&pointer))
    };
    if wants.settings.get(SERVER).is_some_and(is_set) {
        wants.ask_setting(SERVER, &short, &pointer, None);
    }
}

/// Returns the first link that gives this very file.
fn same_at_one(
    server: &Server,
    section: &PackSection,
    (name, file): (&str, &PackFile),
) -> Result<Option<LockedPack>, AppError> {
    let rule = pack::rule(server)?;
    let mut found: Option<(String, Digest, u64)> = None;
    let mut first = None;
    for link in &section.links {
        match pack::fetch(server, rule, link) {
            Ok((there, _)) if there.blake3 == file.blake3 => {
                return Ok(Some(LockedPack {
                    link: link.clone(),
                    digest: Some(file.digest.clone()),
                    blake3: Some(file.blake3),
                    bytes: Some(file.bytes),
                }));
            }
            Ok((there, _)) => drop(found.get_or_insert((link.clone(), there.blake3, there.bytes))),
            Err(error) => drop(first.get_or_insert(error)),
        }
    }
    match (found, first) {
        (Some((link, _, bytes)), _) => Err(AppError::Refused {
            what: format!("{link} gives another file ({}) than {name} ({})", size(bytes), size(file.bytes)),
            hint: Some("upload the file there, then try again; nothing was changed".into()),
        }),
        (None, Some(error)) => Err(error),
        (None, None) => Err(AppError::Usage {
            what: "players fetch the pack by a link, and none was given".into(),
            hint: Some(Advice::List(Listing::Definition(server.game.name.clone()))),
        }),
    }
}
