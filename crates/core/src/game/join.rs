//! What a player's game does when it joins.

use super::Template;
use crate::{document::Pointer, id::TreePath};

/// How a player's game joins: what it asks the server, and what it then needs.
#[derive(Debug, Clone)]
pub struct JoinRule {
    /// The port that it asks.
    pub port: Template,
    /// What it sends there.
    pub ask: JoinAsk,
    /// What it needs, as the answer says.
    pub needs: Vec<NeedRule>,
}

/// What a player's game sends first.
#[derive(Debug, Clone)]
pub enum JoinAsk {
    /// A line over TCP, which is answered by one line of JSON.
    Line(String),
    /// A datagram. That it is answered is all that is known.
    Datagram(Vec<u8>),
}

/// Something that a player needs.
#[derive(Debug, Clone)]
pub struct NeedRule {
    /// What it is, in a word: `map`.
    pub what: String,
    /// Where the answer lists several; without it there is one.
    pub each: Option<Pointer>,
    /// Where its name is: in the item of the list, or in the answer. Without a name nothing is needed.
    pub name: Pointer,
    /// Where its version is.
    pub version: Option<Pointer>,
    /// Where its size is.
    pub bytes: Option<Pointer>,
    /// Where its digest is, and which one that is.
    pub digest: Option<(Pointer, NeedDigest)>,
    /// Where it is said whether a player may join without it.
    pub must: Option<Pointer>,
    /// Whether a player may join without it, if that is said nowhere.
    pub is_optional: bool,
    /// The kind of content that it is, in a player's folder.
    pub kind: Option<String>,
    /// The pattern of its path in a player's folder, and on the server; `{{ name }}` is its name.
    pub file: Option<String>,
    /// How a player gets it.
    pub from: NeedFrom,
    /// What a player sees who lacks it; `{{ name }}` is its name.
    pub missing: String,
    /// What a player sees who has another one.
    pub differs: String,
}

/// Digests by which players' games compare files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NeedDigest {
    /// SHA-1, in hexadecimal digits.
    Sha1,
    /// SHA-256, in hexadecimal digits.
    Sha256,
    /// A CRC-32, as a number, without some of the first and of the last bytes.
    Crc32 {
        /// How many of the first bytes do not count.
        skip: usize,
        /// How many of the last bytes do not count.
        leave: usize,
    },
}

/// How a player gets what they need.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NeedFrom {
    /// Their game downloads it from the mirror, or from the server as far as that sends it.
    Mirror,
    /// Their game downloads it from the link that is its name.
    Link,
    /// They install it themselves.
    Player,
}

/// Something that a player needs, as a server's answer says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Need {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: Option<String>,
    /// Its size in bytes.
    pub bytes: Option<u64>,
    /// Its digest, in lower case.
    pub digest: Option<String>,
    /// Whether a player is turned away without it.
    pub is_must: bool,
}

impl NeedRule {
    /// Reads from a server's answer what players need.
    pub fn read(&self, answer: &serde_json::Value) -> Vec<Need> {
        let items: Vec<&serde_json::Value> = match &self.each {
            None => vec![answer],
            Some(each) => answer
                .pointer(&each.to_string())
                .and_then(|list| list.as_array())
                .into_iter()
                .flatten()
                .collect(),
        };
        items.into_iter().filter_map(|item| self.read_one(item, answer)).collect()
    }

    fn read_one(&self, item: &serde_json::Value, answer: &serde_json::Value) -> Option<Need> {
        let text = |at: &Pointer| match item.pointer(&at.to_string())? {
            serde_json::Value::String(text) => Some(text.clone()),
            serde_json::Value::Null => None,
            other => Some(other.to_string()),
        };
        let given = |at: &Option<Pointer>| at.as_ref().and_then(text).filter(|text| !text.is_empty());
        let must = self.must.as_ref().and_then(|at| answer.pointer(&at.to_string()));
        Some(Need {
            name: text(&self.name).filter(|name| !name.is_empty())?,
            version: given(&self.version),
            bytes: given(&self.bytes).and_then(|bytes| bytes.parse().ok()),
            digest: self
                .digest
                .as_ref()
                .and_then(|(at, _)| text(at))
                .map(|digest| digest.to_lowercase())
                .filter(|digest| !digest.is_empty()),
            is_must: must.map_or(!self.is_optional, |must| must.as_bool().unwrap_or(true)),
        })
    }

    /// Returns what a player sees who lacks it.
    pub fn missing(&self, need: &Need) -> String {
        self.missing.replace("{{ name }}", &need.name)
    }

    /// Returns what a player sees who has another one.
    pub fn differs(&self, need: &Need) -> String {
        self.differs.replace("{{ name }}", &need.name)
    }

    /// Returns its path on the server and in the mirror, if its name makes one.
    pub fn file_of(&self, need: &Need) -> Option<TreePath> {
        TreePath::new(&self.file.as_ref()?.replace("{{ name }}", &need.name)).ok()
    }

    /// Returns the pattern of its path.
    pub fn path(&self, need: &Need) -> Option<String> {
        self.file.as_ref().map(|file| file.replace("{{ name }}", &globset::escape(&need.name)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(text: &str) -> Pointer {
        Pointer::parse(text).expect("a pointer")
    }

    #[test]
    fn an_answer_says_what_players_need() {
        let rule = NeedRule {
            what: "mod".into(),
            each: Some(at("/mods")),
            name: at("/id"),
            version: Some(at("/version")),
            bytes: Some(at("/bytes")),
            digest: Some((at("/crc"), NeedDigest::Crc32 { skip: 0, leave: 0 })),
            must: Some(at("/strict")),
            is_optional: false,
            kind: None,
            file: Some("mods/{{ name }}.swm".into()),
            from: NeedFrom::Player,
            missing: "no {{ name }}".into(),
            differs: "another {{ name }}".into(),
        };
        let answer = serde_json::json!({"strict": false, "mods": [
            {"id": "bells", "version": "1.2", "bytes": 7, "crc": 99},
            {"id": "", "version": "1"},
            {"version": "1"},
            7,
        ]});
        let needs = rule.read(&answer);
        assert_eq!(needs.len(), 1);
        let bells = &needs[0];
        assert_eq!(
            (bells.version.as_deref(), bells.bytes, bells.digest.as_deref()),
            (Some("1.2"), Some(7), Some("99"))
        );
        assert!(!bells.is_must);
        assert_eq!(
            (rule.missing(bells), rule.path(bells)),
            ("no bells".into(), Some("mods/bells.swm".into()))
        );
        assert!(rule.read(&serde_json::json!({"mods": "none"})).is_empty());
        assert!(rule.read(&serde_json::json!([])).is_empty());
    }
}
