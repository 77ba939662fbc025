//! One configuration file: from its text and what is ours in it to its new text.

use std::collections::{BTreeMap, BTreeSet, HashMap, hash_map};

use regex::Regex;
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
    blocks(&mut document, owned, wanted, &mut entries, &mut lines)?;
    sets(&mut document, owned, wanted, &mut entries, &mut lines)?;
    let is_item = |entry: &Entry| matches!(entry, Entry::Item { .. });
    for place in places(owned, wanted, is_item) {
        list(&mut document, place, owned, wanted, (&mut entries, &mut lines))?;
    }
    let is_number = |entry: &Entry| matches!(entry, Entry::Number { .. });
    for place in places(owned, wanted, is_number) {
        numbers(&mut document, place, owned, wanted, (&mut entries, &mut lines))?;
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

/// Numbered names: each wanted one under a number of its own, the next that is free.
fn numbers(
    document: &mut Document,
    place: &Pointer,
    owned: &[OwnedEntry],
    wanted: &[&Registration],
    (entries, lines): (&mut Vec<OwnedEntry>, &mut Vec<EntryLine>),
) -> Result<(), EditDocumentError> {
    let here: Vec<(&&Registration, &String)> = wanted
        .iter()
        .filter(|r| r.pointer == *place)
        .filter_map(|r| if let Entry::Number { item, .. } = &r.entry { Some((r, item)) } else { None })
        .collect();
    let ours: BTreeMap<&String, &OwnedEntry> = owned
        .iter()
        .filter(|entry| entry.pointer == *place)
        .filter_map(
            |entry| if let Entry::Number { item, .. } = &entry.entry { Some((item, entry)) } else { None },
        )
        .collect();
    let is_consecutive = |entry: &Entry| matches!(entry, Entry::Number { consecutive: true, .. });
    let consecutive =
        here.iter().any(|(r, _)| is_consecutive(&r.entry)) || ours.values().any(|e| is_consecutive(&e.entry));
    let mut seen = BTreeSet::new();
    let mut gone = Vec::new();
    for (number, item) in document.numbered(place) {
        let wanted = here.iter().any(|(_, wanted)| **wanted == item);
        let leaves = ours.get(&item).is_some_and(|entry| !wanted && !matches!(entry.before, Before::Text(_)));
        if leaves || wanted && !seen.insert(item.clone()) {
            gone.push((number, item));
        }
    }
    for (number, item) in gone.into_iter().rev() {
        document.unset(&place.join(&number.to_string()))?;
        if consecutive {
            // Those behind it move up; their lines stay and their names change.
            for (later, name) in document.numbered(place).into_iter().filter(|(later, _)| *later > number) {
                document.unset(&place.join(&later.to_string()))?;
                document.set(&place.join(&(later - 1).to_string()), &Value::Text(name))?;
            }
        }
        let content = ours
            .get(&item)
            .map(|entry| &entry.content)
            .or(here.iter().find(|(_, name)| **name == item).map(|(r, _)| &r.content));
        if let Some(content) = content {
            lines.push(EntryLine {
                act: EntryAct::Remove,
                what: format!("{number}: {item}"),
                content: content.clone(),
            });
        }
    }
    for (registration, item) in here {
        let there = document.numbered(place);
        let before = if there.iter().any(|(_, name)| name == item) {
            ours.get(item).map_or_else(|| Before::Text(item.clone()), |entry| entry.before.clone())
        } else {
            let taken: BTreeSet<u64> = there.iter().map(|(number, _)| *number).collect();
            let highest = taken.last().copied().unwrap_or(0);
            let free = if consecutive {
                (1..=highest + 1).find(|number| !taken.contains(number)).unwrap_or(1)
            } else {
                highest + 1
            };
            lines.push(EntryLine {
                act: EntryAct::Add,
                what: format!("{free}: {item}"),
                content: registration.content.clone(),
            });
            document.set(&place.join(&free.to_string()), &Value::Text(item.clone()))?
        };
        entries.push(own(registration, before));
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

/// One list as it should be.
struct Wanted<'e> {
    /// Each item once, by its meaning, with its value and whose it is.
    items: Vec<(String, &'e Value, &'e ContentId)>,
    /// Where each stands in that.
    by_meaning: HashMap<String, usize>,
    /// Whether it follows the lineup's order.
    ordered: bool,
    /// What separates items, where it is one text.
    separator: Option<&'e str>,
    /// Whether it holds ours only.
    alone: bool,
    /// What stands at its end, whoever wrote it.
    last: Option<&'e String>,
    /// How an entry with more in it is read back.
    seen_as: Option<Regex>,
}

impl<'e> Wanted<'e> {
    fn of(place: &Pointer, owned: &'e [OwnedEntry], wanted: &[&'e Registration]) -> Self {
        let (items, by_meaning) = (Vec::new(), HashMap::new());
        let mut this = Self {
            items,
            by_meaning,
            seen_as: None,
            ordered: false,
            separator: None,
            alone: false,
            last: None,
        };
        for registration in wanted.iter().filter(|r| r.pointer == *place) {
            let Entry::Item { item, ordered, separator, alone, last, seen_as } = &registration.entry else {
                continue;
            };
            this.see(seen_as.as_deref());
            this.ordered |= *ordered || last.is_some();
            this.alone |= *alone;
            this.separator = this.separator.or(separator.as_deref());
            this.last = this.last.or(last.as_ref());
            let meaning = item.meaning();
            if let hash_map::Entry::Vacant(free) = this.by_meaning.entry(meaning.clone()) {
                free.insert(this.items.len());
                this.items.push((meaning, item, &registration.content));
            }
        }
        let ours = owned.iter().filter(|entry| entry.pointer == *place).map(|entry| &entry.entry);
        for entry in ours {
            if let Entry::Item { separator, seen_as, .. } = entry {
                this.separator = this.separator.or(separator.as_deref());
                this.see(seen_as.as_deref());
            }
        }
        this
    }

    fn see(&mut self, pattern: Option<&str>) {
        if self.seen_as.is_none() {
            // A pattern was tried when its definition was loaded.
            self.seen_as = pattern.and_then(|pattern| Regex::new(pattern).ok());
        }
    }

    /// Returns what an entry means: that part of it which its pattern picks.
    fn meaning(&self, value: &Value) -> String {
        let text = value.meaning();
        let part = self
            .seen_as
            .as_ref()
            .and_then(|pattern| Some(pattern.captures(&text)?.name("item")?.as_str().to_owned()));
        part.unwrap_or(text)
    }

    fn has(&self, meaning: &str) -> Option<&(String, &'e Value, &'e ContentId)> {
        self.by_meaning.get(meaning).map(|at| &self.items[*at])
    }
}

fn list(
    document: &mut Document,
    place: &Pointer,
    owned: &[OwnedEntry],
    wanted: &[&Registration],
    (entries, lines): (&mut Vec<OwnedEntry>, &mut Vec<EntryLine>),
) -> Result<(), EditDocumentError> {
    let list = Wanted::of(place, owned, wanted);
    let ours: BTreeMap<String, &OwnedEntry> = owned
        .iter()
        .filter(|entry| entry.pointer == *place)
        .filter_map(|entry| {
            if let Entry::Item { item, .. } = &entry.entry { Some((item.meaning(), entry)) } else { None }
        })
        .collect();
    // What stood in the list before us stays in it when we go.
    let mut unwanted: BTreeSet<String> = ours
        .iter()
        .filter(|(item, entry)| list.has(item).is_none() && !matches!(entry.before, Before::Text(_)))
        .map(|(item, _)| item.clone())
        .collect();
    let written: Vec<Value> = match list.separator {
        Some(separator) => document.parts(place, separator).into_iter().map(Value::Text).collect(),
        None => document.items(place)?,
    };
    let found: Vec<String> = written.iter().map(|value| list.meaning(value)).collect();
    // What stands there with more in it keeps that where it moves.
    let written: HashMap<String, Value> =
        found.iter().cloned().zip(written).filter(|_| list.seen_as.is_some()).collect();
    if list.alone {
        unwanted.extend(found.iter().filter(|item| list.has(item).is_none()).cloned());
    }
    let mut made = ours.values().map(|entry| entry.before.clone()).max_by_key(made_by);
    let mut target: Vec<String> = list.items.iter().map(|(meaning, ..)| meaning.clone()).collect();
    if let Some(last) = list.last {
        target.retain(|item| item != last);
        target.push(last.clone());
    }
    let steps = arrange(&found, &target, &unwanted, list.ordered);
    let moved = carry_out(document, place, (&list, &written), (found, steps), &mut made)?;
    let inserted: BTreeSet<&str> = moved.new.iter().map(|(_, item)| item.as_str()).collect();
    let said = |item: &String| {
        let ours = ours
            .get(item)
            .and_then(|entry| if let Entry::Item { item, .. } = &entry.entry { Some(item) } else { None });
        list.has(item).map(|(_, value, _)| *value).or(ours).map_or_else(|| item.clone(), Value::brief)
    };
    for item in moved.removed.iter().filter(|item| !inserted.contains(item.as_str())) {
        let of_list = || wanted.iter().find(|r| list.alone && r.pointer == *place).map(|r| &r.content);
        let content = ours.get(item.as_str()).map(|entry| &entry.content);
        let whose = list.has(item).map(|(_, _, content)| *content);
        if let Some(content) = content.or(whose).or_else(of_list) {
            lines.push(EntryLine { act: EntryAct::Remove, what: said(item), content: content.clone() });
        }
    }
    for (item, _, content) in &list.items {
        if inserted.contains(item.as_str()) {
            let act = if moved.removed.contains(item) { EntryAct::Move } else { EntryAct::Add };
            lines.push(EntryLine { act, what: said(item), content: (*content).clone() });
        }
    }
    if moved.now.is_empty()
        && let Some(before) = made.take()
    {
        match before {
            Before::Absent { made } if made > 0 => {
                document.put_back(place, &Before::Absent { made: made - 1 })?;
            }
            Before::Instead { .. } => document.put_back(place, &before)?,
            Before::Absent { .. } | Before::Text(_) => {}
        }
    }
    for registration in wanted.iter().filter(|r| r.pointer == *place) {
        let Entry::Item { item, .. } = &registration.entry else { continue };
        let item = item.meaning();
        let before = match ours.get(&item) {
            Some(entry) => entry.before.clone(),
            None if inserted.contains(item.as_str()) => match &made {
                Some(before @ (Before::Absent { .. } | Before::Instead { .. })) => before.clone(),
                _ => Before::Absent { made: 0 },
            },
            None => Before::Text(item),
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
}

/// Carries the steps out; `made` is what was made for the list so far.
fn carry_out(
    document: &mut Document,
    place: &Pointer,
    (list, written): (&Wanted<'_>, &HashMap<String, Value>),
    (found, steps): (Vec<String>, Vec<Placing>),
    made: &mut Option<Before>,
) -> Result<Moved, EditDocumentError> {
    let mut moved = Moved { now: found.clone(), removed: BTreeSet::new(), new: Vec::new() };
    for step in steps {
        match step {
            Placing::Remove(index) => {
                if list.separator.is_none() {
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
    let mut note = |before: Before| {
        if made.as_ref().is_none_or(|known| made_by(known) < made_by(&before)) {
            *made = Some(before);
        }
    };
    if let Some(separator) = list.separator {
        if moved.now != found
            && let Before::Absent { made: above } = document.set_parts(place, separator, &moved.now)?
        {
            note(Before::Absent { made: above + 1 });
        }
    } else {
        // All that is taken out comes first.
        let value = |item: &String| {
            let wanted = list.has(item).map(|(_, value, _)| (*value).clone());
            written.get(item).cloned().or(wanted).unwrap_or_else(|| Value::Text(item.clone()))
        };
        let new: Vec<(usize, Value)> = moved.new.iter().map(|(index, item)| (*index, value(item))).collect();
        document.insert_all(place, &new)?.into_iter().for_each(note);
    }
    Ok(moved)
}

/// How much was made for an entry, to compare.
fn made_by(before: &Before) -> usize {
    match before {
        Before::Absent { made } => *made,
        Before::Instead { .. } => usize::MAX,
        Before::Text(_) => 0,
    }
}
