//! Stopping a server for a change and starting it again: by the commands of `[server.process]`, by what a trial left running, or by
//! the person. The start is watched as a trial is.

use std::{thread, time::Duration};

use serde::Serialize;
use yalotheca_host::{
    running::{self, AwaitedStart, Running},
    trust::Invocation,
};

use crate::{
    Answer, AppError, Event, Front, Server, WhileRunning,
    ops::{
        console,
        trial::{TrialReport, TrialRequest, is_started_elsewhere, trial as try_start},
    },
    process::{Act, PATIENCE, RunningBy, ServerState, how_to_stop, run, wait},
};

/// A server that was stopped by hand may take so long to end.
const ENDING: Duration = Duration::from_secs(20);

/// After so long a server that was started and cannot be asked has shown whether it stays.
const SETTLING: Duration = Duration::from_secs(5);

impl Server {
    /// Makes a change once somebody has agreed to it. A server that runs is stopped for it, if that was
    /// asked for, and started again whatever becomes of the change. So is one that an earlier change has stopped and that did not start
    /// since. Returns nothing where the answer was no.
    ///
    /// # Errors
    /// Where the server runs and may not or cannot be stopped, or the change cannot be made.
    pub fn while_stopped<T>(
        &self,
        question: &str,
        front: &dyn Front,
        change: impl FnOnce() -> Result<T, AppError>,
    ) -> Result<Option<(T, Option<Restart>)>, AppError> {
        let pause = self.pause(front)?;
        if let Some(doubt) = pause.doubt() {
            front.event(Event::MayBeRunning(&doubt));
        }
        if !front.confirm(&pause.question(question))? {
            return Ok(None);
        }
        self.in_pause(pause, front, change).map(Some)
    }

    /// Makes a change that nobody need agree to, and otherwise as [`Server::while_stopped`] does.
    ///
    /// # Errors
    /// Where the server runs and may not or cannot be stopped, or the change cannot be made.
    pub fn while_stopped_unasked<T>(
        &self,
        front: &dyn Front,
        change: impl FnOnce() -> Result<T, AppError>,
    ) -> Result<(T, Option<Restart>), AppError> {
        let pause = self.pause(front)?;
        if let Some(doubt) = pause.doubt() {
            front.event(Event::MayBeRunning(&doubt));
        }
        self.in_pause(pause, front, change)
    }

    fn in_pause<T>(
        &self,
        pause: Pause,
        front: &dyn Front,
        change: impl FnOnce() -> Result<T, AppError>,
    ) -> Result<(T, Option<Restart>), AppError> {
        let start = pause.stop(self, front)?;
        let changed = change();
        let restart = start.map(|start| start.carry_out(self, front));
        Ok((changed?, restart))
    }

    /// Starts the server, watches that, and leaves it running.
    ///
    /// # Errors
    /// Where it runs already.
    pub fn start_and_watch(&self, front: &dyn Front) -> Result<Restart, AppError> {
        if let ServerState::Running(by) = self.state(front)? {
            return Err(AppError::Refused { what: format!("{} already", by.says()), hint: None });
        }
        let method = if let Some(start) = self.process_command(Act::Start, front)? {
            StartMethod::Command(start)
        } else {
            // Says that it runs on another machine, and what can be done.
            self.local()?;
            StartMethod::Trial
        };
        Ok(method.carry_out(self, front))
    }

