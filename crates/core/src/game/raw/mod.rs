//! A game definition as it is written. Every text that can be wrong keeps its place in the file.

mod console;
mod copy;
mod join;
mod limit;
mod maps;
mod mirror;
mod pack;
mod runtime;
mod shared;

use std::{collections::BTreeMap, fmt};

use serde::{
    Deserialize, Deserializer,
    de::{self, MapAccess, SeqAccess, Visitor, value::MapAccessDeserializer},
};
use toml::Spanned;

use crate::settings::RawRule;

pub(super) use console::{RawConsole, RawLive};
pub(super) use copy::RawCopy;
pub(super) use join::{RawJoin, RawNeed};
pub(super) use limit::RawLimit;
pub(super) use maps::{RawMaps, RawWithMap};
pub(super) use mirror::{RawMirror, RawMirrorFiles, RawMirrorIndex, RawSwitch};
pub(super) use pack::{RawMust, RawPack, RawPackDigest};
pub(super) use runtime::RawRuntime;
pub(super) use shared::{RawAssets, RawSignatures, RawTool};

/// A text with its place.
pub(crate) type Text = Spanned<String>;

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct RawGame {
    pub(super) format: Spanned<u32>,
    pub(super) name: Text,
    pub(super) title: String,
    #[serde(default)]
    pub(super) values: BTreeMap<String, RawValue>,
    #[serde(default)]
    pub(super) comments: BTreeMap<String, Text>,
    #[serde(default)]
    pub(super) stray_lines: Vec<Text>,
    pub(super) recognise: RawRecognise,
    #[serde(default)]
    pub(super) platform: BTreeMap<String, RawPlatform>,
    #[serde(default)]
    pub(super) provides: BTreeMap<String, Vec<Text>>,
    #[serde(default)]
    pub(super) kind: BTreeMap<String, RawKind>,
    #[serde(default)]
    pub(super) order: RawOrder,
    #[serde(default)]
    pub(super) never_touch: RawNeverTouch,
    #[serde(default)]
    pub(super) leave_out: Vec<RawLeaveOut>,
    #[serde(default)]
    pub(super) link: Vec<RawLink>,
    pub(super) maps: Option<RawMaps>,
    pub(super) pack: Option<RawPack>,
    pub(super) mirror: Option<RawMirror>,
    pub(super) join: Option<RawJoin>,
    pub(super) console: Option<Spanned<RawConsole>>,
    pub(super) copy: Option<RawCopy>,
    #[serde(default)]
    pub(super) runtime: Vec<RawRuntime>,
    #[serde(default)]
    pub(super) limit: Vec<RawLimit>,
    pub(super) assets: Option<RawAssets>,
    pub(super) signatures: Option<RawSignatures>,
    #[serde(default)]
    pub(super) tool: Vec<RawTool>,
    #[serde(default)]
    pub(super) settings: Vec<RawSettings>,
    #[serde(default)]
    pub(super) reference: Vec<Spanned<RawReference>>,
    #[serde(default)]
    pub(super) agree: Vec<RawAgree>,
    pub(super) terms: Option<RawTerms>,
    pub(super) run: RawRun,
    #[serde(default)]
    pub(super) symptom: Vec<RawSymptom>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawValue {
    pub(super) from: Option<Text>,
    #[serde(rename = "as")]
    pub(super) form: Option<Text>,
    pub(super) default: Option<Spanned<toml::Value>>,
    #[serde(default)]
    pub(super) help: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawRecognise {
    #[serde(default)]
    pub(super) all: Vec<Text>,
    #[serde(default)]
    pub(super) any: Vec<Text>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawPlatform {
    pub(super) from: Option<Text>,
    pub(super) inside: Option<Text>,
    pub(super) command: Option<Vec<Text>>,
    #[serde(rename = "match")]
    pub(super) pattern: Option<Text>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawKind {
    pub(super) shape: Text,
    pub(super) suffix: Option<String>,
    #[serde(default)]
    pub(super) marker: OneOrMany,
    pub(super) magic: Option<Text>,
    pub(super) length: Option<RawLength>,
    #[serde(default)]
    pub(super) companions: Vec<Text>,
    pub(super) brings: Option<String>,
    #[serde(default)]
    pub(super) describe: Vec<RawDescribe>,
    pub(super) id: Option<Text>,
    #[serde(default)]
    pub(super) facts: BTreeMap<String, Spanned<RawFact>>,
    #[serde(rename = "id-pattern")]
    pub(super) id_pattern: Option<Text>,
    pub(super) players: Option<Text>,
    #[serde(default)]
    pub(super) members: Vec<Text>,
    pub(super) place: Vec<RawPlace>,
    #[serde(default, rename = "loads-from")]
    pub(super) loads_from: Vec<RawLoadsFrom>,
    #[serde(default)]
    pub(super) register: Vec<RawRegister>,
    #[serde(default)]
    pub(super) settings: Vec<RawSettings>,
    pub(super) loaded: Option<Text>,
    pub(super) failed: Option<Text>,
}

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields)]
#[serde(rename_all = "kebab-case")]
pub(super) struct RawOrder {
    #[serde(default)]
    pub(super) groups: Vec<Vec<Text>>,
    #[serde(default)]
    pub(super) by_needs: bool,
}

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields)]
pub(super) struct RawNeverTouch {
    #[serde(default)]
    pub(super) paths: Vec<Text>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawDescribe {
    pub(super) file: Text,
    #[serde(rename = "as")]
    pub(super) form: Option<Text>,
    pub(super) id: Option<RawPick>,
    pub(super) title: Option<RawPick>,
    pub(super) about: Option<RawPick>,
    pub(super) version: Option<RawPick>,
    pub(super) needs: Option<RawPick>,
    pub(super) welcomes: Option<RawPick>,
    pub(super) refuses: Option<RawPick>,
    pub(super) side: Option<RawPick>,
    pub(super) after: Option<RawPick>,
    pub(super) before: Option<RawPick>,
    #[serde(default)]
    pub(super) platform: BTreeMap<String, RawPick>,
    #[serde(default)]
    pub(super) facts: BTreeMap<String, RawPick>,
}

/// How a fact is discovered: exactly one of these.
#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct RawFact {
    pub(super) only_folder: Option<String>,
    pub(super) own_name: Option<Text>,
    pub(super) folders: Option<Text>,
}

