//! `[copy]` as written.

use serde::Deserialize;

use super::{RawSwitch, Text};

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawCopy {
    #[serde(default)]
    pub(in crate::game) empty: Vec<Text>,
    #[serde(default)]
    pub(in crate::game) set: Vec<RawSwitch>,
}
