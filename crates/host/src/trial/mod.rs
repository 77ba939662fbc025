//! A supervised start: the server is started, its log is read, its port is asked, and it is stopped again.

mod ending;
mod good_start;
mod probe;
mod process;
mod watch;

use std::{
    collections::BTreeMap,
    io,
    net::ToSocketAddrs,
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};

use signal_hook::{
    SigId,
    consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM},
};

use yalotheca_core::{
    control::Locked,
    diagnose::{ContentState, LogLines, LogReader, PatternError, Trouble, Verdict},
    game::{ConsoleChannel, Game, RenderError, Scope},
    hint::{Advice, Hint},
    id::{ContentId, TreePath},
};

use crate::{
    console::{self, ConsoleAddress},
    interrupt::Within,
    survey::played,
    tree::{LocalTree, Tree, TreeError},
    trust::Invocation,
};
pub use ending::Ended;
pub use good_start::{GoodStart, read_good_start, write_good_start};
pub use probe::answers_datagram;
use process::Server;
pub use watch::{LogFollower, WatchOptions, watch};

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
    /// Somebody ended this program; the server was stopped first.
    #[error("ended by a signal ({0}); the server was stopped")]
    Interrupted(i32),
    /// Somebody ended this program while it followed a log.
    #[error("ended by a signal ({0})")]
    WatchInterrupted(i32),
    /// The log cannot be read.
    #[error(transparent)]
    Log(#[from] TreeError),
}

impl Hint for TrialError {
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::Start { .. } => Some(
                "install it, or say where it is: [server.values] program = \"…\" in yalotheca.toml".into(),
            ),
            Self::Render(error) => error.hint(),
            Self::Pattern(error) => error.hint(),
            Self::Log(error) => error.hint(),
            Self::Interrupted(_) | Self::WatchInterrupted(_) => None,
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
    /// How it ended, where it ended by itself.
    pub ended: Option<Ended>,
    /// Whether it did not stop when it was told to, and was killed.
    pub was_killed: bool,
    /// How long it took to stop; nothing where it ended by itself or was left running.
    pub stopped_after: Option<Duration>,
    /// The different lines of its log.
    pub lines: LogLines,
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
    /// How long it may take.
    pub patience: Patience,
}

/// How long a server may take to start and to stop.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Patience {
    /// How long to wait for the ready line.
    pub ready: Duration,
    /// Whether it is waited on as long as the server goes on writing to its log, up to ten times as long.
    pub goes_on: bool,
    /// How long it may take to stop before it is killed.
    pub stop: Duration,
}

impl Patience {
    /// Returns whether it is still worth waiting for a server that was started so long ago and has written its last line so long ago.
    fn lasts(&self, started: Duration, silent: Duration) -> bool {
        const MOST_TIMES: u32 = 10;
        started < self.ready
            || self.goes_on && silent < self.ready / 3 && started < self.ready.saturating_mul(MOST_TIMES)
    }
}

const TAIL: usize = 12;

/// How long a server that said that it cannot run may take to say the rest and to end.
const AFTER_FATAL: Duration = Duration::from_millis(1_500);

/// Notes the signals that would end this program, so that the server is stopped first.
struct Signals {
    came: Arc<AtomicUsize>,
    ids: Vec<SigId>,
}

impl Signals {
    fn listen() -> Self {
        let came = Arc::new(AtomicUsize::new(0));
        let listen = |signal: i32| {
            let number = usize::try_from(signal).unwrap_or(1);
            signal_hook::flag::register_usize(signal, Arc::clone(&came), number).ok()
        };
        let ids = [SIGINT, SIGTERM, SIGHUP, SIGQUIT].into_iter().filter_map(listen).collect();
        Self { came, ids }
    }

    fn came(&self) -> Option<i32> {
        i32::try_from(self.came.load(Ordering::SeqCst)).ok().filter(|signal| *signal > 0)
    }
}

