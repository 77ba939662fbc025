//! `[join]` as written.

use serde::Deserialize;

use super::Text;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawJoin {
    pub(in crate::game) tcp: Option<Text>,
    pub(in crate::game) udp: Option<Text>,
    pub(in crate::game) send: Text,
    pub(in crate::game) length: Option<usize>,
    #[serde(default)]
    pub(in crate::game) need: Vec<RawNeed>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawNeed {
    pub(in crate::game) what: Text,
    pub(in crate::game) each: Option<Text>,
    pub(in crate::game) name: Text,
    pub(in crate::game) version: Option<Text>,
    pub(in crate::game) bytes: Option<Text>,
    pub(in crate::game) sha1: Option<Text>,
    pub(in crate::game) sha256: Option<Text>,
    pub(in crate::game) crc32: Option<RawCrc32>,
    pub(in crate::game) must: Option<Text>,
    #[serde(default)]
    pub(in crate::game) optional: bool,
    pub(in crate::game) kind: Option<Text>,
    pub(in crate::game) file: Option<Text>,
    pub(in crate::game) from: Text,
    pub(in crate::game) missing: Option<String>,
    pub(in crate::game) differs: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawCrc32 {
    pub(in crate::game) at: Text,
    #[serde(default)]
    pub(in crate::game) skip: usize,
    #[serde(default)]
    pub(in crate::game) leave: usize,
}
