//! Names that a shell completes. Nothing is run and nothing is asked for that.

use std::collections::BTreeSet;

use clap_complete::CompletionCandidate;
use yalotheca_app::{Purpose, Server, plan::open_settings};
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