impl Drop for Signals {
    fn drop(&mut self) {
        for id in self.ids.drain(..) {
            signal_hook::low_level::unregister(id);
        }
    }
}

/// Asks a server on a host, and returns the port at which it answers, or that it does not; nothing where it cannot be asked: the
/// definition does not say how, or the host is not known by this name.
pub fn ask_at(host: &str, game: &Game, scope: &Scope) -> Option<Option<String>> {
    let probe = game.run.probe.as_ref()?;
    (host, 0).to_socket_addrs().ok()?.next()?;
    probe::taken_at(host, probe, scope).ok()
}

/// Makes the home folder that a server is given inside its own folder: some cannot start without.
fn make_home(tree: &LocalTree, invocation: &Invocation) -> Result<(), TrialError> {
    let home =
        invocation.environment.iter().find(|(name, _)| name == "HOME").map(|(_, value)| Path::new(value));
    let Some(inside) = home.and_then(|home| home.strip_prefix(tree.root()).ok()) else { return Ok(()) };
    let failed = |source| TrialError::Start { program: invocation.program.display().to_string(), source };
    let path = TreePath::new(&inside.to_string_lossy()).map_err(|error| failed(io::Error::other(error)))?;
    match tree.kind_of(&path) {
        Ok(None) => tree.create_folder(&path).map_err(|error| failed(io::Error::other(error))),
        // What is wrong with it the server tells.
        _ => Ok(()),
    }
}

/// Starts the server in a folder and watches it. `on_line` hears each line of the log.
///
/// # Errors
/// Where the server cannot be started at all, or this program is ended meanwhile; then the server is stopped first.
pub fn trial(
    tree: &LocalTree,
    game: &Game,
    scope: &Scope,
    lineup: &[Locked],
    options: TrialOptions,
    on_line: &mut dyn FnMut(&str),
) -> Result<Trial, TrialError> {
    // A configuration that cannot be read is for the server to tell.
    let plays = played(tree, game, scope).ok().and_then(|maps| maps.play);
    let mut reader = LogReader::new(game, scope, lineup, plays.as_deref())?;
    let program = || game.run.command.first().map_or_else(String::new, |program| program.as_str().to_owned());
    let invocation = Invocation::of_server(game, scope)?.ok_or_else(|| TrialError::Start {
        program: program(),
        source: io::Error::other("it names no program"),
    })?;
    // What answers now is not the server that is started then.
    if let Some(probe) = &game.run.probe
        && let Some(port) = probe::is_taken(probe, scope)?
    {
        return Ok(not_started(taken(&port), &reader));
    }
    make_home(tree, &invocation)?;
    let _within = Within::watch();
    let signals = Signals::listen();
    let mut server = Server::start(tree, &invocation, options.keep, hears_input(game))?;
    let killed_before = ending::killed_for_memory();
    let mut heard = Heard { tail: Vec::new(), first_done: false };
    let course = heard.follow(&mut server, &mut reader, (game, options.patience, &signals), on_line);
    let Course { started, last_line, ready_after, ended } = course;
    // What takes long to start may take long to stop.
    let grace = options.patience.stop.max(started.elapsed());
    if let Some(signal) = signals.came() {
        stop(&mut server, tree, (game, scope), grace);
        return Err(TrialError::Interrupted(signal));
    }
    let alive = ended.is_none();
    let was_first = heard.first_done && ended.is_some_and(Ended::is_well);
    let answers = match (&game.run.probe, alive && reader.is_ready()) {
        (Some(probe), true) => Some(probe::answers(probe, scope)?),
        (Some(_), false) => Some(false),
        (None, _) => None,
    };
    let (verdict, mut troubles) = judge(&reader, alive, answers);
    if alive && !reader.is_ready() && !reader.is_fatal() {
        troubles.insert(0, slow(started.elapsed(), last_line.elapsed(), heard.tail.last()));
    }
    if let Some(ended) = ended.filter(|_| !was_first) {
        troubles.extend(ending::troubles(ended, tree, killed_before));
    } else if verdict == Verdict::Failed {
        troubles.extend(ending::full_disk(tree.root()));
    }
    let keep = options.keep && verdict != Verdict::Failed && signals.came().is_none();
    let kept = keep.then(|| server.leave());
    if let Some(pid) = kept {
        crate::running::note(tree, pid)
            .map_err(|source| TrialError::Start { program: "noting the process".into(), source })?;
    }
    let stopping = Instant::now();
    let was_killed = !keep && alive && !stop(&mut server, tree, (game, scope), grace);
    let stopped_after = (!keep && alive && !was_killed).then(|| stopping.elapsed());
    if let Some(signal) = signals.came() {
        return Err(TrialError::Interrupted(signal));
    }
    Ok(Trial {
        verdict,
        ready_after,
        answers,
        troubles,
        contents: reader.contents(),
        ended,
        was_killed,
        stopped_after,
        lines: reader.lines().clone(),
        tail: heard.tail,
        kept,
        was_first,
    })
}

