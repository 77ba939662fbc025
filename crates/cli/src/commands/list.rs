//! `list`.

use std::process::ExitCode;

use clap::Args;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::list::{ContentState, ListLine, ListReport, ListRequest, list},
};
use yalotheca_core::id::ContentId;

use crate::{
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, count},
};

/// List what is installed, in which version and state, who wants it, and whether something newer fits.
#[derive(Debug, Args)]
pub(crate) struct ListArgs {
    /// Ask the catalogues now, instead of going by what was fetched last
    #[arg(long)]
    fresh: bool,
}

impl View for ListReport {
    fn view(&self, page: &mut Page) {
        let off = self.contents.iter().filter(|line| line.state == ContentState::Off).count();
        let off = if off == 0 { String::new() } else { format!(", {off} of them off") };
        page.line(Role::Head, &format!("{}: {}{off}", self.server, count(self.contents.len(), "content")));
        page.gap();
        let rows: Vec<Vec<Cell>> = self.contents.iter().map(row).collect();
        page.table(&rows);
        if !self.not_installed.is_empty() {
            page.gap();
            let names: Vec<&str> = self.not_installed.iter().map(ContentId::as_str).collect();
            page.label(Role::Warn, "Not installed yet", &names.join(", "));
        }
    }
}

fn row(line: &ListLine) -> Vec<Cell> {
    let state = match line.state {
        ContentState::On => Cell::new(Role::Good, "on"),
        ContentState::PartlyOn => Cell::new(Role::Warn, "partly on"),
        ContentState::Off => Cell::new(Role::Dim, "off"),
        ContentState::Player => Cell::new(Role::Dim, "players only"),
    };
    let mut why = line.why.clone();
    if !line.members_off.is_empty() {
        let names: Vec<&str> = line.members_off.iter().map(ContentId::as_str).collect();
        let semicolon = if why.is_empty() { "" } else { "; " };
        why = format!("{why}{semicolon}off: {}", names.join(", "));
    }
    let newer = match &line.newer {
        Some(version) if *version == line.version => "other files".to_owned(),
        Some(version) => format!("{version} fits"),
        None => String::new(),
    };
    vec![
        Cell::new(Role::Name, line.id.to_string()),
        Cell::plain(line.version.shown()),
        Cell::plain(line.kind.clone()),
        state,
        Cell::new(Role::Good, newer),
        Cell::new(Role::Dim, why),
    ]
}

pub(crate) fn run(args: &ListArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    // Without being asked to, it waits for no network.
    let global = Global { offline: global.offline || !args.fresh, ..global.clone() };
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let report = list(&server, ListRequest { fresh: args.fresh })?;
    if !report.is_newer_known {
        ui.note("What is newer is not known here; yalotheca list --fresh asks the catalogues.");
    }
    ui.show(&report)?;
    Ok(ExitCode::SUCCESS)
}
