//! What an interrupt meets. A person who presses ctrl-C wants to know what was done and what is left; only here it is known whether
//! a change is half carried out.

use std::{
    io,
    sync::atomic::{AtomicU8, Ordering},
    thread,
};

use signal_hook::{
    consts::{SIGHUP, SIGINT, SIGTERM},
    iterator::Signals,
    low_level::emulate_default_handler,
};

use crate::server_copy;

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

/// From now on `tell` hears of an interrupt before the program ends by it.
///
/// # Errors
/// Where signals cannot be listened to.
pub fn tell_before_end(tell: impl Fn(Phase) + Send + 'static) -> io::Result<()> {
    let mut signals = Signals::new([SIGINT, SIGTERM, SIGHUP])?;
    thread::Builder::new().name("interrupts".into()).spawn(move || {
        for signal in signals.forever() {
            // What is changed on a copy is gone with it.
            let phase = if server_copy::is_any() { phase().without_change() } else { phase() };
            // The supervisor gets the signal as well; it stops the server and then ends the program.
            if phase == Phase::Watching {
                continue;
            }
            tell(phase);
            server_copy::remove_all();
            emulate_default_handler(signal).ok();
        }
    })?;
    Ok(())
}
