//! One part of a range: a bound, or a stretch between two.

use std::cmp::Ordering;

use super::{Piece, ReleaseVersion, compare_keys};

#[derive(Debug, Clone)]
pub(super) enum Part {
    Any,
    Exactly(ReleaseVersion),
    Not(ReleaseVersion),
    AtLeast(ReleaseVersion),
    Above(ReleaseVersion),
    AtMost(ReleaseVersion),
    Below { shown: ReleaseVersion, key: Vec<Piece> },
    Like { shown: String, from: Vec<Piece>, below: Vec<Piece> },
}

impl Part {
    pub(super) fn matches(&self, version: &ReleaseVersion) -> bool {
        if version.is_unversioned() {
            return match self {
                Self::Any => true,
                // Whatever its bytes are, where none are named.
                Self::Exactly(wanted) if wanted.as_str().contains('+') => wanted == version,
                Self::Exactly(wanted) => wanted.is_unversioned(),
                _ => false,
            };
        }
        match self {
            Self::Any => true,
            Self::Exactly(wanted) => !wanted.is_unversioned() && version.compare_precedence(wanted).is_eq(),
            Self::Not(left_out) => !version.compare_precedence(left_out).is_eq(),
            Self::AtLeast(bound) => version.compare_precedence(bound).is_ge(),
            Self::Above(bound) => version.compare_precedence(bound).is_gt(),
            Self::AtMost(bound) => version.compare_precedence(bound).is_le(),
            Self::Below { key, .. } => compare_keys(&version.0.key, key) == Ordering::Less,
            Self::Like { from, below, .. } => {
                compare_keys(&version.0.key, from).is_ge()
                    && compare_keys(&version.0.key, below) == Ordering::Less
            }
        }
    }

    pub(super) fn in_words(&self) -> String {
        match self {
            Self::Any => "any version".into(),
            Self::Exactly(v) => v.to_string(),
            Self::Not(v) => format!("other than {v}"),
            Self::AtLeast(v) => format!("{v} or newer"),
            Self::Above(v) => format!("newer than {v}"),
            Self::AtMost(v) => format!("{v} or older"),
            Self::Below { shown, .. } => format!("below {shown}"),
            Self::Like { shown, .. } => shown.clone(),
        }
    }
}
