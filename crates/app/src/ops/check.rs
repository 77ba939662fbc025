//! Verifying everything that can be verified without starting the server.

use crate::words::ServerName;
use yalotheca_core::check::Finding;

use yalotheca_core::id::TreePath;
use yalotheca_host::archive;

use crate::{
    AppError, Event, Progress, Server, findings::look_at_all, process::ServerState, reading::Reading,
};

/// What a check found.
#[derive(Debug)]
pub struct CheckReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// How many contents are installed.
    pub contents: usize,
    /// How many files were looked at.
    pub files: usize,
    /// Whether the server runs now.
    pub running: bool,
    /// What was found.
    pub findings: Vec<Finding>,
}

/// How much is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// What is new or may have changed.
    Changed,
    /// Every byte, whatever sizes and dates say.
    Everything,
}

/// Verifies everything that can be verified without starting the server.
///
/// # Errors
/// Where the server cannot be looked at.
pub fn check(server: &mut Server, depth: Depth, progress: &dyn Progress) -> Result<CheckReport, AppError> {
    let mut damaged = Vec::new();
    if depth == Depth::Everything {
        server.tree = server.tree.with_inventory(None);
        if server.tree.local().is_none() {
            let placed = &server.receipt()?.placed;
            let bytes = placed.values().map(|placed| placed.size).sum();
            progress.event(Event::WillDownload { files: placed.len(), bytes });
        }
        damaged = damaged_archives(server)?;
    }
    let server = &*server;
    let reading = if depth == Depth::Everything { Reading::Everything } else { Reading::usual(server) };
    let (mut findings, files) = look_at_all(server, reading)?;
    findings.splice(0..0, damaged);
    server.tree.check_reads()?;
    Ok(CheckReport {
        server: server.shown(),
        contents: server.control.lock.contents.len(),
        files,
        running: matches!(server.state_by_looking(), ServerState::Running(_)),
        findings,
    })
}

/// Archives that are known by their directories only: each of their bytes is read, and compared with the checksums there.
fn damaged_archives(server: &Server) -> Result<Vec<Finding>, AppError> {
    let placed = server.receipt()?.placed.iter();
    let archives = placed.filter(|(_, placed)| placed.digest.is_fingerprint());
    let damage = |path: &TreePath| {
        let failed = |source| AppError::Io { what: format!("copying {path}"), source };
        let mut copy = tempfile::tempfile().map_err(failed)?;
        let is_there = server.tree.copy_to(path, &mut copy)?;
        Ok::<_, AppError>(if is_there { archive::first_damage(copy) } else { None })
    };
    let mut findings = Vec::new();
    for (path, placed) in archives {
        if let Some(why) = damage(path)? {
            let says = format!("{path} is damaged: {why}");
            findings.push(Finding::trouble("damaged", placed.content.as_str(), says, None));
        }
    }
    Ok(findings)
}
