//! Three ways become one: the old defaults, the new ones, and what the administrator has made of the old.

use serde::Serialize;

use crate::document::{Document, EditDocumentError, Format, ParseDocumentError, Pointer, Value};

/// Why a place is as it was, although the defaults have changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum KeptWhy {
    /// The administrator has another value than the old default, and the default is new.
    Changed,
    /// The new release does not know it any more.
    Forgotten,
}

/// A place that keeps the administrator's value.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Kept {
    /// The place.
    pub at: String,
    /// Its value.
    pub value: String,
    /// The new default, where there is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub default: Option<String>,
    /// Why.
    pub why: KeptWhy,
}

/// A settings file, brought up to date.
#[derive(Debug, Clone, PartialEq)]
pub struct Merged {
    /// Its new text.
    pub text: String,
    /// The places that were set to new defaults, or came.
    pub taken: Vec<Pointer>,
    /// What stays as it was, and why.
    pub kept: Vec<Kept>,
}

/// Brings a settings file up to date. `same` holds where the administrator's own settings are noted elsewhere: those
/// places are not told as kept.
///
/// # Errors
/// Where one of the three cannot be read, or an edit cannot be made.
pub fn merge(
    format: Format,
    (old, new, mine): (&str, &str, &str),
    noted: &[Pointer],
) -> Result<Merged, EditDocumentError> {
    if matches!(format, Format::Lines | Format::Arguments | Format::Options) {
        return Ok(by_lines(old, new, mine));
    }
    let read = |text: &str| -> Result<Document, ParseDocumentError> { Document::parse(format, text) };
    let (old, new, mut document) = (read(old)?, read(new)?, read(mine)?);
    let mut merged = Merged { text: String::new(), taken: Vec::new(), kept: Vec::new() };
    let same = |a: &Value, b: &Value| a.means(b);
    for (at, value) in units(&new) {
        let (before, now) = (old.get(&at), document.get(&at));
        if before.as_ref().is_some_and(|before| same(before, &value)) {
            continue;
        }
        match (before, now) {
            (_, Some(now)) if same(&now, &value) => {}
            (Some(before), Some(now)) if same(&now, &before) => {
                document.set(&at, &value)?;
                merged.taken.push(at);
            }
            // It came with the new release.
            (None, None) => {
                if document.set(&at, &value).is_ok() {
                    merged.taken.push(at);
                }
            }
            (_, Some(now)) => {
                if !noted.contains(&at) {
                    merged.kept.push(Kept {
                        at: at.to_string(),
                        value: now.plain(),
                        default: Some(value.plain()),
                        why: KeptWhy::Changed,
                    });
                }
            }
            // The administrator took it out.
            (Some(_), None) => {}
        }
    }
    for (at, _) in units(&old) {
        if new.get(&at).is_none()
            && let Some(now) = document.get(&at)
        {
            let why = KeptWhy::Forgotten;
            merged.kept.push(Kept { at: at.to_string(), value: now.plain(), default: None, why });
        }
    }
    merged.text = document.into_text();
    Ok(merged)
}

/// The values that are merged one by one: single ones, and lists as a whole.
fn units(document: &Document) -> Vec<(Pointer, Value)> {
    let mut found: Vec<(Pointer, Value)> = Vec::new();
    for (at, value) in document.leaves() {
        let list = (1..at.tokens().len())
            .map(|depth| at.above(depth))
            .find(|above| matches!(document.get(above), Some(Value::Compound(serde_json::Value::Array(_)))));
        match list {
            Some(list) => {
                if found.last().is_none_or(|(last, _)| *last != list) {
                    let whole = document.get(&list).unwrap_or(value);
                    found.push((list, whole));
                }
            }
            None => found.push((at, value)),
        }
    }
    found
}

fn by_lines(old: &str, new: &str, mine: &str) -> Merged {
    match diffy::merge(old, mine, new) {
        Ok(text) => Merged { text, taken: Vec::new(), kept: Vec::new() },
        Err(_) => Merged {
            text: mine.into(),
            taken: Vec::new(),
            kept: vec![Kept {
                at: String::new(),
                value: String::new(),
                default: None,
                why: KeptWhy::Changed,
            }],
        },
    }
}
