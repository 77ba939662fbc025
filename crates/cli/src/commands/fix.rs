//! `fix`.

use std::process::ExitCode;
use yalotheca_app::words::ServerName;

use clap::Args;
use clap_complete::ArgValueCandidates;
use serde::Serialize;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::fix::{FixRequest, Fixed, LeftOut, fix},
};

use super::apply::{Mode, apply};
use crate::{
    complete,
    global::Global,
    ui::Ui,
    view::{Page, Role, View, count, finding::FindingView},
};

/// Do what check suggests, as one change: install what is needed, move what lies in the wrong folder, put the order right, take out
/// entries for what is not there.
#[derive(Debug, Args)]
pub(crate) struct FixArgs {
    /// Only findings with this code, or about this content or file; notes are fixed only if they are named
    #[arg(value_name = "WHAT", add = ArgValueCandidates::new(complete::fixable))]
    what: Vec<String>,
}

/// What is left where there is nothing to fix.
#[derive(Debug, Serialize)]
struct NothingToFix {
    server: ServerName,
    /// Problems that fix does nothing about.
    left: Vec<FindingView>,
}

impl View for NothingToFix {
    fn view(&self, page: &mut Page) {
        if self.left.is_empty() {
            page.line(Role::Good, &format!("{}: nothing to fix.", self.server));
            return;
        }
        let many = count(self.left.len(), "problem");
        page.line(Role::Bad, &format!("{}: {many} that fix cannot put right by itself.", self.server));
        page.gap();
        for finding in &self.left {
            page.item(Role::Bad, &finding.says);
            if let Some(fix) = &finding.fix {
                page.item(Role::Name, fix);
            }
        }
    }
}

pub(crate) fn run(args: &FixArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let mut server = Server::open(Purpose::Change, &global.open(), ui)?;
    let request = FixRequest { what: args.what.clone(), keeps_what_differs: ui.is_unasked() };
    let report = fix(&mut server, &request)?;
    for left in &report.left_out {
        ui.warn(&match left {
            LeftOut::Hopeless { about, says } => {
                format!("{says}. No combination of versions puts that right; yalotheca fix {about} says why.")
            }
            LeftOut::Differs { path, of } => {
                format!("{path} differs from the {of} that is installed; fix without --yes asks about it.")
            }
        });
    }
    match report.fixed {
        Fixed::Change(change) => apply(&server, *change, Mode::default(), ui),
        Fixed::Nothing => Ok(ExitCode::FAILURE),
        Fixed::NothingToFix(left) => {
            let code = if left.is_empty() { ExitCode::SUCCESS } else { ExitCode::FAILURE };
            ui.show(&NothingToFix { server: server.shown(), left: FindingView::all(&left) })?;
            Ok(code)
        }
    }
}
