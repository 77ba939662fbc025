//! Where bytes lie that are to be placed.

use std::{collections::HashMap, fs, path::PathBuf};

use yalotheca_core::id::{Digest, TreePath};

use crate::tree::{Tree, TreeError};

/// Where the bytes with each digest lie.
pub type Sources = HashMap<Digest, ByteSource, foldhash::fast::RandomState>;

/// Where some bytes lie.
#[derive(Debug, Clone)]
pub enum ByteSource {
    /// In another file of the server.
    Server(TreePath),
    /// A file on this machine, somebody else's: it is copied.
    File(PathBuf),
    /// A file of the cache: one server may share it, where it lies on the same disk.
    Cached(PathBuf),
    /// The same, put there by this process, so that its digest is known to be right.
    Fresh(PathBuf),
    /// A file that a tool made for this change. It gets the date of its placing, since servers compare it with other files'.
    Built(PathBuf),
}

impl ByteSource {
    /// Returns the bytes, or nothing if this machine no longer has them.
    ///
    /// # Errors
    /// If the server cannot be read.
    pub fn read(&self, tree: &dyn Tree) -> Result<Option<Vec<u8>>, TreeError> {
        match self {
            Self::Server(path) => tree.read_file(path),
            Self::Cached(at) | Self::Fresh(at) | Self::File(at) | Self::Built(at) => Ok(fs::read(at).ok()),
        }
    }
}
