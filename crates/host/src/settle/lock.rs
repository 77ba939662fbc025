//! The lock of a server: a folder made exclusively, alike on every kind of tree, with a file that says who has it and until when.
//!
//! Nothing here asks the server's system for help, since over a network there is none. A folder can be made once; the name of the file
//! in it belongs to one owner, so that of several who take over a lock whose owner is dead one succeeds. Who finds a second owner beside
//! itself backs off.

use std::{
    fs,
    sync::{
        Arc, Condvar, Mutex, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    thread::{self, JoinHandle},
    time::{Duration, Instant, SystemTime, UNIX_EPOCH},
};

use serde::{Deserialize, Serialize};
use yalotheca_core::id::TreePath;

use super::{SettleError, damaged, own, unwritten::BootId};
use crate::{
    process::started,
    tree::{Access, Tree, TreeError},
};

/// An owner that is not heard of for so long has lost the lock if somebody asks for that.
const LEASE: Duration = Duration::from_secs(10 * 60);
/// So often an owner says that it is still there.
const RENEWAL: Duration = Duration::from_secs(120);
/// A lock that is being made or given up is looked at again for so long; one that is empty for so long was left behind.
const PATIENCE: Duration = Duration::from_secs(6);
const EMPTY: Duration = Duration::from_secs(4);
const PAUSE: Duration = Duration::from_millis(25);

/// Who has the lock.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Owner {
    /// User and machine.
    who: String,
    /// The run of that machine, and the name space in which the process has its number.
    boot: String,
    space: String,
    process: u32,
    /// When the process was started, in the kernel's ticks.
    started: String,
    /// When it took the lock, and when it was heard of last, in seconds since 1970 by its own clock.
    since: u64,
    heard: u64,
}

fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs()
}

fn name_space() -> String {
    fs::read_link("/proc/self/ns/pid").map_or_else(|_| String::new(), |link| link.display().to_string())
}

fn who() -> String {
    let host = fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let user = std::env::var("USER").or_else(|_| std::env::var("LOGNAME"));
    let user = user.unwrap_or_else(|_| format!("user {}", rustix::process::geteuid().as_raw()));
    format!("{user}@{}", host.trim())
}

impl Owner {
    fn new() -> Self {
        let process = std::process::id();
        let now = now();
        Self {
            who: who(),
            boot: BootId::of_this_machine().map_or_else(String::new, |boot| boot.text().to_owned()),
            space: name_space(),
            process,
            started: started(process).map_or_else(String::new, |since| since.to_string()),
            since: now,
            heard: now,
        }
    }

    /// Whether it was a process of this machine that is no longer there.
    fn is_dead(&self) -> bool {
        let here = BootId::of_this_machine().is_some_and(|boot| boot.text() == self.boot);
        here && self.space == name_space()
            && !self.started.is_empty()
            && started(self.process).is_none_or(|since| since.to_string() != self.started)
    }

    fn is_lost(&self) -> bool {
        now() > self.heard.saturating_add(LEASE.as_secs())
    }

    fn text(&self) -> Vec<u8> {
        serde_json::to_vec(self).unwrap_or_default()
    }

    fn shown(&self) -> String {
        format!("{}, process {}, for {}", self.who, self.process, span(now().saturating_sub(self.since)))
    }
}

/// A span of seconds in words.
fn span(seconds: u64) -> String {
    let count = |number: u64, word: &str| format!("{number} {word}{}", if number == 1 { "" } else { "s" });
    match seconds {
        0..60 => count(seconds, "second"),
        60..3600 => count(seconds / 60, "minute"),
        3600..86400 => count(seconds / 3600, "hour"),
        _ => count(seconds / 86400, "day"),
    }
}

/// The right to change one server; it ends when this is dropped.
#[derive(Debug)]
pub struct Claim {
    tree: Arc<dyn Tree>,
    folder: TreePath,
    file: TreePath,
    end: Arc<(Mutex<bool>, Condvar)>,
    renewing: Option<JoinHandle<()>>,
}

impl Drop for Claim {
    fn drop(&mut self) {
        *self.end.0.lock().unwrap_or_else(PoisonError::into_inner) = true;
        self.end.1.notify_all();
        if let Some(renewing) = self.renewing.take() {
            renewing.join().ok();
        }
        // Should this fail, the lock is seen to be a dead process's.
        self.tree.remove_lock(&self.file, &self.folder).ok();
    }
}

/// Returns the owners' files in the lock.
fn owners(tree: &dyn Tree, folder: &TreePath) -> Result<Vec<TreePath>, SettleError> {
    let names = tree.list_folder(folder)?.into_iter().map(|(name, _)| name);
    let owners = names.filter(|name| name.starts_with("owner-"));
    owners.map(|name| folder.join(&name).map_err(|error| damaged(folder, &error))).collect()
}

fn owner_at(tree: &dyn Tree, file: &TreePath) -> Result<Option<Owner>, TreeError> {
    Ok(tree.read_file(file)?.and_then(|bytes| serde_json::from_slice(&bytes).ok()))
}

