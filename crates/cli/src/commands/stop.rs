//! `stop`.

use std::{process::ExitCode, time::Duration};

use clap::Args;
use serde::Serialize;
use yalotheca_host::running;

use crate::{
    args::Global,
    error::CommandError,
    session::{Purpose, Session},
    ui::Ui,
    view::{Page, Role, View},
};

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

pub(crate) fn run(args: &StopArgs, global: &Global, ui: &Ui) -> Result<ExitCode, CommandError> {
    let session = Session::open(Purpose::Look, global, ui)?;
    let stopped = match session.running() {
        None => None,
        Some(running) if !running.is_noted => {
            return Err(CommandError::Refused {
                what: format!(
                    "the server is running (process {}), and no trial of Yalotheca started it",
                    running.pid
                ),
                hint: Some("stop it the way it was started".into()),
            });
        }
        Some(running) => {
            let patience = Duration::from_secs(args.patience);
            if !running::stop(&session.tree, &running, session.game.run.stop, patience) {
                return Err(CommandError::Refused {
                    what: format!("process {} does not end", running.pid),
                    hint: Some("it may belong to another user, or be on a disk that is not mounted".into()),
                });
            }
            Some(running.pid)
        }
    };
    ui.show(&StopView { server: session.shown(), stopped })?;
    Ok(ExitCode::SUCCESS)
}
