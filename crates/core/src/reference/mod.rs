//! Cross references: values that must name something that is there, and values that may occur once only.

mod numbers;
#[cfg(test)]
mod tests;

use std::collections::BTreeMap;

use globset::GlobMatcher;
use serde::Serialize;

use crate::{
    document::{Document, Format, Pointer, TextFile, Value},
    game::{Reference, Target},
    id::TreePath,
    suggest,
};

/// A server's files, as they are or as they would be.
pub trait Files {
    /// Returns the files that a pattern names.
    fn named(&mut self, pattern: &str, glob: &GlobMatcher) -> Vec<TreePath>;
    /// Returns a file's text; nothing where it is not there or cannot be read.
    fn text(&mut self, path: &TreePath) -> Option<TextFile>;
    /// Returns whether there is such a file or folder.
    fn has(&mut self, path: &TreePath) -> bool;
    /// Returns whether such files may be behind a link out of the server's folder, which is never followed.
    fn may_hide(&mut self, pattern: &str) -> bool;
}

/// A place in a file.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Spot {
    /// The file.
    pub file: TreePath,
    /// Its line, from 1.
    pub line: usize,
}

/// A reference that does not hold.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Break {
    /// What such a value is called.
    pub called: String,
    /// The value.
    pub value: String,
    /// Where it stands.
    pub at: Spot,
    /// Where else it stands, where it may occur once only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub also: Option<Spot>,
    /// What it must name, in words.
    pub wanted: String,
    /// The nearest right name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub near: Option<String>,
    /// Whether the value has the wrong form, rather than an unknown name.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub misshapen: bool,
}

impl Break {
    /// Returns what is wrong, in a sentence.
    pub fn says(&self) -> String {
        let Spot { file, line } = &self.at;
        let Self { called, value, wanted, .. } = self;
        match &self.also {
            _ if self.misshapen && value.is_empty() => {
                format!("{file}, line {line}: {called} is missing; it must be {wanted}")
            }
            _ if self.misshapen => format!("{file}, line {line}: {called} must be {wanted}, not {value}"),
            Some(also) if also.file == *file => {
                format!("{file}, line {line}: {called} {value} is there twice, in line {} as well", also.line)
            }
            Some(also) => format!(
                "{file}, line {line}: {called} {value} may be named once only, and {}, line {} names it too",
                also.file, also.line
            ),
            None => format!("{file}, line {line}: {called} {value} is not there ({wanted})"),
        }
    }
}

/// The values at a place of all files that a pattern names; nothing where one of the files cannot be read, since nobody
/// can tell what is in it.
fn values(
    files: &mut dyn Files,
    (pattern, glob, format): (&str, &GlobMatcher, Format),
    at: &Pointer,
    separator: Option<&str>,
) -> Option<Vec<(String, Spot)>> {
    let mut found = Vec::new();
    for file in files.named(pattern, glob) {
        let Some(text) = files.text(&file) else { continue };
        let document = Document::parse(format, text.text()).ok()?;
        for (place, value) in document.matching(at) {
            let spot = Spot { file: file.clone(), line: document.line_of(&place).unwrap_or(1) };
            let text = value.plain();
            match separator {
                Some(separator) => {
                    let parts = text.split(separator).map(str::trim).filter(|part| !part.is_empty());
                    found.extend(parts.map(|part| (part.to_owned(), spot.clone())));
                }
                None if matches!(value, Value::Compound(_)) => {}
                None => found.push((text, spot)),
            }
        }
    }
    Some(found)
}

/// The names at a place of all files that a pattern names, those alone at which another place says `true`.
fn keys(
    files: &mut dyn Files,
    (pattern, glob, format): (&str, &GlobMatcher, Format),
    at: &Pointer,
    only_if: Option<&Pointer>,
) -> Option<Vec<(String, Spot)>> {
    let mut found = Vec::new();
    for file in files.named(pattern, glob) {
        let Some(text) = files.text(&file) else { continue };
        let document = Document::parse(format, text.text()).ok()?;
        for key in document.keys(at) {
            let place = at.join(&key);
            let is_on = |below: &Pointer| {
                let place = below.tokens().iter().fold(place.clone(), |place, token| place.join(token));
                document.get(&place).is_some_and(|value| value.plain() == "true")
            };
            if only_if.is_none_or(is_on) {
                let spot = Spot { file: file.clone(), line: document.line_of(&place).unwrap_or(1) };
                found.push((key, spot));
            }
        }
    }
    Some(found)
}

fn stem(path: &TreePath) -> String {
    let name = path.name();
    name.split_once('.').map_or(name, |(stem, _)| stem).to_owned()
}

