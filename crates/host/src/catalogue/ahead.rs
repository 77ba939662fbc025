//! Catalogues that are opened before anybody asks for them, while other things are looked at.

use std::{
    collections::HashMap,
    path::{Path, PathBuf},
    sync::Mutex,
    thread::{self, JoinHandle},
};

use yalotheca_core::control::CatalogueSource;

use super::{
    CatalogueError,
    published::{Key, Published},
};

type Opening = JoinHandle<Result<Published, CatalogueError>>;

/// Published catalogues in folders, as far as they are being opened.
#[derive(Debug, Default)]
pub struct PrefetchedCatalogues(Mutex<HashMap<CatalogueSource, Opening>>);

impl PrefetchedCatalogues {
    /// Begins to open those catalogues that are published in a folder. Relative ones are relative to `base`. Where one cannot be
    /// opened, whoever takes it is told.
    pub fn begin(sources: &[CatalogueSource], base: &Path) -> Self {
        let mut opening = HashMap::new();
        for source in sources {
            let Some(folder) = published_at(source, base) else { continue };
            let CatalogueSource { name, key, older, .. } = source.clone();
            let open = move || {
                let key = key.as_deref().map(|key| Key { key, older });
                Published::in_folder(&name, &folder, key)
            };
            opening.insert(source.clone(), thread::spawn(open));
        }
        Self(Mutex::new(opening))
    }

    /// Takes a catalogue, waiting for it, if it was begun and nobody has taken it.
    pub(super) fn take(&self, source: &CatalogueSource) -> Option<Result<Published, CatalogueError>> {
        let opening = self.0.lock().ok()?.remove(source)?;
        // Where its thread is gone, it is opened anew.
        opening.join().ok()
    }
}

/// Returns the folder in which a catalogue is published, where that is in one.
pub(super) fn published_at(source: &CatalogueSource, base: &Path) -> Option<PathBuf> {
    let folder = base.join(&source.at);
    (!is_on_web(&source.at) && folder.join("catalogue.json").is_file()).then_some(folder)
}

/// Returns whether a catalogue lies on the web.
pub(super) fn is_on_web(at: &str) -> bool {
    at.starts_with("http://") || at.starts_with("https://")
}
