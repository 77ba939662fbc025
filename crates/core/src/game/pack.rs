//! The resource pack that players download when they join.

use super::{ConfigPlace, ValueTemplate};
use crate::{document::Pointer, merge::MergeRule};

/// How a server announces its resource pack.
#[derive(Debug, Clone)]
pub struct PackRule {
    /// A file at the top of every such archive.
    pub marker: String,
    /// Where its link is.
    pub link: ConfigPlace,
    /// Where its digest is, and its kind.
    pub digest: Option<(ConfigPlace, PackDigest)>,
    /// Where the server says that players must have it.
    pub must: Option<MustRule>,
    /// The largest pack that players' games take, in bytes.
    pub most: Option<u64>,
    /// How files of several packs are merged.
    pub merge: Vec<MergeRule>,
    /// Where the marker names the pack's format.
    pub format: Option<Pointer>,
}

/// The kinds of digests that games use for packs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PackDigest {
    /// SHA-1, in hexadecimal digits.
    Sha1,
    /// SHA-256, in hexadecimal digits.
    Sha256,
}

impl PackDigest {
    /// Returns its usual name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Sha1 => "SHA-1",
            Self::Sha256 => "SHA-256",
        }
    }
}

/// The setting that makes the pack required.
#[derive(Debug, Clone)]
pub struct MustRule {
    /// The place.
    pub place: ConfigPlace,
    /// The value that requires it.
    pub yes: ValueTemplate,
    /// The value that makes it optional.
    pub no: ValueTemplate,
}
