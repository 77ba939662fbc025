//! What was changed on a server, when and by whom.

use crate::words::ServerName;
use serde::Serialize;
use yalotheca_host::settle::{self, Past};

use crate::{AppError, Server};

/// The changes of a server.
#[derive(Debug, Serialize)]
pub struct HistoryReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// The changes, oldest first.
    pub history: Vec<Past>,
}

/// Lists the changes of a server.
///
/// # Errors
/// Where a record of one cannot be read.
pub fn history(server: &Server) -> Result<HistoryReport, AppError> {
    Ok(HistoryReport { server: server.shown(), history: settle::history(&*server.tree)? })
}
