//! The server's process and everything that it starts. It is ended by process id and never by name.

use std::{
    collections::BTreeSet,
    io::Read,
    os::unix::process::CommandExt,
    process::{Child, Stdio},
    thread,
    time::{Duration, Instant},
};

use rustix::process::{
    Pid, Signal, WaitOptions, getpid, kill_process, kill_process_group, set_child_subreaper,
};
use yalotheca_core::{game::StopSignal, id::TreePath};

use super::{TrialError, ending::Ended};
use crate::{
    console::{self, ConsoleAddress, ConsoleSession},
    log_lines::{Lines, follow},
    process::{Process, processes},
    running,
    tree::LocalTree,
    trust::Invocation,
};

/// How long a server may take to do what its console was told.
const CONSOLE_PATIENCE: Duration = Duration::from_secs(5);

/// How long the output of a server that has ended may take to be closed.
const LAST_PATIENCE: Duration = Duration::from_secs(3);

/// So many last lines are taken of a server that has ended.
const LAST_LINES: usize = 10_000;

pub(super) struct Server {
    child: Child,
    /// When it was started, in the kernel's ticks.
    since: u64,
    ending: Option<Ended>,
    tree: LocalTree,
    lines: Lines,
    /// Where a server that is left running writes its output, and how much of it was read.
    output: Option<(TreePath, u64)>,
    left: bool,
}

impl Server {
    /// Starts a server, in a group of processes of its own.
    pub(super) fn start(
        tree: &LocalTree,
        invocation: &Invocation,
        keep: bool,
        hears_input: bool,
    ) -> Result<Self, TrialError> {
        let failed = |source| TrialError::Start { program: invocation.program.display().to_string(), source };
        let mut command = invocation.command();
        command.process_group(0);
        if hears_input {
            command.stdin(console::open_input(tree).map_err(failed)?);
        }
        let mut output = None;
        if keep {
            // A pipe would break when we leave.
            let path = running::log_path();
            let file = running::open_log(tree).map_err(failed)?;
            command.stdout(file.try_clone().map_err(failed)?).stderr(file);
            output = Some((path, 0));
        } else {
            command.stdout(Stdio::piped()).stderr(Stdio::piped());
        }
        // What it starts and leaves behind becomes ours, so that it can be ended with it.
        set_child_subreaper(Some(getpid())).ok();
        let mut child = command.spawn().map_err(failed)?;
        let mut pipes: Vec<Box<dyn Read + Send>> = Vec::new();
        pipes.extend(child.stdout.take().map(|pipe| Box::new(pipe) as Box<dyn Read + Send>));
        pipes.extend(child.stderr.take().map(|pipe| Box::new(pipe) as Box<dyn Read + Send>));
        let since = processes().get(&child.id()).map_or(0, |process| process.started);
        let server = Self {
            child,
            since,
            ending: None,
            tree: tree.clone(),
            lines: Lines::of(pipes),
            output,
            left: false,
        };
        // Should this program be killed, the next command knows of the server.
        running::note(tree, server.child.id()).map_err(failed)?;
        Ok(server)
    }

    /// Returns the lines that came, after waiting for the first one so long.
    pub(super) fn lines(&mut self, wait: Duration) -> Vec<String> {
        let Some((path, read)) = &mut self.output else { return self.lines.next(wait) };
        thread::sleep(wait);
        let lines = follow(&self.tree, path, read, false);
        if running::bound_log(&self.tree) {
            *read = 0;
        }
        lines
    }

    /// Returns the lines that are still to come from a server that has ended: what it said last is why. Waits until its
    /// output is closed, or a while where something that it started holds that open.
    pub(super) fn last_lines(&mut self) -> Vec<String> {
        match &mut self.output {
            Some((path, read)) => follow(&self.tree, path, read, true),
            None => self.lines.rest(Instant::now() + LAST_PATIENCE, LAST_LINES),
        }
    }

    /// Returns how the server ended, if it has ended with all that it started.
    pub(super) fn ended(&mut self) -> Option<Ended> {
        if self.ending.is_none() {
            self.ending = self.child.try_wait().ok().flatten().map(Ended::of);
        }
        self.ending.filter(|_| self.all().is_empty())
    }

