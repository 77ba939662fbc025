//! Needs with alternatives, and the versions in which a release provides another content's name.

use std::fmt;

use serde::{
    Deserialize, Deserializer, Serialize, Serializer,
    de::{MapAccess, Visitor},
};

use super::provided_matches;
use crate::{
    id::ContentId,
    version::{ReleaseVersion, VersionRange},
};

/// A need that any one of several contents can meet, in the author's order of preference.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct AnyOf(Vec<(ContentId, VersionRange)>);

impl AnyOf {
    /// Returns the contents with their ranges, the preferred one first.
    pub fn iter(&self) -> impl Iterator<Item = (&ContentId, &VersionRange)> {
        self.0.iter().map(|(id, range)| (id, range))
    }

    /// Returns the contents, the preferred one first.
    pub fn keys(&self) -> impl Iterator<Item = &ContentId> {
        self.0.iter().map(|(id, _)| id)
    }

    /// Returns how many there are.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Returns whether there is none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl FromIterator<(ContentId, VersionRange)> for AnyOf {
    fn from_iter<T: IntoIterator<Item = (ContentId, VersionRange)>>(pairs: T) -> Self {
        Self(pairs.into_iter().collect())
    }
}

impl Serialize for AnyOf {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_map(self.iter())
    }
}

impl<'de> Deserialize<'de> for AnyOf {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Pairs;
        impl<'de> Visitor<'de> for Pairs {
            type Value = AnyOf;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("ranges by content")
            }

            fn visit_map<M: MapAccess<'de>>(self, mut map: M) -> Result<AnyOf, M::Error> {
                let mut pairs = Vec::new();
                while let Some(pair) = map.next_entry()? {
                    pairs.push(pair);
                }
                Ok(AnyOf(pairs))
            }
        }
        deserializer.deserialize_map(Pairs)
    }
}

/// The versions in which a release provides a name. An empty list meets every range.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(from = "Written", into = "Written")]
pub struct Provided(Vec<ReleaseVersion>);

#[derive(Clone, Serialize, Deserialize)]
#[serde(untagged)]
enum Written {
    None(()),
    One(ReleaseVersion),
    Several(Vec<ReleaseVersion>),
}

impl Provided {
    /// Returns whether one of the versions lies in a range.
    pub fn matches(&self, range: &VersionRange) -> bool {
        self.0.is_empty() || self.0.iter().any(|version| provided_matches(Some(version), range))
    }

    /// Returns the versions; none where its author names none.
    pub fn versions(&self) -> &[ReleaseVersion] {
        &self.0
    }
}

impl From<Option<ReleaseVersion>> for Provided {
    fn from(version: Option<ReleaseVersion>) -> Self {
        Self(version.into_iter().collect())
    }
}

impl FromIterator<ReleaseVersion> for Provided {
    fn from_iter<T: IntoIterator<Item = ReleaseVersion>>(versions: T) -> Self {
        Self(versions.into_iter().collect())
    }
}

impl From<Written> for Provided {
    fn from(written: Written) -> Self {
        Self(match written {
            Written::None(()) => Vec::new(),
            Written::One(version) => vec![version],
            Written::Several(versions) => versions,
        })
    }
}

impl From<Provided> for Written {
    fn from(provided: Provided) -> Self {
        match <[ReleaseVersion; 1]>::try_from(provided.0) {
            Ok([one]) => Self::One(one),
            // An empty list says "none known" in TOML as well, which has no null.
            Err(several) => Self::Several(several),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_provided_is_written_as_it_was_read() {
        assert!(serde_json::from_str::<Provided>("null").unwrap().versions().is_empty());
        for (text, takes) in [("[]", ">=9"), ("\"1.5\"", "1.5"), ("[\"1.5\",\"2\"]", ">=2")] {
            let provided: Provided = serde_json::from_str(text).unwrap();
            assert!(provided.matches(&VersionRange::parse(takes).unwrap()), "{text}");
            assert_eq!(serde_json::to_string(&provided).unwrap(), text);
        }
        let two: Provided = serde_json::from_str("[\"1.5\", \"2\"]").unwrap();
        assert!(!two.matches(&VersionRange::parse(">=3").unwrap()));
    }

    #[test]
    fn alternatives_keep_their_authors_order() {
        let text = r#"{"z":"*","a":">=2"}"#;
        let any: AnyOf = serde_json::from_str(text).unwrap();
        assert_eq!(any.keys().map(ContentId::as_str).collect::<Vec<_>>(), ["z", "a"]);
        assert_eq!(serde_json::to_string(&any).unwrap(), text);
    }
}
