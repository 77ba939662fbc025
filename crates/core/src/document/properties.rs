//! `key = value` lines. Comments begin with `#` at the start of a line. Of a doubled key the last one counts.

use super::{Before, EditDocumentError, ParseDocumentError, Value, line_ending};

struct Entry<'a> {
    key: &'a str,
    value: &'a str,
    /// Where the value lies.
    from: usize,
    to: usize,
    /// Where the whole line lies, its ending included.
    line_from: usize,
    line_to: usize,
}

pub(super) fn check(text: &str) -> Result<(), ParseDocumentError> {
    // A value in triple quotes may run over several lines.
    let mut quoted = false;
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        let bare = line.trim();
        let entry = quoted || bare.is_empty() || bare.starts_with('#') || bare.contains('=');
        // A brace closes a group that some programs write; it is kept and not looked into.
        if !entry && !matches!(bare, "}" | "{") {
            let indent = line.len() - line.trim_start().len();
            return Err(ParseDocumentError::at(text, at + indent, "expected \"key = value\" or a comment"));
        }
        if bare.matches("\"\"\"").count() % 2 == 1 {
            quoted = !quoted;
        }
        at += line.len();
    }
    Ok(())
}

fn entries(text: &str) -> Vec<Entry<'_>> {
    let mut found = Vec::new();
    let mut at = 0;
    let mut quoted = false;
    for line in text.split_inclusive('\n') {
        let line_from = at;
        at += line.len();
        let was_quoted = quoted;
        if line.matches("\"\"\"").count() % 2 == 1 {
            quoted = !quoted;
        }
        if was_quoted || line.trim_start().starts_with('#') {
            continue;
        }
        let Some((key, value)) = line.split_once('=') else { continue };
        let lead = value.len() - value.trim_start_matches([' ', '\t']).len();
        let from = line_from + key.len() + 1 + lead;
        let value = value.trim();
        found.push(Entry { key: key.trim(), value, from, to: from + value.len(), line_from, line_to: at });
    }
    found
}

pub(super) fn get(text: &str, key: &str) -> Option<String> {
    entries(text).into_iter().rfind(|entry| entry.key == key).map(|entry| entry.value.into())
}

pub(super) fn keys(text: &str) -> Vec<String> {
    entries(text).into_iter().map(|entry| entry.key.into()).collect()
}

pub(super) fn set(text: &mut String, key: &str, value: &Value) -> Result<Before, EditDocumentError> {
    let unwritable = |value: &str, why| {
        Err(EditDocumentError::Unwritable { format: "properties", value: value.into(), why })
    };
    if key.is_empty() || key.trim() != key || key.contains(['=', '\n', '\r']) || key.starts_with('#') {
        return unwritable(key, "it cannot be a key");
    }
    let value = value.plain();
    if value.trim() != value || value.contains(['\n', '\r']) || value.contains("\"\"\"") {
        return unwritable(&value, "values are one line without white space around them");
    }
    let found = entries(text);
    if let Some(entry) = found.iter().rfind(|entry| entry.key == key) {
        let before = Before::Text(entry.value.into());
        let (from, to) = (entry.from, entry.to);
        drop(found);
        text.replace_range(from..to, &value);
        return Ok(before);
    }
    let sign = found.last().map_or(" = ", |last| {
        let line = &text[last.line_from..last.from];
        let bare =
            line.find('=').is_some_and(|at| at > 0 && !line[..at].ends_with(' ') && line.ends_with('='));
        if bare { "=" } else { " = " }
    });
    let sign = sign.to_owned();
    append_line(text, &format!("{key}{sign}{value}"));
    Ok(Before::Absent { made: 0 })
}

/// Adds a line at the end; a file without a last line ending stays without one.
pub(super) fn append_line(text: &mut String, line: &str) {
    let ending = line_ending(text);
    if text.is_empty() || text.ends_with('\n') {
        text.push_str(line);
        text.push_str(ending);
    } else {
        text.push_str(ending);
        text.push_str(line);
    }
}

/// Takes the line from..to out; where it is the last and has no ending, the ending before it goes.
pub(super) fn cut_line(text: &mut String, from: usize, to: usize) {
    let has_ending = text[from..to].ends_with('\n');
    let from = if has_ending || from == 0 {
        from
    } else {
        let before = from - 1;
        if text[..before].ends_with('\r') { before - 1 } else { before }
    };
    text.replace_range(from..to, "");
}

pub(super) fn put_back(text: &mut String, key: &str, before: &Before) {
    let found = entries(text);
    let Some(entry) = found.iter().rfind(|entry| entry.key == key) else { return };
    match before {
        Before::Text(old) => {
            let (from, to) = (entry.from, entry.to);
            text.replace_range(from..to, old);
        }
        Before::Absent { .. } => {
            let (from, to) = (entry.line_from, entry.line_to);
            cut_line(text, from, to);
        }
    }
}
