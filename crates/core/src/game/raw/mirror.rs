//! `[mirror]` as written.

use serde::Deserialize;
use toml::Spanned;

use super::Text;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawMirror {
    pub(in crate::game) address: RawAddress,
    #[serde(default)]
    pub(in crate::game) switches: Vec<RawSwitch>,
    pub(in crate::game) files: Vec<RawMirrorFiles>,
    pub(in crate::game) index: Option<RawMirrorIndex>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawAddress {
    pub(in crate::game) at: Text,
    #[serde(rename = "as")]
    pub(in crate::game) form: Option<Text>,
    #[serde(default)]
    pub(in crate::game) slash: bool,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawSwitch {
    pub(in crate::game) at: Text,
    #[serde(rename = "as")]
    pub(in crate::game) form: Option<Text>,
    pub(in crate::game) to: Spanned<toml::Value>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawMirrorFiles {
    pub(in crate::game) take: Text,
    pub(in crate::game) named: Option<Text>,
    pub(in crate::game) compress: Option<Text>,
    pub(in crate::game) plain: Option<bool>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawMirrorIndex {
    pub(in crate::game) file: String,
    #[serde(default)]
    pub(in crate::game) head: Option<Text>,
    pub(in crate::game) announced: Option<Text>,
}
