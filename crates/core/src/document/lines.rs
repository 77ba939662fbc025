//! One item a line. Blank lines and what follows a `#` are not items.

use super::{Before, EditDocumentError, line_ending, properties::cut_line};

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

pub(super) fn insert(text: &mut String, index: usize, item: &str) -> Result<(), EditDocumentError> {
    insert_all(text, &[(index, item.to_owned())]).map(drop)
}

/// Puts items in one after another, reading the text once.
pub(super) fn insert_all(
    text: &mut String,
    items: &[(usize, String)],
) -> Result<Vec<Before>, EditDocumentError> {
    let unwritable =
        |item: &&String| item.is_empty() || item.trim() != item.as_str() || item.contains(['#', '\n', '\r']);
    if let Some(item) = items.iter().map(|(_, item)| item).find(unwritable) {
        return Err(EditDocumentError::Unwritable {
            format: "lines",
            value: item.into(),
            why: "an item is one line without '#' and without white space around it",
        });
    }
    let ending = line_ending(text);
    let mut pieces: Vec<String> = Vec::new();
    // Which piece each item is.
    let mut places: Vec<usize> = Vec::new();
    let mut done = 0;
    for line in lines(text) {
        if line.from > done {
            pieces.push(text[done..line.from].to_owned());
        }
        places.push(pieces.len());
        pieces.push(text[line.from..line.to].to_owned());
        done = line.to;
    }
    pieces.push(text[done..].to_owned());
    for (index, item) in items {
        let mut line = format!("{item}{ending}");
        let at = match (places.get(*index), index.checked_sub(1).and_then(|at| places.get(at))) {
            // Behind its forerunner, so that comments above the next item stay with that item.
            (Some(_), Some(forerunner)) => forerunner + 1,
            (Some(next), None) => *next,
            (None, _) => {
                let last = pieces.iter_mut().rev().find(|piece| !piece.is_empty());
                if let Some(last) = last.filter(|last| !last.ends_with('\n')) {
                    // A text without a last line ending stays one.
                    last.push_str(ending);
                    line.truncate(item.len());
                }
                pieces.len()
            }
        };
        pieces.insert(at, line);
        let index = (*index).min(places.len());
        for place in &mut places[index..] {
            *place += 1;
        }
        places.insert(index, at);
    }
    *text = pieces.concat();
    Ok(items.iter().map(|_| Before::Absent { made: 0 }).collect())
}

pub(super) fn remove(text: &mut String, index: usize) {
    if let Some(line) = lines(text).get(index) {
        let (from, to) = (line.from, line.to);
        cut_line(text, from, to);
    }
}
