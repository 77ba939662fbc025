//! The server's process. It is ended by its process id and never by name.

use std::{
    fs::File,
    io::{BufRead, BufReader, Read, Seek, SeekFrom},
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel},
    thread,
    time::{Duration, Instant},
};

use yalotheca_core::game::{Game, Scope, StopSignal};

use super::{
    TrialError,
    console::{self, Telling},
};
use crate::survey::find_program;

/// How long a server may take to stop before it is killed.
const STOP_PATIENCE: Duration = Duration::from_secs(15);

/// How long a server may take to do what its console was told.
const CONSOLE_PATIENCE: Duration = Duration::from_secs(5);

/// How long the output of a server that has ended may take to be closed.
const LAST_PATIENCE: Duration = Duration::from_secs(3);

pub(super) struct Server {
    child: Child,
    lines: Receiver<String>,
    /// Where a server that is left running writes its output, and how much of it was read.
    output: Option<(PathBuf, u64)>,
    left: bool,
}

impl Server {
    pub(super) fn start(folder: &Path, game: &Game, scope: &Scope, keep: bool) -> Result<Self, TrialError> {
        let words = game.run.command.iter().map(|word| word.render(scope)).collect::<Result<Vec<_>, _>>()?;
        let program = words.first().cloned().unwrap_or_default();
        let failed = |source| TrialError::Start { program: program.clone(), source };
        let mut command = Command::new(find_program(&program));
        command.args(words.iter().skip(1)).current_dir(folder).stdin(Stdio::null());
        for (name, template) in &game.run.env {
            command.env(name, template.render(scope)?);
        }
        let mut output = None;
        if keep {
            // A pipe would break when we leave.
            let path = folder.join(super::super::settle::OWN).join("server.log");
            path.parent().map_or(Ok(()), std::fs::create_dir_all).map_err(failed)?;
            let file = File::create(&path).map_err(failed)?;
            command.stdout(file.try_clone().map_err(failed)?).stderr(file);
            std::os::unix::process::CommandExt::process_group(&mut command, 0);
            output = Some((path, 0));
        } else {
            command.stdout(Stdio::piped()).stderr(Stdio::piped());
        }
        let mut child = command.spawn().map_err(failed)?;
        let (send, lines) = channel();
        if let Some(stdout) = child.stdout.take() {
            read_lines(stdout, send.clone());
        }
        if let Some(stderr) = child.stderr.take() {
            read_lines(stderr, send);
        }
        Ok(Self { child, lines, output, left: false })
    }

    /// Returns the lines that came, after waiting for the first one so long.
    pub(super) fn lines(&mut self, wait: Duration) -> Vec<String> {
        if let Some((path, read)) = &mut self.output {
            thread::sleep(wait);
            return follow(path, read);
        }
        let mut found = Vec::new();
        match self.lines.recv_timeout(wait) {
            Ok(line) => found.push(line),
            Err(RecvTimeoutError::Disconnected) => thread::sleep(wait),
            Err(RecvTimeoutError::Timeout) => {}
        }
        found.extend(self.lines.try_iter());
        found
    }

    /// Returns the lines that are still to come from a server that has ended: what it said last is why. Waits until its
    /// output is closed, or a while where something that it started holds that open.
    pub(super) fn last_lines(&mut self) -> Vec<String> {
        if let Some((path, read)) = &mut self.output {
            let mut lines = follow(path, read);
            let bytes = std::fs::read(path).unwrap_or_default();
            let rest = usize::try_from(*read).ok().and_then(|read| bytes.get(read..)).unwrap_or_default();
            lines.extend(String::from_utf8_lossy(rest).lines().map(str::to_owned));
            return lines;
        }
        let until = Instant::now() + LAST_PATIENCE;
        let next = || self.lines.recv_timeout(until.saturating_duration_since(Instant::now())).ok();
        std::iter::from_fn(next).collect()
    }

    /// Returns the exit code where the server has ended; -1 where a signal ended it.
    pub(super) fn ended(&mut self) -> Option<i32> {
        self.child.try_wait().ok().flatten().map(|status| status.code().unwrap_or(-1))
    }

    /// Leaves the server running and returns its process id.
    pub(super) fn leave(&mut self) -> u32 {
        self.left = true;
        self.child.id()
    }

    /// Asks the server to stop, by its console where it has one, and kills it where it does not.
    pub(super) fn stop(&mut self, signal: StopSignal, telling: Option<&Telling>) {
        if telling.is_some_and(|telling| console::tell(telling).is_ok()) && self.ends_within(CONSOLE_PATIENCE)
        {
            return;
        }
        let signal = match signal {
            StopSignal::Term => rustix::process::Signal::TERM,
            StopSignal::Int => rustix::process::Signal::INT,
        };
        if let Some(pid) = i32::try_from(self.child.id()).ok().and_then(rustix::process::Pid::from_raw) {
            rustix::process::kill_process(pid, signal).ok();
        }
        if !self.ends_within(STOP_PATIENCE) {
            self.child.kill().ok();
            self.child.wait().ok();
        }
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
        if !self.left && self.ended().is_none() {
            self.child.kill().ok();
            self.child.wait().ok();
        }
    }
}

fn read_lines(from: impl Read + Send + 'static, send: Sender<String>) {
    thread::spawn(move || {
        let mut reader = BufReader::new(from);
        let mut bytes = Vec::new();
        while reader.read_until(b'\n', &mut bytes).is_ok_and(|read| read > 0) {
            let line = String::from_utf8_lossy(&bytes).trim_end().to_owned();
            bytes.clear();
            if send.send(line).is_err() {
                return;
            }
        }
    });
}

/// Returns the whole lines that were added to a file.
fn follow(path: &Path, read: &mut u64) -> Vec<String> {
    let mut bytes = Vec::new();
    let got = File::open(path)
        .and_then(|mut file| file.seek(SeekFrom::Start(*read)).map(|_| file))
        .and_then(|mut file| file.read_to_end(&mut bytes));
    let Some(end) = got.ok().and_then(|_| bytes.iter().rposition(|byte| *byte == b'\n')) else {
        return Vec::new();
    };
    *read += end as u64 + 1;
    String::from_utf8_lossy(&bytes[..end]).lines().map(|line| line.trim_end().to_owned()).collect()
}
