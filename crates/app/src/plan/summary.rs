//! A change in one line, for the history.

use super::{ContentAct, ContentLine};
use crate::words::count;

/// Returns what happens to these contents; where nothing does, how many files are touched.
pub fn summary_of(contents: &[ContentLine], files: usize, config: usize) -> String {
    let mut parts: Vec<String> = contents
        .iter()
        .take(4)
        .map(|line| match (line.act, &line.to) {
            (ContentAct::Gone, _) => format!("{} gone", line.id),
            (ContentAct::Off, _) => format!("{} off", line.id),
            (ContentAct::On, _) => format!("{} on", line.id),
            (ContentAct::New, Some(to)) => format!("{} {} new", line.id, to.shown()).replace("  ", " "),
            (_, Some(to)) => format!("{} now {to}", line.id),
            (_, None) => line.id.to_string(),
        })
        .collect();
    if contents.len() > 4 {
        parts.push(format!("{} more", contents.len() - 4));
    }
    if parts.is_empty() {
        parts.push(totals(contents.len(), files, config));
    }
    parts.join(", ")
}

/// Returns how much a change touches, in words.
pub fn totals(contents: usize, files: usize, config: usize) -> String {
    let mut parts = Vec::new();
    if contents > 0 {
        parts.push(count(contents, "content"));
    }
    if files > 0 {
        parts.push(count(files, "file"));
    }
    if config > 0 {
        parts.push(count(config, "configuration file"));
    }
    if parts.is_empty() { "nothing".into() } else { parts.join(", ") }
}
