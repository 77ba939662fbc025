//! Whether a server runs, and the commands of `[server.process]` that start it, stop it and tell.

use std::{
    sync::atomic::Ordering,
    thread,
    time::{Duration, Instant, SystemTime},
};

use yalotheca_core::{
    hint::{Advice, StartedBy},
    id::TreePath,
};
use yalotheca_host::{
    running::{self, Running},
    settle::Claim,
    tree::{Protocol, RemoteAddress, sftp},
    trial::{self, Patience},
    trust::Invocation,
};

use crate::{Answer, AppError, Front, Server, ops::console, server::trust};

/// A command of `[server.process]` may take so long.
pub(crate) const PATIENCE: Duration = Duration::from_secs(120);
/// A server may take so long to do what its console was told.
const CONSOLE_PATIENCE: Duration = Duration::from_secs(5);
/// A log that was written to so recently is probably that of a running server.
const FRESH: Duration = Duration::from_secs(120);

/// What a command of `[server.process]` does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Act {
    /// It starts the server.
    Start,
    /// It stops the server.
    Stop,
    /// It tells whether the server runs.
    Status,
}

/// How it is known that a server runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RunningBy {
    /// A process of this machine.
    Process(Running),
    /// It answers at its port.
    Port {
        /// The port.
        port: String,
        /// The host.
        host: String,
    },
    /// Its status command says so.
    Status,
}

/// Whether a server runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ServerState {
    /// It does not, as far as can be told.
    Stopped,
    /// It does.
    Running(RunningBy),
    /// Nothing can tell.
    Unknown {
        /// How long ago its log was written to, if that is recent.
        log: Option<Duration>,
    },
}

impl RunningBy {
    /// Returns it in words: `the server is running (process 812)`.
    pub fn says(&self) -> String {
        match self {
            Self::Process(running) => format!("the server is running (process {})", running.pid),
            Self::Port { port, host } => {
                format!("the server is running: it answers at port {port} of {host}")
            }
            Self::Status => "the server is running, as its status command says".into(),
        }
    }
}

impl Server {
    /// Returns a command of `[server.process]`, once somebody at this account has agreed to it; nothing where there is none.
    ///
    /// # Errors
    /// Where it was not agreed to.
    pub fn process_command(&self, act: Act, front: &dyn Front) -> Result<Option<Invocation>, AppError> {
        let section = &self.control.wants.server.process;
        let (words, does) = match act {
            Act::Start => (&section.start, "To start the server"),
            Act::Stop => (&section.stop, "To stop the server"),
            Act::Status => (&section.status, "To learn whether the server runs"),
        };
        let Some(command) = Invocation::of_words(words, &self.control.folder) else { return Ok(None) };
        let trust = trust()?;
        if trust.has_command(&command) {
            return Ok(Some(command));
        }
        if !command.program.is_file() {
            return Err(AppError::Usage {
                what: format!("there is no program {}, which [server.process] names", words[0]),
                hint: Some("correct it in yalotheca.toml, or install the program".into()),
            });
        }
        // Agreeing to everything beforehand is not knowing a command.
        let question =
            format!("{does}, this would be run on this machine: {command}. Allow it from now on? (yes/no)");
        match front.text(&question) {
            Answer::Text(text) if text.eq_ignore_ascii_case("yes") => {
                let noting = |source| AppError::Io { what: "noting that it may be run".into(), source };
                trust.agree_to(&command).map_err(noting)?;
                Ok(Some(command))
            }
            _ => Err(AppError::Refused {
                what: format!(
                    "{}, {command} would be run, which this account has not allowed yet",
                    does.to_lowercase()
                ),
                hint: Some(
                    "it is in [server.process] of yalotheca.toml; run the same in a terminal, and answer yes"
                        .into(),
                ),
            }),
        }
    }

    /// Returns whether the server runs.
    ///
    /// # Errors
    /// Where its status command was not agreed to or cannot be run.
    pub fn state(&self, front: &dyn Front) -> Result<ServerState, AppError> {
        if let Some(running) = self.running() {
            return Ok(ServerState::Running(RunningBy::Process(running)));
        }
        if let Some(command) = self.process_command(Act::Status, front)? {
            let (code, _) = command.run(PATIENCE).map_err(failed(&command))?;
            return Ok(if code == 0 {
                ServerState::Running(RunningBy::Status)
            } else {
                ServerState::Stopped
            });
        }
        Ok(self.state_by_looking())
    }

    /// Returns whether the server runs, as far as can be told without running a command.
    pub(crate) fn state_by_looking(&self) -> ServerState {
        if let Some(running) = self.running() {
            return ServerState::Running(RunningBy::Process(running));
        }
        // The processes of this machine have told.
        if self.tree.local().is_some() {
            return ServerState::Stopped;
        }
        let host = self.machine();
        let asked = trial::ask_at(&host, &self.game, &self.survey.scope);
        let log = self.log_age().filter(|age| *age < FRESH);
        match (asked, log) {
            (Some(Some(port)), _) => ServerState::Running(RunningBy::Port { port, host }),
            (Some(None), None) => ServerState::Stopped,
            (_, log) => ServerState::Unknown { log },
        }
    }

