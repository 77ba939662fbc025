//! Names that a shell completes. Nothing is run and nothing is asked for that.

use std::collections::BTreeSet;

use clap_complete::CompletionCandidate;
use yalotheca_app::{
    Purpose, Server, findings::look_at_all, ops::history::history, plan::open_settings, reading::Reading,
};
use yalotheca_host::control::Control;

use crate::{global::Global, ui::Ui};

/// Contents that are installed, and members of packs.
pub(crate) fn installed() -> Vec<CompletionCandidate> {
    names(|control| {
        let contents = control.lock.contents.iter();
        contents
            .flat_map(|locked| {
                let members = locked.release.members.iter().map(|member| member.id.to_string());
                std::iter::once(locked.id.to_string()).chain(members)
            })
            .collect()
    })
}

/// What the catalogues have, as far as it was fetched before.
pub(crate) fn available() -> Vec<CompletionCandidate> {
    let names = server().and_then(|server| {
        let catalogues = server.catalogues();
        let listings = catalogues.get().ok()?.listings();
        Some(listings.into_iter().map(|listing| listing.id.to_string()).collect::<Vec<_>>())
    });
    names.unwrap_or_default().into_iter().map(CompletionCandidate::new).collect()
}

/// What check has found and fix can do something about.
pub(crate) fn fixable() -> Vec<CompletionCandidate> {
    let findings = server().and_then(|server| look_at_all(&server, Reading::usual(&server)).ok());
    let findings = findings.map(|(findings, _)| findings);
    let fixable = findings.unwrap_or_default().into_iter().filter(|finding| finding.remedy.is_some());
    let names: BTreeSet<String> =
        fixable.flat_map(|finding| [finding.code.to_owned(), finding.about]).collect();
    names.into_iter().map(CompletionCandidate::new).collect()
}

/// The changes that can be taken back, the latest first.
pub(crate) fn changes() -> Vec<CompletionCandidate> {
    let past = server().and_then(|server| history(&server).ok()).map(|report| report.history);
    let live = past.unwrap_or_default().into_iter().rev().filter(|past| !past.undone);
    live.map(|past| CompletionCandidate::new(past.number.to_string()).help(Some(past.origin.summary.into())))
        .collect()
}

/// The game definitions.
pub(crate) fn games() -> Vec<CompletionCandidate> {
    let found = Control::find(std::path::Path::new("."), true).ok();
    let folder = found.map(|(folder, _)| folder);
    let known = yalotheca_host::games::all(folder.as_deref()).unwrap_or_default();
    known.into_iter().map(|(name, ..)| CompletionCandidate::new(name)).collect()
}

/// What is switched off.
pub(crate) fn switched_off() -> Vec<CompletionCandidate> {
    names(|control| control.wants.off.keys().map(ToString::to_string).collect())
}

/// Catalogues of this server.
pub(crate) fn catalogues() -> Vec<CompletionCandidate> {
    names(|control| control.wants.catalogues.iter().map(|catalogue| catalogue.name.clone()).collect())
}

/// The server in whose folder the shell is; nothing is said to the person who types.
fn server() -> Option<Server> {
    let global = Global { quiet: true, offline: true, ..Global::default() };
    Server::open(Purpose::Look, &global.open(), &Ui::new(&global)).ok()
}

/// Maps of this server.
pub(crate) fn maps() -> Vec<CompletionCandidate> {
    let names = server().and_then(|server| {
        let rule = server.game.maps.as_ref()?;
        let maps = yalotheca_app::maps::list(&server, rule, true).ok()?;
        Some(maps.into_iter().map(|map| map.name).collect::<Vec<_>>())
    });
    names.unwrap_or_default().into_iter().map(CompletionCandidate::new).collect()
}

/// Who has settings on this server.
pub(crate) fn owners() -> Vec<CompletionCandidate> {
    let all = server().and_then(|server| open_settings(&server).ok()).unwrap_or_default();
    let names: BTreeSet<String> = all.into_iter().map(|one| one.owner).collect();
    names.into_iter().map(CompletionCandidate::new).collect()
}

/// Places of the settings of the owner that was typed before.
pub(crate) fn places() -> Vec<CompletionCandidate> {
    let typed: Vec<String> = std::env::args().collect();
    let owner = typed.iter().skip_while(|word| *word != "settings").nth(1);
    let Some((owner, server)) = owner.zip(server()) else { return Vec::new() };
    let all = open_settings(&server).unwrap_or_default();
    let own = all.iter().filter(|one| one.owner == *owner);
    own.flat_map(|one| one.known().places()).map(|at| CompletionCandidate::new(format!("{at}="))).collect()
}

/// Names out of the control folder in which the shell is. Nothing is run and nothing is asked for that.
fn names(of: impl FnOnce(&Control) -> Vec<String>) -> Vec<CompletionCandidate> {
    let found = Control::find(std::path::Path::new("."), true).ok();
    let control = found.and_then(|(folder, _)| Control::open(&folder, false).ok());
    control.as_ref().map(of).unwrap_or_default().into_iter().map(CompletionCandidate::new).collect()
}
