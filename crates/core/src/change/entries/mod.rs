//! One configuration file: from its text and what is ours in it to its new text.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

mod list;
mod number;

use super::OwnedEntry;
use crate::{
    desire::{Entry, Registration},
    document::{Before, Document, EditDocumentError, Pointer, Value},
    id::ContentId,
};

/// What happens to one entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum EntryAct {
    /// It is put in.
    Add,
    /// Its value changes.
    Set,
    /// It moves within its list.
    Move,
    /// It is taken out.
    Remove,
    /// What stood there before comes back.
    Restore,
    /// It is no longer ours to take out: somebody changed it.
    Leave,
}

/// One line of a preview about a configuration file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct EntryLine {
    /// What happens.
    pub act: EntryAct,
    /// The place and the item or the value.
    pub what: String,
    /// Whose entry it is.
    pub content: ContentId,
}

/// A compiled configuration file.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Compiled {
    /// The new text.
    pub(super) text: String,
    /// What is ours in it now.
    pub(super) entries: Vec<OwnedEntry>,
    /// What happened.
    pub(super) lines: Vec<EntryLine>,
}

/// Compiles one file. `owned` and `wanted` are those of this file; `wanted` stands in the lineup's order.
pub(super) fn compile(
    mut document: Document,
    owned: &[OwnedEntry],
    wanted: &[&Registration],
) -> Result<Compiled, EditDocumentError> {
    let mut entries = Vec::new();
    let mut lines = Vec::new();
    blocks(&mut document, owned, wanted, &mut entries, &mut lines)?;
    sets(&mut document, owned, wanted, &mut entries, &mut lines)?;
    let is_item = |entry: &Entry| matches!(entry, Entry::Item { .. });
    for place in places(owned, wanted, is_item) {
        list::list(&mut document, place, owned, wanted, (&mut entries, &mut lines))?;
    }
    let is_number = |entry: &Entry| matches!(entry, Entry::Number { .. });
    for place in places(owned, wanted, is_number) {
        number::numbers(&mut document, place, owned, wanted, (&mut entries, &mut lines))?;
    }
    Ok(Compiled { text: document.into_text(), entries, lines })
}

/// Returns the places at which there are entries of a sort, ours or wanted.
fn places<'e>(
    owned: &'e [OwnedEntry],
    wanted: &[&'e Registration],
    of_sort: impl Fn(&Entry) -> bool,
) -> BTreeSet<&'e Pointer> {
    let ours = owned.iter().filter(|entry| of_sort(&entry.entry)).map(|entry| &entry.pointer);
    ours.chain(wanted.iter().filter(|r| of_sort(&r.entry)).map(|r| &r.pointer)).collect()
}

/// Fragments between lines of their own.
fn blocks(
    document: &mut Document,
    owned: &[OwnedEntry],
    wanted: &[&Registration],
    entries: &mut Vec<OwnedEntry>,
    lines: &mut Vec<EntryLine>,
) -> Result<(), EditDocumentError> {
    let blocks = || {
        wanted.iter().filter_map(|r| {
            if let Entry::Block { name, text } = &r.entry { Some((r, name, text)) } else { None }
        })
    };
    for entry in owned {
        let Entry::Block { name, .. } = &entry.entry else { continue };
        if blocks().all(|(_, other, _)| other != name) && document.fragment(name)?.is_some() {
            document.set_fragment(name, None)?;
            lines.push(EntryLine {
                act: EntryAct::Remove,
                what: format!("the block {name}"),
                content: entry.content.clone(),
            });
        }
    }
    for (registration, name, text) in blocks() {
        let now = document.fragment(name)?;
        if now.as_ref().is_none_or(|now| now.trim_end() != text.trim_end()) {
            let act = if now.is_some() { EntryAct::Set } else { EntryAct::Add };
            document.set_fragment(name, Some(text))?;
            let content = registration.content.clone();
            lines.push(EntryLine { act, what: format!("the block {name}"), content });
        }
        entries.push(own(registration, Before::Absent { made: 0 }));
    }
    Ok(())
}

fn shown(pointer: &Pointer, value: &Value) -> String {
    format!("{} = {}", pointer.to_string().trim_start_matches('/'), value.brief())
}

fn sets(
    document: &mut Document,
    owned: &[OwnedEntry],
    wanted: &[&Registration],
    entries: &mut Vec<OwnedEntry>,
    lines: &mut Vec<EntryLine>,
) -> Result<(), EditDocumentError> {
    let set: BTreeSet<&Pointer> =
        wanted.iter().filter(|r| matches!(r.entry, Entry::Set(_))).map(|r| &r.pointer).collect();
    let before_us: BTreeMap<&Pointer, &Before> =
        owned.iter().rev().map(|entry| (&entry.pointer, &entry.before)).collect();
    // Taken out in reverse, so that what was made first goes last.
    for entry in owned.iter().rev().filter(|entry| !set.contains(&entry.pointer)) {
        let Entry::Set(value) = &entry.entry else { continue };
        let Some(now) = document.get(&entry.pointer) else { continue };
        let (act, what) = if !now.means(value) {
            (EntryAct::Leave, format!("{} (changed by hand)", shown(&entry.pointer, &now)))
        } else if let Before::Text(text) = &entry.before {
            document.put_back(&entry.pointer, &entry.before)?;
            (EntryAct::Restore, shown(&entry.pointer, &Value::Text(text.trim().trim_matches('"').to_owned())))
        } else {
            document.put_back(&entry.pointer, &entry.before)?;
            (EntryAct::Remove, shown(&entry.pointer, value))
        };
        lines.push(EntryLine { act, what, content: entry.content.clone() });
    }
    for registration in wanted {
        let Entry::Set(value) = &registration.entry else { continue };
        let pointer = &registration.pointer;
        let before_us = before_us.get(pointer).map(|before| (*before).clone());
        let now = document.get(pointer);
        let before = if now.as_ref().is_some_and(|now| now.means(value)) {
            // Somebody else wrote the same: it stays when we go, unless it would enable what is gone then.
            match before_us {
                Some(before) => before,
                None if registration.enables => Before::Absent { made: 0 },
                None => document.clone().set(pointer, value)?,
            }
        } else {
            let act = if now.is_some() { EntryAct::Set } else { EntryAct::Add };
            let what = shown(pointer, value);
            lines.push(EntryLine { act, what, content: registration.content.clone() });
            let before = document.set(pointer, value)?;
            before_us.unwrap_or(before)
        };
        entries.push(own(registration, before));
    }
    Ok(())
}

fn own(registration: &Registration, before: Before) -> OwnedEntry {
    OwnedEntry {
        content: registration.content.clone(),
        file: registration.file.clone(),
        format: registration.format,
        pointer: registration.pointer.clone(),
        entry: registration.entry.clone(),
        before,
    }
}
