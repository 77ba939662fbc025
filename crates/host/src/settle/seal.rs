//! Seals of journals.
//!
//! The next command carries out an interrupted journal: it installs, removes and rewrites files. Anyone who can write to the server's
//! folder could plant one. So each journal is sealed with a key in the user's state folder, never on the server. A journal with
//! another seal is shown, and carried out only after the user confirms.

use std::{
    fs::{self, File},
    io::{self, Read, Write},
    os::unix::fs::DirBuilderExt,
    path::Path,
};

use etcetera::BaseStrategy;

/// The key with which one user's journals are sealed.
#[derive(Clone)]
pub struct SealKey([u8; 32]);

impl std::fmt::Debug for SealKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("SealKey")
    }
}

impl SealKey {
    /// Returns the user's key, and makes one where there is none yet.
    ///
    /// # Errors
    /// Where the user's state folder cannot be read or written.
    pub fn of_user() -> io::Result<Self> {
        let strategy = etcetera::base_strategy::choose_base_strategy().map_err(io::Error::other)?;
        let folder = strategy.state_dir().unwrap_or_else(|| strategy.data_dir());
        Self::in_folder(&folder.join("yalotheca"))
    }

    /// Returns the user's key where there is one; nothing is written.
    pub fn known() -> Option<Self> {
        let strategy = etcetera::base_strategy::choose_base_strategy().ok()?;
        let folder = strategy.state_dir().unwrap_or_else(|| strategy.data_dir());
        read(&folder.join("yalotheca/seal-key")).ok()
    }

    /// Returns the key in a folder, and makes one where there is none yet.
    ///
    /// # Errors
    /// Where the folder cannot be read or written.
    pub fn in_folder(folder: &Path) -> io::Result<Self> {
        let path = folder.join("seal-key");
        match read(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            key => return key,
        }
        fs::DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
        let mut bytes = [0; 32];
        File::open("/dev/urandom")?.read_exact(&mut bytes)?;
        let mut file = tempfile::NamedTempFile::new_in(folder)?;
        file.write_all(&bytes)?;
        file.as_file().sync_all()?;
        match file.persist_noclobber(&path) {
            Ok(_) => Ok(Self(bytes)),
            // Another command made one at the same time.
            Err(failed) if failed.error.kind() == io::ErrorKind::AlreadyExists => read(&path),
            Err(failed) => Err(failed.error),
        }
    }

    /// Returns the seal of some bytes.
    pub(super) fn seal(&self, bytes: &[u8]) -> String {
        blake3::keyed_hash(&self.0, bytes).to_hex().to_string()
    }

    /// Returns whether a seal fits some bytes.
    pub(super) fn fits(&self, bytes: &[u8], seal: &str) -> bool {
        // Compared in constant time by the library.
        blake3::Hash::from_hex(seal.trim()).is_ok_and(|seal| seal == blake3::keyed_hash(&self.0, bytes))
    }
}

fn read(path: &Path) -> io::Result<SealKey> {
    let mut bytes = Vec::new();
    File::open(path)?.take(33).read_to_end(&mut bytes)?;
    let bytes = bytes.try_into().map_err(|_| io::Error::other(format!("{} is damaged", path.display())))?;
    Ok(SealKey(bytes))
}
