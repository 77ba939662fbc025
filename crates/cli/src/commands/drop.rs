//! `drop`.

use std::process::ExitCode;

use clap::Args;
use clap_complete::ArgValueCandidates;
use yalotheca_app::{
    AppError, Purpose, Server,
    apply::{Along, note},
    plan::{Fresh, reasons},
};
use yalotheca_core::{
    control::{ControlFile, WANTS_FILE},
    id::ContentId,
    suggest,
};

use super::{
    add::Noted,
    apply::{Mode, apply},
    shell,
};
use crate::{args::Global, ui::Ui};

/// Remove contents.
#[derive(Debug, Args)]
pub(crate) struct DropArgs {
    /// The contents' names
    #[arg(required = true, value_name = "NAME", add = ArgValueCandidates::new(shell::installed))]
    names: Vec<String>,
    /// Only note it; the next settle does it
    #[arg(long)]
    later: bool,
}

pub(crate) fn run(args: &DropArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let catalogues = server.catalogues();
    let mut wants = server.control.wants.clone();
    for name in &args.names {
        let id = ContentId::new(name)?;
        if !wants.unwant(&id) {
            return Err(not_wanted(&server, &id));
        }
        wants.switch_on(&id);
        for member in server.control.lock.get(&id).iter().flat_map(|locked| &locked.release.members) {
            wants.switch_on(&member.id);
        }
        take_off(&mut wants, name)?;
    }
    if args.later {
        note(&server, &wants, (None, &format!("noted: without {}", args.names.join(", "))))?;
        let noted = args.names.iter().map(|name| format!("without {name}")).collect();
        ui.show(&Noted { noted, file: WANTS_FILE.into() })?;
        return Ok(ExitCode::SUCCESS);
    }
    apply(&server, &catalogues, &wants, &Fresh::None, (Mode::Settle, Along::default()), ui)
}

/// A map that goes is played no longer, neither in turn nor at all.
fn take_off(wants: &mut ControlFile, name: &str) -> Result<(), AppError> {
    if wants.maps.play.as_deref() == Some(name) {
        return Err(AppError::Usage {
            what: format!("{name} is the map that plays"),
            hint: Some("play another map first: yalotheca maps play NAME".into()),
        });
    }
    let without = |names: &Option<Vec<String>>| {
        let names = names.as_ref().filter(|names| names.iter().any(|other| other == name))?;
        Some(names.iter().filter(|other| *other != name).cloned().collect::<Vec<_>>())
    };
    if let Some(left) = without(&wants.maps.rotate) {
        if left.is_empty() {
            return Err(AppError::Usage {
                what: format!("{name} is the only map in the rotation"),
                hint: Some("take it out of the rotation first: yalotheca maps rotate NAME".into()),
            });
        }
        wants.rotate(Some(&left));
    }
    if let Some(left) = without(&wants.maps.offer) {
        wants.offer(Some(left.as_slice()).filter(|left| !left.is_empty()));
    }
    Ok(())
}

fn not_wanted(server: &Server, id: &ContentId) -> AppError {
    let wants = &server.control.wants.wants;
    match reasons(&server.control.lock, wants).get(id) {
        Some(why) => AppError::Usage {
            what: format!("{id} is not in yalotheca.toml; it is installed because {why}"),
            hint: Some("drop what needs it, and it goes as well".into()),
        },
        None => AppError::Usage {
            what: format!("{id} is not in yalotheca.toml"),
            hint: suggest::did_you_mean(id.as_str(), wants.keys().map(ContentId::as_str)),
        },
    }
}
