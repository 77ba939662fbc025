//! What players fetch when they come: one resource pack, by a link.

use super::{ConfigPlace, ValueTemplate};
use crate::{document::Pointer, merge::MergeRule};

/// The pack that players are offered, and where the server is told about it.
#[derive(Debug, Clone)]
pub struct PackRule {
    /// A file at the top of every such archive.
    pub marker: String,
    /// Where its link is.
    pub link: ConfigPlace,
    /// Where its digest is, and of which kind it is.
    pub digest: Option<(ConfigPlace, PackDigest)>,
    /// Where it is said that players must have it.
    pub must: Option<MustRule>,
    /// How files of several packs are merged.
    pub merge: Vec<MergeRule>,
    /// Where the marker says of which format a pack is.
    pub format: Option<Pointer>,
}

/// The kinds of digests by which games know a pack.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PackDigest {
    /// SHA-1, in hexadecimal digits.
    Sha1,
    /// SHA-256, in hexadecimal digits.
    Sha256,
}

impl PackDigest {
    /// Returns what people call it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Sha1 => "SHA-1",
            Self::Sha256 => "SHA-256",
        }
    }
}

/// How it is said that players must have the pack.
#[derive(Debug, Clone)]
pub struct MustRule {
    /// The place.
    pub place: ConfigPlace,
    /// The value if they must.
    pub yes: ValueTemplate,
    /// The value if they need not.
    pub no: ValueTemplate,
}
