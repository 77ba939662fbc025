//! Names of assets and signed parts.

use super::{Checked, glob};
use crate::game::{
    Assets, Signatures, Wins,
    raw::{RawAssets, RawSignatures},
};

pub(super) fn assets(raw: &RawAssets) -> Checked<Assets> {
    let wins = match raw.wins.as_ref().as_str() {
        "last" => Wins::Last,
        "first" => Wins::First,
        other => return Err((raw.wins.span(), format!("{other:?} is neither \"first\" nor \"last\""))),
    };
    Ok(Assets {
        files: raw.files.iter().map(glob).collect::<Checked<_>>()?,
        patterns: raw.files.iter().map(|text| text.as_ref().clone()).collect(),
        wins,
        owns: raw.owns.as_ref().map(glob).transpose()?,
    })
}

pub(super) fn signatures(raw: &RawSignatures) -> Checked<Signatures> {
    if raw.scheme.as_ref() != "ed25519" {
        let why = "the only scheme is \"ed25519\": over the bytes of the part, key and signature a line of Base64 each";
        return Err((raw.scheme.span(), why.into()));
    }
    let text = raw.signature.as_ref();
    let parts = text.strip_prefix("{{ part }}").and_then(|rest| rest.split_once("{{ key }}"));
    let Some((before, after)) = parts else {
        return Err((raw.signature.span(), "write it as \"{{ part }}.{{ key }}.sig\"".into()));
    };
    Ok(Signatures {
        parts: glob(&raw.parts)?,
        signature: (before.into(), after.into()),
        keys: glob(&raw.keys)?,
        key_pattern: raw.keys.as_ref().clone(),
        stay: raw.stay.clone(),
    })
}
