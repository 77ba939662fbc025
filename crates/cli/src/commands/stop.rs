//! `stop`.

use std::{process::ExitCode, time::Duration};

use clap::Args;
use serde::Serialize;
use yalotheca_host::running;

use crate::{
    global::Global,
    ui::Ui,
    view::{Page, Role, View},
};
use yalotheca_app::{AppError, Purpose, Server};

/// Stop the server that a trial has left running.
#[derive(Debug, Args)]
pub(crate) struct StopArgs {
    /// How many seconds it may take before it is killed
    #[arg(long, value_name = "SECONDS", default_value_t = 15)]
    patience: u64,
}

#[derive(Debug, Serialize)]
struct StopView {
    server: String,
    stopped: Option<u32>,
}

impl View for StopView {
    fn view(&self, page: &mut Page) {
        match self.stopped {
            Some(pid) => page.line(Role::Good, &format!("{}: stopped (process {pid}).", self.server)),
            None => page.line(Role::Plain, &format!("{}: it was not running.", self.server)),
        }
    }
}

pub(crate) fn run(args: &StopArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let stopped = match server.running() {
        None => None,
        Some(running) if !running.is_noted => {
            return Err(AppError::Refused {
                what: format!(
                    "the server is running (process {}), and no trial of Yalotheca started it",
                    running.pid
                ),
                hint: Some("stop it the way it was started".into()),
            });
        }
        Some(running) => {
            let patience = Duration::from_secs(args.patience);
            if !running::stop(&server.tree, &running, server.game.run.stop, patience) {
                return Err(AppError::Refused {
                    what: format!("process {} does not end", running.pid),
                    hint: Some("it may belong to another user, or be waiting for a slow disk".into()),
                });
            }
            Some(running.pid)
        }
    };
    ui.show(&StopView { server: server.shown(), stopped })?;
    Ok(ExitCode::SUCCESS)
}
