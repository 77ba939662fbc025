//! Whether a server runs, as far as this machine can tell: a process whose program is the server's and which works in,
//! or was started with, the server's folder.

use std::{
    fs,
    path::{Path, PathBuf},
};

use yalotheca_core::game::{Game, Scope};

use crate::survey::find_program;

/// A running server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Running {
    /// Its process id.
    pub pid: u32,
}

/// Returns the process of the server, if there is one.
pub fn find(folder: &Path, game: &Game, scope: &Scope) -> Option<Running> {
    let program = game.run.command.first()?.render(scope).ok()?;
    let name = find_program(&program).file_name()?.to_string_lossy().into_owned();
    let folder = folder.canonicalize().ok()?;
    let own = std::process::id();
    let processes = fs::read_dir("/proc").ok()?.flatten();
    let mut pids: Vec<u32> = processes.filter_map(|entry| entry.file_name().to_str()?.parse().ok()).collect();
    pids.sort_unstable();
    pids.into_iter().filter(|pid| *pid != own).find(|pid| is_server(*pid, &name, &folder)).map(|pid| Running { pid })
}

fn is_server(pid: u32, name: &str, folder: &Path) -> bool {
    let Ok(line) = fs::read(format!("/proc/{pid}/cmdline")) else { return false };
    let words: Vec<String> =
        line.split(|byte| *byte == 0).map(|word| String::from_utf8_lossy(word).into_owned()).collect();
    // A script is run by its interpreter, so the name may be the second word.
    let is_program = words.iter().take(2).any(|word| Path::new(word).file_name().is_some_and(|file| file == name));
    let named = || words.iter().skip(1).any(|word| PathBuf::from(word).starts_with(folder));
    let works_there = || fs::read_link(format!("/proc/{pid}/cwd")).is_ok_and(|cwd| cwd == folder);
    let is_zombie = || fs::read_to_string(format!("/proc/{pid}/stat")).is_ok_and(|stat| stat.contains(") Z "));
    is_program && (works_there() || named()) && !is_zombie()
}
