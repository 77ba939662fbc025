//! The two files that say what a server should run: `yalotheca.toml` (the wants) and `yalotheca.lock` (the lineup).

mod lock;
mod sections;
mod tolerated;
mod wants;

pub use lock::{AsFound, LockFile, Locked, ReadLockError};
pub use sections::{
    CatalogueSource, Given, HistorySection, LinkSection, LockedPack, MapsSection, MirrorSection, PackSection,
    ProcessSection, ServerSection, UnpackSection,
};
pub use wants::ControlFile;

/// The name of the file with the wants.
pub const WANTS_FILE: &str = "yalotheca.toml";
/// The name of the file with the lineup.
pub const LOCK_FILE: &str = "yalotheca.lock";

/// Takes one edit of a text back that was edited again since: what it was after the edit, what it is now, and what it was before.
/// Returns nothing where both edits touch the same lines.
pub fn without_edit(after: &str, now: &str, before: &str) -> Option<String> {
    if now == after {
        return Some(before.to_owned());
    }
    diffy::merge(after, now, before).ok()
}
