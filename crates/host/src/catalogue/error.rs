//! What is wrong with a catalogue, or with what it gives.

use std::{io, sync::Arc};

use yalotheca_core::{
    catalogue::ReadCatalogueError,
    hint::{Advice, Hint},
    id::ContentId,
};

use crate::{arrival::ArrivalError, fetch::FetchError};

/// A catalogue that could not be used.
#[derive(Debug, thiserror::Error)]
pub enum CatalogueError {
    /// It could not be fetched.
    #[error("catalogue {name}: {source}")]
    Fetch {
        /// What it is called here.
        name: String,
        /// Why.
        source: FetchError,
    },
    /// A file of it is broken.
    #[error("catalogue {name}: {source}")]
    Read {
        /// What it is called here.
        name: String,
        /// Why.
        source: ReadCatalogueError,
    },
    /// A folder of downloads, or a file in it, could not be read.
    #[error("catalogue {name}: {path}: {source}")]
    Disk {
        /// What it is called here.
        name: String,
        /// The path.
        path: String,
        /// Why.
        source: io::Error,
    },
    /// It promises a file that is not there.
    #[error("catalogue {name}: {what} is not there")]
    Missing {
        /// What it is called here.
        name: String,
        /// What is missing.
        what: String,
    },
    /// What was given by link, file or folder could not be used.
    #[error(transparent)]
    Given(#[from] ArrivalError),
    /// A file in a folder of downloads could not be looked into.
    #[error("catalogue {name}: {source}")]
    Arrival {
        /// What it is called here.
        name: String,
        /// Why.
        source: ArrivalError,
    },
    /// It is not signed by the publisher whose key is noted.
    #[error("catalogue {name}: the publisher's signature is not valid: {why}")]
    Signature {
        /// What it is called here.
        name: String,
        /// What is wrong.
        why: String,
    },
    /// It cannot be had now.
    #[error(transparent)]
    Unreachable(Arc<Self>),
    /// It is an older edition than one that was seen before.
    #[error(
        "catalogue {name}: this is edition {found}, and edition {seen} was seen before; the host may be keeping newer releases back"
    )]
    Older {
        /// What it is called here.
        name: String,
        /// The edition that was given.
        found: u64,
        /// The newest one that was seen.
        seen: u64,
    },
    /// A file changed since it was locked.
    #[error("catalogue {name}: {id} has changed since it was locked")]
    Changed {
        /// What it is called here.
        name: String,
        /// The content.
        id: ContentId,
    },
    /// An archive that a catalogue delivers does not hold the content.
    #[error("catalogue {name}: {file} should hold {id}, but {why}")]
    Delivered {
        /// What it is called here.
        name: String,
        /// The archive.
        file: String,
        /// The content.
        id: ContentId,
        /// What is wrong.
        why: String,
    },
    /// No catalogue has the bytes of a locked content.
    #[error("cannot get the files of {id} {version}: {why}")]
    NoSource {
        /// The content.
        id: ContentId,
        /// Its version.
        version: String,
        /// Why.
        why: String,
    },
}

impl CatalogueError {
    /// Returns whether what is missing was there once: a host does not answer, a file or a folder is gone.
    pub(super) fn is_absence(&self) -> bool {
        let is_gone = |error: &io::Error| {
            matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
        };
        let is_lost = |error: &FetchError| {
            matches!(
                error,
                FetchError::Unreachable { .. }
                    | FetchError::Refused { .. }
                    | FetchError::Offline { .. }
                    | FetchError::Page { .. }
                    | FetchError::Login { .. }
                    | FetchError::Expired { .. }
            )
        };
        match self {
            Self::Unreachable(_) | Self::Missing { .. } => true,
            Self::Disk { source, .. } | Self::Given(ArrivalError::Read { source, .. }) => is_gone(source),
            Self::Fetch { source, .. } => is_lost(source),
            _ => false,
        }
    }
}

impl Hint for CatalogueError {
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::Fetch { source, .. } => source.hint(),
            Self::Read { source, .. } => source.hint(),
            Self::Given(source) | Self::Arrival { source, .. } => source.hint(),
            Self::Disk { .. } | Self::Missing { .. } => {
                Some("check its [[catalogue]] entry in yalotheca.toml".into())
            }
            Self::Signature { .. } => Some(
                "nothing of it was used; ask the publisher, and change the key in yalotheca.toml only if they say so"
                    .into(),
            ),
            Self::Unreachable(error) => error.hint(),
            Self::Older { .. } => Some(
                "ask the publisher; if they went back on purpose, add older = true to that [[catalogue]] in yalotheca.toml".into(),
            ),
            Self::Changed { id, .. } => {
                Some(Advice::AcceptPresent(id.to_string()))
            }
            Self::Delivered { .. } => {
                Some("nothing was placed; tell the catalogue's publisher, or add the content by its file".into())
            }
            Self::NoSource { .. } => Some("add a catalogue that has it, or drop it".into()),
        }
    }
}
