//! The two files that say what a server should run: `yalotheca.toml` (the wants) and `yalotheca.lock` (the lineup).

mod lock;
mod sections;
mod wants;

pub use lock::{LockFile, Locked, ReadLockError};
pub use sections::{CatalogueSource, Given, LinkSection, MapsSection, ServerSection, UnpackSection};
pub use wants::ControlFile;

/// The name of the file with the wants.
pub const WANTS_FILE: &str = "yalotheca.toml";
/// The name of the file with the lineup.
pub const LOCK_FILE: &str = "yalotheca.lock";
