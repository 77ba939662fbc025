//! `modpack`: a lineup as a pack that others can add.

use std::{
    path::{Path, PathBuf},
    process::ExitCode,
};

use clap::{Args, Subcommand, ValueEnum};
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::{
        export::{Bundling, ExportReport, ExportRequest, Sides, export},
        history::history,
        import::{Import, import},
    },
};
use yalotheca_core::id::ContentId;

use super::apply::{Mode, apply};
use crate::{
    global::Global,
    ui::Ui,
    view::{Page, Role, View, count, size},
};

/// Make a modpack of what is installed.
#[derive(Debug, Args)]
pub(crate) struct ModpackArgs {
    #[command(subcommand)]
    act: ModpackAct,
}

#[derive(Debug, Subcommand)]
enum ModpackAct {
    /// Write what is installed into a pack: contents of a catalogue on the web by name, the others with their files; and what else is
    /// asked for: what is off, settings, order, maps
    Export(ExportArgs),
    /// Make this server like the one of which a pack was made; what is asked for here already stays
    Import {
        /// The pack's file
        file: PathBuf,
    },
}

#[derive(Debug, Args)]
struct ExportArgs {
    /// The pack's file, a .zip
    file: PathBuf,
    /// Replace a file of that name
    #[arg(long)]
    force: bool,
    /// What to call it
    #[arg(long, value_name = "ID")]
    id: Option<String>,
    /// Its version
    #[arg(long, value_name = "VERSION", default_value = "1.0")]
    version: String,
    /// For whom it is
    #[arg(long, value_enum, default_value_t = Edition::Both)]
    edition: Edition,
    /// Bring every content's files along, those of catalogues as well
    #[arg(long)]
    bundle: bool,
    /// Bring this file of the server along; it is put where there is none yet
    #[arg(long, value_name = "PATH")]
    setting: Vec<String>,
    /// Bring settings along that are passwords; without it they are left out
    #[arg(long)]
    with_secrets: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Edition {
    /// What a server needs
    Server,
    /// What players need
    Player,
    /// All of it
    Both,
}

impl View for ExportReport {
    fn view(&self, page: &mut Page) {
        let what = count(self.by_name.len() + self.bundled.len(), "content");
        page.line(Role::Good, &format!("Wrote {} ({}): {what}.", self.file, size(self.bytes)));
        let names = |ids: &[ContentId]| ids.iter().map(ContentId::as_str).collect::<Vec<_>>().join(", ");
        if !self.by_name.is_empty() {
            page.item(Role::Plain, &format!("by name, from a catalogue: {}", names(&self.by_name)));
        }
        if !self.bundled.is_empty() {
            page.item(Role::Plain, &format!("brought along: {}", names(&self.bundled)));
        }
        for path in &self.settings {
            page.item(Role::Plain, &format!("settings: {path}"));
        }
        if !self.secrets_left_out.is_empty() {
            let names = self.secrets_left_out.join(", ");
            page.item(
                Role::Warn,
                &format!("left out, as passwords: {names} (--with-secrets brings them along)"),
            );
        }
    }
}

pub(crate) fn run(args: &ModpackArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let args = match &args.act {
        ModpackAct::Export(args) => args,
        ModpackAct::Import { file } => return bring_in(file, global, ui),
    };
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let request = ExportRequest {
        file: args.file.clone(),
        force: args.force,
        id: args.id.clone(),
        version: args.version.clone(),
        sides: match args.edition {
            Edition::Server => Sides::Server,
            Edition::Player => Sides::Player,
            Edition::Both => Sides::Both,
        },
        bundle: if args.bundle { Bundling::All } else { Bundling::Unnamed },
        settings: args.setting.clone(),
        with_secrets: args.with_secrets,
    };
    ui.show(&export(&server, &request)?)?;
    Ok(ExitCode::SUCCESS)
}

fn bring_in(file: &Path, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let Import { change, files } = import(&server, file)?;
    let number = history(&server)?.history.len();
    let done = apply(&server, change, Mode::default(), ui);
    // What was not agreed to leaves nothing behind.
    let is_made = history(&server).is_ok_and(|after| after.history.len() > number);
    if !is_made {
        files.take_back();
    }
    done
}
