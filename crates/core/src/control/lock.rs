//! `yalotheca.lock`: the lineup, in load order, with all that is needed to bring it back.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use serde::{Deserialize, Serialize};

use super::LockedPack;
use crate::{
    catalogue::{Member, Release, Universe},
    hint::{Advice, Hint},
    id::{ContentId, TreePath},
    solve::Selection,
    version::ReleaseVersion,
};

const HEAD: &str = "# The contents that are installed, in load order. Written by yalotheca; keep it beside yalotheca.toml, do not edit it.\n";

/// The lineup as it was last settled (or found by `adopt`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LockFile {
    /// The format's number.
    pub format: u32,
    /// The contents, first loaded first.
    #[serde(default, rename = "content")]
    pub contents: Vec<Locked>,
    /// The digests of signing keys by name, as first seen or accepted. They stay when their
    /// contents are removed.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub keys: BTreeMap<String, String>,
    /// The resource pack that players are offered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pack: Option<LockedPack>,
}

/// One content of the lineup.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Locked {
    /// Its id.
    pub id: ContentId,
    /// What people call it.
    pub title: String,
    /// The catalogue it came from; empty for what was found on the server.
    pub catalogue: String,
    /// Whether it was switched off when this was written: here, and not enabled.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub off: bool,
    /// What tells the want by which it was given by hand; another one has not been settled yet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub given: Option<String>,
    /// The release.
    pub release: Release,
    /// What differs from the usual on this server, as it was found.
    #[serde(default, skip_serializing_if = "AsFound::is_usual")]
    pub found: AsFound,
}

/// How a content was found on a server that others had set up, as far as that is not as it would be installed. `fix` ends what the
/// server does not like of it.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct AsFound {
    /// The folder in which its files lie, where the server loads them from another folder than the usual one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<TreePath>,
    /// Whether it lies where the server loads everything, so that no entry enables it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub always_on: bool,
    /// Whether it keeps its place in the order although relations say otherwise: somebody made that order.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub in_place: bool,
    /// The configuration entries that it did not have (see [`crate::desire::Registration::key`]); they are not added.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub unregistered: BTreeSet<String>,
    /// Copies of its files that were not there, or had other bytes; they are not placed.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub unplaced: BTreeSet<TreePath>,
}

impl Locked {
    /// Returns the content with the version that is installed.
    pub fn chosen(&self) -> (ContentId, ReleaseVersion) {
        (self.id.clone(), self.release.version.clone())
    }
}

impl AsFound {
    /// Returns whether nothing differs from the usual.
    pub fn is_usual(&self) -> bool {
        *self == Self::default()
    }
}

/// What is wrong with `yalotheca.lock`.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ReadLockError {
    /// It is not TOML of that shape.
    #[error("{file}: {why}")]
    Shape {
        /// The file.
        file: String,
        /// What the reader says.
        why: String,
    },
    /// It has a newer format.
    #[error("{file}: it has format {found}, but this program reads format 1")]
    Format {
        /// The file.
        file: String,
        /// The number in the file.
        found: u32,
    },
}

impl Hint for ReadLockError {
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::Shape { .. } => Some(Advice::RestoreLock),
            Self::Format { .. } => Some("use a newer version of yalotheca".into()),
        }
    }
}

impl Default for LockFile {
    fn default() -> Self {
        Self { format: 1, contents: Vec::new(), keys: BTreeMap::new(), pack: None }
    }
}

impl LockFile {
    /// Reads the file; `file` is its name for messages.
    ///
    /// # Errors
    /// Where it is not TOML of that shape or of a newer format.
    pub fn parse(file: &str, text: &str) -> Result<Self, ReadLockError> {
        let mut lock: Self = toml::from_str(text).map_err(|error| ReadLockError::Shape {
            file: file.into(),
            why: error.to_string().trim().into(),
        })?;
        // Earlier programs did not note by which bytes a content without a version is known.
        lock.contents.iter_mut().for_each(|locked| locked.release.know_by_bytes());
        if lock.format == 1 {
            Ok(lock)
        } else {
            Err(ReadLockError::Format { file: file.into(), found: lock.format })
        }
    }

