//! `[[runtime]]`: what the server's engine itself runs on, and how what is installed of it is found.

use super::{ConfigPlace, Pattern, Template};

/// Something that an engine runs on.
#[derive(Debug, Clone)]
pub struct RuntimeRule {
    /// What people call it.
    pub title: String,
    /// Where the engine says which version it needs.
    pub needs: ConfigPlace,
    /// The archive in which that file is, if it is in one.
    pub inside: Option<Template>,
    /// The launch setting that names it.
    pub setting: ConfigPlace,
    /// Whether the setting is its path, rather than its version.
    pub by_path: bool,
    /// Patterns of the paths at which it is installed.
    pub paths: Vec<Template>,
    /// A command that prints what is installed, one a line.
    pub command: Vec<Template>,
    /// The version (`version`) in such a path, or in such a line; `path` in a line is where it is.
    pub pattern: Pattern,
}
