//! A supervised start: the server is started, its log is read, its port is asked, and it is stopped again.

mod console;
mod probe;
mod process;

use std::{
    collections::BTreeMap,
    io,
    path::Path,
    time::{Duration, Instant},
};

use yalotheca_core::{
    control::Locked,
    diagnose::{ContentState, LogReader, PatternError, Trouble, Verdict},
    game::{Game, RenderError, Scope},
    hint::Hint,
    id::ContentId,
};

use crate::{survey::value_at, tree::LocalTree};
use process::Server;

/// A trial that could not be made.
#[derive(Debug, thiserror::Error)]
pub enum TrialError {
    /// The program could not be started.
    #[error("{program}: {source}")]
    Start {
        /// The program.
        program: String,
        /// Why.
        source: io::Error,
    },
    /// A template of the definition cannot be filled.
    #[error(transparent)]
    Render(#[from] RenderError),
    /// A pattern of the definition is wrong.
    #[error(transparent)]
    Pattern(#[from] PatternError),
}

impl Hint for TrialError {
    fn hint(&self) -> Option<String> {
        match self {
            Self::Start { .. } => Some(
                "install it, or say where it is: [server.values] program = \"…\" in yalotheca.toml".into(),
            ),
            Self::Render(error) => error.hint(),
            Self::Pattern(error) => error.hint(),
        }
    }
}

/// How a trial went.
#[derive(Debug, Clone)]
pub struct Trial {
    /// The verdict.
    pub verdict: Verdict,
    /// How long it took until the ready line, if it came.
    pub ready_after: Option<Duration>,
    /// Whether the port answered; nothing where there is none to ask.
    pub answers: Option<bool>,
    /// What is wrong.
    pub troubles: Vec<Trouble>,
    /// What became of each content.
    pub contents: BTreeMap<ContentId, ContentState>,
    /// The exit code, where the server ended by itself.
    pub ended: Option<i32>,
    /// The last lines of the log.
    pub tail: Vec<String>,
    /// The process, where it was left running.
    pub kept: Option<u32>,
    /// Whether this was only the first start, which makes files and ends by itself.
    pub was_first: bool,
}

/// What a trial needs to know.
#[derive(Debug, Clone, Copy)]
pub struct TrialOptions {
    /// Leave the server running.
    pub keep: bool,
    /// How long to wait for the ready line.
    pub patience: Duration,
}

const TAIL: usize = 12;

/// Starts the server in a folder and watches it. `on_line` hears each line of the log.
///
/// # Errors
/// Where the server cannot be started at all.
pub fn trial(
    folder: &Path,
    game: &Game,
    scope: &Scope,
    lineup: &[Locked],
    options: TrialOptions,
    on_line: &mut dyn FnMut(&str),
) -> Result<Trial, TrialError> {
    let mut reader = LogReader::new(game, scope, lineup)?;
    let mut server = Server::start(folder, game, scope, options.keep)?;
    let started = Instant::now();
    let quiet = Duration::from_millis(game.run.quiet_ms);
    let mut ready_after = None;
    let mut tail: Vec<String> = Vec::new();
    let mut ended = None;
    let mut first_done = false;
    let mut until = started + options.patience;
    let mut listen = |lines: Vec<String>, reader: &mut LogReader<'_>, tail: &mut Vec<String>| {
        for line in lines {
            on_line(&line);
            first_done |= game.run.first.as_ref().is_some_and(|first| first.is_match(&line));
            reader.feed(&line);
            tail.push(line);
        }
        if tail.len() > TAIL {
            tail.drain(..tail.len() - TAIL);
        }
    };
    while Instant::now() < until {
        listen(server.lines(Duration::from_millis(20)), &mut reader, &mut tail);
        if let Some(code) = server.ended() {
            listen(server.last_lines(), &mut reader, &mut tail);
            ended = Some(code);
            break;
        }
        if reader.is_ready() && ready_after.is_none() {
            ready_after = Some(started.elapsed());
            until = Instant::now() + quiet;
        }
    }
    let alive = ended.is_none();
    let was_first = first_done && ended == Some(0);
    let answers = match (&game.run.probe, alive && reader.is_ready()) {
        (Some(probe), true) => Some(probe::answers(probe, scope)?),
        (Some(_), false) => Some(false),
        (None, _) => None,
    };
    let verdict = if alive { reader.verdict(answers) } else { Verdict::Failed };
    let mut troubles = reader.troubles().to_vec();
    if let (true, Some(false), true) = (alive && reader.is_ready(), answers, troubles.is_empty()) {
        troubles.push(silent());
    }
    let keep = options.keep && verdict != Verdict::Failed;
    let kept = keep.then(|| server.leave());
    if let Some(pid) = kept {
        crate::running::note(folder, pid)
            .map_err(|source| TrialError::Start { program: "noting the process".into(), source })?;
    }
    if !keep && alive {
        server.stop(game.run.stop, stop_line(folder, game, scope).as_ref());
    }
    Ok(Trial {
        verdict,
        ready_after,
        answers,
        troubles,
        contents: reader.contents(),
        ended,
        tail,
        kept,
        was_first,
    })
}

/// What to tell the console so that the server stops, where it has one.
fn stop_line(folder: &Path, game: &Game, scope: &Scope) -> Option<console::Telling> {
    let rule = game.run.stop_line.as_ref()?;
    let port = rule.port.render(scope).ok()?.trim().parse().ok().filter(|port| *port != 0)?;
    let tree = LocalTree::new(folder);
    let secret = rule.secret.as_ref().and_then(|place| value_at(&tree, place, scope).ok().flatten());
    Some(console::Telling { port, secret, line: rule.line.clone() })
}

fn silent() -> Trouble {
    Trouble {
        line: String::new(),
        fatal: true,
        means: Some("no answer".into()),
        says: "the log says ready, but nothing answers on the server's port".into(),
        advice: Some("look whether another program has that port, or a firewall closes it".into()),
    }
}
