//! `adopt`.

use std::{path::PathBuf, process::ExitCode};

use clap::Args;
use yalotheca_app::{
    AppError,
    ops::adopt::{AdoptReport, AdoptRequest, adopt},
    take_over,
};
use yalotheca_core::id::ContentId;
use yalotheca_host::tree::RemoteAddress;

use super::apply::folder;
use crate::{
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, count},
};

/// Take charge of a server's folder, empty or years old; changes nothing on it.
#[derive(Debug, Args)]
pub(crate) struct AdoptArgs {
    /// The server's folder, or its address (sftp://user@host:port/path); this folder if it is left out. For an address, --at names
    /// the folder here that yalotheca.toml goes to
    #[arg(value_name = "FOLDER")]
    folder: Option<PathBuf>,
    /// The game definition, where the folder does not tell
    #[arg(long, value_name = "NAME")]
    game: Option<String>,
    /// What to call the server
    #[arg(long, value_name = "TEXT", default_value = "")]
    name: String,
    /// A catalogue: a name, '=', and its address or folder (may be given several times)
    #[arg(long = "catalogue", value_name = "NAME=WHERE")]
    catalogues: Vec<String>,
    /// A value of the game definition that this server decides (may be given several times)
    #[arg(long = "set", value_name = "NAME=VALUE")]
    values: Vec<String>,
}

impl View for AdoptReport {
    fn view(&self, page: &mut Page) {
        page.line(Role::Head, &format!("{}: {}", self.server.name, self.game_title));
        let parts: Vec<String> =
            self.platform.parts.iter().map(|(part, version)| format!("{part} {version}")).collect();
        if !parts.is_empty() {
            page.item(Role::Plain, &parts.join(", "));
        }
        if !self.platform.provides.is_empty() {
            page.item(
                Role::Plain,
                &format!("the base game provides {}", count(self.platform.provides.len(), "content")),
            );
        }
        page.head("Contents");
        if self.contents.is_empty() {
            page.item(Role::Plain, "none yet");
        }
        let rows: Vec<Vec<Cell>> = self.contents.iter().map(row).collect();
        page.table(&rows);
        if !self.misplaced.is_empty() || !self.seconds.is_empty() {
            page.head("Here, and not loaded");
            for take_over::Misplaced { id, path, belongs } in &self.misplaced {
                page.item(
                    Role::Warn,
                    &format!("{id} lies at {path}, where the server does not look; it belongs at {belongs}"),
                );
            }
            for (id, path) in &self.seconds {
                page.item(Role::Warn, &format!("{path} is a second copy of {id}"));
            }
        }
        if !self.unreadable.is_empty() || !self.strangers.is_empty() {
            page.head("Not recognised, and left alone");
            for path in &self.strangers {
                page.item(Role::Warn, path.as_str());
            }
            for unreadable in &self.unreadable {
                page.item(Role::Warn, unreadable);
            }
        }
        page.gap();
        page.line(
            Role::Good,
            &format!("Wrote {}. Nothing on the server was changed.", self.written.join(" and ")),
        );
        page.line(Role::Plain, "Next: yalotheca check shows what is wrong; yalotheca fix puts it right.");
    }
}

fn row(adopted: &take_over::Adopted) -> Vec<Cell> {
    let state = match adopted.state {
        take_over::State::On if adopted.members_off.is_empty() => Cell::new(Role::Good, "on"),
        take_over::State::On => Cell::new(Role::Warn, "partly on"),
        take_over::State::Off => Cell::new(Role::Dim, "off"),
    };
    let mut place = adopted.path.to_string();
    if !adopted.known {
        place += " (in no catalogue)";
    }
    if !adopted.members_off.is_empty() {
        let names: Vec<&str> = adopted.members_off.iter().map(ContentId::as_str).collect();
        place = format!("{place}; off: {}", names.join(", "));
    }
    vec![
        Cell::new(Role::Name, adopted.id.to_string()),
        Cell::plain(adopted.version.shown()),
        state,
        Cell::plain(place),
    ]
}

pub(crate) fn run(args: &AdoptArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let remote = args.folder.as_ref().and_then(|at| at.to_str()).filter(|at| RemoteAddress::is_one(at));
    let here =
        if remote.is_some() { global.at.as_ref() } else { args.folder.as_ref().or(global.at.as_ref()) };
    let request = AdoptRequest {
        folder: folder(here),
        remote: remote.map(str::to_owned),
        open: global.open(),
        game: args.game.clone(),
        name: args.name.clone(),
        catalogues: args.catalogues.clone(),
        values: args.values.clone(),
        offline: global.offline,
    };
    ui.show(&adopt(&request, ui)?)?;
    Ok(ExitCode::SUCCESS)
}
