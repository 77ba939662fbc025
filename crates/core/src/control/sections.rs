//! The sections of `yalotheca.toml`.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::{id::Digest, version::ReleaseVersion};

/// The section `[server]`.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ServerSection {
    /// What people call the server.
    #[serde(default)]
    pub name: String,
    /// The game definition's name.
    pub game: String,
    /// The server's folder, relative to this file.
    #[serde(default = "here")]
    pub at: String,
    /// Values of the game definition that this file decides.
    #[serde(default)]
    pub values: BTreeMap<String, String>,
    /// How the server is started and stopped, if not by a trial.
    #[serde(default)]
    pub process: ProcessSection,
}

/// `[server.process]`: commands that run on the machine of the administrator, each a program and its arguments.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ProcessSection {
    /// Starts the server, and ends while the server runs.
    #[serde(default)]
    pub start: Vec<String>,
    /// Stops the server, and ends when it has ended.
    #[serde(default)]
    pub stop: Vec<String>,
    /// Ends with the exit code 0 if the server runs, else with another one.
    #[serde(default)]
    pub status: Vec<String>,
}

fn here() -> String {
    ".".into()
}

/// One `[[catalogue]]`.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CatalogueSource {
    /// What it is called here.
    pub name: String,
    /// Its address or folder.
    pub at: String,
    /// The publisher's public key.
    #[serde(default)]
    pub key: Option<String>,
    /// Whether an older edition than one that was seen is taken: the publisher went back on purpose.
    #[serde(default)]
    pub older: bool,
}

/// A content that was given by link, file or folder instead of by name.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Given {
    /// The link to it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub link: Option<String>,
    /// The file or folder, relative to this file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The name of the file, where the link does not end in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The digest of what the link holds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub blake3: Option<Digest>,
    /// Where the content lies in that, where it is not the whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub inside: Option<String>,
    /// Its version, where it says none itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<ReleaseVersion>,
    /// Its kind, where that cannot be seen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
    /// What is known of it by its link.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub facts: BTreeMap<String, String>,
    /// Where files go that nobody knows a place for.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub place: BTreeMap<String, String>,
    /// What stays out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub leave: Vec<String>,
}

impl Given {
    /// Returns what tells it from any other.
    pub fn digits(&self) -> String {
        // Plain data without maps whose keys are no texts always becomes TOML.
        Digest::of(toml::to_string(self).unwrap_or_default().as_bytes()).short()
    }
}

/// The section `[history]`: how long changes can be taken back.
#[derive(Debug, Clone, PartialEq, Eq, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HistorySection {
    /// So many changes are kept at least.
    #[serde(default)]
    pub changes: Option<usize>,
    /// Younger ones than so many days are kept as well.
    #[serde(default)]
    pub days: Option<u64>,
    /// What they replaced and removed takes at most so many megabytes.
    #[serde(default)]
    pub megabytes: Option<u64>,
}

/// The section `[pack]`: the resource pack that players are offered.
#[derive(Debug, Clone, PartialEq, Eq, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PackSection {
    /// Its links, in order of preference.
    pub links: Vec<String>,
    /// Whether players who refuse it are turned away; if absent, the server's own setting stays.
    #[serde(default)]
    pub must: Option<bool>,
}

/// The section `[mirror]`: the web folder from which players' games download files.
#[derive(Debug, Clone, PartialEq, Eq, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MirrorSection {
    /// Where it is built: a folder of this machine.
    #[serde(default)]
    pub folder: Option<String>,
    /// Where it is published: a folder, or an address such as `sftp://host/path`.
    #[serde(default)]
    pub target: Option<String>,
}

/// The offered pack as last downloaded.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LockedPack {
    /// The link it came from.
    pub link: String,
    /// The digest that the game uses, unless the server's own file has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
    /// The digest of its bytes, unless it was not downloaded yet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub blake3: Option<Digest>,
    /// Its size.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
}

/// What the server plays, where it has maps.
#[derive(Debug, Clone, PartialEq, Eq, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MapsSection {
    /// The one that is played.
    #[serde(default)]
    pub play: Option<String>,
    /// Those that are played in turn; nothing leaves the list alone.
    #[serde(default)]
    pub rotate: Option<Vec<String>>,
    /// Those that players may choose; nothing leaves the list alone.
    #[serde(default)]
    pub offer: Option<Vec<String>>,
}

/// Bounds on what archives may bring.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UnpackSection {
    /// How many members an archive may have.
    pub entries: Option<usize>,
    /// How many bytes may come out of it.
    pub bytes: Option<u64>,
    /// How many times its own size may come out of it.
    pub ratio: Option<u64>,
}

/// How a page's address becomes the file's: one `[[link]]`.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LinkSection {
    /// A pattern that the whole link fits.
    #[serde(rename = "match")]
    pub pattern: String,
    /// What it becomes, with `$1` or `${name}` for the pattern's groups.
    pub direct: String,
}
