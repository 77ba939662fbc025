//! `[pack]`: the resource pack that players download when they join.

use globset::Glob;
use toml::Spanned;

use super::{Checked, Loader, limit::size};
use crate::{
    document::Pointer,
    game::{
        MustRule, PackDigest, PackRule, ValueTemplate,
        raw::{RawMust, RawPack, RawPackDigest, Text},
    },
    merge::{MergeHow, MergeRule},
};

fn merge_rule((files, how): (&String, &Text)) -> Checked<MergeRule> {
    let wrong = |why: String| (how.span(), why);
    let glob = Glob::new(files).map_err(|error| wrong(format!("{files:?}: {}", error.kind())))?;
    let how = match how.as_ref().as_str() {
        "map" => MergeHow::Map,
        "map-of-lists" => MergeHow::MapOfLists,
        "lines" => MergeHow::Lines,
        "first" => MergeHow::First,
        other => {
            let why = format!("{other:?} is none of \"map\", \"map-of-lists\", \"lines\" and \"first\"");
            return Err(wrong(why));
        }
    };
    Ok(MergeRule { files: glob.compile_matcher(), how })
}

fn pointer(text: &Text) -> Checked<Pointer> {
    Pointer::parse(text.as_ref()).map_err(|error| (text.span(), error.to_string()))
}

impl Loader {
    pub(super) fn pack(&self, raw: &RawPack) -> Checked<PackRule> {
        Ok(PackRule {
            marker: raw.marker.clone(),
            link: self.place(&raw.link.at, raw.link.form.as_ref(), &self.server)?,
            digest: raw.digest.as_ref().map(|raw| self.pack_digest(raw)).transpose()?,
            must: raw.must.as_ref().map(|raw| self.must(raw)).transpose()?,
            most: raw.most.as_ref().map(size).transpose()?,
            merge: raw.merge.iter().map(merge_rule).collect::<Checked<_>>()?,
            format: raw.format.as_ref().map(pointer).transpose()?,
        })
    }

    fn pack_digest(&self, raw: &RawPackDigest) -> Checked<(super::ConfigPlace, PackDigest)> {
        let of = match raw.of.as_ref().as_str() {
            "sha1" => PackDigest::Sha1,
            "sha256" => PackDigest::Sha256,
            other => return Err((raw.of.span(), format!("{other:?} is neither \"sha1\" nor \"sha256\""))),
        };
        Ok((self.place(&raw.at, raw.form.as_ref(), &self.server)?, of))
    }

    fn must(&self, raw: &RawMust) -> Checked<MustRule> {
        let value = |value: &Spanned<toml::Value>| {
            ValueTemplate::new(value.as_ref(), &self.server).map_err(|why| (value.span(), why))
        };
        Ok(MustRule {
            place: self.place(&raw.at, raw.form.as_ref(), &self.server)?,
            yes: value(&raw.yes)?,
            no: value(&raw.no)?,
        })
    }
}
