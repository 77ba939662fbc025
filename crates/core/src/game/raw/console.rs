//! `[console]` and `live` as written.

use serde::Deserialize;

use super::Text;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawConsole {
    pub(in crate::game) lines: Option<Text>,
    pub(in crate::game) packets: Option<Text>,
    pub(in crate::game) datagrams: Option<Text>,
    pub(in crate::game) input: Option<bool>,
    pub(in crate::game) pipe: Option<Text>,
    pub(in crate::game) run: Option<Vec<Text>>,
    pub(in crate::game) secret: Option<Text>,
    pub(in crate::game) refused: Option<Text>,
    pub(in crate::game) end: Option<Text>,
    #[serde(default)]
    pub(in crate::game) commands: Vec<String>,
    pub(in crate::game) announce: Option<Text>,
    pub(in crate::game) players: Option<RawPlayers>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawPlayers {
    pub(in crate::game) send: String,
    pub(in crate::game) each: Text,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(in crate::game) struct RawLive {
    pub(in crate::game) send: Text,
    pub(in crate::game) ask: Option<Text>,
    pub(in crate::game) answer: Option<Text>,
}
