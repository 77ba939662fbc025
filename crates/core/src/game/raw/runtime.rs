//! `[[runtime]]` as written.

use serde::Deserialize;

use super::Text;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawRuntime {
    pub(in crate::game) title: String,
    pub(in crate::game) needs: Text,
    pub(in crate::game) inside: Option<Text>,
    pub(in crate::game) setting: Text,
    pub(in crate::game) names: Option<Text>,
    #[serde(default)]
    pub(in crate::game) paths: Vec<Text>,
    #[serde(default)]
    pub(in crate::game) command: Vec<Text>,
    #[serde(rename = "match")]
    pub(in crate::game) pattern: Text,
}
