//! One content, and which of its releases fit.

use crate::words::ServerName;
use serde::Serialize;
use yalotheca_core::{
    catalogue::{Content, Release},
    id::ContentId,
    version::ReleaseVersion,
};

use crate::{
    AppError, OpenCatalogues, Server,
    plan::{reasons, why_not},
};

/// One content, and its releases.
#[derive(Debug, Serialize)]
pub struct AboutReport {
    /// The server.
    pub server: ServerName,
    /// The content.
    pub id: ContentId,
    /// What people call it.
    pub title: String,
    /// What it is.
    pub about: String,
    /// The catalogue that has it.
    pub catalogue: String,
    /// The version that is installed.
    pub here: Option<ReleaseVersion>,
    /// Why it is installed.
    pub why: Option<String>,
    /// Its releases, the newest first.
    pub releases: Vec<ReleaseLine>,
    /// The release whose details are shown.
    #[serde(skip)]
    pub shown: Option<Release>,
}

/// One release.
#[derive(Debug, Serialize)]
pub struct ReleaseLine {
    /// Its version.
    pub version: ReleaseVersion,
    /// Whether it fits this server.
    pub fits: bool,
    /// Whether it fits, and why not, in words.
    pub verdict: String,
    /// Its size in bytes.
    pub size: u64,
}

/// Returns all that is known of one content.
///
/// # Errors
/// Where no catalogue has it and it is not installed, or a catalogue cannot be read.
pub fn about(server: &Server, name: &str) -> Result<AboutReport, AppError> {
    let catalogues = server.catalogues();
    let id = ContentId::new(name)?;
    let locked = server.control.lock.get(&id);
    let content = match (catalogues.get()?.content(&id)?, locked) {
        (Some(content), _) => content,
        (None, Some(locked)) => Content {
            id: id.clone(),
            title: locked.title.clone(),
            about: String::new(),
            catalogue: locked.catalogue.clone(),
            releases: vec![locked.release.clone()],
        },
        (None, None) => return Err(catalogues.unknown(&id)?),
    };
    let here = locked.map(|locked| locked.release.version.clone());
    let mut releases = content.releases.clone();
    releases.sort_by(|a, b| b.version.cmp(&a.version));
    let mut views = Vec::new();
    for release in &releases {
        let (fits, verdict) = verdict(server, &catalogues, &id, release, here.as_ref())?;
        let size = release.files.iter().map(|file| file.size).sum();
        views.push(ReleaseLine { version: release.version.clone(), fits, verdict, size });
    }
    let best = views.iter().position(|view| view.fits).unwrap_or(0);
    let shown = here
        .as_ref()
        .and_then(|here| releases.iter().find(|release| release.version == *here))
        .or_else(|| releases.get(best))
        .cloned();
    let why = reasons(&server.control.lock, &server.control.wants.wants).remove(&id);
    let Content { title, about, catalogue, .. } = content;
    Ok(AboutReport { server: server.shown(), id, title, about, catalogue, here, why, releases: views, shown })
}

/// Whether a release fits this server, and where not, the one reason that matters most.
pub(super) fn verdict(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    id: &ContentId,
    release: &Release,
    here: Option<&ReleaseVersion>,
) -> Result<(bool, String), AppError> {
    if here == Some(&release.version) {
        return Ok((true, "is here".into()));
    }
    if release.withdrawn {
        return Ok((false, "withdrawn by its author".into()));
    }
    if let Some(miss) = server.survey.platform.miss(release) {
        return Ok((
            false,
            format!("needs {} {}, and {}", miss.part, miss.range.in_words(), miss.what_is_there()),
        ));
    }
    let note = if release.version.is_prerelease() { "fits (a pre-release)" } else { "fits" };
    Ok(match why_not(server, catalogues, id, &release.version)? {
        None => (true, note.into()),
        Some(why) => {
            // The first sentence is about this release, and the last one is what the others lead to.
            let mut sentences: Vec<&str> = why
                .because
                .iter()
                .filter(|said| said.sort != "want")
                .map(|said| said.text.as_str())
                .collect();
            if let [first, .., last] = sentences.as_slice() {
                sentences = vec![first, last];
            }
            (false, sentences.join("; "))
        }
    })
}