/// Says that a server is slow to start, and what it was doing.
fn slow(waited: Duration, silent: Duration, last: Option<&String>) -> Trouble {
    let seconds = |time: Duration| time.as_secs_f64().round().max(1.0);
    let doing = match last {
        None => "; it has written nothing to its log".into(),
        Some(line) => {
            let line: String = line.trim().chars().take(120).collect();
            let when = if silent < Duration::from_secs(3) {
                "a moment before".to_owned()
            } else {
                format!("{} s before", seconds(silent))
            };
            format!("; the last thing it said, {when}, was: {line}")
        }
    };
    let says = format!("it was not ready within {} s{doing}", seconds(waited));
    Trouble::told(SLOW, says, None)
}

/// What is called slow.
pub const SLOW: &str = "slow start";

/// Stops the server; returns whether it stopped when it was told to.
fn stop(server: &mut Server, tree: &LocalTree, (game, scope): (&Game, &Scope), grace: Duration) -> bool {
    server.stop(game.run.stop, stop_line(tree, game, scope).as_ref(), grace)
}

/// Returns the verdict on a server that is alive or not, and what is wrong.
fn judge(reader: &LogReader<'_>, alive: bool, answers: Option<bool>) -> (Verdict, Vec<Trouble>) {
    let verdict = if alive { reader.verdict(answers) } else { Verdict::Failed };
    let mut troubles = reader.troubles().to_vec();
    if alive && reader.is_ready() && answers == Some(false) && troubles.is_empty() {
        troubles.push(silent());
    }
    // What the definition does not know is worth a look only where something is wrong.
    let is_slow = alive && !reader.is_ready() && !reader.is_fatal();
    if verdict == Verdict::Failed && !is_slow && !troubles.iter().any(|trouble| trouble.means.is_some()) {
        troubles.extend(reader.suspects().iter().cloned());
    }
    (verdict, troubles)
}

/// How a start took its course.
struct Course {
    started: Instant,
    /// When the last line of the log came.
    last_line: Instant,
    ready_after: Option<Duration>,
    ended: Option<Ended>,
}

/// What was heard of a server.
struct Heard {
    tail: Vec<String>,
    first_done: bool,
}

impl Heard {
    /// Listens to a server until it is ready and has been quiet, has ended, or is not worth waiting for any longer.
    fn follow(
        &mut self,
        server: &mut Server,
        reader: &mut LogReader<'_>,
        (game, patience, signals): (&Game, Patience, &Signals),
        on_line: &mut dyn FnMut(&str),
    ) -> Course {
        let started = Instant::now();
        let mut course = Course { started, last_line: started, ready_after: None, ended: None };
        let quiet = Duration::from_millis(game.run.quiet_ms);
        let (mut until, mut is_ending) = (None, false);
        let waits = |until: Option<Instant>, last_line: Instant| match until {
            Some(until) => Instant::now() < until,
            None => patience.lasts(started.elapsed(), last_line.elapsed()),
        };
        while waits(until, course.last_line) && signals.came().is_none() {
            if self.listen(server.lines(Duration::from_millis(20)), game, reader, on_line) {
                course.last_line = Instant::now();
            }
            if let Some(code) = server.ended() {
                self.listen(server.last_lines(), game, reader, on_line);
                course.ended = Some(code);
                break;
            }
            if reader.is_fatal() && !is_ending {
                is_ending = true;
                until = Some(Instant::now() + AFTER_FATAL);
            }
            if reader.is_ready() && course.ready_after.is_none() {
                course.ready_after = Some(started.elapsed());
                until = if is_ending { until } else { Some(Instant::now() + quiet) };
            }
        }
        course
    }

