//! The sections on tools, assets and signatures, as written.

use serde::Deserialize;

use super::{OneOrMany, Text};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawTool {
    pub(in crate::game) after: Vec<Text>,
    pub(in crate::game) reads: Vec<Text>,
    pub(in crate::game) run: Vec<Text>,
    pub(in crate::game) writes: OneOrMany,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawAssets {
    #[serde(default)]
    pub(in crate::game) files: Vec<Text>,
    #[serde(default)]
    pub(in crate::game) inside: Vec<Text>,
    #[serde(default)]
    pub(in crate::game) members: Vec<Text>,
    pub(in crate::game) wins: Text,
    pub(in crate::game) owns: Option<Text>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawSignatures {
    pub(in crate::game) scheme: Text,
    pub(in crate::game) parts: Text,
    pub(in crate::game) signature: Text,
    pub(in crate::game) keys: Text,
    #[serde(default)]
    pub(in crate::game) stay: Vec<String>,
}
