//! Whether a server runs, as far as this machine can tell: the process that a trial left running, or one whose
//! program is the server's and which works in, or was started with, the server's folder.

use std::{
    collections::BTreeMap,
    fs::{self, File},
    io,
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
    thread,
    time::{Duration, Instant},
};

use rustix::process::{Pid, Signal};
use yalotheca_core::{
    game::{Game, Scope, StopSignal},
    id::TreePath,
};

use crate::{
    process::{Process, processes, started},
    settle::OWN,
    tree::{EntryKind, LocalTree, Tree, TreeError},
    trust::find_program,
};

/// A log of a server that was left running is emptied when it is larger than this.
const LARGEST_LOG: u64 = 64 << 20;

fn own(name: &str) -> TreePath {
    TreePath::new(&format!("{OWN}/{name}")).unwrap_or_else(|_| TreePath::root())
}

/// Returns where the output of a server that is left running goes.
pub fn log_path() -> TreePath {
    own("server.log")
}

/// Opens a new log for a server that is left running.
pub(crate) fn open_log(tree: &LocalTree) -> io::Result<File> {
    tree.create_folder(&own("")).map_err(|error| error.source)?;
    tree.remove_files(&[log_path()]).map_err(|error| error.source)?;
    // Each writes behind the last byte, so that the log can be emptied meanwhile.
    tree.open_own(&log_path()).map_err(|error| error.source)
}

/// Empties the log of a server that was left running where it has grown too large; returns whether it has.
pub fn bound_log(tree: &LocalTree) -> bool {
    let is_large = matches!(tree.kind_of(&log_path()), Ok(Some(EntryKind::File(size))) if size > LARGEST_LOG);
    is_large && tree.open_own(&log_path()).is_ok_and(|file| file.set_len(0).is_ok())
}

/// Returns the number of the user whose server root would start: what the server writes would belong to root from then on.
pub fn other_owner(tree: &LocalTree) -> Option<u32> {
    let owner = fs::metadata(tree.root()).ok()?.uid();
    (rustix::process::geteuid().is_root() && owner != 0).then_some(owner)
}

/// Notes the process of a server that was started.
///
/// # Errors
/// Where it cannot be written.
pub fn note(tree: &LocalTree, pid: u32) -> io::Result<()> {
    let text = format!("{pid} {}\n", started(pid).unwrap_or_default());
    let noted = tree.create_folder(&own("")).and_then(|()| tree.replace(&own("process"), text.as_bytes()));
    noted.map_err(|error| error.source)
}

/// Forgets the process of a server that has ended.
pub fn forget(tree: &LocalTree) {
    tree.remove_files(&[own("process")]).ok();
}

/// How a server is to be started again that was stopped for a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AwaitedStart {
    /// A trial had left it running.
    ByTrial,
    /// By the start command of `[server.process]`.
    ByCommand,
}

/// Notes that a server is stopped for a change and has to be started again.
///
/// # Errors
/// Where it cannot be written.
pub fn await_start(tree: &dyn Tree, how: AwaitedStart) -> Result<(), TreeError> {
    let text = match how {
        AwaitedStart::ByTrial => "trial\n",
        AwaitedStart::ByCommand => "command\n",
    };
    tree.create_folder(&own(""))?;
    tree.replace(&own("awaits-start"), text.as_bytes())
}

/// Returns how a server is to be started again that a change has stopped and that has not run since.
pub fn awaited_start(tree: &dyn Tree) -> Option<AwaitedStart> {
    match tree.read_file(&own("awaits-start")).ok()??.as_slice() {
        b"trial\n" => Some(AwaitedStart::ByTrial),
        b"command\n" => Some(AwaitedStart::ByCommand),
        _ => None,
    }
}

/// Forgets that a server has to be started again: it runs, or somebody wants it stopped.
pub fn forget_awaited_start(tree: &dyn Tree) {
    tree.remove_files(&[own("awaits-start")]).ok();
}

fn noted(tree: &LocalTree) -> Option<Running> {
    let text = String::from_utf8(tree.read_file(&own("process")).ok()??).ok()?;
    let (pid, since) = text.trim().split_once(' ')?;
    let (pid, since): (u32, u64) = (pid.parse().ok()?, since.parse().ok()?);
    if started(pid) == Some(since) {
        return Some(Running { pid, is_noted: true });
    }
    // A start script may have ended, and what it started may still be there: in its group, and not older.
    let known = processes();
    let is_of_group =
        |process: &Process| process.group == pid && process.started >= since && !process.is_dead;
    let first = known.iter().find(|(_, process)| is_of_group(process));
    first.map(|(pid, _)| Running { pid: *pid, is_noted: true })
}

/// Returns a process with all that it started, and the rest of its group where that is the server's own.
fn with_descendants(running: &Running) -> BTreeMap<u32, u64> {
    let known = processes();
    let Some(main) = known.get(&running.pid) else { return BTreeMap::new() };
    let descends = |mut id: u32| {
        (0..known.len()).any(|_| match known.get(&id) {
            Some(process) => {
                id = process.parent;
                id == running.pid
            }
            None => false,
        })
    };
    let is_its = |id: u32, process: &Process| {
        id == running.pid || running.is_noted && process.group == main.group || descends(id)
    };
    let living = known.iter().filter(|(id, process)| !process.is_dead && is_its(**id, process));
    living.map(|(id, process)| (*id, process.started)).collect()
}

/// Stops a server that a trial has left running, with all that it started: asks it to, and kills what is left. Returns whether all of
/// it is gone.
pub fn stop(tree: &LocalTree, running: &Running, signal: StopSignal, patience: Duration) -> bool {
    let signal = match signal {
        StopSignal::Term => Signal::TERM,
        StopSignal::Int => Signal::INT,
    };
    let mut of_server = with_descendants(running);
    for signal in [signal, Signal::KILL] {
        for pid in of_server.keys().filter_map(|pid| Pid::from_raw(i32::try_from(*pid).ok()?)) {
            rustix::process::kill_process(pid, signal).ok();
        }
        let until = Instant::now() + patience;
        while Instant::now() < until {
            // What it starts while it ends belongs to it as well.
            of_server.extend(with_descendants(running));
            of_server.retain(|pid, since| started(*pid) == Some(*since));
            if of_server.is_empty() {
                forget(tree);
                return true;
            }
            thread::sleep(Duration::from_millis(20));
        }
    }
    false
}

/// A running server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Running {
    /// Its process id.
    pub pid: u32,
    /// Whether a trial has left it running.
    pub is_noted: bool,
}

/// Returns how long a process has been running; nothing if it is gone.
pub fn age(running: &Running) -> Option<Duration> {
    let since = started(running.pid)?;
    let uptime = fs::read_to_string("/proc/uptime").ok()?;
    let uptime: f64 = uptime.split_whitespace().next()?.parse().ok()?;
    let ticks = rustix::param::clock_ticks_per_second();
    let now = Duration::try_from_secs_f64(uptime).ok()?;
    Some(now.saturating_sub(Duration::from_millis(since.saturating_mul(1_000) / ticks.max(1))))
}

/// Returns the process of the server, if there is one.
pub fn find(tree: &LocalTree, game: &Game, scope: &Scope) -> Option<Running> {
    if let Some(running) = noted(tree) {
        return Some(running);
    }
    let folder = tree.root();
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
        .map(|pid| Running { pid, is_noted: false })
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
