//! The newest edition of each signed catalogue that this user has seen. A host that gives an older one, signed by the same key, may
//! be keeping something back: it is refused unless yalotheca.toml says that the publisher went back on purpose.

use std::{fs, io::Write, path::PathBuf};

use etcetera::BaseStrategy;
use yalotheca_core::id::Digest;

/// Where it is noted which edition of a key's catalogue was seen; nothing where the user has no state folder.
fn place(key: &str, name: &str) -> Option<PathBuf> {
    let strategy = etcetera::base_strategy::choose_base_strategy().ok()?;
    let folder = strategy.state_dir().unwrap_or_else(|| strategy.data_dir());
    let of = Digest::of(format!("{}\n{name}", key.trim()).as_bytes());
    Some(folder.join("yalotheca/catalogues").join(of.to_string()))
}

/// Returns the newest edition of a catalogue that was seen. `name` is what its publisher calls it.
pub(super) fn seen(key: &str, name: &str) -> Option<u64> {
    fs::read_to_string(place(key, name)?).ok()?.trim().parse().ok()
}

/// Notes which edition was seen.
pub(super) fn note(key: &str, name: &str, serial: u64) {
    if seen(key, name) == Some(serial) {
        return;
    }
    // Not worth a failure: an older one would only not be known as such.
    let write = || -> Option<()> {
        let place = place(key, name)?;
        let folder = place.parent()?;
        fs::create_dir_all(folder).ok()?;
        let mut file = tempfile::NamedTempFile::new_in(folder).ok()?;
        file.write_all(format!("{serial}\n").as_bytes()).ok()?;
        file.persist(&place).ok().map(drop)
    };
    write();
}