    /// Makes sure that a change can be made: the server is stopped, or is going to be.
    fn pause(&self, front: &dyn Front) -> Result<Pause, AppError> {
        let state = self.state(front)?;
        let restarts = self.options.while_running == WhileRunning::Restart;
        let ServerState::Running(by) = state else {
            let awaited = running::awaited_start(&*self.tree).filter(|_| restarts);
            let start = match awaited {
                Some(AwaitedStart::ByTrial) => Some(StartMethod::Trial),
                Some(AwaitedStart::ByCommand) => {
                    self.process_command(Act::Start, front)?.map(StartMethod::Command)
                }
                None => None,
            };
            return Ok(Pause { state, stop: None, start, players: None });
        };
        if !restarts {
            return Err(AppError::Refused { what: by.says(), hint: Some(how_to_stop(&by)) });
        }
        let (stop, start) = match (&by, self.process_command(Act::Stop, front)?) {
            (RunningBy::Process(running), _) if running.is_noted => {
                (StopMethod::Trial(running.clone()), StartMethod::Trial)
            }
            (_, Some(stop)) => {
                let start = self.process_command(Act::Start, front)?;
                (StopMethod::Command(stop), start.map_or(StartMethod::ByHand, StartMethod::Command))
            }
            (_, None) => (StopMethod::ByHand, StartMethod::ByHand),
        };
        let players = console::players(self);
        Ok(Pause { state: ServerState::Running(by), stop: Some(stop), start: Some(start), players })
    }
}

/// How a server is stopped.
#[derive(Debug)]
enum StopMethod {
    /// A trial has left it running.
    Trial(Running),
    /// By the stop command of `[server.process]`.
    Command(Invocation),
    /// By the person.
    ByHand,
}

/// How a server is started again.
#[derive(Debug)]
enum StartMethod {
    /// By a trial, which leaves it running.
    Trial,
    /// By the start command of `[server.process]`.
    Command(Invocation),
    /// By the person.
    ByHand,
}

/// A server that is stopped, or is going to be stopped, for a change.
#[derive(Debug)]
struct Pause {
    state: ServerState,
    stop: Option<StopMethod>,
    start: Option<StartMethod>,
    /// Who plays, if the console tells.
    players: Option<Vec<String>>,
}

/// By what a server was started again.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum RestartedBy {
    /// A trial, which has left it running.
    Trial,
    /// The start command of `[server.process]`.
    Command,
    /// The person has to do it.
    Hand,
}

/// How a server came up again that was stopped for a change.
#[derive(Debug, Serialize)]
pub struct Restart {
    /// By what.
    pub by: RestartedBy,
    /// Whether it runs and is well; nothing where that cannot be told from here.
    pub is_good: Option<bool>,
    /// How the start went, where its log was read.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trial: Option<Box<TrialReport>>,
    /// Why it could not be started.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
}

impl Pause {
    /// Returns the question whether a change may be made: the usual one, and what comes with it.
    fn question(&self, usual: &str) -> String {
        match (&self.stop, &self.start) {
            (Some(_), _) => format!(
                "The server runs{}. Stop it, and start it again afterwards? {usual}",
                self.who_plays()
            ),
            (None, Some(_)) => {
                format!(
                    "The server was stopped for an earlier change and did not start again. Start it afterwards? {usual}"
                )
            }
            (None, None) => usual.to_owned(),
        }
    }

    fn who_plays(&self) -> String {
        const MOST: usize = 8;
        match self.players.as_deref() {
            None => String::new(),
            Some([]) => ", and no players are on it".into(),
            Some(names) => {
                let more = names.len().saturating_sub(MOST);
                let more = if more > 0 { format!(" and {more} more") } else { String::new() };
                let first = names.iter().take(MOST).cloned().collect::<Vec<_>>().join(", ");
                format!(
                    ", and {} on it: {first}{more}",
                    if names.len() == 1 { "one player is" } else { "players are" }
                )
            }
        }
    }

    /// Returns what is to be known before the change, if nothing can tell whether the server runs.
    fn doubt(&self) -> Option<String> {
        match self.state {
            ServerState::Unknown { log: Some(age) } => Some(format!(
                "The server may be running: its log was written to {} s ago. If it runs, stop it first.",
                age.as_secs()
            )),
            ServerState::Unknown { log: None } => {
                Some("Nothing here can tell whether the server runs. If it does, stop it first.".into())
            }
            ServerState::Stopped | ServerState::Running(_) => None,
        }
    }

