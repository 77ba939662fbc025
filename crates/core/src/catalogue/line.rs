//! What releases say, line by line, as a search sees it.

use crate::{sets::Set, version::ReleaseVersion};

/// A content, or a name that somebody else gave, by number.
pub(crate) type Number = u32;

/// What a line says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Saying {
    /// Needs the named content.
    Need,
    /// Needs one of a group (the one with this place in the release's list).
    Any(u16),
    /// Takes only some versions of the named content.
    Welcome,
    /// Refuses the named content.
    Refuse,
}

/// One thing that some releases say.
#[derive(Debug, Clone)]
pub(crate) struct Line {
    pub(crate) releases: Set,
    /// The range as first and last place, where it is one stretch; else the first is the higher one.
    pub(super) stretch: (u64, u64),
    /// The content that is named; without meaning for a group.
    pub(crate) on: Number,
    /// The first release that says it, where the range itself can be found.
    pub(crate) release: u32,
    pub(crate) saying: Saying,
}

impl Line {
    /// Returns the range as first and last place, where it is one stretch.
    pub(crate) fn stretch(&self) -> Option<(u64, u64)> {
        (self.stretch.0 <= self.stretch.1).then_some(self.stretch)
    }
}

/// What few contents have.
#[derive(Debug, Clone, Default)]
pub(crate) struct Rare {
    pub(crate) withdrawn: Option<Set>,
    pub(crate) prereleases: Option<Set>,
    /// Releases that ask the same of the platform, and one of them.
    pub(crate) grounds: Vec<(Set, u32)>,
}

pub(super) fn narrow(number: usize) -> u32 {
    u32::try_from(number).unwrap_or(u32::MAX)
}

/// What was gathered of one content.
pub(super) struct Parts {
    /// The releases' versions, newest first.
    pub(super) versions: Vec<ReleaseVersion>,
    /// Those that every release says come first, then those of the newest.
    pub(super) lines: Vec<Line>,
    /// How many every release says.
    pub(super) by_all: u32,
    /// For each release its lines that not all say.
    pub(super) said: Vec<Vec<u32>>,
    pub(super) rare: Option<Rare>,
}