/// Where a descriptor holds something: a pointer alone, or a pointer and how to read what is there.
#[derive(Default)]
pub(super) struct RawPick {
    pub(super) at: Option<Text>,
    pub(super) split: Option<String>,
    pub(super) item: Option<Text>,
    pub(super) range: Option<Text>,
    pub(super) map: BTreeMap<String, Text>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawPickTable {
    at: Option<Text>,
    split: Option<String>,
    item: Option<Text>,
    range: Option<Text>,
    #[serde(default)]
    map: BTreeMap<String, Text>,
}

impl<'de> Deserialize<'de> for RawPick {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct PickVisitor;
        impl<'de> Visitor<'de> for PickVisitor {
            type Value = RawPick;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a pointer, or a table with \"at\"")
            }
            fn visit_str<E: de::Error>(self, text: &str) -> Result<RawPick, E> {
                Ok(RawPick { at: Some(Spanned::new(0..0, text.into())), ..RawPick::default() })
            }
            fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<RawPick, A::Error> {
                let RawPickTable { at, split, item, range, map } =
                    RawPickTable::deserialize(MapAccessDeserializer::new(map))?;
                Ok(RawPick { at, split, item, range, map })
            }
        }
        deserializer.deserialize_any(PickVisitor)
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawLength {
    pub(super) at: usize,
    #[serde(default)]
    pub(super) plus: u64,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawLink {
    #[serde(rename = "match")]
    pub(super) pattern: Text,
    pub(super) direct: Option<Text>,
    pub(super) queue: Option<RawRegister>,
    pub(super) about: Option<Text>,
    pub(super) needs: Option<Text>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawLeaveOut {
    pub(super) files: Vec<Text>,
    pub(super) why: String,
}

/// A place in a configuration file, where more than its name must be said.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawSpot {
    pub(super) at: Text,
    #[serde(rename = "as")]
    pub(super) form: Option<Text>,
    pub(super) separator: Option<String>,
    pub(super) create: Option<String>,
}

/// One text or a list of them.
#[derive(Default)]
pub(super) struct OneOrMany(pub(super) Vec<String>);

impl<'de> Deserialize<'de> for OneOrMany {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct ManyVisitor;
        impl<'de> Visitor<'de> for ManyVisitor {
            type Value = OneOrMany;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a text or a list of texts")
            }
            fn visit_str<E: de::Error>(self, text: &str) -> Result<OneOrMany, E> {
                Ok(OneOrMany(vec![text.into()]))
            }
            fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<OneOrMany, A::Error> {
                let mut all = Vec::new();
                while let Some(text) = seq.next_element()? {
                    all.push(text);
                }
                Ok(OneOrMany(all))
            }
        }
        deserializer.deserialize_any(ManyVisitor)
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawPlace {
    pub(super) take: Option<Text>,
    pub(super) into: Text,
    #[serde(default)]
    pub(super) also: bool,
    #[serde(default)]
    pub(super) strip: usize,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawLoadsFrom {
    pub(super) folder: Text,
    #[serde(default, rename = "always-on")]
    pub(super) always_on: bool,
    #[serde(default, rename = "sub-folders")]
    pub(super) sub_folders: bool,
}

#[derive(Deserialize, Default, PartialEq)]
#[serde(deny_unknown_fields)]
pub(crate) struct RawRegister {
    pub(crate) set: Option<Text>,
    pub(crate) to: Option<Spanned<toml::Value>>,
    pub(crate) row: Option<Text>,
    pub(crate) value: Option<Spanned<toml::Value>>,
    pub(crate) list: Option<Text>,
    pub(crate) number: Option<Text>,
    pub(crate) item: Option<Spanned<toml::Value>>,
    #[serde(default)]
    pub(crate) ordered: bool,
    #[serde(default)]
    pub(crate) consecutive: bool,
    pub(crate) unlisted: Option<Text>,
    pub(crate) separator: Option<String>,
    pub(crate) last: Option<String>,
    #[serde(rename = "seen-as")]
    pub(crate) seen_as: Option<Text>,
    pub(crate) block: Option<Text>,
    pub(crate) text: Option<Text>,
    #[serde(rename = "as")]
    pub(crate) form: Option<Text>,
    pub(crate) create: Option<Text>,
    pub(crate) each: Option<Text>,
    #[serde(rename = "for-each")]
    pub(crate) for_each: Option<Text>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawSettings {
    pub(super) file: Text,
    #[serde(rename = "as")]
    pub(super) form: Option<Text>,
    pub(super) short: Option<Text>,
    #[serde(default)]
    pub(super) title: String,
    pub(super) defaults: Option<String>,
    pub(super) schema: Option<String>,
    #[serde(default, rename = "schema-lines")]
    pub(super) schema_lines: Vec<RawSchemaLine>,
    pub(super) appears: Option<Text>,
    #[serde(default)]
    pub(super) launch: bool,
    #[serde(default)]
    pub(super) open: bool,
    pub(super) live: Option<RawLive>,
    #[serde(default)]
    pub(super) keys: BTreeMap<String, Spanned<RawRule>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawSchemaLine {
    #[serde(rename = "match")]
    pub(super) pattern: Text,
    pub(super) sort: Text,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawReference {
    pub(super) each: Option<Text>,
    pub(super) once: Option<Text>,
    #[serde(rename = "each-key")]
    pub(super) each_key: Option<Text>,
    #[serde(rename = "if")]
    pub(super) only_if: Option<Text>,
    pub(super) is: Option<OneOrManyTargets>,
    pub(super) separator: Option<String>,
    #[serde(rename = "seen-as")]
    pub(super) seen_as: Option<Text>,
    #[serde(rename = "as")]
    pub(super) form: Option<Text>,
    #[serde(default)]
    pub(super) called: String,
    pub(super) numbers: Option<RawNumbers>,
}

#[derive(Deserialize)]
#[serde(untagged, expecting = "how many numbers, or the names that they stand under")]
pub(super) enum RawNumbers {
    Many(usize),
    Named(Vec<String>),
}

#[derive(Deserialize)]
#[serde(
    untagged,
    expecting = "{ stem-of = … }, { entry = … }, { key-of = … }, { path-of = … }, { folder-of = … }, { below = … }, { words = [ … ] }, or a list of these"
)]
pub(super) enum OneOrManyTargets {
    One(RawTarget),
    Many(Vec<RawTarget>),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct RawTarget {
    pub(super) stem_of: Option<String>,
    pub(super) entry: Option<String>,
    pub(super) key_of: Option<String>,
    pub(super) words: Option<Vec<String>>,
    pub(super) below: Option<String>,
    pub(super) path_of: Option<String>,
    pub(super) folder_of: Option<String>,
    pub(super) separator: Option<String>,
    #[serde(rename = "as")]
    pub(super) form: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawAgree {
    pub(super) file: Option<Text>,
    pub(super) named: Option<Text>,
    pub(super) near: Option<Text>,
    pub(super) value: Option<Text>,
    pub(super) is: Option<Text>,
    pub(super) inside: Option<Text>,
    pub(super) say: Text,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawTerms {
    pub(super) at: Text,
    #[serde(rename = "as")]
    pub(super) form: Option<Text>,
    pub(super) agreed: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawRun {
    pub(super) command: Vec<Text>,
    #[serde(default)]
    pub(super) env: BTreeMap<String, Text>,
    pub(super) stop: Spanned<RawStop>,
    pub(super) log: Option<Text>,
    pub(super) ready: Text,
    #[serde(default)]
    pub(super) quiet: Option<Text>,
    pub(super) patience: Option<Text>,
    pub(super) grace: Option<Text>,
    #[serde(default)]
    pub(super) rereads: Vec<Text>,
    pub(super) first: Option<Text>,
    #[serde(default, rename = "first-makes")]
    pub(super) first_makes: Vec<Text>,
    pub(super) probe: Option<RawProbe>,
    #[serde(default)]
    pub(super) fatal: Vec<Text>,
    #[serde(default)]
    pub(super) trouble: Vec<Text>,
}

/// A signal, or a line for the console.
#[derive(Deserialize)]
#[serde(untagged, expecting = "a signal, or { line = …, else = … }")]
pub(super) enum RawStop {
    Signal(String),
    Line(RawStopLine),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawStopLine {
    pub(super) line: String,
    #[serde(rename = "else")]
    pub(super) otherwise: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawProbe {
    pub(super) tcp: Option<Text>,
    pub(super) udp: Option<Text>,
    pub(super) send: Option<Text>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawSymptom {
    #[serde(rename = "match")]
    pub(super) pattern: Text,
    pub(super) means: String,
    pub(super) say: Text,
    #[serde(rename = "do")]
    pub(super) advice: Option<Text>,
}
