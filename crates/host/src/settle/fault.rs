//! Points at which a test may kill the program. Release builds have none.

/// Dies as if by `kill -9` at the point whose number is in `YALOTHECA_FAULT`, counted from 1.
#[cfg(debug_assertions)]
pub(super) fn point() {
    use std::sync::atomic::{AtomicU32, Ordering};

    static REACHED: AtomicU32 = AtomicU32::new(0);
    let reached = REACHED.fetch_add(1, Ordering::SeqCst) + 1;
    let wanted = std::env::var("YALOTHECA_FAULT").ok().and_then(|text| text.parse().ok());
    if wanted == Some(reached) {
        rustix::process::kill_process(rustix::process::getpid(), rustix::process::Signal::KILL).ok();
        std::process::abort();
    }
}

#[cfg(not(debug_assertions))]
pub(super) const fn point() {}
