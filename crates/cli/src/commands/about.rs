//! `about`.

use std::process::ExitCode;

use clap::Args;
use serde::Serialize;
use yalotheca_app::{
    AppError, OpenCatalogues, Purpose, Server,
    plan::{reasons, why_not},
};
use yalotheca_core::{
    catalogue::{Content, Release},
    id::ContentId,
    version::{ReleaseVersion, VersionRange},
};

use crate::{
    args::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, size},
};

/// Tell all about one content and which of its releases fit.
#[derive(Debug, Args)]
pub(crate) struct AboutArgs {
    /// The content's name
    name: String,
}

#[derive(Debug, Serialize)]
struct AboutView {
    id: ContentId,
    title: String,
    about: String,
    catalogue: String,
    here: Option<ReleaseVersion>,
    why: Option<String>,
    releases: Vec<ReleaseView>,
    #[serde(skip)]
    shown: Option<Release>,
}

#[derive(Debug, Serialize)]
struct ReleaseView {
    version: ReleaseVersion,
    fits: bool,
    verdict: String,
    size: u64,
}

impl View for AboutView {
    fn view(&self, page: &mut Page) {
        page.line(Role::Head, &self.title);
        if !self.about.is_empty() {
            page.line(Role::Plain, &self.about);
        }
        page.gap();
        let mut rows = vec![vec![Cell::new(Role::Dim, "name"), Cell::new(Role::Name, self.id.to_string())]];
        let mut row =
            |word: &str, text: String| rows.push(vec![Cell::new(Role::Dim, word), Cell::plain(text)]);
        if let Some(here) = &self.here {
            let why = self
                .why
                .as_ref()
                .filter(|why| !why.is_empty())
                .map(|why| format!(": {why}"))
                .unwrap_or_default();
            row("here", format!("{}{why}", if here.is_unversioned() { "yes" } else { here.as_str() }));
        }
        if !self.catalogue.is_empty() {
            row("from", format!("catalogue {}", self.catalogue));
        }
        if let Some(release) = &self.shown {
            row("kind", release.kind.clone());
            for (word, relations) in
                [("needs", &release.needs), ("welcomes", &release.welcomes), ("refuses", &release.refuses)]
            {
                if !relations.is_empty() {
                    row(word, listed(relations.iter()));
                }
            }
            for group in &release.needs_any {
                row("needs", format!("one of {}", listed(group.iter())));
            }
            for set in &release.platforms {
                let parts: Vec<String> =
                    set.iter().map(|(part, range)| format!("{part} {}", range.in_words())).collect();
                row("runs on", parts.join("; "));
            }
            if !release.members.is_empty() {
                let names: Vec<&str> = release.members.iter().map(|member| member.id.as_str()).collect();
                row("holds", names.join(", "));
            }
        }
        page.table(&rows);
        page.head("Releases");
        let rows: Vec<Vec<Cell>> = self
            .releases
            .iter()
            .map(|release| {
                let role = if release.fits { Role::Good } else { Role::Bad };
                let bytes = if release.size > 0 { size(release.size) } else { String::new() };
                vec![
                    Cell::plain(if release.version.is_unversioned() {
                        "no version"
                    } else {
                        release.version.as_str()
                    }),
                    Cell::new(Role::Dim, bytes),
                    Cell::new(role, release.verdict.clone()),
                ]
            })
            .collect();
        page.table(&rows);
    }
}

fn listed<'r>(relations: impl Iterator<Item = (&'r ContentId, &'r VersionRange)>) -> String {
    let one = |(id, range): (&ContentId, &VersionRange)| {
        if range.is_any() { id.to_string() } else { format!("{id} {}", range.in_words()) }
    };
    relations.map(one).collect::<Vec<_>>().join("; ")
}

pub(crate) fn run(args: &AboutArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let catalogues = server.catalogues();
    let id = ContentId::new(&args.name)?;
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
        (None, None) => return Err(Server::unknown(&catalogues, &id)?),
    };
    let here = locked.map(|locked| locked.release.version.clone());
    let mut releases = content.releases.clone();
    releases.sort_by(|a, b| b.version.cmp(&a.version));
    let mut views = Vec::new();
    for release in &releases {
        let (fits, verdict) = verdict(&server, &catalogues, &id, release, here.as_ref())?;
        let size = release.files.iter().map(|file| file.size).sum();
        views.push(ReleaseView { version: release.version.clone(), fits, verdict, size });
    }
    let best = views.iter().position(|view| view.fits).unwrap_or(0);
    let shown = here
        .as_ref()
        .and_then(|here| releases.iter().find(|release| release.version == *here))
        .or_else(|| releases.get(best))
        .cloned();
    let why = reasons(&server.control.lock, &server.control.wants.wants).remove(&id);
    let Content { title, about, catalogue, .. } = content;
    ui.show(&AboutView { id, title, about, catalogue, here, why, releases: views, shown })?;
    Ok(ExitCode::SUCCESS)
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
