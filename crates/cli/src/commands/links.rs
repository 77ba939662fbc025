//! `links`.

use std::process::ExitCode;

use clap::Args;
use serde::Serialize;
use yalotheca_app::{AppError, Purpose, Server};
use yalotheca_core::{id::ContentId, link::Sort};

use crate::{
    args::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, size},
};

/// Show every link in the lineup, and whether it still gives the file.
#[derive(Debug, Args)]
pub(crate) struct LinksArgs {
    /// Ask each host again
    #[arg(long)]
    check: bool,
}

/// What is known of a link.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
enum State {
    /// The cache has the file.
    Here,
    /// It was not fetched yet, or the cache was swept.
    NotHere,
    /// It gives the file.
    Good,
    /// It gives a file of another size.
    OtherSize,
    /// It gives a page.
    Page,
    /// It wants a login.
    Login,
    /// It has expired.
    Expired,
    /// Nothing is there any more.
    Gone,
    /// The host fails or says no.
    Failing,
    /// Nobody answers.
    Unreachable,
}

#[derive(Debug, Serialize)]
struct LinkLine {
    content: ContentId,
    link: String,
    state: State,
    /// What there is to say about the state.
    #[serde(skip_serializing_if = "String::is_empty")]
    says: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    size: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    blake3: Option<String>,
}

#[derive(Debug, Serialize)]
struct LinksView {
    server: String,
    checked: bool,
    links: Vec<LinkLine>,
}

impl State {
    fn shown(self) -> (Role, &'static str) {
        match self {
            Self::Here => (Role::Plain, "fetched"),
            Self::NotHere => (Role::Dim, "not fetched"),
            Self::Good => (Role::Good, "good"),
            Self::OtherSize => (Role::Bad, "other file"),
            Self::Page => (Role::Bad, "a page"),
            Self::Login => (Role::Bad, "login"),
            Self::Expired => (Role::Bad, "expired"),
            Self::Gone => (Role::Bad, "gone"),
            Self::Failing => (Role::Warn, "failing"),
            Self::Unreachable => (Role::Warn, "no answer"),
        }
    }

    fn is_bad(self) -> bool {
        !matches!(self, Self::Here | Self::NotHere | Self::Good)
    }
}

impl View for LinksView {
    fn view(&self, page: &mut Page) {
        if self.links.is_empty() {
            page.line(Role::Plain, &format!("{}: nothing here came by a link.", self.server));
            return;
        }
        page.line(Role::Head, &format!("Links of {}", self.server));
        let row = |line: &LinkLine| {
            let (role, word) = line.state.shown();
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
    let catalogues = server.catalogues();
    let mut links = Vec::new();
    for locked in &server.control.lock.contents {
        let given = server.control.wants.given.get(&locked.id);
        if let Some((given, link)) = given.and_then(|given| Some((given, given.link.clone()?))) {
            let there = given.blake3.and_then(|digest| server.fetcher.store().file(&digest));
            let size = there.as_ref().and_then(|path| path.metadata().ok()).map(|metadata| metadata.len());
            let state = if there.is_some() { State::Here } else { State::NotHere };
            let blake3 = given.blake3.map(|digest| digest.to_string());
            links.push(LinkLine {
                content: locked.id.clone(),
                link,
                state,
                says: String::new(),
                size,
                blake3,
            });
        } else if given.is_none() && !locked.catalogue.is_empty() {
            for (file, link) in catalogues.get()?.links(locked) {
                let there = server.fetcher.store().file(&file.blake3).is_some();
                let state = if there { State::Here } else { State::NotHere };
                let blake3 = Some(file.blake3.to_string());
                let content = locked.id.clone();
                links.push(LinkLine {
                    content,
                    link,
                    state,
                    says: String::new(),
                    size: Some(file.size),
                    blake3,
                });
            }
        }
    }
    if args.check {
        for line in &mut links {
            (line.state, line.says) = ask(&server, line);
        }
    }
    let bad = links.iter().any(|line| line.state.is_bad());
    ui.show(&LinksView { server: server.shown(), checked: args.check, links })?;
    Ok(if bad { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}

fn ask(server: &Server, line: &LinkLine) -> (State, String) {
    let told = match server.fetcher.ask(&line.link) {
        Ok(told) => told,
        Err(error) => return (State::Unreachable, error.to_string()),
    };
    match told.sort {
        Sort::File => match (told.size, line.size) {
            (Some(now), Some(then)) if now != then => {
                let says = format!("the host now has a file of {}, and {} was locked", size(now), size(then));
                (State::OtherSize, says)
            }
            _ => (State::Good, String::new()),
        },
        Sort::Page(title) if title.is_empty() => (State::Page, "it is a web page now, not the file".into()),
        Sort::Page(title) => (State::Page, format!("it is a web page now (“{title}”), not the file")),
        Sort::Login => {
            (State::Login, "the host wants a login; fetch it with your browser and add the file".into())
        }
        Sort::Expired => {
            (State::Expired, "the link has expired; get a new one where you got this one".into())
        }
        Sort::Missing => (State::Gone, "there is nothing at that address any more".into()),
        Sort::Failing(status) | Sort::Refused(status) => {
            (State::Failing, format!("the host answers {status}"))
        }
    }
}
