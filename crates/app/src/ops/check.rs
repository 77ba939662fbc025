//! Verifying everything that can be verified without starting the server.

use serde::Serialize;
use yalotheca_core::check::Finding;

use crate::{AppError, Server, findings::look_at_all};

/// What a check found.
#[derive(Debug, Serialize)]
pub struct CheckReport {
    /// The server, as people call it.
    pub server: String,
    /// How many contents are installed.
    pub contents: usize,
    /// How many files were looked at.
    pub files: usize,
    /// Whether the server runs now.
    pub running: bool,
    /// What was found.
    pub findings: Vec<Finding>,
}

/// Verifies everything that can be verified without starting the server.
///
/// # Errors
/// Where the server cannot be looked at.
pub fn check(server: &Server) -> Result<CheckReport, AppError> {
    let (findings, files) = look_at_all(server)?;
    server.tree.check_reads()?;
    Ok(CheckReport {
        server: server.shown(),
        contents: server.control.lock.contents.len(),
        files,
        running: server.running().is_some(),
        findings,
    })
}
