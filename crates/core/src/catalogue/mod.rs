//! Contents, their releases, and what releases say of one another.

mod alternatives;
mod format;
mod gathered;
mod index;
mod line;
mod lists;
mod platform;
mod recognised;
mod rows;
mod universe;

use std::collections::BTreeMap;

use litemap::LiteMap;
use serde::{Deserialize, Serialize};

pub use alternatives::{AnyOf, Provided};
pub use format::{CatalogueEntry, ContentFile, FORMAT, ReadCatalogueError, read_content};
pub use index::CatalogueIndex;
pub(crate) use line::{Line, Number, Rare, Saying};
pub use platform::{Platform, PlatformMiss};
pub use recognised::Recognised;
pub(crate) use rows::Gathered;
pub use universe::Universe;

use crate::{
    id::{ContentId, Digest},
    version::{ReleaseVersion, VersionRange},
};

/// Ranges by content: what a release needs, welcomes or refuses. Most are short, so they stand in a sorted list.
pub type Relations = LiteMap<ContentId, VersionRange>;

/// Ranges by part of the platform (`engine`, a loader's name, `runtime`).
pub type PlatformSet = BTreeMap<String, VersionRange>;

/// Where a content has its effect.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Side {
    /// On the server only.
    #[default]
    Server,
    /// In players' games only.
    Player,
    /// On the server and in players' games.
    Both,
}

impl Side {
    #[expect(clippy::trivially_copy_pass_by_ref, reason = "serde calls it with a reference")]
    fn is_server(&self) -> bool {
        *self == Self::Server
    }
}

/// One file of a release.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ReleaseFile {
    /// The file's name, as it is placed.
    pub name: String,
    /// Its size in bytes.
    pub size: u64,
    /// The BLAKE3 digest of its bytes.
    pub blake3: Digest,
    /// Where it lies, relative to the catalogue; `files/<name>` where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
}

/// One member of a pack: a content of its own that lives inside another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Member {
    /// What the server calls it.
    pub id: ContentId,
    /// Its kind.
    pub kind: String,
    /// The folder inside the pack, with `/` between names.
    pub folder: String,
    /// What this member itself needs, for messages.
    #[serde(default, deserialize_with = "lists::relations", skip_serializing_if = "LiteMap::is_empty")]
    pub needs: Relations,
}

/// One version of a content.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Release {
    /// The version.
    pub version: ReleaseVersion,
    /// The content kind, as the game definition names it.
    pub kind: String,
    /// Where it has its effect.
    #[serde(default, skip_serializing_if = "Side::is_server")]
    pub side: Side,
    /// Withdrawn by its author: never chosen, kept where it is locked.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub withdrawn: bool,
    /// Whether its author lets others pass its files on.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub redistribute: bool,
    /// Must be present.
    #[serde(default, deserialize_with = "lists::relations", skip_serializing_if = "LiteMap::is_empty")]
    pub needs: Relations,
    /// Of each group at least one must be present.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub needs_any: Vec<AnyOf>,
    /// Need not be present; where present, the range must hold.
    #[serde(default, deserialize_with = "lists::relations", skip_serializing_if = "LiteMap::is_empty")]
    pub welcomes: Relations,
    /// Must not be present.
    #[serde(default, deserialize_with = "lists::relations", skip_serializing_if = "LiteMap::is_empty")]
    pub refuses: Relations,
    /// Names that it provides, each with its versions.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub provides: BTreeMap<ContentId, Provided>,
    /// What it asks of the platform: any one of these sets will do; none at all means that it runs anywhere.
    #[serde(default, deserialize_with = "lists::few", skip_serializing_if = "Vec::is_empty")]
    pub platforms: Vec<PlatformSet>,
    /// Wishes to be loaded after these, where they are present.
    #[serde(default, deserialize_with = "lists::few", skip_serializing_if = "Vec::is_empty")]
    pub after: Vec<ContentId>,
    /// Wishes to be loaded before these, where they are present.
    #[serde(default, deserialize_with = "lists::few", skip_serializing_if = "Vec::is_empty")]
    pub before: Vec<ContentId>,
    /// What was discovered about it, for a game definition's templates.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub facts: BTreeMap<String, String>,
    /// The contents inside it, where it is a pack.
    #[serde(default, deserialize_with = "lists::few", skip_serializing_if = "Vec::is_empty")]
    pub members: Vec<Member>,
    /// The digest of all its files together, where it is a folder (see `route::Payload`).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub payload: Option<Digest>,
    /// Its files.
    #[serde(default, deserialize_with = "lists::few", skip_serializing_if = "Vec::is_empty")]
    pub files: Vec<ReleaseFile>,
}

