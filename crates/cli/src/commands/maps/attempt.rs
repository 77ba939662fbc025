//! `maps try`: a new map against the one that is known to work, so that a fault is known to be the map's.

use std::{cell::RefCell, process::ExitCode};

use clap::Args;
use yalotheca_app::{
    AppError, Prompt, Server,
    ops::try_map::{Fault, TryMapReport, TryMapRequest, find_map, try_map},
};
use yalotheca_host::trust::shell_word;

use crate::{
    global::Global,
    ui::Ui,
    view::{Page, Role, View},
};

#[derive(Debug, Args)]
pub(super) struct TryArgs {
    /// A link, a file, or a name of a catalogue
    #[arg(value_name = "WHAT")]
    what: String,
    /// Which one, where it holds several
    #[arg(long, value_name = "NAME")]
    only: Option<String>,
    /// Leave out these files
    #[arg(long, value_name = "PATTERN")]
    leave: Vec<String>,
}

impl View for TryMapReport {
    fn view(&self, page: &mut Page) {
        let Self { map, known, .. } = self;
        match self.fault {
            Fault::None => {
                page.line(
                    Role::Good,
                    &format!("{map} works: the server starts with {known}, and it starts with {map}."),
                );
                page.line(
                    Role::Plain,
                    &format!(
                        "It is installed; {known} still plays. yalotheca maps play {} puts it on.",
                        shell_word(map)
                    ),
                );
            }
            Fault::Map => {
                page.line(
                    Role::Bad,
                    &format!("The fault is {map}'s: the server starts with {known}, and not with {map}."),
                );
                page.line(Role::Plain, "Everything is as it was before.");
            }
            Fault::Server => {
                page.line(
                    Role::Bad,
                    &format!("The fault is not {map}'s: the server does not start with {known} either."),
                );
                page.line(Role::Plain, &format!("{map} was not installed. yalotheca trial looks closer."));
            }
        }
        if !self.troubles.is_empty() {
            page.head("What the server says");
            for trouble in &self.troubles {
                page.item(Role::Warn, trouble);
            }
        }
    }
}

pub(super) fn run(
    args: &TryArgs,
    server: &Server,
    (global, ui): (&Global, &Ui),
) -> Result<ExitCode, AppError> {
    let request =
        TryMapRequest { what: args.what.clone(), only: args.only.clone(), leave: args.leave.clone() };
    let attempt = find_map(server, &request, ui)?;
    let (known, map) = (&attempt.known, &attempt.map);
    if !ui.confirm(&format!("Start the server with {known}, then with {map}?"))? {
        ui.note("Nothing was changed.");
        return Ok(ExitCode::SUCCESS);
    }
    let waiting = RefCell::new(None);
    let hear = |map: &str| {
        let plays = if map == *known { ", which plays now" } else { "" };
        drop(waiting.replace(None));
        drop(waiting.replace(Some(ui.wait(&format!("Starting with {map}{plays}")))));
    };
    let report = try_map(server, &attempt, (&global.open(), ui), &hear);
    drop(waiting.replace(None));
    let report = report?;
    ui.show(&report)?;
    Ok(if report.fault == Fault::None { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}
