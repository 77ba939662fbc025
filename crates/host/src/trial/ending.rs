//! How a server ended, where its log does not tell: by which signal, for want of memory or of room on the disk, and who has its port.

use std::{fs, os::unix::fs::MetadataExt, os::unix::process::ExitStatusExt, path::Path, process::ExitStatus};

use yalotheca_core::diagnose::Trouble;

use crate::tree::LocalTree;

/// With less room than this a disk is full, in bytes.
const FULL: u64 = 1 << 20;

/// How a server ended by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ended {
    /// Its exit code.
    pub code: Option<i32>,
    /// The signal that ended it.
    pub signal: Option<i32>,
}

impl Ended {
    pub(super) fn of(status: ExitStatus) -> Self {
        Self { code: status.code(), signal: status.signal() }
    }

    /// Returns whether it ended as one that was told to, or had nothing more to do.
    pub fn is_well(self) -> bool {
        self.code == Some(0)
    }
}

/// Returns how many processes the kernel has killed for want of memory since the machine was started.
pub(super) fn killed_for_memory() -> Option<u64> {
    let text = fs::read_to_string("/proc/vmstat").ok()?;
    text.lines().find_map(|line| line.strip_prefix("oom_kill "))?.trim().parse().ok()
}

/// Returns what is wrong, as far as the end itself and the machine tell.
pub(super) fn troubles(ended: Ended, tree: &LocalTree, killed_before: Option<u64>) -> Vec<Trouble> {
    let mut found = Vec::new();
    let by_signal = |name: &str| {
        Trouble::told(
            "crash",
            format!("the server crashed ({name})"),
            Some(
                "look at what was changed last; a native plugin for another version of the server crashes it like this",
            ),
        )
    };
    match (ended.signal, ended.code) {
        (Some(9), _) if killed_for_memory() > killed_before => found.push(Trouble::told(
            "out of memory",
            "the kernel killed the server, since the machine ran out of memory",
            Some("give the server less memory in its launch settings, or the machine more"),
        )),
        (Some(9), _) => found.push(Trouble::told("killed", "something killed the server (signal 9)", None)),
        (Some(4), _) => found.push(by_signal("signal 4, an instruction that this processor does not have")),
        (Some(6), _) => found.push(by_signal("signal 6, aborted")),
        (Some(7), _) => found.push(by_signal("signal 7, bus error")),
        (Some(8), _) => found.push(by_signal("signal 8, arithmetic error")),
        (Some(11), _) => found.push(by_signal("signal 11, segmentation fault")),
        (Some(signal), _) => {
            found.push(Trouble::told(
                "killed",
                format!("something ended the server (signal {signal})"),
                None,
            ));
        }
        (None, Some(126)) => found.push(Trouble::told(
            "not executable",
            "the server's program, or one that its start script calls, may not be run",
            Some("chmod +x makes a file a program"),
        )),
        (None, Some(127)) => found.push(Trouble::told(
            "missing program",
            "the server's start script calls a program that is not installed",
            Some("install it; the log's last lines name it"),
        )),
        _ => {}
    }
    found.extend(full_disk(tree.root()));
    found
}

/// Returns that the disk of a folder is full, if it is.
pub(super) fn full_disk(folder: &Path) -> Option<Trouble> {
    let disk = rustix::fs::statvfs(folder).ok()?;
    let advice = Some("make room on the server's disk; old backups and logs are the first to look at");
    if disk.f_bavail.saturating_mul(disk.f_frsize) < FULL {
        return Some(Trouble::told("disk full", "the server's disk is full", advice));
    }
    let has_no_inodes = disk.f_files > 0 && disk.f_favail == 0;
    has_no_inodes.then(|| Trouble::told("disk full", "the server's disk has no room for more files", advice))
}

/// Returns the process that listens on a port of this machine, with its name, if this account may see it.
pub(super) fn listener_on(port: u16) -> Option<(u32, String)> {
    const LISTENING: &str = "0A";
    let tables = [("tcp", true), ("tcp6", true), ("udp", false), ("udp6", false)];
    let sockets: Vec<u64> = tables
        .iter()
        .filter_map(|(name, is_tcp)| Some((fs::read_to_string(format!("/proc/net/{name}")).ok()?, *is_tcp)))
        .flat_map(|(text, is_tcp)| {
            let socket = |line: &str| {
                let fields: Vec<&str> = line.split_whitespace().collect();
                let own = u16::from_str_radix(fields.get(1)?.rsplit_once(':')?.1, 16).ok()?;
                let listens = !is_tcp || *fields.get(3)? == LISTENING;
                (own == port && listens).then(|| fields.get(9)?.parse().ok())?
            };
            text.lines().skip(1).filter_map(socket).collect::<Vec<u64>>()
        })
        .collect();
    let owns = |pid: u32| {
        let open = fs::read_dir(format!("/proc/{pid}/fd")).into_iter().flatten().flatten();
        open.filter_map(|entry| fs::metadata(entry.path()).ok()).any(|file| sockets.contains(&file.ino()))
    };
    let pid = crate::process::processes().into_keys().find(|pid| owns(*pid))?;
    let name = fs::read_to_string(format!("/proc/{pid}/comm")).ok()?;
    Some((pid, name.trim().to_owned()))
}

#[cfg(test)]
mod tests {
    use std::net::TcpListener;

    use super::*;

    #[test]
    fn whoever_listens_is_found() -> Result<(), Box<dyn std::error::Error>> {
        let listener = TcpListener::bind(("127.0.0.1", 0))?;
        let port = listener.local_addr()?.port();
        assert_eq!(listener_on(port).map(|(pid, _)| pid), Some(std::process::id()));
        drop(listener);
        assert_eq!(listener_on(port), None);
        Ok(())
    }

    #[test]
    fn signals_and_codes_are_told() {
        let folder = std::env::temp_dir();
        let tree = LocalTree::new(&folder);
        let says = |code, signal| {
            let all = troubles(Ended { code, signal }, &tree, killed_for_memory());
            all.iter().map(|trouble| trouble.says.clone()).collect::<Vec<_>>()
        };
        assert!(says(None, Some(11))[0].contains("segmentation fault"));
        assert!(says(None, Some(9))[0].contains("killed the server (signal 9)"));
        assert!(says(Some(127), None)[0].contains("not installed"));
        assert!(says(Some(1), None).is_empty());
    }
}
