//! The links by which installed contents came, and whether they still give the files.

use crate::words::ServerName;
use serde::Serialize;
use yalotheca_core::{
    id::{ContentId, Digest},
    link::LinkTarget,
};

use crate::{
    AppError, Server,
    words::{size, wrong_target},
};

/// The state of a link.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum LinkState {
    /// The cache has the file.
    Here,
    /// It was not fetched yet, or the cache was swept.
    NotHere,
    /// It gives the file.
    Good,
    /// It gives another file.
    OtherFile,
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
    /// The host does not answer.
    Unreachable,
}

impl LinkState {
    /// Returns whether something is wrong with the link.
    pub fn is_bad(self) -> bool {
        !matches!(self, Self::Here | Self::NotHere | Self::Good)
    }
}

/// One link.
#[derive(Debug, Serialize)]
pub struct LinkLine {
    /// The content.
    pub content: ContentId,
    /// The link.
    pub link: String,
    /// Its state.
    pub state: LinkState,
    /// What there is to say about the state.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub says: String,
    /// Its size in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// The digest of the file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub blake3: Option<String>,
}

/// All links.
#[derive(Debug, Serialize)]
pub struct LinksReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// Whether each host was asked.
    pub checked: bool,
    /// The links.
    pub links: Vec<LinkLine>,
}

/// Lists the links by which installed contents came; `check` asks each host again.
///
/// # Errors
/// Where a catalogue cannot be read.
pub fn links(server: &Server, check: bool) -> Result<LinksReport, AppError> {
    let catalogues = server.catalogues();
    let store = server.fetcher.store();
    let mut links = Vec::new();
    let mut push = |content: &ContentId, link, digest: Option<Digest>, size: Option<u64>| {
        let here = digest.and_then(|digest| store.file(&digest));
        let there = here.as_ref().and_then(|path| path.metadata().ok()).map(|metadata| metadata.len());
        links.push(LinkLine {
            content: content.clone(),
            link,
            state: if here.is_some() { LinkState::Here } else { LinkState::NotHere },
            says: String::new(),
            size: size.or(there),
            blake3: digest.map(|digest| digest.to_string()),
        });
    };
    for locked in &server.control.lock.contents {
        let given = server.control.wants.given.get(&locked.id);
        if let Some((given, link)) = given.and_then(|given| Some((given, given.link.clone()?))) {
            push(&locked.id, link, given.blake3, None);
        } else if given.is_none() && !locked.catalogue.is_empty() {
            for (file, link) in catalogues.get()?.links(locked) {
                push(&locked.id, link, Some(file.blake3), Some(file.size));
            }
        }
    }
    if check {
        for line in &mut links {
            (line.state, line.says) = ask(server, line);
        }
        compare(server, &mut links);
    }
    Ok(LinksReport { server: server.shown(), checked: check, links })
}

/// Compares the files that links give now with those that are installed.
fn compare(server: &Server, links: &mut [LinkLine]) {
    let is_good = |line: &LinkLine| line.state == LinkState::Good && line.blake3.is_some();
    let asked: Vec<String> =
        links.iter().filter(|line| is_good(line)).map(|line| line.link.clone()).collect();
    let good = links.iter_mut().filter(|line| is_good(line));
    for (line, now) in good.zip(server.fetcher.digests_behind(&asked)) {
        match now {
            Ok(now) if line.blake3.as_deref() != Some(now.to_string().as_str()) => {
                line.state = LinkState::OtherFile;
                line.says = other_file(server, &line.content, now);
            }
            Ok(_) => {}
            Err(error) => (line.state, line.says) = (LinkState::Failing, error.to_string()),
        }
    }
}

/// Says that a link gives another file. A catalogue promises one file for ever; what was given by link is what is there now.
fn other_file(server: &Server, id: &ContentId, now: Digest) -> String {
    let digits = &now.to_string()[..6];
    if server.control.wants.given.contains_key(id) {
        format!("it gives another file now ({digits}); an update takes it")
    } else {
        format!("it gives another file now ({digits}) than its catalogue promises")
    }
}

fn ask(server: &Server, line: &LinkLine) -> (LinkState, String) {
    let told = match server.fetcher.ask(&line.link) {
        Ok(told) => told,
        Err(error) => return (LinkState::Unreachable, error.to_string()),
    };
    let wrong = wrong_target(&told.sort).unwrap_or_default();
    match told.sort {
        LinkTarget::File => match (told.size, line.size) {
            // What was given by link is compared by its bytes.
            (Some(now), Some(then))
                if now != then && !server.control.wants.given.contains_key(&line.content) =>
            {
                let says = format!("the host now has a file of {}, and {} was locked", size(now), size(then));
                (LinkState::OtherFile, says)
            }
            _ => (LinkState::Good, String::new()),
        },
        LinkTarget::Page(_) => (LinkState::Page, wrong),
        LinkTarget::Login => {
            (LinkState::Login, format!("{wrong}; fetch it with your browser and add the file"))
        }
        LinkTarget::Expired => (LinkState::Expired, format!("{wrong}; get a new one where you got this one")),
        LinkTarget::Missing => (LinkState::Gone, wrong),
        LinkTarget::Failing(_) | LinkTarget::Refused(_) => (LinkState::Failing, wrong),
    }
}
