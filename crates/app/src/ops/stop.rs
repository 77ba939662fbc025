//! Stopping the server that a trial has left running.

use std::time::Duration;

use serde::Serialize;
use yalotheca_host::running;

use crate::{AppError, Server};

/// What came of stopping.
#[derive(Debug, Serialize)]
pub struct StopReport {
    /// The server, as people call it.
    pub server: String,
    /// The process that was ended; nothing if none ran.
    pub stopped: Option<u32>,
}

/// Stops the server that a trial has left running; `patience` is how long it may take before it is killed.
///
/// # Errors
/// Where something else started it, or it does not end.
pub fn stop(server: &Server, patience: Duration) -> Result<StopReport, AppError> {
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
            if !running::stop(server.local()?, &running, server.game.run.stop, patience) {
                return Err(AppError::Refused {
                    what: format!("process {} does not end", running.pid),
                    hint: Some("it may belong to another user, or be waiting for a slow disk".into()),
                });
            }
            Some(running.pid)
        }
    };
    Ok(StopReport { server: server.shown(), stopped })
}
