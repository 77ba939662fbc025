//! `[[limit]]` as written.

use serde::Deserialize;

use super::Text;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawLimit {
    pub(in crate::game) take: Text,
    pub(in crate::game) at: Option<Text>,
    #[serde(rename = "as")]
    pub(in crate::game) form: Option<Text>,
    pub(in crate::game) unit: Option<Text>,
    pub(in crate::game) most: Option<Text>,
    pub(in crate::game) unless: Option<Text>,
}
