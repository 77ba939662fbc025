//! `players`: what players download when they join.

use std::process::ExitCode;

use clap::{Args, Subcommand};
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::players::{PackReport, PackRequest, offer_pack, show_pack},
};

use super::apply::{Mode, apply};
use crate::{
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, size},
};

/// Show or change what players download when they join.
#[derive(Debug, Args)]
pub(crate) struct PlayersArgs {
    #[command(subcommand)]
    act: PlayersAct,
}

#[derive(Debug, Subcommand)]
enum PlayersAct {
    /// Show the resource pack that players are offered, or change it
    Pack {
        /// The pack's link, and more links to fall back on; or its file, to make sure that the link leads to it
        #[arg(value_name = "LINK|FILE")]
        sources: Vec<String>,
        /// Turn away players who refuse it
        #[arg(long, conflicts_with = "may")]
        must: bool,
        /// Let players join without it
        #[arg(long)]
        may: bool,
        /// Stop offering a pack
        #[arg(long, conflicts_with_all = ["sources", "must", "may"])]
        none: bool,
    },
}

impl View for PackReport {
    fn view(&self, page: &mut Page) {
        let Some(link) = &self.told.link else {
            page.line(Role::Plain, &format!("{}: players are offered no resource pack.", self.server));
            return;
        };
        page.line(Role::Head, &format!("The resource pack of {}", self.server));
        let must = match self.told.must {
            Some(true) => "players without it are turned away",
            Some(false) => "players may refuse it",
            None => "",
        };
        let rows = [
            ("link", link.as_str()),
            (
                "digest",
                self.told.digest.as_deref().unwrap_or("none; players download it again each time they join"),
            ),
            ("must", must),
        ];
        let mut rows: Vec<Vec<Cell>> = rows
            .into_iter()
            .filter(|(_, text)| !text.is_empty())
            .map(|(name, text)| vec![Cell::new(Role::Dim, name), Cell::plain(text)])
            .collect();
        rows.extend(self.bytes.map(|bytes| vec![Cell::new(Role::Dim, "size"), Cell::plain(size(bytes))]));
        for other in &self.others {
            rows.push(vec![Cell::new(Role::Dim, "or"), Cell::plain(other.as_str())]);
        }
        page.table(&rows);
        page.gap();
        if let Some(problem) = &self.problem {
            page.line(Role::Bad, &format!("Problem: {problem}."));
        } else if let Some(note) = &self.note {
            page.line(Role::Warn, &format!("Could not check the link: {note}."));
        } else if self.bytes.is_some() {
            page.line(Role::Good, "The link works, and the server announces the right digest.");
        }
    }
}

pub(crate) fn run(args: &PlayersArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let PlayersAct::Pack { sources, must, may, none } = &args.act;
    if sources.is_empty() && !must && !may && !none {
        let server = Server::open(Purpose::Look, &global.open(), ui)?;
        let report = show_pack(&server)?;
        let is_wrong = report.problem.is_some();
        ui.show(&report)?;
        return Ok(if is_wrong { ExitCode::FAILURE } else { ExitCode::SUCCESS });
    }
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let must = (*must || *may).then_some(*must);
    let request = PackRequest { sources: sources.clone(), must, none: *none };
    apply(&server, offer_pack(&server, &request)?, Mode::default(), ui)
}
