//! Stopping a server for a change and starting it again: by the commands of `[server.process]`, by what a trial left running, or by
//! the person.

use std::{thread, time::Duration};

use yalotheca_host::{running::Running, trust::Invocation};

use crate::{
    Answer, AppError, Event, Front, Server, WhileRunning,
    ops::console,
    ops::trial::{TrialReport, TrialRequest, trial as try_start},
    process::{Act, PATIENCE, RunningBy, STARTING, ServerState, how_to_stop, run, wait},
};

/// A server that was stopped by hand may take so long to end.
const ENDING: Duration = Duration::from_secs(20);

impl Server {
    /// Makes a change once somebody has agreed to it. A server that runs is stopped for it, if that was asked for, and started again
    /// whatever becomes of the change. Returns nothing where the answer was no.
    ///
    /// # Errors
    /// Where the server runs and may not or cannot be stopped, or the change cannot be made.
    pub fn while_stopped<T>(
        &self,
        question: &str,
        front: &dyn Front,
        change: impl FnOnce() -> Result<T, AppError>,
    ) -> Result<Option<(T, Resumed)>, AppError> {
        let pause = self.pause(front)?;
        if let Some(doubt) = pause.doubt() {
            front.event(Event::MayBeRunning(&doubt));
        }
        if !front.confirm(&pause.question(question))? {
            return Ok(None);
        }
        let paused = pause.stop(self, front)?;
        let changed = change();
        let resumed = paused.resume(self, front).unwrap_or_else(|error| Resumed::Failed(Box::new(error)));
        Ok(Some((changed?, resumed)))
    }

    /// Makes sure that a change can be made: the server is stopped, or is going to be.
    fn pause(&self, front: &dyn Front) -> Result<Pause, AppError> {
        let state = self.state(front)?;
        let ServerState::Running(by) = state else {
            return Ok(Pause { state, method: None, players: None });
        };
        if self.options.while_running != WhileRunning::Restart {
            return Err(AppError::Refused { what: by.says(), hint: Some(how_to_stop(&by)) });
        }
        let method = match (&by, self.process_command(Act::Stop, front)?) {
            (RunningBy::Process(running), _) if running.is_noted => StopMethod::Trial(running.clone()),
            (_, Some(stop)) => StopMethod::Command { stop, start: self.process_command(Act::Start, front)? },
            (_, None) => StopMethod::ByHand,
        };
        let players = console::players(self);
        Ok(Pause { state: ServerState::Running(by), method: Some(method), players })
    }
}

/// How a server is stopped and started again.
#[derive(Debug)]
enum StopMethod {
    /// A trial has left it running.
    Trial(Running),
    /// By commands of `[server.process]`.
    Command { stop: Invocation, start: Option<Invocation> },
    /// By the person.
    ByHand,
}

/// A server that is stopped, or is going to be stopped, for a change.
#[derive(Debug)]
struct Pause {
    state: ServerState,
    method: Option<StopMethod>,
    /// Who plays, if the console tells.
    players: Option<Vec<String>>,
}

/// A server that was stopped for a change.
#[derive(Debug)]
#[must_use = "it is to be started again"]
struct Paused(Option<StopMethod>);

/// How a server was started again.
#[derive(Debug)]
pub enum Resumed {
    /// It did not run before.
    WasStopped,
    /// By its start command.
    Started {
        /// Whether it answers at its port by now; nothing where that cannot be asked.
        answers: Option<bool>,
    },
    /// By a trial, which left it running.
    Tried(Box<TrialReport>),
    /// The person has to do it.
    ByHand,
    /// It could not be started.
    Failed(Box<AppError>),
}

impl Pause {
    /// Returns the question whether a change may be made: the usual one, and what comes with it.
    fn question(&self, usual: &str) -> String {
        match self.method {
            Some(_) => format!(
                "The server runs{}. Stop it, and start it again afterwards? {usual}",
                self.who_plays()
            ),
            None => usual.to_owned(),
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

    /// Stops the server, if it runs.
    fn stop(self, server: &Server, front: &dyn Front) -> Result<Paused, AppError> {
        if let (Some((text, before)), Some(_)) = (&server.options.announcement, &self.method) {
            console::announce(server, text)?;
            front.event(Event::Announced { text, before: *before });
            thread::sleep(*before);
        }
        match &self.method {
            None => {}
            Some(StopMethod::Trial(process)) => {
                let is_gone = server.stop_process(process, PATIENCE)?;
                if !is_gone {
                    return Err(AppError::Refused {
                        what: format!("process {} does not end", process.pid),
                        hint: Some("nothing was changed; stop it by hand".into()),
                    });
                }
            }
            Some(StopMethod::Command { stop, .. }) => run(stop)?,
            Some(StopMethod::ByHand) => {
                let asked = front.text("Stop the server now, in its panel say; then press Enter.");
                if asked == Answer::Nobody {
                    return Err(AppError::Refused {
                        what: "the server is running, and there is no one here to stop it".into(),
                        hint: Some("say in yalotheca.toml how it is stopped: [server.process] stop = [\"program\", \"argument\"]".into()),
                    });
                }
            }
        }
        if self.method.is_some() {
            wait(ENDING, || !matches!(server.state(front), Ok(ServerState::Running(_))));
            if let ServerState::Running(by) = server.state(front)? {
                return Err(AppError::Refused {
                    what: format!("{} still", by.says()),
                    hint: Some("nothing was changed; stop it, then try again".into()),
                });
            }
        }
        Ok(Paused(self.method))
    }
}

impl Paused {
    /// Starts the server again, if it ran before.
    fn resume(self, server: &Server, front: &dyn Front) -> Result<Resumed, AppError> {
        match self.0 {
            None => Ok(Resumed::WasStopped),
            Some(StopMethod::ByHand | StopMethod::Command { start: None, .. }) => Ok(Resumed::ByHand),
            Some(StopMethod::Trial(_)) => {
                let request =
                    TrialRequest { keep: true, patience: STARTING.as_secs(), ..TrialRequest::default() };
                Ok(Resumed::Tried(Box::new(try_start(&server.options, front, &request, &|_| {})?)))
            }
            Some(StopMethod::Command { start: Some(start), .. }) => {
                run(&start)?;
                Ok(Resumed::Started { answers: server.wait_until_it_answers() })
            }
        }
    }
}
