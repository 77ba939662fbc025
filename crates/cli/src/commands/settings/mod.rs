//! `settings`.

mod change;
mod look;

use std::process::ExitCode;

use clap::Args;
use clap_complete::ArgValueCandidates;
use yalotheca_app::{
    AppError, Purpose, Server,
    apply::{Along, note},
    plan::{Fresh, OpenSettings, open_settings},
};
use yalotheca_core::{
    control::WANTS_FILE,
    document::{Pointer, Value},
    suggest,
};

use super::{
    add::Noted,
    apply::{Mode, apply},
    shell,
};
use crate::{args::Global, ui::Ui};
use look::{FilesView, KeysView};

/// Show what can be set, and set it; what is set is noted and survives updates.
#[derive(Debug, Args)]
pub(crate) struct SettingsArgs {
    /// A content, or `server` for the server's own settings
    #[arg(value_name = "NAME", add = ArgValueCandidates::new(shell::owners))]
    name: Option<String>,
    /// What to set: a place and a value (/volume/default=3); `*` in a place stands for any one name
    #[arg(value_name = "PLACE=VALUE", add = ArgValueCandidates::new(shell::places))]
    set: Vec<String>,
    /// The file that is meant, where several have that place
    #[arg(long, value_name = "FILE")]
    file: Option<String>,
    /// No longer set this place: what stood there before comes back
    #[arg(long, value_name = "PLACE")]
    reset: Vec<String>,
    /// Set it even if the place is not known, or the value does not fit
    #[arg(long)]
    force: bool,
    /// Only note it; the next settle does it
    #[arg(long)]
    later: bool,
}

/// Reads a place: `/volume/default`; the first stroke may be left out.
fn place(text: &str) -> Result<Pointer, AppError> {
    let whole = if text.starts_with('/') { text.to_owned() } else { format!("/{text}") };
    Pointer::parse(&whole).map_err(|error| AppError::Usage { what: error.to_string(), hint: None })
}

fn split(text: &str) -> Result<(Pointer, Value), AppError> {
    let Some((at, value)) = text.split_once('=') else {
        return Err(AppError::Usage {
            what: format!("{text:?} is not a place and a value"),
            hint: Some(format!("write {text}=VALUE, or --reset {text}")),
        });
    };
    Ok((place(at.trim())?, Value::Text(value.trim().to_owned())))
}

pub(crate) fn run(args: &SettingsArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let purpose = if args.set.is_empty() && args.reset.is_empty() { Purpose::Look } else { Purpose::Change };
    let server = Server::open(purpose, &global.open(), ui)?;
    let all = open_settings(&server)?;
    let asked = &server.control.wants.settings;
    let Some(name) = &args.name else {
        ui.show(&FilesView::of(&server, &all, asked))?;
        return Ok(ExitCode::SUCCESS);
    };
    let mut own: Vec<&OpenSettings> = all.iter().filter(|one| one.owner == *name).collect();
    if own.is_empty() {
        return Err(nothing_of(&server, &all, name));
    }
    if let Some(file) = &args.file {
        let names: Vec<String> = own.iter().map(|one| one.short.clone()).collect();
        own.retain(|one| one.short == *file || one.path.as_ref().is_some_and(|path| path.as_str() == file));
        if own.is_empty() {
            let hint = suggest::did_you_mean(file, names.iter().map(String::as_str));
            let hint = hint.or_else(|| Some(format!("it has {}", names.join(", "))));
            return Err(AppError::Usage { what: format!("{name} has no settings file {file}"), hint });
        }
    }
    if args.set.is_empty() && args.reset.is_empty() {
        ui.show(&KeysView::of(&server, name, &own, asked))?;
        return Ok(ExitCode::SUCCESS);
    }
    let mut wants = server.control.wants.clone();
    let mut changes = change::Changes::default();
    for text in &args.set {
        let (at, value) = split(text)?;
        changes.set(&own, (&at, &value), args.force, &mut wants)?;
    }
    for text in &args.reset {
        changes.reset(&own, &place(text)?, &mut wants)?;
    }
    if args.later {
        note(&server, &wants, (None, &format!("noted: {}", changes.noted.join(", "))))?;
        ui.show(&Noted { noted: changes.noted, file: WANTS_FILE.into() })?;
        return Ok(ExitCode::SUCCESS);
    }
    let along = Along { notes: changes.notes, ..Along::default() };
    let catalogues = server.catalogues_for(&wants);
    apply(&server, &catalogues, &wants, &Fresh::None, (Mode::SettleWithLines, along), ui)
}

fn nothing_of(server: &Server, all: &[OpenSettings], name: &str) -> AppError {
    let owners = all.iter().map(|one| one.owner.as_str());
    let here = server.control.lock.contents.iter().any(|locked| locked.id.as_str() == name);
    if here {
        let what = format!("{name} has no settings that Yalotheca knows of");
        return AppError::Usage { what, hint: Some("yalotheca settings lists what can be set".into()) };
    }
    let near = suggest::did_you_mean(name, owners);
    AppError::Usage {
        what: format!("{name} is not on this server"),
        hint: near.or_else(|| Some("yalotheca settings lists what can be set".into())),
    }
}
