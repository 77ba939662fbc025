//! Where bytes lie that are to be placed.

use std::{collections::HashMap, path::PathBuf};

use yalotheca_core::id::{Digest, TreePath};

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
    /// A file that a tool has made for this change: it is dated when it is placed, since servers compare its date with others.
    Built(PathBuf),
}