    /// Takes lines in, and returns whether there were any.
    fn listen(
        &mut self,
        lines: Vec<String>,
        game: &Game,
        reader: &mut LogReader<'_>,
        on_line: &mut dyn FnMut(&str),
    ) -> bool {
        let is_any = !lines.is_empty();
        for line in lines {
            on_line(&line);
            self.first_done |= game.run.first.as_ref().is_some_and(|first| first.is_match(&line));
            reader.feed(&line);
            self.tail.push(line);
            if self.tail.len() > TAIL {
                self.tail.remove(0);
            }
        }
        is_any
    }
}

fn not_started(trouble: Trouble, reader: &LogReader<'_>) -> Trial {
    Trial {
        verdict: Verdict::Failed,
        ready_after: None,
        answers: None,
        troubles: vec![trouble],
        contents: reader.contents(),
        ended: None,
        was_killed: false,
        stopped_after: None,
        lines: reader.lines().clone(),
        tail: Vec::new(),
        kept: None,
        was_first: false,
    }
}

fn taken(port: &str) -> Trouble {
    let who = port.trim().parse().ok().and_then(ending::listener_on);
    let who = who.map_or_else(|| "something else".into(), |(pid, name)| format!("{name} (process {pid})"));
    let advice = "stop what runs there, or give this server another port";
    let says = format!("{who} listens on port {port} already, so the server was not started");
    Trouble::told("port taken", says, Some(advice))
}

/// Whether the server takes commands from its standard input.
fn hears_input(game: &Game) -> bool {
    game.console.as_ref().is_some_and(|console| matches!(console.channel, ConsoleChannel::Input))
}

/// What to tell the console so that the server stops, where it has one.
fn stop_line(tree: &LocalTree, game: &Game, scope: &Scope) -> Option<(ConsoleAddress, String)> {
    let line = game.run.stop_line.clone()?;
    Some((console::address(game.console.as_ref()?, tree, scope, "127.0.0.1").ok()?, line))
}

fn silent() -> Trouble {
    let advice = "check whether another program uses that port, or a firewall blocks it";
    Trouble::told("no answer", "the log says ready, but nothing answers on the server's port", Some(advice))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patience_lasts_as_long_as_the_log_goes_on_but_not_for_ever() {
        let seconds = Duration::from_secs;
        let own = Patience { ready: seconds(60), goes_on: true, stop: seconds(15) };
        let fixed = Patience { goes_on: false, ..own };
        for (started, silent, lasts, lasts_fixed) in [
            (59, 59, true, true),
            (61, 5, true, false),
            (61, 21, false, false),
            (599, 1, true, false),
            (601, 0, false, false),
        ] {
            assert_eq!(own.lasts(seconds(started), seconds(silent)), lasts, "{started} {silent}");
            assert_eq!(fixed.lasts(seconds(started), seconds(silent)), lasts_fixed, "{started} {silent}");
        }
        let last = "loading chart 3".to_owned();
        assert!(
            slow(seconds(60), seconds(1), Some(&last))
                .says
                .ends_with("a moment before, was: loading chart 3")
        );
        assert!(slow(seconds(60), seconds(9), Some(&last)).says.contains("9 s before"));
        assert!(slow(seconds(2), seconds(2), None).says.contains("written nothing"));
    }
}