    /// Leaves the server running and returns its process id.
    pub(super) fn leave(&mut self) -> u32 {
        self.left = true;
        set_child_subreaper(None).ok();
        let main = self.child.id();
        if self.ending.is_none() { main } else { self.all().into_iter().next().unwrap_or(main) }
    }

    /// Asks the server to stop, by its console where it has one, and kills it where it does not within the grace. Returns whether it
    /// stopped by itself.
    pub(super) fn stop(
        &mut self,
        signal: StopSignal,
        telling: Option<&(ConsoleAddress, String)>,
        grace: Duration,
    ) -> bool {
        let tell = |(address, line): &(ConsoleAddress, String)| {
            ConsoleSession::open(address).and_then(|session| session.send_last(line))
        };
        if telling.is_some_and(|telling| tell(telling).is_ok()) && self.ends_within(CONSOLE_PATIENCE) {
            return true;
        }
        let signal = match signal {
            StopSignal::Term => Signal::TERM,
            StopSignal::Int => Signal::INT,
        };
        self.signal(signal);
        let has_stopped = self.ends_while_writing(grace);
        if !has_stopped {
            self.kill();
        }
        has_stopped
    }

    /// Sends a signal to the server and to what it started.
    fn signal(&self, signal: Signal) {
        if let Some(group) = pid(self.child.id()) {
            kill_process_group(group, signal).ok();
        }
        let group = self.child.id();
        for (other, process) in processes().into_iter().filter(|(_, process)| process.group != group) {
            if self.all().contains(&other) && process.group != group {
                pid(other).map(|other| kill_process(other, signal));
            }
        }
    }

    fn kill(&mut self) {
        const TRIES: usize = 50;
        for _ in 0..TRIES {
            self.signal(Signal::KILL);
            if self.ended().is_some() {
                return;
            }
            thread::sleep(Duration::from_millis(10));
        }
    }

    /// Returns the processes of the server that are there: its group, and what has become ours or descends from that.
    fn all(&self) -> BTreeSet<u32> {
        let known = processes();
        let (own, main) = (std::process::id(), self.child.id());
        let is_ours = |mut id: u32| {
            for _ in 0..known.len() {
                match known.get(&id) {
                    Some(process) if process.parent == own => return true,
                    Some(process) => id = process.parent,
                    None => return false,
                }
            }
            false
        };
        // Only what was started since: another part of this program may have children as well.
        let descends = |id: u32, process: &Process| process.started >= self.since && is_ours(id);
        known
            .iter()
            .filter(|(id, process)| {
                process.group == main || **id == main || self.is_alone() && descends(**id, process)
            })
            .filter(|(_, process)| !process.is_dead)
            .map(|(id, _)| *id)
            .collect()
    }

    /// Whether all children of this program are the server's. Tests of this crate run several at once in one program.
    #[expect(clippy::unused_self, reason = "it is asked of a server")]
    fn is_alone(&self) -> bool {
        !cfg!(test)
    }

    /// Waits until the server has ended; longer than the grace, ten times at most, as long as it goes on writing to its log.
    fn ends_while_writing(&mut self, grace: Duration) -> bool {
        const MOST_TIMES: u32 = 10;
        let (began, mut last_line) = (Instant::now(), Instant::now());
        while began.elapsed() < grace
            || last_line.elapsed() < grace / 3 && began.elapsed() < grace.saturating_mul(MOST_TIMES)
        {
            if self.ended().is_some() {
                return true;
            }
            if !self.lines(Duration::from_millis(20)).is_empty() {
                last_line = Instant::now();
            }
        }
        false
    }

    fn ends_within(&mut self, patience: Duration) -> bool {
        let until = Instant::now() + patience;
        while Instant::now() < until {
            if self.ended().is_some() {
                return true;
            }
            thread::sleep(Duration::from_millis(10));
        }
        false
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        if self.left {
            return;
        }
        if self.ended().is_none() {
            self.kill();
        }
        self.child.try_wait().ok();
        // What has become ours is seen off.
        while self.is_alone() && matches!(rustix::process::wait(WaitOptions::NOHANG), Ok(Some(_))) {}
        set_child_subreaper(None).ok();
        running::forget(&self.tree);
    }
}

fn pid(id: u32) -> Option<Pid> {
    i32::try_from(id).ok().and_then(Pid::from_raw)
}
