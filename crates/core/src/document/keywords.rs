//! Keyword lines: `name value` or `name "value"`. Comments begin with `//` or `#`, also behind a value, but not inside
//! quotes. Of a doubled name the last one counts.

use super::{
    Before, EditDocumentError, ParseDocumentError, Value,
    properties::{append_line, cut_line},
};

struct Entry<'a> {
    key: &'a str,
    value: &'a str,
    quoted: bool,
    /// Where the name ends.
    key_to: usize,
    /// Where the value lies, its quotes included.
    from: usize,
    to: usize,
    /// Where the whole line lies, its ending included.
    line_from: usize,
    line_to: usize,
}

fn comment_at(text: &str) -> usize {
    ["//", "#"].iter().filter_map(|sign| text.find(sign)).min().unwrap_or(text.len())
}

fn entry(line: &str, line_from: usize) -> Result<Option<Entry<'_>>, (usize, &'static str)> {
    let line_to = line_from + line.len();
    let start = line.len() - line.trim_start().len();
    let bare = line[start..].trim_end();
    if comment_at(bare) == 0 {
        return Ok(None);
    }
    let length = bare.find([' ', '\t']).unwrap_or(bare.len()).min(comment_at(bare));
    let key = &bare[..length];
    let rest = &bare[length..];
    let value_at = length + rest.len() - rest.trim_start().len();
    let rest = rest.trim_start();
    let (key_to, from) = (line_from + start + length, line_from + start + value_at);
    if let Some(inner) = rest.strip_prefix('"') {
        let Some(end) = inner.find('"') else {
            return Err((from, "expected a closing quote on this line"));
        };
        let behind = inner[end + 1..].trim_start();
        if comment_at(behind) != 0 {
            return Err((from + end + 2, "expected the end of the line or a comment behind the value"));
        }
        let value = &inner[..end];
        return Ok(Some(Entry {
            key,
            value,
            quoted: true,
            key_to,
            from,
            to: from + end + 2,
            line_from,
            line_to,
        }));
    }
    let value = rest[..comment_at(rest)].trim_end();
    Ok(Some(Entry { key, value, quoted: false, key_to, from, to: from + value.len(), line_from, line_to }))
}

fn all(text: &str) -> Result<Vec<Entry<'_>>, (usize, &'static str)> {
    let mut at = 0;
    let mut found = Vec::new();
    for line in text.split_inclusive('\n') {
        found.extend(entry(line, at)?);
        at += line.len();
    }
    Ok(found)
}

fn entries(text: &str) -> Vec<Entry<'_>> {
    all(text).unwrap_or_default()
}

pub(super) fn check(text: &str) -> Result<(), ParseDocumentError> {
    all(text).map(drop).map_err(|(at, expected)| ParseDocumentError::at(text, at, expected))
}

pub(super) fn get(text: &str, key: &str) -> Option<String> {
    entries(text).into_iter().rfind(|entry| entry.key == key).map(|entry| entry.value.into())
}

pub(super) fn keys(text: &str) -> Vec<String> {
    entries(text).into_iter().map(|entry| entry.key.into()).collect()
}

pub(super) fn set(text: &mut String, key: &str, value: &Value) -> Result<Before, EditDocumentError> {
    let unwritable = |value: &str, why| {
        Err(EditDocumentError::Unwritable { format: "keywords", value: value.into(), why })
    };
    if key.is_empty()
        || key.contains(|c: char| c.is_whitespace() || c == '"' || c == '#')
        || key.contains("//")
    {
        return unwritable(key, "it cannot be a name");
    }
    let value = value.plain();
    if value.contains(['\n', '\r', '"']) {
        return unwritable(&value, "values are one line without quotes in it");
    }
    let found = entries(text);
    let must_quote = value.is_empty() || comment_at(&value) < value.len() || value.trim() != value;
    if let Some(entry) = found.iter().rfind(|entry| entry.key == key) {
        let before = Before::Text(text[entry.from..entry.to].to_owned());
        let (from, to, quoted) = (entry.from, entry.to, entry.quoted || must_quote);
        // A name without a value ends where its line does.
        let space = if from == entry.key_to { " " } else { "" };
        let new = if quoted { format!("{space}\"{value}\"") } else { format!("{space}{value}") };
        text.replace_range(from..to, &new);
        return Ok(before);
    }
    let quoted = must_quote || found.iter().any(|entry| entry.quoted);
    let line = if quoted { format!("{key} \"{value}\"") } else { format!("{key} {value}") };
    append_line(text, &line);
    Ok(Before::Absent { made: 0 })
}

pub(super) fn put_back(text: &mut String, key: &str, before: &Before) {
    let found = entries(text);
    let Some(entry) = found.iter().rfind(|entry| entry.key == key) else { return };
    match before {
        Before::Text(old) => {
            let (from, to) = (entry.from, entry.to);
            let from = if old.is_empty() { entry.key_to } else { from };
            text.replace_range(from..to, old);
        }
        Before::Absent { .. } => {
            let (from, to) = (entry.line_from, entry.line_to);
            cut_line(text, from, to);
        }
    }
}
