//! What a change set is made of.

use serde::{Deserialize, Serialize};

use crate::{
    document::TextFile,
    id::{Digest, TreePath},
};

/// Where the bytes of a put come from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Source {
    /// A configuration file's whole new text.
    Text(TextFile),
    /// A payload's file, known by the step's digest.
    Payload,
    /// A file that an earlier settle set aside or replaced.
    Attic {
        /// The settle's number.
        settle: u32,
        /// The step that did it, counted from 0.
        step: usize,
    },
}

/// One step of a change set.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Step {
    /// Make a folder, where it does not exist.
    MakeFolder {
        /// Its path.
        path: TreePath,
    },
    /// Put a file at a path; what is there goes to the attic.
    Put {
        /// Its path.
        path: TreePath,
        /// Where its bytes come from.
        source: Source,
        /// The digest of what is there now, if anything is.
        before: Option<Digest>,
        /// The digest of what will be there.
        after: Digest,
        /// The size of what will be there, in bytes.
        size: u64,
    },
    /// Move a file to the attic.
    SetAside {
        /// Its path.
        path: TreePath,
        /// The digest of what is there now.
        before: Digest,
    },
    /// Remove a folder, where it is empty.
    RemoveFolder {
        /// Its path.
        path: TreePath,
    },
}

impl Step {
    /// Returns whether it puts a file where none is.
    pub fn is_new(&self) -> bool {
        matches!(self, Self::Put { before: None, .. })
    }

    /// Returns the digest of the file that it replaces or sets aside, if there is one.
    pub fn before(&self) -> Option<Digest> {
        match self {
            Self::Put { before, .. } => *before,
            Self::SetAside { before, .. } => Some(*before),
            Self::MakeFolder { .. } | Self::RemoveFolder { .. } => None,
        }
    }

    /// Returns the digest of the file that it puts, if it puts one.
    pub fn after(&self) -> Option<Digest> {
        match self {
            Self::Put { after, .. } => Some(*after),
            Self::SetAside { .. } | Self::MakeFolder { .. } | Self::RemoveFolder { .. } => None,
        }
    }

    /// Returns the path at which it does something.
    pub fn path(&self) -> &TreePath {
        match self {
            Self::MakeFolder { path }
            | Self::RemoveFolder { path }
            | Self::Put { path, .. }
            | Self::SetAside { path, .. } => path,
        }
    }
}
