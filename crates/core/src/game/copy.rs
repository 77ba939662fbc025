//! `[copy]`: what is different on a copy of a server, on which something is tried.

use super::{ConfigPlace, Template, ValueTemplate};

/// What is different on a copy.
#[derive(Debug, Clone, Default)]
pub struct CopyRule {
    /// Patterns of what is not copied: worlds that the server generates, caches.
    pub empty: Vec<Template>,
    /// Values that are set: the copy is not announced to the public, say.
    pub set: Vec<(ConfigPlace, ValueTemplate)>,
}