    /// Stops the server, if it runs; returns how it is started again.
    fn stop(self, server: &Server, front: &dyn Front) -> Result<Option<StartMethod>, AppError> {
        let Self { stop, start, .. } = self;
        let Some(stop) = stop else { return Ok(start) };
        if let Some((text, before)) = &server.options.announcement {
            console::announce(server, text)?;
            front.event(Event::Announced { text, before: *before });
            thread::sleep(*before);
        }
        // Whatever becomes of this program: somebody has to start it again.
        let awaited = match &start {
            Some(StartMethod::Trial) => Some(AwaitedStart::ByTrial),
            Some(StartMethod::Command(_)) => Some(AwaitedStart::ByCommand),
            Some(StartMethod::ByHand) | None => None,
        };
        if let Some(awaited) = awaited {
            running::await_start(&*server.tree, awaited)?;
        }
        match &stop {
            StopMethod::Trial(process) => {
                if !server.stop_process(process, PATIENCE)? {
                    return Err(AppError::Refused {
                        what: format!("process {} does not end", process.pid),
                        hint: Some("nothing was changed; stop it by hand".into()),
                    });
                }
            }
            StopMethod::Command(stop) => run(stop)?,
            StopMethod::ByHand => {
                let asked = front.text("Stop the server now, in its panel say; then press Enter.");
                if asked == Answer::Nobody {
                    return Err(AppError::Refused {
                        what: "the server is running, and there is no one here to stop it".into(),
                        hint: Some("say in yalotheca.toml how it is stopped: [server.process] stop = [\"program\", \"argument\"]".into()),
                    });
                }
            }
        }
        wait(ENDING, || !matches!(server.state(front), Ok(ServerState::Running(_))));
        if let ServerState::Running(by) = server.state(front)? {
            return Err(AppError::Refused {
                what: format!("{} still", by.says()),
                hint: Some("nothing was changed; stop it, then try again".into()),
            });
        }
        Ok(start)
    }
}

impl StartMethod {
    /// Starts the server again and watches it.
    fn carry_out(self, server: &Server, front: &dyn Front) -> Restart {
        let by = match &self {
            Self::Trial => RestartedBy::Trial,
            Self::Command(_) => RestartedBy::Command,
            Self::ByHand => {
                return Restart { by: RestartedBy::Hand, is_good: None, trial: None, error: None };
            }
        };
        front.event(Event::Starting(&server.shown()));
        let restart = self.start(server, front, by);
        let restart = restart.unwrap_or_else(|error| Restart {
            by,
            is_good: Some(false),
            trial: None,
            error: Some(error.to_string()),
        });
        let runs = restart.is_good != Some(false)
            || restart.trial.as_ref().is_some_and(|trial| trial.left_running.is_some());
        if runs {
            running::forget_awaited_start(&*server.tree);
        }
        restart
    }

    fn start(self, server: &Server, front: &dyn Front, by: RestartedBy) -> Result<Restart, AppError> {
        if let Self::Command(start) = &self
            && !is_started_elsewhere(server, None)
        {
            run(start)?;
            let is_good = if let Some(answers) = server.wait_until_it_answers() {
                Some(answers)
            } else {
                // A status command may know; a server that ends at once has to be given the time for that.
                thread::sleep(SETTLING);
                match server.state(front)? {
                    ServerState::Running(_) => Some(true),
                    ServerState::Stopped => Some(false),
                    ServerState::Unknown { .. } => None,
                }
            };
            return Ok(Restart { by, is_good, trial: None, error: None });
        }
        let request = TrialRequest { keep: true, ..TrialRequest::default() };
        let trial = try_start(&server.options, front, &request, &|_| {})?;
        Ok(Restart { by, is_good: Some(trial.is_good), trial: Some(Box::new(trial)), error: None })
    }
}
