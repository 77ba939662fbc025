//! One configuration file: from its text and what is ours in it to its new text.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use super::OwnedEntry;
use crate::{
    desire::{Entry, Registration},
    document::{Before, Document, EditDocumentError, Placing, Pointer, Value, arrange},
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
    sets(&mut document, owned, wanted, &mut entries, &mut lines)?;
    let places: BTreeSet<&Pointer> = owned
        .iter()
        .filter(|entry| matches!(entry.entry, Entry::Item { .. }))
        .map(|entry| &entry.pointer)
        .chain(wanted.iter().filter(|r| matches!(r.entry, Entry::Item { .. })).map(|r| &r.pointer))
        .collect();
    for place in places {
        list(&mut document, place, owned, wanted, (&mut entries, &mut lines))?;
    }
    Ok(Compiled { text: document.into_text(), entries, lines })
}

fn shown(pointer: &Pointer, value: &Value) -> String {
    format!("{} = {value}", pointer.to_string().trim_start_matches('/'))
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
            (EntryAct::Restore, shown(&entry.pointer, &Value::Text(text.trim_matches('"').to_owned())))
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
            // Somebody else wrote the same: it stays when we go.
            match before_us {
                Some(before) => before,
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

fn item_of(entry: &Entry) -> Option<(&String, bool)> {
    match entry {
        Entry::Item { item, ordered, .. } => Some((item, *ordered)),
        Entry::Set(_) => None,
    }
}

/// What separates the items of a list that is one text, and whether it holds ours only.
fn list_form(entry: &Entry) -> (Option<&str>, bool) {
    match entry {
        Entry::Item { separator, alone, .. } => (separator.as_deref(), *alone),
        Entry::Set(_) => (None, false),
    }
}

fn list(
    document: &mut Document,
    place: &Pointer,
    owned: &[OwnedEntry],
    wanted: &[&Registration],
    (entries, lines): (&mut Vec<OwnedEntry>, &mut Vec<EntryLine>),
) -> Result<(), EditDocumentError> {
    let mut items: Vec<String> = Vec::new();
    let mut ordered = false;
    let here = || {
        let wanted = wanted.iter().filter(|r| r.pointer == *place).map(|r| &r.entry);
        let owned = owned.iter().filter(|entry| entry.pointer == *place).map(|entry| &entry.entry);
        wanted.chain(owned).filter(|entry| matches!(entry, Entry::Item { .. })).map(list_form)
    };
    let separator = here().find_map(|(separator, _)| separator);
    let alone = wanted.iter().any(|r| r.pointer == *place && list_form(&r.entry).1);
    let mut whose: BTreeMap<&str, &ContentId> = BTreeMap::new();
    for registration in wanted.iter().filter(|r| r.pointer == *place) {
        if let Some((item, follows)) = item_of(&registration.entry) {
            ordered |= follows;
            if whose.insert(item, &registration.content).is_none() {
                items.push(item.clone());
            }
        }
    }
    let ours: BTreeMap<&str, &OwnedEntry> = owned
        .iter()
        .filter(|entry| entry.pointer == *place)
        .filter_map(|entry| item_of(&entry.entry).map(|(item, _)| (item.as_str(), entry)))
        .collect();
    // What stood in the list before us stays in it when we go.
    let mut unwanted: BTreeSet<String> = ours
        .iter()
        .filter(|(item, entry)| !whose.contains_key(*item) && matches!(entry.before, Before::Absent { .. }))
        .map(|(item, _)| (*item).to_owned())
        .collect();
    let found = match separator {
        Some(separator) => document.parts(place, separator),
        None => document.items(place)?,
    };
    if alone {
        unwanted.extend(found.iter().filter(|item| !whose.contains_key(item.as_str())).cloned());
    }
    let made = ours.values().map(|entry| made_by(&entry.before)).max().unwrap_or(0);
    let steps = arrange(&found, &items, &unwanted, ordered);
    let Moved { now, removed, new, mut made } = carry_out(document, place, separator, (found, steps), made)?;
    let inserted: BTreeSet<&str> = new.iter().map(|(_, item)| item.as_str()).collect();
    for item in removed.iter().filter(|item| !inserted.contains(item.as_str())) {
        let of_list = || wanted.iter().find(|r| alone && r.pointer == *place).map(|r| &r.content);
        let content = ours.get(item.as_str()).map(|entry| &entry.content);
        if let Some(content) = content.or_else(|| whose.get(item.as_str()).copied()).or_else(of_list) {
            lines.push(EntryLine { act: EntryAct::Remove, what: item.clone(), content: content.clone() });
        }
    }
    for item in &items {
        let content = whose[item.as_str()];
        if inserted.contains(item.as_str()) {
            let act = if removed.contains(item) { EntryAct::Move } else { EntryAct::Add };
            lines.push(EntryLine { act, what: item.clone(), content: content.clone() });
        }
    }
    if now.is_empty() && made > 0 {
        document.put_back(place, &Before::Absent { made: made - 1 })?;
        made = 0;
    }
    for registration in wanted.iter().filter(|r| r.pointer == *place) {
        let Some((item, _)) = item_of(&registration.entry) else { continue };
        let before = match ours.get(item.as_str()) {
            Some(entry) => entry.before.clone(),
            None if inserted.contains(item.as_str()) => Before::Absent { made },
            None => Before::Text(item.clone()),
        };
        entries.push(own(registration, before));
    }
    Ok(())
}

/// What became of a list.
struct Moved {
    now: Vec<String>,
    removed: BTreeSet<String>,
    new: Vec<(usize, String)>,
    /// How many containers were made for it.
    made: usize,
}

fn carry_out(
    document: &mut Document,
    place: &Pointer,
    separator: Option<&str>,
    (found, steps): (Vec<String>, Vec<Placing>),
    made: usize,
) -> Result<Moved, EditDocumentError> {
    let mut moved = Moved { now: found.clone(), removed: BTreeSet::new(), new: Vec::new(), made };
    for step in steps {
        match step {
            Placing::Remove(index) => {
                if separator.is_none() {
                    document.remove(place, index)?;
                }
                moved.removed.insert(moved.now.remove(index));
            }
            Placing::Insert(index, item) => {
                moved.now.insert(index, item.clone());
                moved.new.push((index, item));
            }
        }
    }
    if let Some(separator) = separator {
        if moved.now != found
            && let Before::Absent { made: above } = document.set_parts(place, separator, &moved.now)?
        {
            moved.made = moved.made.max(above + 1);
        }
    } else {
        // All that is taken out comes first.
        for before in document.insert_all(place, &moved.new)? {
            moved.made = moved.made.max(made_by(&before));
        }
    }
    Ok(moved)
}

fn made_by(before: &Before) -> usize {
    match before {
        Before::Absent { made } => *made,
        Before::Text(_) => 0,
    }
}
