//! The web folder from which players' games download files.

use super::{ConfigPlace, Pattern, Template, ValueTemplate};

/// Which files players download from a web folder, and how the server announces its address.
#[derive(Debug, Clone)]
pub struct MirrorRule {
    /// Where the address is.
    pub address: ConfigPlace,
    /// Whether the address must end in `/`.
    pub slash: bool,
    /// Values without which the address has no effect.
    pub switches: Vec<(ConfigPlace, ValueTemplate)>,
    /// The files.
    pub files: Vec<MirrorFiles>,
    /// A file that lists the others by their digests.
    pub index: Option<MirrorIndex>,
}

/// Files of one sort in a mirror.
#[derive(Debug, Clone)]
pub struct MirrorFiles {
    /// The pattern of their paths on the server.
    pub take: Template,
    /// Where they are in the mirror.
    pub named: MirrorNames,
    /// How they are compressed.
    pub compress: Option<Compression>,
    /// Whether the uncompressed file is there as well.
    pub plain: bool,
}

/// How files are named in a mirror.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MirrorNames {
    /// By their paths on the server.
    Path,
    /// By the SHA-1 of their bytes, in hexadecimal digits.
    Sha1,
}

/// How files in a mirror are compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Compression {
    /// bzip2; the suffix is `.bz2`.
    Bzip2,
    /// gzip; the suffix is `.gz`.
    Gzip,
}

impl Compression {
    /// Returns the suffix of compressed files, with its dot.
    pub fn suffix(self) -> &'static str {
        match self {
            Self::Bzip2 => ".bz2",
            Self::Gzip => ".gz",
        }
    }
}

/// A file that lists a mirror's files: a fixed beginning, then the SHA-1 of each file as 20 bytes, sorted.
#[derive(Debug, Clone)]
pub struct MirrorIndex {
    /// Its name in the mirror.
    pub file: String,
    /// How it begins.
    pub head: Vec<u8>,
    /// The log's lines with which a starting server lists what it announces to players: `digest`, in hexadecimal digits, and `name`.
    pub announced: Option<Pattern>,
}
