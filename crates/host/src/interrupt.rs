//! What an interrupt meets. A person who presses ctrl-C wants to know what was done and what is left; only here it is known whether
//! a change is half carried out.

use std::{
    fs, io,
    path::{Path, PathBuf},
    sync::{
        Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, AtomicU8, Ordering},
    },
    thread,
};

use signal_hook::{
    consts::{SIGHUP, SIGINT, SIGTERM},
    iterator::Signals,
    low_level::emulate_default_handler,
};

/// What the program is at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Phase {
    /// Nothing on the server is being changed.
    Looking,
    /// A change is carried out: after an interrupt the next command finishes it or takes it back.
    Changing,
    /// A server runs under supervision; the supervisor stops it.
    Watching,
}

impl Phase {
    fn without_change(self) -> Self {
        if self == Self::Changing { Self::Looking } else { self }
    }
}

static PHASE: AtomicU8 = AtomicU8::new(LOOKING);
const LOOKING: u8 = 0;
const CHANGING: u8 = 1;
const WATCHING: u8 = 2;

/// As long as it lives the program is in a phase; then in the one before.
pub(crate) struct Within(u8);

impl Within {
    pub(crate) fn change() -> Self {
        Self(PHASE.swap(CHANGING, Ordering::SeqCst))
    }

    pub(crate) fn watch() -> Self {
        Self(PHASE.swap(WATCHING, Ordering::SeqCst))
    }
}

impl Drop for Within {
    fn drop(&mut self) {
        PHASE.store(self.0, Ordering::SeqCst);
    }
}

fn phase() -> Phase {
    match PHASE.load(Ordering::SeqCst) {
        CHANGING => Phase::Changing,
        WATCHING => Phase::Watching,
        _ => Phase::Looking,
    }
}

static IS_ENDING: AtomicBool = AtomicBool::new(false);

/// Folders that are removed before the program ends by an interrupt.
static TEMPORARY: Mutex<Vec<PathBuf>> = Mutex::new(Vec::new());

fn temporary() -> MutexGuard<'static, Vec<PathBuf>> {
    TEMPORARY.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Has a folder removed before the program ends by an interrupt.
pub(crate) fn remove_before_end(folder: &Path) {
    temporary().push(folder.to_owned());
}

/// Takes that back.
pub(crate) fn keep_at_end(folder: &Path) {
    temporary().retain(|known| known != folder);
}

/// Returns whether the program is about to end: nothing more is written to temporary folders then.
pub(crate) fn is_ending() -> bool {
    IS_ENDING.load(Ordering::SeqCst)
}

fn remove_temporary() {
    const TRIES: usize = 20;
    IS_ENDING.store(true, Ordering::SeqCst);
    for folder in temporary().drain(..) {
        // Another thread may still write to it.
        let gone = |_| fs::remove_dir_all(&folder).is_ok() && !folder.exists();
        (0..TRIES).any(gone);
    }
}

/// From now on `tell` hears of an interrupt before the program ends by it.
///
/// # Errors
/// Where signals cannot be listened to.
pub fn tell_before_end(tell: impl Fn(Phase) + Send + 'static) -> io::Result<()> {
    let mut signals = Signals::new([SIGINT, SIGTERM, SIGHUP])?;
    thread::Builder::new().name("interrupts".into()).spawn(move || {
        for signal in signals.forever() {
            // What is changed on a copy is gone with it.
            let phase = if temporary().is_empty() { phase() } else { phase().without_change() };
            // The supervisor gets the signal as well; it stops the server and then ends the program.
            if phase == Phase::Watching {
                continue;
            }
            tell(phase);
            remove_temporary();
            emulate_default_handler(signal).ok();
        }
    })?;
    Ok(())
}