    /// Returns the text of the file.
    pub fn text(&self) -> String {
        // Plain data without maps whose keys are no texts always becomes TOML.
        let text = toml::to_string(self);
        // Better to end here than to write a lock that has lost what it holds.
        format!("{HEAD}{}", text.unwrap_or_else(|error| unreachable!("the lock cannot be written: {error}")))
    }

    /// Returns one content.
    pub fn get(&self, id: &ContentId) -> Option<&Locked> {
        self.contents.iter().find(|locked| locked.id == *id)
    }

    /// Returns the contents that were on when this was written.
    pub fn on(&self) -> impl Iterator<Item = &Locked> {
        self.contents.iter().filter(|locked| !locked.off)
    }

    /// Returns what the server loads: contents that are on, without the members of packs that are off, what only these need and
    /// their names.
    #[must_use]
    pub fn loaded(&self, off: &BTreeMap<ContentId, String>) -> Self {
        let mut loaded: Vec<Locked> = self.on().cloned().collect();
        for release in loaded.iter_mut().map(|locked| &mut locked.release) {
            let is_off = |member: &&Member| off.contains_key(&member.id);
            let (gone, left): (Vec<_>, Vec<_>) =
                release.members.clone().into_iter().partition(|m| is_off(&m));
            for member in &gone {
                release.provides.remove(&member.id);
                for need in
                    member.needs.keys().filter(|need| left.iter().all(|m| !m.needs.contains_key(*need)))
                {
                    release.needs.remove(need);
                }
            }
            release.members = left;
        }
        Self { contents: loaded, ..Self::default() }
    }

    /// Returns the chosen versions of what is on.
    pub fn selection(&self) -> Selection {
        self.on().map(Locked::chosen).collect()
    }

    /// Returns the load order.
    pub fn order(&self) -> Vec<ContentId> {
        self.contents.iter().map(|locked| locked.id.clone()).collect()
    }

    /// Returns what is locked, by id.
    pub fn by_id(&self) -> HashMap<&ContentId, &Locked> {
        self.contents.iter().map(|locked| (&locked.id, locked)).collect()
    }

    /// Returns a universe of nothing but what is locked and on.
    pub fn universe(&self) -> Universe {
        let mut universe = Universe::default();
        for locked in self.on() {
            universe.add_release(&locked.id, &locked.catalogue, locked.release.clone());
        }
        universe
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::version::VersionRange;

    #[test]
    fn read_and_written_the_same() {
        let mut release = Release::new(ReleaseVersion::parse("1.4").unwrap(), "plugin");
        release.needs.insert(ContentId::new("harbour-core").unwrap(), VersionRange::parse(">=2").unwrap());
        release
            .provides
            .insert(ContentId::new("bells").unwrap(), Some(ReleaseVersion::parse("1").unwrap()).into());
        release.provides.insert(ContentId::new("gongs").unwrap(), None.into());
        release.platforms.push([("engine".to_string(), VersionRange::any())].into());
        let id = ContentId::new("tidebell").unwrap();
        let found = AsFound {
            folder: Some(TreePath::new("mods/bells_old").unwrap()),
            always_on: true,
            in_place: true,
            unregistered: ["plugins/order.txt#: tidebell".to_owned()].into(),
            unplaced: [TreePath::new("keys/x.mkey").unwrap()].into(),
        };
        let title = "Tidebell".to_owned();
        let given = Some("0f".to_owned());
        let locked =
            Locked { id: id.clone(), title, catalogue: "q".into(), off: true, given, release, found };
        let lock = LockFile { contents: vec![locked], ..LockFile::default() };
        let read = LockFile::parse("l", &lock.text()).unwrap();
        assert_eq!(read, lock);
        assert!(read.get(&id).is_some() && read.universe().get(&id).is_none(), "what is off is not chosen");
        assert!(read.selection().is_empty());
        // What an earlier program wrote of a content without a version.
        let payload = crate::id::Digest::of(b"files");
        let old = format!(
            "format = 1\n[[content]]\nid = \"bell\"\ntitle = \"\"\ncatalogue = \"\"\n[content.release]\n\
             version = \"unversioned\"\nkind = \"mod\"\npayload = \"{payload}\"\n"
        );
        let old = LockFile::parse("l", &old).unwrap();
        assert_eq!(old.contents[0].release.version, ReleaseVersion::edition(&payload));
        assert!(LockFile::parse("l", "format = 2").is_err() && LockFile::parse("l", "x").is_err());
    }
}
