//! Names of assets and signed parts.

use super::{Checked, glob, template};
use crate::{
    game::{
        Assets, Signatures, Tool, Wins,
        raw::{RawAssets, RawSignatures, RawTool},
    },
    id::TreePath,
};

pub(super) fn tool(raw: &RawTool, server: &[String]) -> Checked<Tool> {
    let span = raw.run.first().map_or(0..0, toml::Spanned::span);
    for path in &raw.writes.0 {
        TreePath::new(path).map_err(|error| (span.clone(), error.to_string()))?;
    }
    if raw.run.is_empty() || raw.writes.0.is_empty() || raw.after.is_empty() {
        return Err((
            span,
            "a tool has \"after\", \"reads\", \"run\" and \"writes\", none of them empty".into(),
        ));
    }
    Ok(Tool {
        after: raw.after.iter().map(glob).collect::<Checked<_>>()?,
        reads: raw.reads.iter().map(glob).collect::<Checked<_>>()?,
        read_patterns: raw.reads.iter().map(|text| text.as_ref().clone()).collect(),
        command: raw.run.iter().map(|text| template(text, server)).collect::<Checked<_>>()?,
        writes: raw.writes.0.clone(),
    })
}

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
        inside: raw.inside.iter().map(glob).collect::<Checked<_>>()?,
        inside_patterns: raw.inside.iter().map(|text| text.as_ref().clone()).collect(),
        members: raw.members.iter().map(glob).collect::<Checked<_>>()?,
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
