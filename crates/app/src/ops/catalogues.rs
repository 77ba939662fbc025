//! The catalogues of a server.

use crate::words::ServerName;
use std::{path::Path, time::Duration};

use serde::Serialize;
use yalotheca_core::{
    control::CatalogueSource,
    hint::{Advice, Listing},
    link::without_user,
    suggest,
};
use yalotheca_host::store::Store;

use crate::{AppError, Server, apply::note};

/// One catalogue.
#[derive(Debug, Serialize)]
pub struct CatalogueLine {
    /// Its name.
    pub name: String,
    /// Where it is.
    pub at: String,
    /// Whether its index is signed.
    pub signed: bool,
    /// How many contents it has, where it can be read now.
    pub contents: Option<usize>,
}

/// The catalogues of a server.
#[derive(Debug, Serialize)]
pub struct CataloguesReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// The catalogues.
    pub catalogues: Vec<CatalogueLine>,
}

/// What was swept out of the cache.
#[derive(Debug, Serialize)]
pub struct SweepReport {
    /// How many files.
    pub files: usize,
    /// Their size.
    pub bytes: u64,
}

/// Sweeps what was not used for so many days out of the cache; at most so many megabytes stay.
///
/// # Errors
/// Where the cache cannot be read or written.
pub fn sweep_cache(days: u64, most: Option<u64>) -> Result<SweepReport, AppError> {
    let unused = Duration::from_secs(days.saturating_mul(24 * 60 * 60));
    let most = most.map(|most| most.saturating_mul(1_000_000));
    let (files, bytes) = Store::of_user()?.sweep(unused, most)?;
    Ok(SweepReport { files, bytes })
}

/// Lists the catalogues of a server.
///
/// # Errors
/// Where they cannot be opened.
pub fn list_catalogues(server: &Server) -> Result<CataloguesReport, AppError> {
    let catalogues = server.catalogues();
    let sizes = catalogues.get()?.sizes();
    let catalogues = server.control.wants.catalogues.iter().map(|catalogue| CatalogueLine {
        name: catalogue.name.clone(),
        at: without_user(&catalogue.at),
        signed: catalogue.key.is_some(),
        contents: sizes.get(&catalogue.name).copied().flatten(),
    });
    Ok(CataloguesReport { server: server.shown(), catalogues: catalogues.collect() })
}

/// Adds a catalogue, an address or a folder, with its publisher's key where it is signed. Returns how many contents it has.
///
/// # Errors
/// Where one of that name is there, or it cannot be read.
pub fn add_catalogue(
    server: &Server,
    name: &str,
    (at, key): (&str, Option<&str>),
) -> Result<usize, AppError> {
    let mut wants = server.control.wants.clone();
    if wants.catalogues.iter().any(|known| known.name == name) {
        return Err(AppError::Usage {
            what: format!("there is a catalogue called {name} already"),
            hint: Some(Advice::DropCatalogueOrRename(name.to_owned())),
        });
    }
    // A folder is noted as it is seen from yalotheca.toml, wherever the command is typed.
    let here = std::env::current_dir().ok().and_then(|here| here.canonicalize().ok());
    let is_elsewhere = here.is_none_or(|here| server.control.folder.canonicalize().ok() != Some(here));
    let at = match Path::new(at).canonicalize() {
        Ok(folder) if !at.contains("://") && is_elsewhere => folder.display().to_string(),
        _ => at.to_owned(),
    };
    let source = CatalogueSource { name: name.into(), at, key: key.map(str::to_owned), older: false };
    wants.add_catalogue(&source);
    // A catalogue that cannot be read is an error now, not when something is installed from it.
    let catalogues = server.catalogues_for(&wants);
    let Some(contents) = catalogues.get()?.sizes().get(name).copied().flatten() else {
        let absent = catalogues.get()?.unreachable().into_iter().next_back();
        return Err(absent.map_or_else(
            || AppError::Usage { what: format!("the catalogue {name} cannot be read"), hint: None },
            AppError::from,
        ));
    };
    note(server, &wants, (None, &format!("catalogue {name} added")))?;
    Ok(contents)
}

/// Drops a catalogue. Returns how many installed contents came from it; they stay.
///
/// # Errors
/// Where there is none of that name.
pub fn drop_catalogue(server: &Server, name: &str) -> Result<usize, AppError> {
    let mut wants = server.control.wants.clone();
    if !wants.drop_catalogue(name) {
        let names = wants.catalogues.iter().map(|catalogue| catalogue.name.as_str());
        return Err(AppError::Usage {
            what: format!("there is no catalogue called {name}"),
            hint: Some(
                suggest::did_you_mean(name, names).map_or(Advice::List(Listing::Catalogues), Advice::Say),
            ),
        });
    }
    note(server, &wants, (None, &format!("catalogue {name} dropped")))?;
    Ok(server.control.lock.contents.iter().filter(|locked| locked.catalogue == name).count())
}
