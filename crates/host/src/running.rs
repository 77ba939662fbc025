//! Whether a server runs, as far as this machine can tell: the process that a trial left running, or one whose
//! program is the server's and which works in, or was started with, the server's folder.

use std::{
    fs, io,
    path::{Path, PathBuf},
};

use yalotheca_core::game::{Game, Scope};

use crate::{settle::OWN, survey::find_program};

fn record(folder: &Path) -> PathBuf {
    folder.join(OWN).join("process")
}

/// Notes the process of a server that is left running.
///
/// # Errors
/// Where it cannot be written.
pub fn note(folder: &Path, pid: u32) -> io::Result<()> {
    fs::write(record(folder), format!("{pid} {}\n", started(pid).unwrap_or_default()))
}

/// When a process was started, in the kernel's ticks: a number may be given to another process later.
fn started(pid: u32) -> Option<String> {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    let (_, rest) = stat.rsplit_once(')')?;
    let mut fields = rest.split_whitespace();
    let state = fields.next()?;
    (state != "Z").then(|| fields.nth(18).map(str::to_owned)).flatten()
}

fn noted(folder: &Path) -> Option<Running> {
    let text = fs::read_to_string(record(folder)).ok()?;
    let (pid, ticks) = text.trim().split_once(' ')?;
    let pid = pid.parse().ok()?;
    (started(pid).as_deref() == Some(ticks)).then_some(Running { pid })
}

/// A running server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Running {
    /// Its process id.
    pub pid: u32,
}

/// Returns the process of the server, if there is one.
pub fn find(folder: &Path, game: &Game, scope: &Scope) -> Option<Running> {
    if let Some(running) = noted(folder) {
        return Some(running);
    }
    let program = game.run.command.first()?.render(scope).ok()?;
    let name = find_program(&program).file_name()?.to_string_lossy().into_owned();
    let folder = folder.canonicalize().ok()?;
    let own = std::process::id();
    let processes = fs::read_dir("/proc").ok()?.flatten();
    let mut pids: Vec<u32> = processes.filter_map(|entry| entry.file_name().to_str()?.parse().ok()).collect();
    pids.sort_unstable();
    pids.into_iter()
        .filter(|pid| *pid != own)
        .find(|pid| is_server(*pid, &name, &folder))
        .map(|pid| Running { pid })
}

fn is_server(pid: u32, name: &str, folder: &Path) -> bool {
    let Ok(line) = fs::read(format!("/proc/{pid}/cmdline")) else { return false };
    let words: Vec<String> =
        line.split(|byte| *byte == 0).map(|word| String::from_utf8_lossy(word).into_owned()).collect();
    // A script is run by its interpreter, so the name may be the second word.
    let is_program =
        words.iter().take(2).any(|word| Path::new(word).file_name().is_some_and(|file| file == name));
    let named = || words.iter().skip(1).any(|word| PathBuf::from(word).starts_with(folder));
    let works_there = || fs::read_link(format!("/proc/{pid}/cwd")).is_ok_and(|cwd| cwd == folder);
    is_program && (works_there() || named()) && started(pid).is_some()
}
