//! What the kernel tells of processes.

use std::{collections::BTreeMap, fs};

/// What the kernel tells of one process.
pub(crate) struct Process {
    pub(crate) parent: u32,
    pub(crate) group: u32,
    /// In the kernel's ticks since the machine was started.
    pub(crate) started: u64,
    /// Ended, and not yet seen off by its parent.
    pub(crate) is_dead: bool,
}

impl Process {
    /// Reads what the kernel tells of a process; nothing if there is none.
    pub(crate) fn of(pid: u32) -> Option<Self> {
        let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
        // The name before it, in parentheses, may hold anything.
        let fields: Vec<&str> = stat.rsplit_once(')')?.1.split_whitespace().collect();
        let number = |at: usize| fields.get(at)?.parse::<u64>().ok();
        Some(Self {
            parent: u32::try_from(number(1)?).ok()?,
            group: u32::try_from(number(2)?).ok()?,
            started: number(19)?,
            is_dead: matches!(*fields.first()?, "Z" | "X"),
        })
    }
}

/// Returns the processes of this machine.
pub(crate) fn processes() -> BTreeMap<u32, Process> {
    let ids = fs::read_dir("/proc").into_iter().flatten().flatten();
    let ids = ids.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
    ids.filter_map(|id| Some((id, Process::of(id)?))).collect()
}

/// Returns when a process was started, in the kernel's ticks; nothing if it has ended. A number may be given to another process later.
pub(crate) fn started(pid: u32) -> Option<u64> {
    Process::of(pid).filter(|process| !process.is_dead).map(|process| process.started)
}
