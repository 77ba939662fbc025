//! Stopping a server: one that a trial has left running, or by the stop command of `[server.process]`.

use crate::words::ServerName;
use serde::Serialize;
use yalotheca_host::running;

use crate::{
    AppError, Front, Server,
    process::{Act, RunningBy, ServerState, run},
};

/// What came of stopping.
#[derive(Debug, Serialize)]
pub struct StopReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// The process that was ended; nothing if none ran, or a command stopped it.
    pub stopped: Option<u32>,
    /// The command that stopped it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by_command: Option<String>,
}

/// Stops a server.
///
/// # Errors
/// Where nothing here can stop it, or it does not end.
pub fn stop(server: &Server, front: &dyn Front) -> Result<StopReport, AppError> {
    running::forget_awaited_start(&*server.tree);
    let report = |stopped, by_command| StopReport { server: server.shown(), stopped, by_command };
    let state = server.state(front)?;
    if let ServerState::Running(RunningBy::Process(process)) = &state
        && process.is_noted
    {
        let patience = server.options.patience.unwrap_or_else(|| server.patience().stop);
        if !server.stop_process(process, patience)? {
            return Err(AppError::Refused {
                what: format!("process {} does not end", process.pid),
                hint: Some("it may belong to another user, or be waiting for a slow disk".into()),
            });
        }
        return Ok(report(Some(process.pid), None));
    }
    if state == ServerState::Stopped {
        return Ok(report(None, None));
    }
    if let Some(command) = server.process_command(Act::Stop, front)? {
        run(&command)?;
        return Ok(report(None, Some(command.to_string())));
    }
    let hint = Some(
        "stop it the way it was started; or say in yalotheca.toml how it is stopped: [server.process]".into(),
    );
    Err(match state {
        ServerState::Running(by) => {
            AppError::Refused { what: format!("{}, and no trial of Yalotheca started it", by.says()), hint }
        }
        _ => AppError::Refused {
            what: "nothing here can tell whether the server runs, or stop it".into(),
            hint,
        },
    })
}
