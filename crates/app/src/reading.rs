//! How much of a server's files is read to find something out.

use crate::Server;

/// What is read to find something out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reading {
    /// The files themselves.
    Files,
    /// The files, and what players fetch from other hosts, however large it is.
    Everything,
    /// The receipt, small files and what lies on this machine: what would have to be fetched from another machine is left out.
    Records,
}

impl Reading {
    /// Returns what is read where nobody asked for every byte.
    pub fn usual(server: &Server) -> Self {
        if server.tree.local().is_some() { Self::Files } else { Self::Records }
    }
}