    /// Returns the machine at which the server's port is asked.
    pub(crate) fn machine(&self) -> String {
        let machine = || match RemoteAddress::parse(&self.control.wants.server.at) {
            Ok(address) if address.protocol == Protocol::Sftp => {
                sftp::machine_of(&address.host, &self.options.ssh).unwrap_or(address.host)
            }
            Ok(address) => address.host,
            Err(_) => "127.0.0.1".into(),
        };
        self.machine.get_or_init(machine).clone()
    }

    /// Returns the file to which the server writes its log, if the definition knows one.
    pub(crate) fn log_file(&self) -> Option<TreePath> {
        let template = self.game.run.log.as_ref()?;
        TreePath::new(&template.render(&self.survey.scope).ok()?).ok()
    }

    fn log_age(&self) -> Option<Duration> {
        let written = self.tree.modified(&self.log_file()?).ok().flatten()?;
        // A clock that is ahead makes it newer than now.
        Some(SystemTime::now().duration_since(written).unwrap_or_default())
    }

    /// Stops a server's process: by its console where that is better, else by a signal. Returns whether it is gone.
    pub(crate) fn stop_process(&self, process: &Running, patience: Duration) -> Result<bool, AppError> {
        let tree = self.local()?;
        if let Some(line) = &self.game.run.stop_line
            && console::connect(self).is_ok_and(|session| session.send_last(line).is_ok())
        {
            wait(CONSOLE_PATIENCE.min(patience), || running::age(process).is_none());
        }
        Ok(running::stop(tree, process, self.game.run.stop, patience))
    }

    /// Refuses to go on while the server runs, since it may hold or rewrite its files.
    pub fn refuse_running(&self) -> Result<(), AppError> {
        match self.state_by_looking() {
            ServerState::Running(by) => {
                Err(AppError::Refused { what: by.says(), hint: Some(how_to_stop(&by)) })
            }
            ServerState::Stopped | ServerState::Unknown { .. } => Ok(()),
        }
    }

    /// Claims the server for a change. Refused while the server runs, unless the change is one that it takes.
    pub fn claim_stopped(&self) -> Result<Claim, AppError> {
        if self.takes_live.load(Ordering::Relaxed) {
            return self.claim();
        }
        self.refuse_running()?;
        self.claim()
    }
}

impl Server {
    /// Returns how long the server may take to start and to stop: as was asked for; else as its definition says, or three times as
    /// long as it took when it last started well.
    pub fn patience(&self) -> Patience {
        const TIMES: u64 = 3;
        let run = &self.game.run;
        let good = trial::read_good_start(&*self.tree).ok().flatten();
        let (ready, stop) = good.map_or((0, 0), |good| (good.ready_ms, good.stop_ms));
        let at_least = |usual: u64, last: u64| Duration::from_millis(usual.max(last.saturating_mul(TIMES)));
        Patience {
            ready: self.options.patience.unwrap_or_else(|| at_least(run.patience_ms, ready)),
            goes_on: self.options.patience.is_none(),
            stop: at_least(run.grace_ms, stop),
        }
    }
}

/// What to do about a server that runs and must not.
pub fn how_to_stop(by: &RunningBy) -> Advice {
    Advice::StopOrRestart(match by {
        RunningBy::Process(running) if running.is_noted => StartedBy::Trial,
        RunningBy::Process(_) => StartedBy::Somebody,
        RunningBy::Port { .. } | RunningBy::Status => StartedBy::Panel,
    })
}

fn failed(command: &Invocation) -> impl Fn(std::io::Error) -> AppError {
    let what = format!("running {command}");
    move |source| AppError::Io { what: what.clone(), source }
}

impl Server {
    /// Waits until the server answers at its port, for a while; nothing where that cannot be asked.
    pub(crate) fn wait_until_it_answers(&self) -> Option<bool> {
        let host = self.machine();
        let ask = || trial::ask_at(&host, &self.game, &self.survey.scope);
        ask()?;
        Some(wait(self.patience().ready, || ask().flatten().is_some()))
    }
}

/// Runs a command that has to succeed.
pub(crate) fn run(command: &Invocation) -> Result<(), AppError> {
    let (code, printed) = command.run(PATIENCE).map_err(failed(command))?;
    if code == 0 {
        return Ok(());
    }
    let last = printed.lines().rev().find(|line| !line.trim().is_empty());
    let last = last.map(|line| format!(": {}", line.trim())).unwrap_or_default();
    let source = std::io::Error::other(format!("it ended with exit code {code}{last}"));
    Err(failed(command)(source))
}

/// Waits until something is so, and returns whether it is.
pub(crate) fn wait(patience: Duration, is_so: impl Fn() -> bool) -> bool {
    let until = Instant::now() + patience;
    while !is_so() {
        if Instant::now() >= until {
            return false;
        }
        thread::sleep(Duration::from_millis(200));
    }
    true
}
