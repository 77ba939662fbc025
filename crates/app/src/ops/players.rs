//! Shows or changes the resource pack that players are offered.

use crate::words::ServerName;
use std::{collections::BTreeMap, path::Path};

use serde::Serialize;
use yalotheca_core::{
    control::{ControlFile, LockedPack, PackSection},
    document::{Pointer, Value},
    game::{PackRule, SettingsFile},
    hint::{Advice, Listing},
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
    pub server: ServerName,
    /// What the server announces.
    #[serde(flatten)]
    pub told: PackAsTold,
    /// Links to fall back on.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub others: Vec<String>,
    /// The size of the file at the link.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// What is wrong, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
    /// What could not be checked, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// Which pack to offer players.
#[derive(Debug, Clone, Default)]
pub struct PackRequest {
    /// Links in order of preference, and the pack's own file if it is on this machine.
    pub sources: Vec<String>,
    /// Whether players who refuse it are turned away.
    pub must: Option<bool>,
    /// Whether to stop offering a pack.
    pub none: bool,
}

/// Returns the pack that players are offered, and whether its link works.
///
/// # Errors
/// If the game has no resource packs, or the server cannot be read.
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
        report.problem =
            Some("its link contains a user name and a password, which every player can see".into());
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

/// Changes or removes the pack that players are offered.
///
/// # Errors
/// If no link leads to a pack, or only to another one than the given file.
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
            what: "the link contains a user name, and every player would see it with its password".into(),
            hint: Some("put the pack where anyone can download it, and give that link".into()),
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
                what: "several files were given, but a server offers one pack".into(),
                hint: None,
            });
        }
    };
    if section.links.is_empty() {
        return Err(AppError::Usage {
            what: "no link was given, and players download the pack from one".into(),
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
        change.extras.notes.push(format!("{link} leads to the pack ({}).", size(*bytes)));
    }
    if section.must.is_none() && rule.must.is_some() {
        let told = pack::as_told(&*server.tree, &server.game, &server.survey.scope)?;
        if told.must != Some(true) {
            change.extras.notes.push("Players may join without it.".into());
        }
    }
    change.extras.plan.pack = locked;
    Ok(change)
}

/// Removes the same choice from the settings; `[pack]` now has it.
fn forget_setting(server: &Server, rule: &PackRule, wants: &mut ControlFile) {
    let Some(must) = &rule.must else { return };
    let scope = &server.survey.scope;
    let Ok((file, pointer)) = must.place.spot(scope) else { return };
    let is_file = |one: &&SettingsFile| one.file.render(scope).is_ok_and(|path| path == file.as_str());
    let short = server.game.settings.iter().find(is_file).and_then(|one| one.short.render(scope).ok());
    let Some(short) = short else { return };
    let is_set = |files: &BTreeMap<String, BTreeMap<Pointer, Value>>| {
        files.get(&short).is_some_and(|places| places.contains_key(&pointer))
    };
    if wants.settings.get(SERVER).is_some_and(is_set) {
        wants.ask_setting(SERVER, &short, &pointer, None);
    }
}

/// Returns the first link that leads to exactly this file.
fn same_at_one(
    server: &Server,
    section: &PackSection,
    (name, file): (&str, &PackFile),
) -> Result<Option<LockedPack>, AppError> {
    let rule = pack::rule(server)?;
    let mut found: Option<(&str, u64)> = None;
    let mut first = None;
    for link in &section.links {
        match pack::fetch(server, rule, link) {
            Ok((there, _)) if there.blake3 == file.blake3 => return Ok(Some(there.locked(link))),
            Ok((there, _)) => drop(found.get_or_insert((link, there.bytes))),
            Err(error) => drop(first.get_or_insert(error)),
        }
    }
    match (found, first) {
        (Some((link, bytes)), _) => Err(AppError::Refused {
            what: format!(
                "{link} leads to another file ({}) than {name} ({})",
                size(bytes),
                size(file.bytes)
            ),
            hint: Some("upload the file there, then try again; nothing was changed".into()),
        }),
        (None, Some(error)) => Err(error),
        (None, None) => Err(AppError::Usage {
            what: "no link was given, and players download the pack from one".into(),
            hint: Some(Advice::List(Listing::Definition(server.game.name.clone()))),
        }),
    }
}
