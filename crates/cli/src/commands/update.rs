//! `update`.

use std::process::ExitCode;

use clap::Args;
use clap_complete::ArgValueCandidates;
use serde::Serialize;
use yalotheca_app::{
    AppError, OpenCatalogues, Purpose, Server,
    apply::Along,
    plan::{Fresh, PlanOptions, newer, plan_change},
};
use yalotheca_core::{control::LockFile, id::ContentId, solve::Explanation, version::ReleaseVersion};

use super::{
    apply::{Mode, apply},
    shell,
};
use crate::{
    args::Global,
    ui::Ui,
    view::{Page, Role, View},
};

/// Update contents.
#[derive(Debug, Args)]
pub(crate) struct UpdateArgs {
    /// Only these; all where none is named
    #[arg(value_name = "NAME", add = ArgValueCandidates::new(shell::installed))]
    names: Vec<String>,
}

/// What cannot be newer, and why.
#[derive(Debug, Serialize)]
struct HeldBack {
    held_back: Vec<Held>,
}

#[derive(Debug, Serialize)]
struct Held {
    id: ContentId,
    has: ReleaseVersion,
    newest: ReleaseVersion,
    #[serde(skip_serializing_if = "Option::is_none")]
    by_you: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    because: Option<Explanation>,
}

impl View for HeldBack {
    fn view(&self, page: &mut Page) {
        page.head("Held back");
        for held in &self.held_back {
            page.item(Role::Name, &format!("{} {} is out; {} stays", held.id, held.newest, held.has));
            if let Some(range) = &held.by_you {
                page.under(
                    Role::Plain,
                    &format!("you want {range}: yalotheca add '{}@*' lets it go on", held.id),
                );
            }
            for statement in
                held.because.iter().flat_map(|why| &why.because).filter(|s| s.sort != "want").take(4)
            {
                page.under(Role::Plain, &statement.text);
            }
        }
        page.gap();
    }
}

pub(crate) fn run(args: &UpdateArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let catalogues = server.catalogues();
    let lock = &server.control.lock;
    let fresh = if args.names.is_empty() {
        Fresh::All
    } else {
        let ids = args.names.iter().map(|name| ContentId::new(name)).collect::<Result<_, _>>()?;
        Fresh::These(ids)
    };
    if let Fresh::These(ids) = &fresh
        && let Some(id) = ids.iter().find(|id| lock.get(id).is_none())
    {
        return Err(server.not_here(id, format!("install it: yalotheca add {id}")));
    }
    if let Fresh::These(ids) = &fresh
        && let Some(id) = ids.iter().find(|id| server.control.wants.off.contains_key(*id))
    {
        return Err(AppError::Usage {
            what: format!("{id} is switched off, and what is off is not updated"),
            hint: Some(format!("yalotheca on {id} switches it on")),
        });
    }
    let planned = plan_change(&server, &catalogues, &server.control.wants, &fresh, &PlanOptions::default())?;
    for absent in catalogues.get()?.unreachable() {
        ui.warn(&format!("{absent}. What is only in that catalogue stays as it is."));
    }
    let held_back = held_back(&server, &catalogues, &planned.lock, &fresh)?;
    if !held_back.is_empty() && !ui.is_json() {
        ui.show(&HeldBack { held_back })?;
    }
    let along = Along { planned: Some(Box::new(planned)), ..Along::default() };
    apply(&server, &catalogues, &server.control.wants, &fresh, (Mode::Settle, along), ui)
}

/// Finds what has a newer release than the plan takes, and why it is not taken.
fn held_back(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    lock: &LockFile,
    fresh: &Fresh,
) -> Result<Vec<Held>, AppError> {
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
        held.push(Held {
            id: locked.id.clone(),
            has: locked.release.version.clone(),
            newest: newer.version,
            by_you: newer.by_you,
            because: newer.because,
        });
    }
    Ok(held)
}
