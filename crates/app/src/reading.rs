//! How much of a server's files a check reads.

use crate::Server;

/// What a check reads.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reading {
    /// The files themselves.
    Files,
    /// The files, and everything that players download from other hosts, of any size.
    Everything,
    /// The receipt, small files and files on this machine, without downloading large files from another.
    Records,
}

impl Reading {
    /// Returns what a check reads unless every byte was asked for.
    pub fn usual(server: &Server) -> Self {
        if server.tree.local().is_some() { Self::Files } else { Self::Records }
    }
}
