//! `[pack]` as written.

use std::collections::BTreeMap;

use serde::Deserialize;
use toml::Spanned;

use super::{RawSpot, Text};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawPack {
    pub(in crate::game) marker: String,
    pub(in crate::game) link: RawSpot,
    pub(in crate::game) digest: Option<RawPackDigest>,
    pub(in crate::game) must: Option<RawMust>,
    pub(in crate::game) most: Option<Text>,
    #[serde(default)]
    pub(in crate::game) merge: BTreeMap<String, Text>,
    pub(in crate::game) format: Option<Text>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawPackDigest {
    pub(in crate::game) at: Text,
    #[serde(rename = "as")]
    pub(in crate::game) form: Option<Text>,
    pub(in crate::game) of: Text,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawMust {
    pub(in crate::game) at: Text,
    #[serde(rename = "as")]
    pub(in crate::game) form: Option<Text>,
    pub(in crate::game) yes: Spanned<toml::Value>,
    pub(in crate::game) no: Spanned<toml::Value>,
}
