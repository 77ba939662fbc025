//! Cross references: values that must name something that is there.

use globset::{GlobBuilder, GlobMatcher};
use toml::Spanned;

use super::{Checked, Loader, pattern_with};
use crate::{
    document::{Format, Pointer},
    game::{
        Numbers, Reference, Target,
        raw::{OneOrManyTargets, RawNumbers, RawReference, RawTarget, Text},
    },
};

/// Returns a pattern's matcher: `*` stays in its folder.
fn files(text: &Text) -> Checked<GlobMatcher> {
    not_filled(text)?;
    GlobBuilder::new(text.as_ref())
        .literal_separator(true)
        .build()
        .map(|glob| glob.compile_matcher())
        .map_err(|error| (text.span(), format!("the pattern is wrong: {}", error.kind())))
}

/// A template here would be taken as it is written, and name no file.
fn not_filled(text: &Text) -> Checked<()> {
    if text.as_ref().contains("{{") {
        return Err((
            text.span(),
            "templates are not filled in a reference; write a pattern, as in towns/*/trade.json".into(),
        ));
    }
    Ok(())
}

impl Loader {
    /// Reads `files#/pointer`, where both may have a `*`.
    fn spot(&self, text: &Text, form: Option<&Text>) -> Checked<(GlobMatcher, String, Format, Pointer)> {
        let Some((pattern, pointer)) = text.as_ref().split_once('#') else {
            return Err((text.span(), format!("{:?} must be written as files#/pointer", text.as_ref())));
        };
        let pattern = Text::new(text.span(), pattern.to_owned());
        let format = self.format(&pattern, form)?;
        let at = Pointer::parse(pointer).map_err(|error| (text.span(), error.to_string()))?;
        Ok((files(&pattern)?, pattern.into_inner(), format, at))
    }

    pub(super) fn reference(&self, raw: Spanned<RawReference>) -> Checked<Reference> {
        let (whole, raw) = (raw.span(), raw.into_inner());
        let (place, once) = match (&raw.each, &raw.each_key, &raw.once) {
            (Some(each), None, None) | (None, Some(each), None) => (each, false),
            (None, None, Some(once)) => (once, true),
            (each, _, once) => {
                let span = each.as_ref().or(once.as_ref()).map_or(whole, Spanned::span);
                return Err((
                    span,
                    "a reference has either \"each\" or \"each-key\", and \"is\", or \"once\"".into(),
                ));
            }
        };
        let keys = raw.each_key.is_some();
        let only_if = match &raw.only_if {
            Some(text) if keys => {
                let at = Pointer::parse(text.as_ref()).map_err(|error| (text.span(), error.to_string()))?;
                Some(at)
            }
            Some(text) => return Err((text.span(), "\"if\" goes with \"each-key\"".into())),
            None => None,
        };
        let span = place.span();
        let (files, pattern, format, each) = self.spot(place, raw.form.as_ref())?;
        let targets = match raw.is {
            None => Vec::new(),
            Some(OneOrManyTargets::One(target)) => vec![target],
            Some(OneOrManyTargets::Many(many)) => many,
        };
        let numbers = raw.numbers.map(|numbers| match numbers {
            RawNumbers::Many(count) => Numbers::Many(count),
            RawNumbers::Named(names) => Numbers::Named(names),
        });
        if targets.is_empty() != (once || numbers.is_some()) || numbers.is_some() && (once || keys) {
            let why = "a reference has either \"each\" and \"is\", \"each\" and \"numbers\", or \"once\"";
            return Err((span, why.into()));
        }
        let is = targets.into_iter().map(|target| self.target(target, &span)).collect::<Checked<_>>()?;
        let seen_as = raw.seen_as.as_ref().map(|text| pattern_with(text, "item")).transpose()?;
        let called = if raw.called.is_empty() {
            each.tokens().last().map_or_else(String::new, |token| token.trim_start_matches('@').to_owned())
        } else {
            raw.called
        };
        let separator = raw.separator;
        Ok(Reference {
            files,
            pattern,
            format,
            each,
            keys,
            only_if,
            separator,
            seen_as,
            is,
            once,
            called,
            numbers,
        })
    }

    fn target(&self, raw: RawTarget, span: &std::ops::Range<usize>) -> Checked<Target> {
        let text = |text: String| Text::new(span.clone(), text);
        let form = raw.form.map(text);
        if let Some(pattern) = raw.folder_of {
            let inside = text(format!("{}/**", pattern.trim_end_matches('/')));
            return Ok(Target::FolderOf { files: files(&inside)?, pattern });
        }
        match (raw.stem_of, raw.entry, raw.key_of, raw.words, raw.below, raw.path_of) {
            (Some(pattern), None, None, None, None, None) => {
                Ok(Target::StemOf { files: files(&text(pattern.clone()))?, pattern })
            }
            (None, Some(entry), None, None, None, None) => {
                let (files, pattern, format, at) = self.spot(&text(entry), form.as_ref())?;
                Ok(Target::Entry { files, pattern, format, at, separator: raw.separator })
            }
            (None, None, Some(entry), None, None, None) => {
                let (files, pattern, format, at) = self.spot(&text(entry), form.as_ref())?;
                Ok(Target::KeyOf { files, pattern, format, at })
            }
            (None, None, None, Some(words), None, None) => Ok(Target::Words(words)),
            (None, None, None, None, Some(folder), None) => {
                not_filled(&text(folder.clone()))?;
                Ok(Target::Below(folder))
            }
            (None, None, None, None, None, Some(pattern)) => {
                Ok(Target::PathOf { files: files(&text(pattern.clone()))?, pattern })
            }
            _ => Err((
                span.clone(),
                "what is named is one of { stem-of = … }, { entry = … }, { key-of = … }, { path-of = … }, { folder-of = … }, { below = … } or { words = [ … ] }"
                    .into(),
            )),
        }
    }
}
