//! `start` and `restart`.

use std::process::ExitCode;

use serde::Serialize;
use yalotheca_app::{AppError, Purpose, Server, WhileRunning, pause::Restart, words::ServerName};

use super::trial::hide;
use crate::{
    global::Global,
    ui::Ui,
    view::{Page, View, change::restart},
};

/// How a server was started.
#[derive(Debug, Serialize)]
struct StartView {
    server: ServerName,
    #[serde(flatten)]
    restart: Restart,
    #[serde(skip)]
    is_again: bool,
}

impl View for StartView {
    fn view(&self, page: &mut Page) {
        restart::tell(page, &self.restart, restart::Told { is_again: self.is_again, undoes: None });
    }
}

/// Starts the server, watches that, and leaves it running.
pub(crate) fn start(global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let restart = server.start_and_watch(ui)?;
    shown(&server, restart, false, ui)
}

/// Stops the server, if it runs, and starts it.
pub(crate) fn restart(global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let mut options = global.open();
    options.while_running = WhileRunning::Restart;
    let server = Server::open(Purpose::Change, &options, ui)?;
    let (restart, is_again) = match server.while_stopped_unasked(ui, || Ok(()))? {
        ((), Some(restart)) => (restart, true),
        ((), None) => (server.start_and_watch(ui)?, false),
    };
    shown(&server, restart, is_again, ui)
}

fn shown(server: &Server, mut restart: Restart, is_again: bool, ui: &Ui) -> Result<ExitCode, AppError> {
    if let Some(trial) = &mut restart.trial {
        hide(trial, ui);
    }
    let is_up = restart.is_good != Some(false);
    ui.show(&StartView { server: server.shown(), restart, is_again })?;
    Ok(if is_up { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}