/// Returns the names of a target and its description, or nothing if one of its files cannot be read.
fn names(files: &mut dyn Files, target: &Target) -> Option<(Vec<String>, String)> {
    if let Target::StemOf { pattern, .. } | Target::PathOf { pattern, .. } | Target::FolderOf { pattern, .. } =
        target
        && files.may_hide(pattern)
    {
        return None;
    }
    Some(match target {
        Target::StemOf { files: glob, pattern } => {
            (files.named(pattern, glob).iter().map(stem).collect(), format!("no {pattern} of that name"))
        }
        Target::PathOf { files: glob, pattern } => {
            let paths = files.named(pattern, glob).iter().map(ToString::to_string).collect();
            (paths, format!("no such file among {pattern}"))
        }
        Target::FolderOf { files: glob, pattern } => {
            let depth = pattern.trim_end_matches('/').matches('/').count();
            let inside = files.named(&format!("{}/**", pattern.trim_end_matches('/')), glob);
            let name = |path: &TreePath| {
                // The name at that depth, of what lies in the folder.
                let mut parts = path.as_str().split('/').skip(depth);
                let name = parts.next()?.to_owned();
                parts.next().map(|_| name)
            };
            (inside.iter().filter_map(name).collect(), format!("no folder {pattern} of that name"))
        }
        Target::Entry { files: glob, pattern, format, at, separator } => {
            let found = values(files, (pattern, glob, *format), at, separator.as_deref())?;
            (found.into_iter().map(|(value, _)| value).collect(), format!("{pattern} does not have it"))
        }
        Target::KeyOf { files: glob, pattern, format, at } => {
            let mut keys = Vec::new();
            for file in files.named(pattern, glob) {
                let Some(text) = files.text(&file) else { continue };
                keys.extend(Document::parse(*format, text.text()).ok()?.keys(at));
            }
            (keys, format!("{pattern} does not have it"))
        }
        Target::Words(words) => {
            const MOST: usize = 6;
            let says = match words.len().saturating_sub(MOST) {
                0 => format!("one of {}", words.join(", ")),
                more => format!("one of {} and {more} more", words[..MOST].join(", ")),
            };
            (words.clone(), says)
        }
        Target::Below(folder) => (Vec::new(), format!("no such folder below {folder}/")),
    })
}

/// Returns every reference that does not hold.
pub fn breaks(references: &[Reference], files: &mut dyn Files) -> Vec<Break> {
    let mut found = Vec::new();
    for reference in references {
        if let Some(numbers) = &reference.numbers {
            found.extend(numbers::misshapen(reference, numbers, files));
            continue;
        }
        let Reference { files: glob, pattern, format, each, separator, seen_as, is, once, called, .. } =
            reference;
        let of_files = (pattern.as_str(), glob, *format);
        let all = if reference.keys {
            keys(files, of_files, each, reference.only_if.as_ref())
        } else {
            values(files, of_files, each, separator.as_deref())
        };
        // `check` reports an unreadable file separately.
        let Some(mut all) = all else { continue };
        if let Some(seen_as) = seen_as {
            let part = |(value, at): (String, Spot)| {
                let part = seen_as.captures(&value)?.name("item")?.as_str().to_owned();
                Some((part, at))
            };
            all = all.into_iter().filter_map(part).collect();
        }
        if *once {
            let mut seen: BTreeMap<String, Spot> = BTreeMap::new();
            for (value, at) in all {
                if let Some(also) = seen.get(&value) {
                    let (also, wanted) = (Some(also.clone()), String::new());
                    let (called, near) = (called.clone(), None);
                    found.push(Break { called, value, at, also, wanted, near, misshapen: false });
                } else {
                    seen.insert(value, at);
                }
            }
            continue;
        }
        let mut known: Vec<String> = Vec::new();
        let mut wanted = Vec::new();
        let mut all_known = true;
        for target in is {
            let Some((names, words)) = names(files, target) else {
                all_known = false;
                continue;
            };
            known.extend(names);
            wanted.push(words);
        }
        if !all_known {
            continue;
        }
        known.sort_unstable();
        known.dedup();
        for (value, at) in all {
            let below = is.iter().any(|target| match target {
                Target::Below(folder) => {
                    TreePath::new(&format!("{folder}/{value}")).is_ok_and(|path| files.has(&path))
                }
                _ => false,
            });
            if value.is_empty() || below || known.contains(&value) {
                continue;
            }
            let near = suggest::did_you_mean(&value, known.iter().map(String::as_str));
            let wanted = wanted.join("; ");
            let (called, also) = (called.clone(), None);
            found.push(Break { called, value, at, also, wanted, near, misshapen: false });
        }
    }
    found
}
