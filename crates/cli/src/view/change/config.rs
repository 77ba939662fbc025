//! What a change does to configuration and settings files, as text.

use yalotheca_app::apply::ChangedFile;
use yalotheca_core::{
    change::{ConfigLine, EntryAct, PendingLine},
    settings::{Kept, KeptWhy},
};

use crate::view::{Cell, Page, Role, count};

pub(super) fn config(page: &mut Page, lines: &[ConfigLine], diffs: bool) {
    const MOST: usize = 6;
    if diffs {
        page.head("Configuration");
        for line in lines {
            diff(page, line);
        }
        return;
    }
    if lines.is_empty() {
        return;
    }
    page.head("Configuration");
    let mut rows = Vec::new();
    for line in lines {
        let mut what: Vec<String> = Vec::new();
        if line.removed {
            what.push("goes; it was made for this".into());
        } else if line.created {
            what.push("made".into());
        }
        let acts = [
            (EntryAct::Add, "add"),
            (EntryAct::Set, "set"),
            (EntryAct::Move, "move"),
            (EntryAct::Remove, "take out"),
            (EntryAct::Restore, "back to"),
            (EntryAct::Leave, "leave"),
        ];
        for (act, word) in acts {
            let mut entries: Vec<&str> = line
                .entries
                .iter()
                .filter(|entry| entry.act == act)
                .map(|entry| entry.what.as_str())
                .collect();
            if entries.is_empty() || line.removed {
                continue;
            }
            let more = entries.len().saturating_sub(MOST);
            entries.truncate(MOST);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            what.push(format!("{word} {}{more}", entries.join(", ")));
        }
        if let (true, Some(merged)) = (what.is_empty(), &line.merged) {
            what.push(format!("{} taken", count(merged.taken, "new default")));
        }
        if what.is_empty() {
            what.push("back to what it was".into());
        }
        rows.push(vec![Cell::new(Role::Name, line.path.to_string()), Cell::plain(what.join("; "))]);
    }
    page.table(&rows);
}

/// One file with the lines that change in it.
fn diff(page: &mut Page, line: &ConfigLine) {
    const MOST: usize = 16;
    let state = match (line.created, line.removed) {
        (true, _) => " (made)",
        (_, true) => " (goes; it was made for this)",
        _ => "",
    };
    page.item(Role::Name, &format!("{}{state}", line.path));
    for text in line.diff.iter().take(MOST) {
        diff_line(page, 4, text);
    }
    if line.diff.len() > MOST {
        page.cut(4, Role::Dim, &format!("and {} more lines (--json has them)", line.diff.len() - MOST));
    }
}

fn diff_line(page: &mut Page, indent: usize, text: &str) {
    let role = match text.chars().next() {
        Some('+') => Role::Good,
        Some('-') => Role::Bad,
        _ => Role::Dim,
    };
    page.cut(indent, role, if text == "@" { "…" } else { text });
}

/// What somebody has changed.
pub(super) fn kept(page: &mut Page, files: &[ChangedFile]) {
    const MOST: usize = 8;
    const LINES: usize = 12;
    if files.is_empty() {
        return;
    }
    page.head("Edited since Yalotheca installed it, and kept");
    for file in files.iter().take(MOST) {
        let of = file.content.as_ref().map_or_else(String::new, |content| format!(" of {content}"));
        let newer =
            file.beside.as_ref().map_or_else(String::new, |beside| format!("; the newer one is {beside}"));
        page.item(Role::Warn, &format!("{}{of}{newer}", file.path));
        for text in file.diff.iter().take(LINES) {
            diff_line(page, 6, text);
        }
    }
    if files.len() > MOST {
        page.item(Role::Dim, &format!("and {} more (--json lists them)", files.len() - MOST));
    }
    page.item(Role::Dim, "yalotheca settle --replace PATH puts the original there; undo brings yours back.");
}

/// What an update has made of settings files.
pub(super) fn merged(page: &mut Page, lines: &[ConfigLine]) {
    const MOST: usize = 6;
    let all: Vec<(&ConfigLine, &Kept)> = lines
        .iter()
        .flat_map(|line| {
            line.merged.iter().flat_map(move |merged| merged.kept.iter().map(move |kept| (line, kept)))
        })
        .collect();
    if all.is_empty() {
        return;
    }
    page.head("Kept as you have it");
    let rows: Vec<Vec<Cell>> = all
        .iter()
        .take(MOST)
        .map(|(line, kept)| {
            let place =
                if kept.at.is_empty() { line.path.to_string() } else { format!("{}#{}", line.path, kept.at) };
            let says = match (kept.why, &kept.default) {
                (KeptWhy::Forgotten, _) => "the new release does not know it any more".to_owned(),
                (_, Some(default)) => format!("the new default is {default}"),
                (_, None) => "the new defaults could not be merged; they lie beside it".to_owned(),
            };
            vec![Cell::new(Role::Name, place), Cell::plain(kept.value.clone()), Cell::new(Role::Dim, says)]
        })
        .collect();
    page.table(&rows);
    if all.len() > MOST {
        page.item(Role::Dim, &format!("and {} more (--json lists them)", all.len() - MOST));
    }
}

/// Settings that cannot be set yet.
pub(super) fn pending(page: &mut Page, lines: &[PendingLine]) {
    if lines.is_empty() {
        return;
    }
    page.head("Waits for the first start");
    let rows: Vec<Vec<Cell>> = lines
        .iter()
        .map(|line| {
            let says =
                format!("{} of {}: the server makes the file", count(line.settings, "setting"), line.content);
            vec![Cell::new(Role::Name, line.path.to_string()), Cell::plain(says)]
        })
        .collect();
    page.table(&rows);
    page.item(Role::Dim, "yalotheca trial starts it, sets them, and starts it again.");
}
