//! `[[runtime]]`: what an engine runs on.

use super::{Checked, Loader, check_globs, pattern_with, template};
use crate::game::{
    RuntimeRule,
    raw::{RawRuntime, Text},
};

impl Loader {
    pub(super) fn runtime(&self, raw: &RawRuntime) -> Checked<RuntimeRule> {
        let templates = |texts: &[Text]| {
            texts.iter().map(|text| template(text, &self.server)).collect::<Checked<Vec<_>>>()
        };
        if raw.paths.is_empty() && raw.command.is_empty() {
            return Err((
                raw.needs.span(),
                "a runtime needs \"paths\" or a \"command\" by which it is found".into(),
            ));
        }
        let by_path = match raw.names.as_ref().map(|text| (text, text.as_ref().as_str())) {
            None | Some((_, "version")) => false,
            Some((_, "path")) => true,
            Some((text, other)) => {
                return Err((text.span(), format!("{other:?} is neither \"version\" nor \"path\"")));
            }
        };
        Ok(RuntimeRule {
            title: raw.title.clone(),
            needs: self.place(&raw.needs, None, &self.server)?,
            inside: raw.inside.as_ref().map(|text| template(text, &self.server)).transpose()?,
            setting: self.place(&raw.setting, None, &self.server)?,
            by_path,
            paths: templates(check_globs(&raw.paths)?)?,
            command: templates(&raw.command)?,
            pattern: pattern_with(&raw.pattern, "version")?,
        })
    }
}