/// Claims a server, so that two commands never change it at once.
///
/// # Errors
/// Where another one holds it, or the folder cannot be written.
pub fn claim(tree: &Arc<dyn Tree>) -> Result<Claim, SettleError> {
    let folder = own("lock")?;
    let owner = Owner::new();
    let file = folder.join(&token(&owner)).map_err(|error| damaged(&folder, &error))?;
    tree.create_folder(&own("")?)?;
    let mut last = None;
    let began = Instant::now();
    let mut is_first = true;
    while is_first || began.elapsed() < PATIENCE {
        if !std::mem::take(&mut is_first) {
            thread::sleep(PAUSE);
        }
        let tried = Instant::now();
        let mut is_alone = false;
        let is_ours = if tree.create_exclusively(&folder)? {
            is_alone = true;
            // Somebody may have taken it for one that was left empty, and removed it.
            tree.write_new(&file, &owner.text(), Access::Own).is_ok()
        } else {
            match owners(&**tree, &folder)?.as_slice() {
                // It is just being made or given up, or somebody died at that.
                [] if began.elapsed() > EMPTY => {
                    tree.remove_empty_folder(&folder)?;
                    false
                }
                [only] => {
                    let is_left = match owner_at(&**tree, only)? {
                        Some(other) if other.is_dead() => true,
                        Some(other) if other.is_lost() => return Err(abandoned(&**tree, &other)),
                        Some(other) => return Err(busy(&**tree, Some(&other))),
                        // It is just being written, or its owner died while writing it.
                        None => began.elapsed() > EMPTY,
                    };
                    is_left
                        && tree.rename(&[(only, &file)]).is_ok()
                        && tree.replace(&file, &owner.text()).is_ok()
                }
                [] => false,
                several => {
                    last = several.iter().find_map(|file| owner_at(&**tree, file).ok().flatten());
                    false
                }
            }
        };
        if !is_ours {
            continue;
        }
        // Others wait longer than this before they remove an empty lock.
        is_alone &= tried.elapsed() < EMPTY / 2;
        if is_alone || owners(&**tree, &folder)?.as_slice() == [file.clone()] {
            tree.forget_seen();
            return Ok(hold(tree, folder, file, owner));
        }
        tree.remove_files(std::slice::from_ref(&file))?;
    }
    Err(busy(&**tree, last.as_ref()))
}

/// A name that no other owner has.
fn token(owner: &Owner) -> String {
    static MADE: AtomicU64 = AtomicU64::new(0);
    let number = MADE.fetch_add(1, Ordering::Relaxed);
    let nanoseconds = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_nanos();
    let name = format!("{owner:?} {number} {nanoseconds}");
    format!("owner-{}", &blake3::hash(name.as_bytes()).to_hex().as_str()[..16])
}

fn busy(tree: &dyn Tree, owner: Option<&Owner>) -> SettleError {
    let who = owner.map_or_else(|| "which has just begun".to_owned(), Owner::shown);
    SettleError::Busy { folder: tree.location(), who }
}

fn abandoned(tree: &dyn Tree, owner: &Owner) -> SettleError {
    let heard = span(now().saturating_sub(owner.heard));
    SettleError::Abandoned { folder: tree.location(), who: owner.who.clone(), heard }
}

/// Holds a lock, and says so from time to time.
fn hold(tree: &Arc<dyn Tree>, folder: TreePath, file: TreePath, owner: Owner) -> Claim {
    let end = Arc::new((Mutex::new(false), Condvar::new()));
    let (theirs, shared, at) = (Arc::clone(tree), Arc::clone(&end), file.clone());
    let renew = move || {
        let (is_over, woken) = &*shared;
        let mut over = is_over.lock().unwrap_or_else(PoisonError::into_inner);
        while !*over {
            let waited = woken.wait_timeout(over, RENEWAL).unwrap_or_else(PoisonError::into_inner);
            over = waited.0;
            if waited.1.timed_out() && !*over {
                // Not if somebody has taken the lock away.
                let is_ours = theirs.modified(&at).is_ok_and(|date| date.is_some());
                if is_ours {
                    let renewed = Owner { heard: now(), ..owner.clone() };
                    theirs.replace(&at, &renewed.text()).ok();
                }
            }
        }
    };
    Claim { tree: Arc::clone(tree), folder, file, end, renewing: Some(thread::spawn(renew)) }
}

/// Takes a lock away from an owner that has not been heard of for the time of a lease. Returns whether there was one to take away.
///
/// # Errors
/// Where its owner is still there, or the lock cannot be removed.
pub fn break_lock(tree: &dyn Tree) -> Result<bool, SettleError> {
    let folder = own("lock")?;
    let owners = owners(tree, &folder)?;
    for file in &owners {
        if let Some(owner) = owner_at(tree, file)?.filter(|owner| !owner.is_dead() && !owner.is_lost()) {
            return Err(busy(tree, Some(&owner)));
        }
    }
    tree.remove_files(&owners)?;
    let there = tree.kind_of(&folder)?.is_some();
    Ok(there && tree.remove_empty_folder(&folder)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_dead_process_is_told_from_a_running_one_and_from_one_elsewhere() {
        let own = Owner::new();
        assert!(!own.is_dead() && !own.is_lost());
        let gone = Owner { process: u32::MAX - 7, ..own.clone() };
        assert!(gone.is_dead());
        // The number may have been given to another process since.
        assert!(Owner { started: "1".into(), ..own.clone() }.is_dead());
        assert!(!Owner { boot: "elsewhere".into(), ..gone.clone() }.is_dead());
        assert!(!Owner { space: "pid:[1]".into(), ..gone.clone() }.is_dead());
        assert!(Owner { heard: now() - 601, ..own }.is_lost());
    }

    #[test]
    fn spans_are_told_in_words() {
        for (seconds, expected) in [(1, "1 second"), (59, "59 seconds"), (60, "1 minute"), (7300, "2 hours")]
        {
            assert_eq!(span(seconds), expected);
        }
    }
}