/// The fact that lists a release's needs by the names of the game's own host, such as numbers, one a line.
pub const NEEDS_FACT: &str = "needs";

impl Release {
    /// Returns its needs by the names of the game's own host.
    pub fn needed_facts(&self) -> impl Iterator<Item = &str> {
        self.facts.get(NEEDS_FACT).into_iter().flat_map(|needs| needs.lines())
    }

    /// Returns whether one of its facts, such as a number, has this value.
    pub fn is_known_as(&self, text: &str) -> bool {
        self.facts.iter().any(|(name, fact)| name != NEEDS_FACT && fact == text)
    }

    /// Returns a release that asks for nothing.
    pub fn new(version: ReleaseVersion, kind: &str) -> Self {
        Self {
            version,
            kind: kind.into(),
            side: Side::Server,
            withdrawn: false,
            redistribute: false,
            needs: Relations::new(),
            needs_any: Vec::new(),
            welcomes: Relations::new(),
            refuses: Relations::new(),
            provides: BTreeMap::new(),
            platforms: Vec::new(),
            after: Vec::new(),
            before: Vec::new(),
            facts: BTreeMap::new(),
            members: Vec::new(),
            payload: None,
            files: Vec::new(),
        }
    }

    /// Has a release without a version known by its bytes, where these are known.
    pub fn know_by_bytes(&mut self) {
        if self.version != ReleaseVersion::unversioned() {
            return;
        }
        let digest = match (self.payload, self.files.as_slice()) {
            (Some(digest), _) => digest,
            (None, []) => return,
            (None, [file]) => file.blake3,
            (None, files) => {
                let lines: Vec<String> =
                    files.iter().map(|file| format!("{}\t{}\n", file.name, file.blake3)).collect();
                Digest::of(lines.concat().as_bytes())
            }
        };
        self.version = ReleaseVersion::edition(&digest);
    }

    /// Returns whether this has other files or says other things than what is installed of the same version.
    pub fn is_other_edition(&self, installed: &Self) -> bool {
        // A catalogue that has folders or archives does not always know what is in them.
        let payload = self.payload.or(installed.payload);
        Self { payload, ..self.clone() } != *installed
    }

    /// Returns every content named in a need of this release.
    pub fn needed_ids(&self) -> impl Iterator<Item = &ContentId> {
        self.needs.keys().chain(self.needs_any.iter().flat_map(AnyOf::keys))
    }

    /// Returns whether this release goes by the name `id`, when its own content is `own`.
    pub fn stands_for(&self, own: &ContentId, id: &ContentId) -> bool {
        own == id || self.provides.contains_key(id)
    }

    /// Returns whether this release meets a need of `id` in a range, when its own content is `own`: by itself, or by
    /// standing in for it.
    pub fn meets(&self, own: &ContentId, id: &ContentId, range: &VersionRange) -> bool {
        if own == id {
            return provided_matches(Some(&self.version), range);
        }
        self.provides.get(id).is_some_and(|provided| provided.matches(range))
    }
}

/// Returns whether what is provided (a version, or none known) satisfies a range. What has no version satisfies
/// every range, since nobody can say otherwise.
pub fn provided_matches(version: Option<&ReleaseVersion>, range: &VersionRange) -> bool {
    version.is_none_or(|version| range.matches(version) || version.is_unversioned())
}

/// A content with all its known releases.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Content {
    /// Its id.
    pub id: ContentId,
    /// What people call it.
    pub title: String,
    /// What it is for.
    pub about: String,
    /// The catalogue it comes from.
    pub catalogue: String,
    /// Its releases, newest first.
    pub releases: Vec<Release>,
}

impl Content {
    /// Returns the release with this version.
    pub fn release(&self, version: &ReleaseVersion) -> Option<&Release> {
        // Mostly it is a clone of the very version; then no text is looked at.
        let clone = self.releases.iter().find(|release| release.version.is_clone_of(version));
        clone.or_else(|| self.releases.iter().find(|release| release.version == *version))
    }
}
