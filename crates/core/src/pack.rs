//! Our own open format for modpacks: a zip with `yalotheca-pack.toml` at its top, which says what is in the pack; beside it
//! the contents that are brought along, and settings files.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::{
    catalogue::{Recognised, Release, Side},
    game::PACK_KIND,
    id::{ContentId, TreePath},
    version::{ReleaseVersion, VersionRange},
};

/// What a pack says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Pack {
    /// The format's number.
    pub format: u32,
    /// Its id.
    pub id: ContentId,
    /// What people call it.
    #[serde(default)]
    pub title: String,
    /// Its version.
    pub version: ReleaseVersion,
    /// What it is for.
    #[serde(default)]
    pub about: String,
    /// The game, as its definition is named.
    pub game: String,
    /// Its members by catalogue name, engine and loader among them.
    #[serde(default)]
    pub wants: BTreeMap<ContentId, PackWant>,
    /// Its members that it brings along.
    #[serde(default, rename = "member", skip_serializing_if = "Vec::is_empty")]
    pub members: Vec<PackMember>,
    /// What the server asked for of which the pack was made, as its control file says it: wants, what is off, order, maps, whose assets
    /// count, settings. Nothing of it is a password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub setup: Option<String>,
    /// What the server had, in load order: the contents and their versions.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub lineup: Vec<(ContentId, ReleaseVersion)>,
    /// Settings files, put where there are none yet.
    #[serde(default, rename = "setting", skip_serializing_if = "Vec::is_empty")]
    pub settings: Vec<PackSetting>,
}

/// A member by catalogue name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged, expecting = "a range of versions, or { range = …, side = … }")]
pub enum PackWant {
    /// On whichever side the content itself says.
    Range(VersionRange),
    /// On one side only.
    Sided {
        /// Which versions will do.
        range: VersionRange,
        /// The side.
        side: Side,
    },
}

/// A member that the pack brings along.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PackMember {
    /// The file or archive, in the pack.
    pub file: String,
    /// On which side it belongs.
    #[serde(default)]
    pub side: Side,
}

/// A settings file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PackSetting {
    /// The file, in the pack.
    pub file: String,
    /// Where it belongs on the server.
    pub to: TreePath,
}

impl Pack {
    /// Reads the descriptive file.
    ///
    /// # Errors
    /// Where it is not TOML of that shape, or of a newer format.
    pub fn parse(text: &str) -> Result<Self, String> {
        let pack: Self = toml::from_str(text).map_err(|error| error.to_string().trim().to_owned())?;
        if pack.format == 1 {
            Ok(pack)
        } else {
            Err(format!("it has format {}, but this program reads format 1", pack.format))
        }
    }

    /// Returns the descriptive file's text.
    pub fn text(&self) -> String {
        // Plain data without maps whose keys are no texts always becomes TOML.
        toml::to_string(self).unwrap_or_default()
    }

    /// Returns the pack as a content: on a server it needs its members, players' ones apart.
    pub fn content(&self) -> Recognised {
        let mut release = Release::new(self.version.clone(), PACK_KIND);
        for (id, want) in &self.wants {
            match want {
                PackWant::Sided { side: Side::Player, .. } => {}
                PackWant::Range(range) | PackWant::Sided { range, .. } => {
                    release.needs.insert(id.clone(), range.clone());
                }
            }
        }
        let title = if self.title.is_empty() { self.id.to_string() } else { self.title.clone() };
        Recognised { id: self.id.clone(), title, about: self.about.clone(), release }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = r#"
format = 1
id = "festival"
version = "1.0"
game = "saltwick"
[wants]
tidebell = ">=1.4"
bell-sounds = { range = "*", side = "player" }
[[member]]
file = "members/foghorn-0.9.swp"
[[setting]]
file = "settings/order.txt"
to = "plugins/order.txt"
"#;

    #[test]
    fn on_a_server_the_servers_members_are_needed() {
        let pack = Pack::parse(TEXT).unwrap();
        let content = pack.content();
        let needs: Vec<&str> = content.release.needs.keys().map(ContentId::as_str).collect();
        assert_eq!((content.title.as_str(), needs), ("festival", vec!["tidebell"]));
        assert_eq!(Pack::parse(&pack.text()).unwrap(), pack);
    }

    #[test]
    fn mistakes_are_told() {
        for (from, to, says) in [
            ("format = 1", "format = 2", "format 2"),
            ("game =", "gane =", "gane"),
            ("\">=1.4\"", "7", "a range of versions"),
            ("to = \"plugins", "to = \"../plugins", "path"),
        ] {
            let error = Pack::parse(&TEXT.replace(from, to)).unwrap_err();
            assert!(error.contains(says), "{error}");
        }
    }
}
