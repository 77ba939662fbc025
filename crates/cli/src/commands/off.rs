//! `off` and `on`.

use std::{collections::BTreeSet, process::ExitCode};

use clap::Args;
use clap_complete::ArgValueCandidates;
use yalotheca_app::{
    AppError, Purpose, Server,
    apply::{Along, note},
    plan::{Fresh, Mend, PlanOptions, can_be_off},
};
use yalotheca_core::{
    control::{ControlFile, LockFile, WANTS_FILE},
    id::ContentId,
    solve::{Breach, verify},
    suggest,
};

use super::{
    add::Noted,
    apply::{Mode, apply},
    shell,
};
use crate::{args::Global, ui::Ui};

/// Switch contents off without removing their files.
#[derive(Debug, Args)]
pub(crate) struct OffArgs {
    /// The contents' names, or those of members of packs
    #[arg(required = true, value_name = "NAME", add = ArgValueCandidates::new(shell::installed))]
    names: Vec<String>,
    /// The reason, noted in yalotheca.toml
    #[arg(long, value_name = "TEXT", default_value = "")]
    because: String,
    /// Only note it; the next settle does it
    #[arg(long)]
    later: bool,
}

/// Switch contents on again.
#[derive(Debug, Args)]
pub(crate) struct OnArgs {
    /// The contents' names, or those of members of packs
    #[arg(required = true, value_name = "NAME", add = ArgValueCandidates::new(shell::switched_off))]
    names: Vec<String>,
    /// Only note it; the next settle does it
    #[arg(long)]
    later: bool,
}

pub(crate) fn off(args: &OffArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let mut wants = server.control.wants.clone();
    let mut ids = Vec::new();
    for name in &args.names {
        let id = ContentId::new(name)?;
        refuse_what_stays_on(&server, &id)?;
        wants.switch_off(&id, &args.because);
        ids.push(id);
    }
    refuse_what_is_needed(&server, &wants, &ids)?;
    finish(&server, &wants, (args.later, "off", &args.names), Mend::None, ui)
}

pub(crate) fn on(args: &OnArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let mut wants = server.control.wants.clone();
    for name in &args.names {
        let id = ContentId::new(name)?;
        if wants.switch_on(&id) {
            continue;
        }
        if server.control.lock.get(&id).is_some() {
            return Err(AppError::Usage { what: format!("{id} is on already"), hint: None });
        }
        return Err(AppError::Usage {
            what: format!("{id} is not among what is switched off"),
            hint: suggest::did_you_mean(id.as_str(), wants.off.keys().map(ContentId::as_str)),
        });
    }
    // What a member needs that is on again is not passed over as something that was missing before.
    let ids: BTreeSet<ContentId> = args.names.iter().filter_map(|name| ContentId::new(name).ok()).collect();
    let packs =
        server.control.lock.on().filter(|pack| pack.release.members.iter().any(|m| ids.contains(&m.id)));
    let mend = Mend::These(packs.map(|pack| pack.id.clone()).collect());
    finish(&server, &wants, (args.later, "on", &args.names), mend, ui)
}

fn finish(
    server: &Server,
    wants: &ControlFile,
    (later, state, names): (bool, &str, &[String]),
    mend: Mend,
    ui: &Ui,
) -> Result<ExitCode, AppError> {
    if later {
        note(server, wants, (None, &format!("noted: {state}: {}", names.join(", "))))?;
        let noted = names.iter().map(|name| format!("{name} {state}")).collect();
        ui.show(&Noted { noted, file: WANTS_FILE.into() })?;
        return Ok(ExitCode::SUCCESS);
    }
    let catalogues = server.catalogues_for(wants);
    let along = Along { plan: PlanOptions { mend, ..PlanOptions::default() }, ..Along::default() };
    apply(server, &catalogues, wants, &Fresh::None, (Mode::Settle, along), ui)
}

/// Some contents are loaded as long as they are there.
fn refuse_what_stays_on(server: &Server, id: &ContentId) -> Result<(), AppError> {
    let lock = &server.control.lock;
    if server.control.wants.off.contains_key(id) {
        return Err(AppError::Usage {
            what: format!("{id} is off already"),
            hint: Some(format!("yalotheca on {id} switches it on again")),
        });
    }
    let Some(locked) = lock.get(id) else {
        let is_member = lock.on().any(|pack| pack.release.members.iter().any(|member| member.id == *id));
        return if is_member {
            Ok(())
        } else {
            Err(server.not_here(id, "yalotheca list shows what is installed".into()))
        };
    };
    if can_be_off(&server.game, locked) {
        return Ok(());
    }
    let kind = &locked.release.kind;
    let what = if locked.found.always_on {
        let folder = locked.found.folder.as_ref().map_or("", |folder| folder.as_str());
        format!("{id} lies in {folder}, and the server loads everything there")
    } else {
        format!("{id} is a {kind}, and a {} loads every {kind} that is there", server.game.title)
    };
    Err(AppError::Usage { what, hint: Some(format!("yalotheca drop {id} removes it; undo brings it back")) })
}

/// What others need stays on, unless they are switched off as well.
fn refuse_what_is_needed(server: &Server, wants: &ControlFile, ids: &[ContentId]) -> Result<(), AppError> {
    let unmet = |lock: &LockFile| -> BTreeSet<ContentId> {
        let breaches = verify(&lock.universe(), &server.survey.platform, &lock.selection());
        breaches
            .into_iter()
            .filter_map(|breach| if let Breach::Need { id, .. } = breach { Some(id) } else { None })
            .collect()
    };
    let lock = &server.control.lock;
    let mut after = lock.clone();
    after
        .contents
        .iter_mut()
        .filter(|locked| wants.off.contains_key(&locked.id))
        .for_each(|locked| locked.off = true);
    let mut in_need: BTreeSet<ContentId> = &unmet(&after) - &unmet(lock);
    // Members of packs have no release of their own.
    let members = ids.iter().filter(|id| lock.get(id).is_none());
    for member in members {
        let others = after.on().filter(|locked| locked.release.needed_ids().any(|need| need == member));
        in_need.extend(others.map(|locked| locked.id.clone()));
    }
    let names: Vec<&str> = in_need.iter().map(ContentId::as_str).collect();
    if names.is_empty() {
        return Ok(());
    }
    let off: Vec<&str> = ids.iter().map(ContentId::as_str).collect();
    let needs = if names.len() == 1 { "needs" } else { "need" };
    Err(AppError::Refused {
        what: format!(
            "{} {needs} {}, and would not be loaded without it",
            names.join(" and "),
            off.join(" and ")
        ),
        hint: Some(format!("yalotheca off {} {} switches all of them off", off.join(" "), names.join(" "))),
    })
}
