//! `[mirror]`: the web folder from which players' games download files.

use std::slice;

use super::{Checked, Loader, check_globs, pattern_with, run::bytes_of, template};
use crate::game::{
    Compression, CopyRule, MirrorFiles, MirrorIndex, MirrorNames, MirrorRule, ValueTemplate,
    raw::{RawCopy, RawMirror, RawMirrorFiles, RawMirrorIndex, RawSwitch, Text},
};

impl Loader {
    pub(super) fn mirror(&self, raw: &RawMirror) -> Checked<MirrorRule> {
        Ok(MirrorRule {
            address: self.place(&raw.address.at, raw.address.form.as_ref(), &self.server)?,
            slash: raw.address.slash,
            switches: raw.switches.iter().map(|raw| self.switch(raw)).collect::<Checked<_>>()?,
            files: raw.files.iter().map(|raw| self.mirror_files(raw)).collect::<Checked<_>>()?,
            index: raw.index.as_ref().map(index).transpose()?,
        })
    }

    pub(super) fn copy(&self, raw: &RawCopy) -> Checked<CopyRule> {
        Ok(CopyRule {
            empty: check_globs(&raw.empty)?
                .iter()
                .map(|text| template(text, &self.server))
                .collect::<Checked<_>>()?,
            set: raw.set.iter().map(|raw| self.switch(raw)).collect::<Checked<_>>()?,
        })
    }

    fn switch(&self, raw: &RawSwitch) -> Checked<(super::ConfigPlace, ValueTemplate)> {
        let value = ValueTemplate::new(raw.to.as_ref(), &self.server).map_err(|why| (raw.to.span(), why))?;
        Ok((self.place(&raw.at, raw.form.as_ref(), &self.server)?, value))
    }

    fn mirror_files(&self, raw: &RawMirrorFiles) -> Checked<MirrorFiles> {
        check_globs(slice::from_ref(&raw.take))?;
        let named = match raw.named.as_ref().map(|named| (named.as_ref().as_str(), named)) {
            None | Some(("path", _)) => MirrorNames::Path,
            Some(("sha1", _)) => MirrorNames::Sha1,
            Some((other, text)) => {
                return Err((text.span(), format!("{other:?} is neither \"path\" nor \"sha1\"")));
            }
        };
        let compress = raw.compress.as_ref().map(compression).transpose()?;
        if compress.is_none() && raw.plain == Some(false) {
            return Err((
                raw.take.span(),
                "files that are neither compressed nor plain are not there".into(),
            ));
        }
        let plain = raw.plain.unwrap_or(compress.is_none());
        Ok(MirrorFiles { take: template(&raw.take, &self.server)?, named, compress, plain })
    }
}

fn compression(text: &Text) -> Checked<Compression> {
    match text.as_ref().as_str() {
        "bzip2" => Ok(Compression::Bzip2),
        "gzip" => Ok(Compression::Gzip),
        other => Err((text.span(), format!("{other:?} is neither \"bzip2\" nor \"gzip\""))),
    }
}

fn index(raw: &RawMirrorIndex) -> Checked<MirrorIndex> {
    let head = raw.head.as_ref().map(bytes_of).transpose()?.unwrap_or_default();
    let announced = raw.announced.as_ref().map(|text| pattern_with(text, "digest")).transpose()?;
    Ok(MirrorIndex { file: raw.file.clone(), head, announced })
}
