//! `[join]`: what a player's game does when it joins.

use globset::Glob;

use super::{Checked, Loader, run::bytes_of, template};
use crate::{
    document::Pointer,
    game::{
        JoinAsk, JoinRule, NeedDigest, NeedFrom, NeedRule,
        raw::{RawJoin, RawNeed, Text},
    },
};

fn pointer(text: &Text) -> Checked<Pointer> {
    Pointer::parse(text.as_ref()).map_err(|error| (text.span(), error.to_string()))
}

fn pointer_if(text: Option<&Text>) -> Checked<Option<Pointer>> {
    text.map(pointer).transpose()
}

fn digest(raw: &RawNeed) -> Checked<Option<(Pointer, NeedDigest)>> {
    let crc32 = raw.crc32.as_ref();
    let crc32 = crc32.map(|crc| (&crc.at, NeedDigest::Crc32 { skip: crc.skip, leave: crc.leave }));
    let sha1 = raw.sha1.as_ref().map(|at| (at, NeedDigest::Sha1));
    let sha256 = raw.sha256.as_ref().map(|at| (at, NeedDigest::Sha256));
    let all: Vec<_> = crc32.into_iter().chain(sha1).chain(sha256).collect();
    match all.as_slice() {
        [] => Ok(None),
        [(at, digest)] => Ok(Some((pointer(at)?, *digest))),
        [_, (second, _), ..] => Err((second.span(), "a need has one digest at most".into())),
    }
}

impl Loader {
    pub(super) fn join(&self, raw: &RawJoin, kinds: &[String], has_pack: bool) -> Checked<JoinRule> {
        /// No datagram is longer.
        const LONGEST: usize = 65_000;
        let (port, ask) = match (&raw.tcp, &raw.udp) {
            (Some(port), None) => (port, JoinAsk::Line(raw.send.as_ref().clone())),
            (None, Some(port)) => {
                let mut bytes = bytes_of(&raw.send)?;
                bytes.resize(bytes.len().max(raw.length.unwrap_or(0).min(LONGEST)), 0);
                (port, JoinAsk::Datagram(bytes))
            }
            _ => {
                let why = "a join has either \"tcp\" and a line to send, or \"udp\" and bytes to send";
                return Err((raw.send.span(), why.into()));
            }
        };
        if let (JoinAsk::Datagram(_), Some(need)) = (&ask, raw.need.first()) {
            let why = "only a server that is asked over \"tcp\" says what players need";
            return Err((need.what.span(), why.into()));
        }
        if let Some(need) = raw.need.iter().find(|need| need.from.as_ref() == "link").filter(|_| !has_pack) {
            return Err((need.from.span(), "what comes by a link is a pack, and there is no [pack]".into()));
        }
        Ok(JoinRule {
            port: template(port, &self.server)?,
            ask,
            needs: raw.need.iter().map(|raw| need(raw, kinds)).collect::<Checked<_>>()?,
        })
    }
}

fn need(raw: &RawNeed, kinds: &[String]) -> Checked<NeedRule> {
    let from = match raw.from.as_ref().as_str() {
        "mirror" => NeedFrom::Mirror,
        "link" => NeedFrom::Link,
        "player" => NeedFrom::Player,
        other => {
            let why = format!("{other:?} is none of \"mirror\", \"link\" and \"player\"");
            return Err((raw.from.span(), why));
        }
    };
    if let Some(kind) = raw.kind.as_ref().filter(|kind| !kinds.contains(kind.as_ref())) {
        return Err((kind.span(), format!("there is no [kind.{}]", kind.as_ref())));
    }
    if let Some(file) = &raw.file {
        let named = file.as_ref().replace("{{ name }}", "name");
        Glob::new(&named)
            .map_err(|error| (file.span(), format!("the pattern is wrong: {}", error.kind())))?;
    } else if from == NeedFrom::Mirror {
        return Err((raw.from.span(), "what comes from the mirror needs a \"file\", its path there".into()));
    }
    let what = raw.what.as_ref();
    Ok(NeedRule {
        what: what.clone(),
        each: pointer_if(raw.each.as_ref())?,
        name: pointer(&raw.name)?,
        version: pointer_if(raw.version.as_ref())?,
        bytes: pointer_if(raw.bytes.as_ref())?,
        digest: digest(raw)?,
        must: pointer_if(raw.must.as_ref())?,
        is_optional: raw.optional,
        kind: raw.kind.as_ref().map(|kind| kind.as_ref().clone()),
        file: raw.file.as_ref().map(|file| file.as_ref().clone()),
        from,
        missing: raw.missing.clone().unwrap_or_else(|| format!("the {what} {{{{ name }}}} is missing")),
        differs: raw
            .differs
            .clone()
            .unwrap_or_else(|| format!("the {what} {{{{ name }}}} differs from the server's")),
    })
}
