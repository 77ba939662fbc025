//! Small files of the user's cache.

use std::{fs, io::Write, path::Path};

/// Replaces a file of the cache in one act. A failure is ignored: without the file, commands only take longer.
pub(crate) fn keep_in_cache(file: &Path, bytes: &[u8]) {
    let write = || {
        let folder = file.parent()?;
        fs::create_dir_all(folder).ok()?;
        let mut new = tempfile::NamedTempFile::new_in(folder).ok()?;
        new.write_all(bytes).ok()?;
        new.persist(file).ok()
    };
    drop(write());
}
