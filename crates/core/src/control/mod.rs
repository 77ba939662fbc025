//! The two files that say what a server should run: `yalotheca.toml` (the wants) and `yalotheca.lock` (the lineup).

mod lock;
mod wants;

pub use lock::{LockFile, Locked, ReadLockError};
pub use wants::{
    CatalogueSource, ControlFile, Given, LinkSection, MapsSection, ReadControlError, ServerSection,
    UnpackSection,
};

/// The name of the file with the wants.
pub const WANTS_FILE: &str = "yalotheca.toml";
/// The name of the file with the lineup.
pub const LOCK_FILE: &str = "yalotheca.lock";
