//! `find`.

use std::process::ExitCode;

use clap::Args;
use serde::Serialize;
use yalotheca_app::{AppError, OpenCatalogues, Purpose, Server};
use yalotheca_core::{catalogue::Content, id::ContentId, version::ReleaseVersion};

use super::about::verdict;
use crate::{
    args::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, count},
};

/// Look through the catalogues, and see what fits this server.
#[derive(Debug, Args)]
pub(crate) struct FindArgs {
    /// Words that must stand in the name, the title or the description; all contents where none is given
    #[arg(value_name = "WORD")]
    words: Vec<String>,
}

#[derive(Debug, Serialize)]
struct FindView {
    server: String,
    found: Vec<Found>,
    unreadable: Vec<String>,
}

#[derive(Debug, Serialize)]
struct Found {
    id: ContentId,
    title: String,
    about: String,
    /// The newest release that fits this server.
    fits: Option<ReleaseVersion>,
    /// The release that is on the server.
    here: Option<ReleaseVersion>,
    /// Why the newest release does not fit, where none does.
    why_not: Option<String>,
}

impl View for FindView {
    fn view(&self, page: &mut Page) {
        if self.found.is_empty() {
            page.line(Role::Plain, "No catalogue has such a content.");
        }
        let rows: Vec<Vec<Cell>> = self
            .found
            .iter()
            .map(|found| {
                let (role, state) = match (&found.here, &found.fits, &found.why_not) {
                    (Some(here), _, _) => {
                        (Role::Good, format!("{} is here", here.shown()).trim_start().to_owned())
                    }
                    (None, Some(fits), _) if fits.is_unversioned() => (Role::Plain, "fits".to_owned()),
                    (None, Some(fits), _) => (Role::Plain, fits.to_string()),
                    (None, None, _) => (Role::Bad, "does not fit".to_owned()),
                };
                let about = match &found.why_not {
                    Some(why) => format!("{} ({why})", found.about),
                    None => found.about.clone(),
                };
                vec![Cell::new(Role::Name, found.id.to_string()), Cell::new(role, state), Cell::plain(about)]
            })
            .collect();
        page.table(&rows);
        for unreadable in &self.unreadable {
            page.gap();
            page.label(Role::Warn, "Cannot be read", unreadable);
        }
        if !self.found.is_empty() {
            page.gap();
            page.line(
                Role::Dim,
                &format!("{}; looked at for {}.", count(self.found.len(), "content"), self.server),
            );
        }
    }
}

pub(crate) fn run(args: &FindArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let catalogues = server.catalogues();
    let opened = catalogues.get()?;
    let words: Vec<String> = args.words.iter().map(|word| word.to_lowercase()).collect();
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
            Some(content) => fitness(&server, &catalogues, content)?,
            None => (None, None),
        };
        let about = listing.about.trim().trim_end_matches('.').to_owned();
        let (id, title) = (listing.id, listing.title);
        let about = if about.is_empty() { title.clone() } else { about };
        let why_not = why_not.filter(|_| fits.is_none());
        found.push(Found { id, title, about, fits, here, why_not });
    }
    let mut absent = opened.unreachable();
    if found.is_empty() && !absent.is_empty() {
        return Err(absent.remove(0).into());
    }
    for absent in absent {
        ui.warn(&format!("{absent}. What it has is not shown."));
    }
    let unreadable = opened.unreadable().iter().map(|bad| format!("{}: {}", bad.path, bad.why)).collect();
    ui.show(&FindView { server: server.shown(), found, unreadable })?;
    Ok(ExitCode::SUCCESS)
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
