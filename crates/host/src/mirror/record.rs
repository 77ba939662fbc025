//! The record of a mirror, which is in the mirror itself.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use yalotheca_core::id::{Digest, TreePath};

use super::{MirrorError, own};
use crate::tree::Tree;

/// The name of the record in the mirror's own folder.
pub(crate) const RECORD: &str = "mirror.json";

/// The record of a mirror's files.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MirrorRecord {
    pub(super) format: u32,
    /// The files by their paths in the mirror.
    pub files: BTreeMap<TreePath, MirroredFile>,
}

/// A file of a mirror.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MirroredFile {
    /// The server's file.
    pub from: TreePath,
    /// The digest of that file.
    pub source: Digest,
    /// The size in the mirror.
    pub bytes: u64,
    /// The digest in the mirror.
    pub digest: Digest,
    /// Since when players do not need it any more, in seconds since 1970.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unneeded_since: Option<u64>,
}

/// Reads the record of a mirror; an empty one if there is none.
///
/// # Errors
/// If it cannot be read, or is not a record of this format.
pub fn read_record(mirror: &dyn Tree) -> Result<MirrorRecord, MirrorError> {
    let path = own(RECORD);
    let wrong = |why: String| MirrorError::Record { path: format!("{}/{path}", mirror.location()), why };
    let Some(bytes) = mirror.read_file(&path)? else { return Ok(MirrorRecord::default()) };
    let record: MirrorRecord = serde_json::from_slice(&bytes).map_err(|error| wrong(error.to_string()))?;
    if record.format == 1 {
        Ok(record)
    } else {
        Err(wrong(format!("it has format {}, but this program reads format 1", record.format)))
    }
}
