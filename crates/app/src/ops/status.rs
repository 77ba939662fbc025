//! Whether the server runs, and what can be told of it.

use crate::words::ServerName;
use std::time::Duration;

use serde::Serialize;
use yalotheca_host::{running, trial};

use super::console;
use crate::{
    AppError, Front, Server,
    process::{RunningBy, ServerState},
};

/// Whether a server runs, and how it does.
#[derive(Debug, Serialize)]
pub struct StatusReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// Whether it runs.
    pub state: RunState,
    /// How that is known, in words, or how long ago its log was written to.
    pub because: Option<String>,
    /// Its process.
    pub process: Option<u32>,
    /// Whether a trial left it running.
    pub left_by_trial: bool,
    /// How long it has been running, in seconds.
    pub running_for_s: Option<u64>,
    /// Whether it answers at its port; nothing if the definition has no probe.
    pub port_answers: Option<bool>,
    /// Who plays, if the console tells.
    pub players: Option<Vec<String>>,
}

/// Whether a server runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum RunState {
    /// It does.
    Running,
    /// It does not.
    Stopped,
    /// Nothing can tell.
    Unknown,
}

/// Tells whether a server runs.
///
/// # Errors
/// If its status command was not agreed to or cannot be run.
pub fn status(server: &Server, front: &dyn Front) -> Result<StatusReport, AppError> {
    let state = server.state(front)?;
    let mut report = StatusReport {
        server: server.shown(),
        state: RunState::Stopped,
        because: None,
        process: None,
        left_by_trial: false,
        running_for_s: None,
        port_answers: None,
        players: None,
    };
    match &state {
        ServerState::Stopped => return Ok(report),
        ServerState::Unknown { log } => {
            report.state = RunState::Unknown;
            let ago = |age: &Duration| format!("its log was written to {} s ago", age.as_secs());
            report.because = log.as_ref().map(ago);
            return Ok(report);
        }
        ServerState::Running(by) => {
            report.state = RunState::Running;
            report.because = Some(by.says());
            if let RunningBy::Process(process) = by {
                report.process = Some(process.pid);
                report.left_by_trial = process.is_noted;
                report.running_for_s = running::age(process).map(|age| age.as_secs());
            }
        }
    }
    let asked = trial::ask_at(&server.machine(), &server.game, &server.survey.scope);
    report.port_answers = asked.map(|port| port.is_some());
    report.players = console::players(server);
    Ok(report)
}
