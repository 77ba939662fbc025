//! `stop`.

use std::process::ExitCode;

use clap::Args;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::stop::{StopReport, stop},
};

use crate::{
    global::Global,
    ui::Ui,
    view::{Page, Role, View},
};

/// Stop the server: one that a trial has left running, or by the stop command of [server.process].
#[derive(Debug, Args)]
pub(crate) struct StopArgs {}

impl View for StopReport {
    fn view(&self, page: &mut Page) {
        match (self.stopped, &self.by_command) {
            (Some(pid), _) => page.line(Role::Good, &format!("{}: stopped (process {pid}).", self.server)),
            (None, Some(command)) => {
                page.line(Role::Good, &format!("{}: stopped, by {command}.", self.server));
            }
            (None, None) => page.line(Role::Plain, &format!("{}: it was not running.", self.server)),
        }
    }
}

pub(crate) fn run(_: &StopArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    ui.show(&stop(&server, ui)?)?;
    Ok(ExitCode::SUCCESS)
}
