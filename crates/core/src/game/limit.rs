//! Bounds on the sizes of files that players download.

use super::{ConfigPlace, Template};

/// A bound on the sizes of some files.
#[derive(Debug, Clone)]
pub struct LimitRule {
    /// The pattern of their paths on the server.
    pub take: Template,
    /// The bound.
    pub most: Limit,
    /// A value with which there is no bound, as long as it is not empty.
    pub unless: Option<ConfigPlace>,
}

/// How large a file may be.
#[derive(Debug, Clone)]
pub enum Limit {
    /// As a value of the server says, in units of so many bytes.
    At(ConfigPlace, u64),
    /// So many bytes.
    Bytes(u64),
}
