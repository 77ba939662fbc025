//! `about`.

use std::process::ExitCode;

use clap::Args;
use clap_complete::ArgValueCandidates;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::about::{AboutReport, about},
};
use yalotheca_core::{id::ContentId, version::VersionRange};

use crate::{
    complete,
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, size},
};

/// Show everything about one content, and which of its releases fit this server.
#[derive(Debug, Args)]
pub(crate) struct AboutArgs {
    /// The content's name
    #[arg(add = ArgValueCandidates::new(complete::available))]
    name: String,
}

impl View for AboutReport {
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
    ui.show(&about(&server, &args.name)?)?;
    Ok(ExitCode::SUCCESS)
}
