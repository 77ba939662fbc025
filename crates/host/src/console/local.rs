//! Consoles of this machine: a kept server's standard input, a named pipe, and a command for each line.

use std::{
    fs::{File, OpenOptions},
    io::{self, Seek, SeekFrom, Write},
    os::unix::fs::{FileTypeExt, OpenOptionsExt},
    path::{Path, PathBuf},
    thread,
    time::{Duration, Instant},
};

use rustix::fs::{CWD, FileType, Mode, OFlags, mknodat};

use super::{Channel, ConsoleError, input_path, shown};
use crate::{
    log_lines::follow,
    running,
    tree::{LocalTree, Tree},
    trust::{Invocation, LINE},
};

/// A command for one line may take so long.
const PATIENCE: Duration = Duration::from_secs(30);
/// How long a log is left alone between two looks.
const PAUSE: Duration = Duration::from_millis(20);

/// Makes the pipe that becomes a server's standard input, and opens it so that it never ends.
pub(crate) fn open_input(tree: &LocalTree) -> io::Result<File> {
    let path = path_of(tree);
    tree.create_folder(&input_path().parent().unwrap_or_else(yalotheca_core::id::TreePath::root))
        .map_err(|error| error.source)?;
    match std::fs::remove_file(&path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    mknodat(CWD, &path, FileType::Fifo, Mode::RUSR | Mode::WUSR, 0)?;
    OpenOptions::new().read(true).write(true).open(&path)
}

fn path_of(tree: &LocalTree) -> PathBuf {
    tree.root().join(input_path().as_str())
}

/// Opens a pipe for writing; fails at once if no process reads from it.
fn open_for_writing(path: &Path) -> io::Result<File> {
    let flags = OFlags::NONBLOCK | OFlags::NOFOLLOW;
    let flags = i32::try_from(flags.bits()).unwrap_or_default();
    let file = OpenOptions::new().write(true).custom_flags(flags).open(path)?;
    if file.metadata()?.file_type().is_fifo() { Ok(file) } else { Err(io::Error::other("it is not a pipe")) }
}

/// A server that reads from a pipe, and what it writes to its log.
pub(super) struct PipeChannel {
    pipe: File,
    log: Option<(LocalTree, u64)>,
}

/// Opens the standard input of a server that a trial has left running.
pub(super) fn open_kept(tree: &LocalTree) -> Result<PipeChannel, ConsoleError> {
    let pipe = open_for_writing(&path_of(tree)).map_err(|_| ConsoleError::NotKept)?;
    let end = tree.open_file(&running::log_path()).ok().flatten();
    let end = end.and_then(|mut file| file.seek(SeekFrom::End(0)).ok()).unwrap_or(0);
    Ok(PipeChannel { pipe, log: Some((tree.clone(), end)) })
}

pub(super) fn open_pipe(path: &Path) -> Result<PipeChannel, ConsoleError> {
    let pipe = open_for_writing(path)
        .map_err(|source| ConsoleError::Connect { address: path.display().to_string(), source })?;
    Ok(PipeChannel { pipe, log: None })
}

impl Channel for PipeChannel {
    fn send(&mut self, line: &str) -> Result<(), ConsoleError> {
        self.pipe.write_all(format!("{line}\n").as_bytes()).map_err(|_| ConsoleError::Closed)
    }

    fn heard(&mut self, wait: Duration) -> Result<Vec<String>, ConsoleError> {
        // What is read from elsewhere cannot be heard here.
        let Some((tree, read)) = &mut self.log else { return Ok(Vec::new()) };
        let until = Instant::now() + wait;
        loop {
            let lines = follow(tree, &running::log_path(), read, false);
            if !lines.is_empty() || Instant::now() >= until {
                return Ok(lines.iter().map(|line| shown(line)).collect());
            }
            thread::sleep(PAUSE.min(until.saturating_duration_since(Instant::now())));
        }
    }
}

/// A command that is run for each line.
pub(super) struct RunEach {
    command: Invocation,
    heard: Vec<String>,
}

impl RunEach {
    pub(super) fn new(command: Invocation) -> Self {
        Self { command, heard: Vec::new() }
    }
}

impl Channel for RunEach {
    fn send(&mut self, line: &str) -> Result<(), ConsoleError> {
        let mut command = self.command.clone();
        for argument in &mut command.arguments {
            *argument = argument.replace(LINE, line);
        }
        let failed = |source| ConsoleError::Local { what: command.program.display().to_string(), source };
        let (code, printed) = command.run(PATIENCE).map_err(failed)?;
        self.heard = printed.lines().map(shown).collect();
        if code != 0 {
            let last = self.heard.iter().rev().find(|line| !line.is_empty()).cloned().unwrap_or_default();
            return Err(failed(io::Error::other(format!("it ended with exit code {code}: {last}"))));
        }
        Ok(())
    }

    fn heard(&mut self, _: Duration) -> Result<Vec<String>, ConsoleError> {
        Ok(std::mem::take(&mut self.heard))
    }
}
