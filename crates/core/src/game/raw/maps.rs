//! `[maps]` as written.

use serde::Deserialize;

use super::{RawLive, RawSpot, Text};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawMaps {
    pub(in crate::game) kind: Option<Text>,
    pub(in crate::game) folders: Option<Text>,
    pub(in crate::game) parts: Option<Text>,
    pub(in crate::game) play: RawSpot,
    #[serde(rename = "with")]
    pub(in crate::game) with_map: Option<RawWithMap>,
    pub(in crate::game) rotate: Option<RawSpot>,
    pub(in crate::game) offer: Option<RawSpot>,
    pub(in crate::game) cap: Option<RawSpot>,
    pub(in crate::game) saves: Option<Text>,
    pub(in crate::game) live: Option<RawLive>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawWithMap {
    pub(in crate::game) list: Text,
    pub(in crate::game) item: Text,
    #[serde(rename = "as")]
    pub(in crate::game) form: Option<Text>,
    pub(in crate::game) separator: Option<String>,
    pub(in crate::game) last: Option<String>,
}
