//! What the kernel tells of processes.

use std::fs;

/// Returns when a process was started, in the kernel's ticks; nothing if it has ended. A number may be given to another process later.
pub(crate) fn started(pid: u32) -> Option<String> {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    let (_, rest) = stat.rsplit_once(')')?;
    let mut fields = rest.split_whitespace();
    let state = fields.next()?;
    (state != "Z").then(|| fields.nth(18).map(str::to_owned)).flatten()
}
