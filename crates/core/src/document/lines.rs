//! One item a line. Blank lines and what follows a `#` are not items.

use super::{
    Before, EditDocumentError, line_ending,
    properties::{append_line, cut_line},
};

struct Line<'a> {
    item: &'a str,
    from: usize,
    to: usize,
}

fn lines(text: &str) -> Vec<Line<'_>> {
    let mut at = 0;
    let mut found = Vec::new();
    for line in text.split_inclusive('\n') {
        let from = at;
        at += line.len();
        let item = line.split_once('#').map_or(line, |(item, _)| item).trim();
        if !item.is_empty() {
            found.push(Line { item, from, to: at });
        }
    }
    found
}

pub(super) fn items(text: &str) -> Vec<String> {
    lines(text).into_iter().map(|line| line.item.into()).collect()
}

pub(super) fn insert(text: &mut String, index: usize, item: &str) -> Result<Before, EditDocumentError> {
    if item.is_empty() || item.trim() != item || item.contains(['#', '\n', '\r']) {
        return Err(EditDocumentError::Unwritable {
            format: "lines",
            value: item.into(),
            why: "an item is one line without '#' and without white space around it",
        });
    }
    let found = lines(text);
    match (found.get(index), index.checked_sub(1).and_then(|at| found.get(at))) {
        // Behind its forerunner, so that comments above the next item stay with that item.
        (Some(_), Some(forerunner)) => {
            let at = forerunner.to;
            let line = format!("{item}{}", line_ending(text));
            text.insert_str(at, &line);
        }
        (Some(next), None) => {
            let at = next.from;
            let line = format!("{item}{}", line_ending(text));
            text.insert_str(at, &line);
        }
        (None, _) => append_line(text, item),
    }
    Ok(Before::Absent { made: 0 })
}

pub(super) fn remove(text: &mut String, index: usize) {
    if let Some(line) = lines(text).get(index) {
        let (from, to) = (line.from, line.to);
        cut_line(text, from, to);
    }
}
