//! The server's log, with what its lines mean.

use std::{collections::BTreeSet, thread, time::Duration};

use serde::Serialize;
use yalotheca_core::{diagnose::LogReader, hint::Advice, id::TreePath};
use yalotheca_host::{
    running,
    survey::played,
    tree::EntryKind,
    trial::{LogFollower, TrialError},
};

use crate::{AppError, Server, words::ServerName};

/// Which log is read, and how much of it.
#[derive(Debug, Clone, Default)]
pub struct LogRequest {
    /// The log, below the server's folder; else that of a server that was left running, or the one that the definition names.
    pub file: Option<String>,
    /// How many of its last lines are shown.
    pub lines: usize,
}

/// One line of a log.
#[derive(Debug, Clone, Serialize)]
pub struct LogLine {
    /// The line.
    pub line: String,
    /// What it means, where something is wrong.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub means: Option<String>,
    /// What can be done about it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub advice: Option<String>,
}

/// The end of a log.
#[derive(Debug, Serialize)]
pub struct LogReport {
    /// The server.
    pub server: ServerName,
    /// The log.
    pub log: TreePath,
    /// How many lines were left out before the first one.
    pub left_out: usize,
    /// The lines.
    pub lines: Vec<LogLine>,
}

/// Adds to lines what they mean.
struct Explaining<'s> {
    reader: LogReader<'s>,
    told: BTreeSet<String>,
}

impl<'s> Explaining<'s> {
    fn of(server: &'s Server) -> Result<Self, AppError> {
        let scope = &server.survey.scope;
        let lineup = server.control.lock.loaded(&server.control.wants.off);
        let plays = played(&*server.tree, &server.game, scope).ok().and_then(|maps| maps.play);
        let reader = LogReader::new(&server.game, scope, &lineup.contents, plays.as_deref());
        Ok(Self { reader: reader.map_err(TrialError::from)?, told: BTreeSet::new() })
    }

    fn explain(&mut self, line: String) -> LogLine {
        self.reader.feed(&line);
        let trouble = self.reader.troubles().last().filter(|trouble| {
            trouble.line.trim_end() == line.trim_end()
                || trouble.trace.last().is_some_and(|last| *last == line)
        });
        // What a line says in its own words need not be said again; nor is a meaning told at each such line.
        let said = trouble.filter(|trouble| trouble.means.is_some() && !line.contains(trouble.says.as_str()));
        let (means, advice) = match said.map(|trouble| (trouble.says.clone(), trouble.advice.clone())) {
            Some((says, advice)) if self.told.insert(says.clone()) => (Some(says), advice),
            _ => (None, None),
        };
        LogLine { line, means, advice }
    }
}

/// Returns the last lines of the server's log.
///
/// # Errors
/// Where no log is known or it cannot be read.
pub fn log(server: &Server, request: &LogRequest) -> Result<LogReport, AppError> {
    let log = log_of(server, request)?;
    let (all, _) = tail(server, &log)?;
    let mut explaining = Explaining::of(server)?;
    let mut lines: Vec<LogLine> = all.into_iter().map(|line| explaining.explain(line)).collect();
    let left_out = lines.len().saturating_sub(request.lines);
    lines.drain(..left_out);
    Ok(LogReport { server: server.shown(), log, left_out, lines })
}

/// Returns the last lines of a log, as far back as is looked, and whether those are all.
pub(super) fn tail(server: &Server, log: &TreePath) -> Result<(Vec<String>, bool), AppError> {
    /// No more of a log is read.
    const MOST: u64 = 4 << 20;
    let size = match server.tree.kind_of(log)? {
        Some(EntryKind::File(size)) => size,
        _ => 0,
    };
    let lines = LogFollower::from(log.clone(), size.saturating_sub(MOST)).lines(&*server.tree)?;
    Ok((lines, size <= MOST))
}

/// Follows the log until the program is ended; each line is handed on with what it means.
///
/// # Errors
/// Where no log is known, it cannot be read, or a line cannot be handed on.
pub fn follow(
    server: &Server,
    request: &LogRequest,
    hear: &mut dyn FnMut(&LogLine) -> Result<(), AppError>,
) -> Result<(), AppError> {
    let pause = Duration::from_millis(if server.tree.local().is_some() { 100 } else { 1_000 });
    let mut follower =
        LogFollower::at_end(&*server.tree, log_of(server, request)?).map_err(TrialError::from)?;
    let mut explaining = Explaining::of(server)?;
    loop {
        for line in follower.lines(&*server.tree)? {
            hear(&explaining.explain(line))?;
        }
        thread::sleep(pause);
    }
}

pub(super) fn log_of(server: &Server, request: &LogRequest) -> Result<TreePath, AppError> {
    if let Some(file) = &request.file {
        return Ok(TreePath::new(file)?);
    }
    let kept = running::log_path();
    let own = server.log_file();
    let is_there = |path: &TreePath| Ok::<_, AppError>(server.tree.kind_of(path)?.is_some());
    // The one that was written to last.
    if is_there(&kept)? {
        let of_own = own.as_ref().map(|own| server.tree.modified(own)).transpose()?.flatten();
        if of_own <= server.tree.modified(&kept)? {
            return Ok(kept);
        }
    }
    own.ok_or_else(|| AppError::Usage {
        what: format!("the definition of {} does not say where the server writes its log", server.game.name),
        hint: Some(Advice::NameLog),
    })
}
