//! A front end that answers as it was told, and remembers what it heard.

use std::{cell::RefCell, collections::VecDeque, path::PathBuf};

use yalotheca_app::{
    Answer, AppError, Event, OpenOptions, Progress, Prompt, Purpose, Server,
    apply::prepare,
    ops::{
        adopt::{AdoptReport, AdoptRequest, adopt},
        change::Change,
    },
};
use yalotheca_standin::quayside;

/// What is said, and what was heard.
#[derive(Default)]
pub(crate) struct Scripted {
    pub(crate) texts: RefCell<VecDeque<&'static str>>,
    pub(crate) heard: RefCell<Vec<String>>,
}

impl Prompt for Scripted {
    fn confirm(&self, question: &str) -> Result<bool, AppError> {
        self.heard.borrow_mut().push(question.to_owned());
        Ok(true)
    }

    fn text(&self, question: &str) -> Answer {
        self.heard.borrow_mut().push(question.to_owned());
        self.texts.borrow_mut().pop_front().map_or(Answer::Nobody, |text| Answer::Text(text.to_owned()))
    }
}

impl Progress for Scripted {
    fn event(&self, event: Event<'_>) {
        let name = match event {
            Event::Recovered(_) => "recovered",
            Event::ForeignFolder { .. } => "foreign folder",
            Event::ForeignChange { .. } => "foreign change",
            Event::Secrets(_) => "secrets",
            Event::Unreachable(_) => "unreachable",
            Event::Announced { .. } => "announced",
            Event::MayBeRunning(_) => "may be running",
            Event::Starting(_) => "starting",
            Event::WillDownload { .. } => "will download",
        };
        self.heard.borrow_mut().push(name.to_owned());
    }
}

/// A server that somebody left behind, with a catalogue beside it.
pub(crate) struct World {
    root: tempfile::TempDir,
    pub(crate) front: Scripted,
}

impl World {
    pub(crate) fn new() -> Result<Self, Box<dyn std::error::Error>> {
        let root = tempfile::tempdir()?;
        let port = std::net::TcpListener::bind(("127.0.0.1", 0))?.local_addr()?.port();
        quayside::write_catalogue(&root.path().join("quayside"))?;
        quayside::write_left_behind_server(&root.path().join("harbour"), port)?;
        Ok(Self { root, front: Scripted::default() })
    }

    pub(crate) fn folder(&self) -> PathBuf {
        self.root.path().join("harbour")
    }

    pub(crate) fn root(&self) -> PathBuf {
        self.root.path().to_owned()
    }

    pub(crate) fn adopt(&self) -> Result<AdoptReport, AppError> {
        let request = AdoptRequest {
            folder: self.folder(),
            name: "Larkspur".into(),
            catalogues: vec!["quayside=../quayside".into()],
            ..AdoptRequest::default()
        };
        adopt(&request, &self.front)
    }

    pub(crate) fn open(&self, purpose: Purpose) -> Result<Server, AppError> {
        let options =
            OpenOptions { at: Some(self.folder()), command: "a story".into(), ..OpenOptions::default() };
        Server::open(purpose, &options, &self.front)
    }

    /// Carries a change out, and returns its number and how many files it touched.
    pub(crate) fn settle(server: &Server, change: Change) -> Result<(u32, usize), AppError> {
        let catalogues = server.catalogues_for(&change.wants);
        let prepared = prepare(server, &catalogues, &change.wants, &change.fresh, change.extras)?;
        let files = prepared.planned.change.files.len();
        let (number, gone) = prepared.settle(server, &catalogues, &change.wants)?;
        assert!(gone.is_empty());
        Ok((number, files))
    }

    pub(crate) fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.folder().join(name)).unwrap_or_default()
    }
}
