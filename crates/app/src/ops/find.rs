//! Looking through the catalogues.

use crate::words::ServerName;
use serde::Serialize;
use yalotheca_core::{catalogue::Content, id::ContentId, version::ReleaseVersion};

use super::about::verdict;
use crate::{AppError, OpenCatalogues, Server};

/// What was found.
#[derive(Debug, Serialize)]
pub struct FindReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// What was found.
    pub found: Vec<FoundLine>,
    /// What cannot be read.
    pub unreadable: Vec<String>,
    /// Catalogues that cannot be reached, and why.
    #[serde(skip)]
    pub absent: Vec<String>,
}

/// One content that was found.
#[derive(Debug, Serialize)]
pub struct FoundLine {
    /// The content.
    pub id: ContentId,
    /// What people call it.
    pub title: String,
    /// What it is.
    pub about: String,
    /// The newest release that fits this server.
    pub fits: Option<ReleaseVersion>,
    /// The release that is on the server.
    pub here: Option<ReleaseVersion>,
    /// Why the newest release does not fit, where none does.
    pub why_not: Option<String>,
}

/// Looks through the catalogues for contents whose name, title or description has all of these words.
///
/// # Errors
/// Where nothing was found and a catalogue cannot be reached or read.
pub fn find(server: &Server, words: &[String]) -> Result<FindReport, AppError> {
    let catalogues = server.catalogues();
    let opened = catalogues.get()?;
    let words: Vec<String> = words.iter().map(|word| word.to_lowercase()).collect();
    let lock = server.control.lock.by_id();
    let mut found = Vec::new();
    for listing in opened.listings() {
        let text = format!("{} {} {}", listing.id, listing.title, listing.about).to_lowercase();
        if !words.iter().all(|word| text.contains(word)) {
            continue;
        }
        let content = opened.content(&listing.id)?;
        let here = lock.get(&listing.id).map(|locked| locked.release.version.clone());
        let (fits, why_not) = match &content {
            Some(content) => fitness(server, &catalogues, content)?,
            None => (None, None),
        };
        let about = listing.about.trim().trim_end_matches('.').to_owned();
        let (id, title) = (listing.id, listing.title);
        let about = if about.is_empty() { title.clone() } else { about };
        let why_not = why_not.filter(|_| fits.is_none());
        found.push(FoundLine { id, title, about, fits, here, why_not });
    }
    let mut absent = opened.unreachable();
    if found.is_empty() && !absent.is_empty() {
        return Err(absent.remove(0).into());
    }
    let absent = absent.iter().map(ToString::to_string).collect();
    let unreadable = opened.unreadable().iter().map(|bad| format!("{}: {}", bad.path, bad.why)).collect();
    Ok(FindReport { server: server.shown(), found, unreadable, absent })
}

/// Returns the newest release that fits, and the reason that matters most for the newest that does not.
fn fitness(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    content: &Content,
) -> Result<(Option<ReleaseVersion>, Option<String>), AppError> {
    let mut releases: Vec<_> = content.releases.iter().filter(|release| !release.withdrawn).collect();
    releases.sort_by(|a, b| {
        (a.version.is_prerelease(), &b.version).cmp(&(b.version.is_prerelease(), &a.version))
    });
    let mut first_reason = None;
    for release in releases {
        let (fits, reason) = verdict(server, catalogues, &content.id, release, None)?;
        if fits {
            return Ok((Some(release.version.clone()), first_reason));
        }
        first_reason.get_or_insert(reason);
    }
    Ok((None, first_reason))
}
