//! Ranges of versions: `>=1.2, <2`, `1.4.*`, `^1.2`, `=1.0`, `*`, and `||` between alternatives; and the other forms in which
//! people write them (docs/versions.md has the table).
//!
//! A comma or white space joins parts that must all hold. A version alone means exactly that version. `<2` leaves out
//! the pre-releases of 2 as well, since nobody who writes it wants them.

use std::{cmp::Ordering, fmt, sync::Arc};

use crate::text_form::text_form;

use super::{ReleaseVersion, compare_keys, forms, part::Part, place::stretch};

/// A set of versions, written as a range. Clones share it.
#[derive(Clone)]
pub struct VersionRange(pub(super) Arc<Alternatives>);

/// What a range takes.
pub(super) struct Alternatives {
    text: Box<str>,
    /// One of them has to take a version with all its parts.
    parts: Box<[Box<[Part]>]>,
    /// The first and the last place in it, where it is one stretch of places.
    pub(super) stretch: Option<(u64, u64)>,
}

/// What is wrong with a range.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{text:?} is not a version range: {why}")]
pub struct ParseRangeError {
    /// What was given.
    pub text: String,
    /// What is wrong with it.
    pub why: String,
}

impl crate::hint::Hint for ParseRangeError {
    fn hint(&self) -> Option<crate::hint::Advice> {
        Some("ranges look like \">=1.2, <2\", \"1.4.*\", \"^1.2\", \"=1.0\", \"*\" or \"1.2 || >=2\"".into())
    }
}

impl VersionRange {
    /// Returns the range that takes every version.
    pub fn any() -> Self {
        Self::of("*", Box::new([Box::new([Part::Any])]))
    }

    /// Returns the range that takes exactly one version.
    pub fn exactly(version: &ReleaseVersion) -> Self {
        Self::of(&format!("={version}"), Box::new([Box::new([Part::Exactly(version.clone())])]))
    }

    fn of(text: &str, parts: Box<[Box<[Part]>]>) -> Self {
        let stretch = stretch(&parts);
        Self(Arc::new(Alternatives { text: text.into(), parts, stretch }))
    }

    /// Reads a range.
    ///
    /// # Errors
    /// Where a part is none of the forms above, or a version in it cannot be read.
    pub fn parse(text: &str) -> Result<Self, ParseRangeError> {
        let bad = |why: String| ParseRangeError { text: text.into(), why };
        let mut alternatives: Vec<Box<[Part]>> = Vec::with_capacity(1);
        for alternative in forms::alternatives(text).map_err(bad)? {
            let mut parts = Vec::with_capacity(1);
            for word in forms::words(alternative).map_err(bad)? {
                forms::read(&word, &mut parts).map_err(bad)?;
            }
            if parts.is_empty() {
                return Err(bad("a part is empty".into()));
            }
            if let Some(why) = forms::contradiction(&parts) {
                return Err(bad(why));
            }
            alternatives.push(parts.into());
        }
        Ok(Self::of(text.trim(), alternatives.into()))
    }

    /// Returns the version that a range like `=1.4` names.
    pub fn only_version(&self) -> Option<ReleaseVersion> {
        let text = self.as_str().trim().strip_prefix('=').filter(|_| self.is_exact())?;
        ReleaseVersion::parse(text.trim_start_matches('=').trim()).ok()
    }

    /// Returns whether the version lies in the range.
    pub fn matches(&self, version: &ReleaseVersion) -> bool {
        if let (Some((first, last)), Some(place)) = (self.0.stretch, version.place()) {
            return (first..=last).contains(&place);
        }
        self.matches_by_parts(version)
    }

    /// Says the same without places.
    pub(super) fn matches_by_parts(&self, version: &ReleaseVersion) -> bool {
        self.0.parts.iter().any(|parts| parts.iter().all(|part| part.matches(version)))
    }

    /// Returns whether every version in the range is newer than this one.
    pub fn is_above(&self, version: &ReleaseVersion) -> bool {
        self.0.parts.iter().all(|parts| {
            parts.iter().any(|part| match part {
                Part::Exactly(bound) | Part::AtLeast(bound) => bound.compare_precedence(version).is_gt(),
                Part::Above(bound) => bound.compare_precedence(version).is_ge(),
                Part::Like { from, .. } => compare_keys(from, &version.0.key).is_gt(),
                _ => false,
            })
        })
    }

    /// Returns whether every version in the range is older than this one.
    pub fn is_below(&self, version: &ReleaseVersion) -> bool {
        self.0.parts.iter().all(|parts| {
            parts.iter().any(|part| match part {
                Part::Exactly(bound) | Part::AtMost(bound) => bound.compare_precedence(version).is_lt(),
                Part::Below { key, .. } | Part::Like { below: key, .. } => {
                    compare_keys(key, &version.0.key).is_le()
                }
                _ => false,
            })
        })
    }

    /// Returns whether every version lies in the range.
    pub fn is_any(&self) -> bool {
        self.0.parts.iter().any(|parts| parts.iter().all(|part| matches!(part, Part::Any)))
    }

    /// Returns whether the range names a pre-release itself, and so asks for one.
    pub fn names_prerelease(&self) -> bool {
        self.0.parts.iter().flat_map(|parts| parts.iter()).any(|part| match part {
            Part::Any | Part::Like { .. } | Part::Not(_) => false,
            Part::Exactly(v) | Part::AtLeast(v) | Part::Above(v) | Part::AtMost(v) => v.is_prerelease(),
            Part::Below { shown, .. } => shown.is_prerelease(),
        })
    }

    /// Returns whether the range names a pre-release of the same version as this one, and so asks for such.
    pub fn names_prerelease_of(&self, version: &ReleaseVersion) -> bool {
        let named = |named: &ReleaseVersion| named.is_prerelease() && named.has_same_base(version);
        self.0.parts.iter().flat_map(|parts| parts.iter()).any(|part| match part {
            Part::Any | Part::Like { .. } | Part::Not(_) => false,
            Part::Exactly(v) | Part::AtLeast(v) | Part::Above(v) | Part::AtMost(v) => named(v),
            Part::Below { shown, .. } => named(shown),
        })
    }

    /// Returns whether the range takes one version only, and so holds its content there.
    pub fn is_exact(&self) -> bool {
        self.0.parts.len() == 1 && self.0.parts[0].iter().any(|part| matches!(part, Part::Exactly(_)))
    }

    /// Returns the range as it was written.
    pub fn as_str(&self) -> &str {
        &self.0.text
    }

    /// Returns the range in words: `2.1 or newer, below 3`.
    pub fn in_words(&self) -> String {
        let alternatives: Vec<String> = self
            .0
            .parts
            .iter()
            .map(|parts| parts.iter().map(Part::in_words).collect::<Vec<_>>().join(", "))
            .collect();
        alternatives.join(", or ")
    }
}

impl PartialEq for VersionRange {
    fn eq(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0) || self.0.text == other.0.text
    }
}
impl Eq for VersionRange {}
impl PartialOrd for VersionRange {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}
impl Ord for VersionRange {
    fn cmp(&self, other: &Self) -> Ordering {
        self.0.text.cmp(&other.0.text)
    }
}
impl fmt::Display for VersionRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0.text)
    }
}
impl fmt::Debug for VersionRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "VersionRange({})", self.0.text)
    }
}
impl std::str::FromStr for VersionRange {
    type Err = ParseRangeError;
    fn from_str(text: &str) -> Result<Self, ParseRangeError> {
        Self::parse(text)
    }
}
text_form!(VersionRange, "a version range", pooled);
