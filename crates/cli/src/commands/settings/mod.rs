//! `settings`.

mod look;

use std::process::ExitCode;

use clap::Args;
use clap_complete::ArgValueCandidates;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::settings::{SettingsRequest, change_settings, settings_of},
    plan::open_settings,
};

use super::apply::{Mode, apply, note_for_later};
use crate::{complete, global::Global, ui::Ui};
use look::{FilesView, KeysView};

/// Show and change settings; what you set survives updates.
#[derive(Debug, Args)]
pub(crate) struct SettingsArgs {
    /// A content, or `server` for the server's own settings
    #[arg(value_name = "NAME", add = ArgValueCandidates::new(complete::owners))]
    name: Option<String>,
    /// What to set: a place and a value (/volume/default=3); `*` in a place stands for any one name
    #[arg(value_name = "PLACE=VALUE", add = ArgValueCandidates::new(complete::places))]
    set: Vec<String>,
    /// The file that is meant, where several have that place
    #[arg(long, value_name = "FILE")]
    file: Option<String>,
    /// Stop setting this place: its old value comes back
    #[arg(long, value_name = "PLACE")]
    reset: Vec<String>,
    /// Set it even if the place is not known, or the value does not fit
    #[arg(long)]
    force: bool,
    /// Only write it to yalotheca.toml; the next settle does it
    #[arg(long)]
    later: bool,
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
    if args.set.is_empty() && args.reset.is_empty() {
        let own = settings_of(&server, &all, (name, args.file.as_deref()))?;
        ui.show(&KeysView::of(&server, name, &own, asked))?;
        return Ok(ExitCode::SUCCESS);
    }
    let request = SettingsRequest {
        owner: name.clone(),
        file: args.file.clone(),
        set: args.set.clone(),
        reset: args.reset.clone(),
        force: args.force,
    };
    let change = change_settings(&server, &request)?;
    if args.later {
        return note_for_later(&server, change, ui);
    }
    apply(&server, change, Mode { has_lines: true, ..Mode::default() }, ui)
}
