//! Every way in which a use case can fail.

use std::io;

use yalotheca_core::{
    change::PlanChangeError,
    desire::DesireError,
    document::EditDocumentError,
    hint::{Advice, Hint, Listing},
    id::{ContentId, ParseIdError},
    rehearse::RehearseError,
    settings::JudgeSettingError,
    solve::Explanation,
    suggest,
    toml_file::ReadTomlError,
    version::ParseRangeError,
};
use yalotheca_host::{
    catalogue::CatalogueError,
    console::ConsoleError,
    control::OpenControlError,
    fetch::FetchError,
    games::FindGameError,
    mirror::MirrorError,
    settle::SettleError,
    store::StoreError,
    survey::SurveyError,
    tree::{KnownCertificatesError, ParseAddressError, TreeError, ftp::ConnectFtpError, sftp::ConnectError},
    trial::TrialError,
};

/// A use case that failed.
#[derive(Debug, thiserror::Error)]
#[expect(missing_docs, reason = "a variant is the error of the part that it names")]
pub enum AppError {
    #[error(transparent)]
    Control(#[from] OpenControlError),
    #[error(transparent)]
    Game(#[from] FindGameError),
    #[error(transparent)]
    ReadToml(#[from] ReadTomlError),
    #[error(transparent)]
    Rehearse(#[from] RehearseError),
    #[error(transparent)]
    Survey(#[from] SurveyError),
    #[error(transparent)]
    Catalogue(#[from] CatalogueError),
    #[error(transparent)]
    Fetch(#[from] FetchError),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Settle(#[from] SettleError),
    #[error(transparent)]
    Desire(#[from] DesireError),
    #[error(transparent)]
    Change(#[from] PlanChangeError),
    #[error(transparent)]
    Edit(#[from] EditDocumentError),
    #[error(transparent)]
    Tree(#[from] TreeError),
    #[error(transparent)]
    Mirror(#[from] MirrorError),
    #[error(transparent)]
    Address(#[from] ParseAddressError),
    #[error(transparent)]
    Connect(#[from] ConnectError),
    #[error(transparent)]
    ConnectFtp(#[from] ConnectFtpError),
    #[error(transparent)]
    Certificates(#[from] KnownCertificatesError),
    #[error(transparent)]
    Trial(#[from] TrialError),
    #[error(transparent)]
    Console(#[from] ConsoleError),
    #[error(transparent)]
    Id(#[from] ParseIdError),
    #[error(transparent)]
    Range(#[from] ParseRangeError),
    #[error("no catalogue has a content called {id}")]
    UnknownContent { id: ContentId, near: Vec<String>, has_catalogues: bool },
    #[error("no combination of versions satisfies all of this")]
    NoLineup(Box<Explanation>),
    #[error("a defect in Yalotheca: its solver chose releases that do not go together\n{}", breaches.join("\n"))]
    Solver { breaches: Vec<String>, question: Box<serde_json::Value> },
    #[error(transparent)]
    Setting(#[from] JudgeSettingError),
    #[error("fix does nothing about this: {says}")]
    ByHand { says: String, fix: Option<Box<Advice>> },
    #[error("{what}")]
    Usage { what: String, hint: Option<Advice> },
    #[error("{what}")]
    Refused { what: String, hint: Option<Advice> },
    #[error("the server does not answer players at {host}, port {port}: {source}")]
    Silent { host: String, port: u16, source: io::Error },
    #[error("{what}: {source}")]
    Io { what: String, source: io::Error },
}

impl AppError {
    /// Returns the error of a server's folder that is behind this one, where there is one.
    pub fn tree_error(&self) -> Option<&TreeError> {
        match self {
            Self::Tree(error)
            | Self::Mirror(MirrorError::Tree(error))
            | Self::Control(OpenControlError::Tree(error))
            | Self::Survey(SurveyError::Tree(error))
            | Self::Settle(SettleError::Tree(error) | SettleError::Control { source: error, .. }) => {
                Some(error)
            }
            _ => None,
        }
    }
}

impl Hint for AppError {
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::Control(error) => error.hint(),
            Self::Game(error) => error.hint(),
            Self::ReadToml(error) => error.hint(),
            Self::Rehearse(error) => error.hint(),
            Self::Survey(error) => error.hint(),
            Self::Catalogue(error) => error.hint(),
            Self::Fetch(error) => error.hint(),
            Self::Store(error) => error.hint(),
            Self::Settle(error) => error.hint(),
            Self::Desire(error) => error.hint(),
            Self::Change(error) => error.hint(),
            Self::Edit(error) => error.hint(),
            Self::Tree(error) => error.hint(),
            Self::Mirror(error) => error.hint(),
            Self::Address(error) => error.hint(),
            Self::Connect(error) => error.hint(),
            Self::ConnectFtp(error) => error.hint(),
            Self::Trial(error) => error.hint(),
            Self::Console(error) => error.hint(),
            Self::Id(error) => error.hint(),
            Self::Range(error) => error.hint(),
            Self::UnknownContent { has_catalogues: false, .. } => Some(Advice::AddCatalogue),
            Self::UnknownContent { id, near, .. } => {
                suggest::did_you_mean(id.as_str(), near.iter().map(String::as_str))
                    .map(Advice::Say)
                    .or(Some(Advice::List(Listing::Catalogued)))
            }
            Self::Silent { .. } => Some(Advice::StartFirst),
            Self::NoLineup(_) | Self::Io { .. } | Self::Certificates(_) => None,
            Self::ByHand { fix, .. } => fix.as_deref().cloned(),
            Self::Usage { hint, .. } | Self::Refused { hint, .. } => hint.clone(),
            Self::Setting(error) => error.hint(),
            Self::Solver { .. } => Some(Advice::ReportDefect),
        }
    }
}
