//! The receipt: what settling placed and registered, kept with the server.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::{Arc, OnceLock},
};

use serde::{Deserialize, Serialize};

use crate::{
    desire::Entry,
    document::{Before, Format, Pointer},
    hint::{Advice, Hint},
    id::{ContentId, Digest, TreePath},
    route::Payload,
};

/// A placed file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Placed {
    /// Whose file it is.
    pub content: ContentId,
    /// Its size in bytes.
    pub size: u64,
    /// The digest of its bytes.
    pub digest: Digest,
}

/// A configuration entry that is ours.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OwnedEntry {
    /// Whose entry it is.
    pub content: ContentId,
    /// The configuration file.
    pub file: TreePath,
    /// Its format.
    pub format: Format,
    /// The place in it.
    pub pointer: Pointer,
    /// What we put there.
    pub entry: Entry,
    /// What stood there before.
    pub before: Before,
}

/// What is known of one settled content.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(from = "SettledForm", into = "SettledForm")]
pub struct Settled {
    payload: Arc<Payload>,
    digest: OnceLock<Digest>,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct SettledForm {
    payload: Payload,
}

impl From<SettledForm> for Settled {
    fn from(form: SettledForm) -> Self {
        Self::new(form.payload)
    }
}

impl From<Settled> for SettledForm {
    fn from(settled: Settled) -> Self {
        Self { payload: Arc::unwrap_or_clone(settled.payload) }
    }
}

impl PartialEq for Settled {
    fn eq(&self, other: &Self) -> bool {
        self.payload == other.payload
    }
}

impl Eq for Settled {}

impl Settled {
    /// Returns a content with these files.
    pub fn new(payload: Payload) -> Self {
        Self { payload: Arc::new(payload), digest: OnceLock::new() }
    }

    /// The same, of which the payload's digest is known.
    pub(super) fn known(payload: Payload, digest: Digest) -> Self {
        Self { payload: Arc::new(payload), digest: OnceLock::from(digest) }
    }

    /// Returns its files, by their paths in the payload.
    pub fn payload(&self) -> &Payload {
        &self.payload
    }

    /// Returns the payload's digest, which is computed once.
    pub fn digest(&self) -> Digest {
        *self.digest.get_or_init(|| self.payload.digest())
    }
}

/// What settling placed and registered on a server.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Receipt {
    /// The format's number.
    pub format: u32,
    /// The contents.
    #[serde(default)]
    pub contents: BTreeMap<ContentId, Settled>,
    /// The placed files by path. A file found in a wrong place stands here under that place. Receipts share them as long as they are the same.
    #[serde(default)]
    pub placed: Arc<BTreeMap<TreePath, Placed>>,
    /// The registered entries.
    #[serde(default)]
    pub entries: Vec<OwnedEntry>,
    /// Configuration files that did not exist before us, with what they began with.
    #[serde(default)]
    pub created: BTreeMap<TreePath, String>,
    /// Folders that did not exist before us.
    #[serde(default)]
    pub folders: BTreeSet<TreePath>,
}

/// A receipt that cannot be read.
#[derive(Debug, thiserror::Error)]
#[error("{file}: {source}")]
pub struct ReadReceiptError {
    /// The file.
    pub file: String,
    /// What the reader says.
    pub source: serde_json::Error,
}

impl Hint for ReadReceiptError {
    fn hint(&self) -> Option<Advice> {
        Some(Advice::RebuildReceipt)
    }
}

impl Receipt {
    /// Returns a receipt of nothing.
    pub fn empty() -> Self {
        Self { format: 1, ..Self::default() }
    }

    /// Reads a receipt; `file` is its name for messages.
    ///
    /// # Errors
    /// Where it is not JSON of that shape.
    pub fn parse(file: &str, text: &str) -> Result<Self, ReadReceiptError> {
        serde_json::from_str(text).map_err(|source| ReadReceiptError { file: file.into(), source })
    }

    /// Returns the receipt's text.
    pub fn text(&self) -> String {
        // Plain data whose map keys are texts always becomes JSON.
        serde_json::to_string_pretty(self).unwrap_or_default() + "\n"
    }
}
