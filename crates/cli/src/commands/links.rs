//! `links`.

use std::process::ExitCode;

use clap::Args;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::links::{LinkLine, LinkState, LinksReport, links},
};

use crate::{
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, size},
};

/// List the download links of what is installed, and whether they still give the files.
#[derive(Debug, Args)]
pub(crate) struct LinksArgs {
    /// Ask each host again
    #[arg(long)]
    check: bool,
}

/// Returns how a state is shown.
fn shown(state: LinkState) -> (Role, &'static str) {
    match state {
        LinkState::Here => (Role::Plain, "fetched"),
        LinkState::NotHere => (Role::Dim, "not fetched"),
        LinkState::Good => (Role::Good, "good"),
        LinkState::OtherFile => (Role::Bad, "other file"),
        LinkState::Page => (Role::Bad, "a page"),
        LinkState::Login => (Role::Bad, "login"),
        LinkState::Expired => (Role::Bad, "expired"),
        LinkState::Gone => (Role::Bad, "gone"),
        LinkState::Failing => (Role::Warn, "failing"),
        LinkState::Unreachable => (Role::Warn, "no answer"),
    }
}

impl View for LinksReport {
    fn view(&self, page: &mut Page) {
        if self.links.is_empty() {
            page.line(Role::Plain, &format!("{}: nothing here came by a link.", self.server));
            return;
        }
        page.line(Role::Head, &format!("Links of {}", self.server));
        let row = |line: &LinkLine| {
            let (role, word) = shown(line.state);
            let digest = line.blake3.as_ref().map_or("", |digest| &digest[..12]);
            vec![
                Cell::new(role, word),
                Cell::new(Role::Name, line.content.to_string()),
                Cell::plain(line.size.map_or_else(String::new, size)),
                Cell::new(Role::Dim, digest),
                Cell::plain(line.link.clone()),
            ]
        };
        page.table(&self.links.iter().map(row).collect::<Vec<_>>());
        let bad: Vec<&LinkLine> = self.links.iter().filter(|line| line.state.is_bad()).collect();
        if !bad.is_empty() {
            page.head("What is wrong");
            for line in &bad {
                page.item(Role::Warn, &format!("{}: {}", line.content, line.says));
            }
            page.gap();
            page.line(
                Role::Plain,
                "What was fetched stays in the cache; a server that has it needs no link.",
            );
        } else if !self.checked {
            page.gap();
            page.line(Role::Dim, "yalotheca links --check asks each host again.");
        }
    }
}

pub(crate) fn run(args: &LinksArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let report = links(&server, args.check)?;
    let bad = report.links.iter().any(|line| line.state.is_bad());
    ui.show(&report)?;
    Ok(if bad { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}
