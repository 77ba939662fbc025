//! Lists that others write as well.

use std::collections::{BTreeMap, BTreeSet, HashMap, hash_map};

use regex::Regex;

use super::{EntryAct, EntryLine, own};
use crate::{
    change::OwnedEntry,
    desire::{Entry, Registration, picked},
    document::{Before, Document, EditDocumentError, Placing, Pointer, Value, arrange},
    id::ContentId,
};

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
    /// Items whose position does not matter.
    anywhere: BTreeSet<String>,
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
            anywhere: BTreeSet::new(),
        };
        for registration in wanted.iter().filter(|r| r.pointer == *place) {
            let Entry::Item { item, ordered, separator, alone, last, seen_as, anywhere } =
                &registration.entry
            else {
                continue;
            };
            this.see(seen_as.as_deref());
            this.ordered |= *ordered || last.is_some();
            this.alone |= *alone;
            this.separator = this.separator.or(separator.as_deref());
            this.last = this.last.or(last.as_ref());
            let meaning = item.meaning();
            if *anywhere && !this.by_meaning.contains_key(&meaning) {
                this.anywhere.insert(meaning.clone());
            }
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
        picked(self.seen_as.as_ref(), value.meaning())
    }

    fn has(&self, meaning: &str) -> Option<&(String, &'e Value, &'e ContentId)> {
        self.by_meaning.get(meaning).map(|at| &self.items[*at])
    }
}

pub(super) fn list(
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
        // What stays at the end goes when nothing of ours is left in the list.
        .filter(|(item, _)| list.last != Some(*item))
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
        // A second mention goes too, unless the list is exactly as it was asked for.
        unwanted.extend(found.iter().cloned());
    }
    let mut made = ours.values().map(|entry| entry.before.clone()).max_by_key(made_by);
    let mut target: Vec<String> = list.items.iter().map(|(meaning, ..)| meaning.clone()).collect();
    // If the position does not matter, an item already in the list stays where it is.
    target.retain(|item| !list.anywhere.contains(item));
    target.splice(0..0, list.anywhere.iter().filter(|item| !found.contains(item)).cloned());
    if let Some(last) = list.last.filter(|_| !target.is_empty()) {
        target.retain(|item| item != last);
        target.push(last.clone());
    }
    let steps = if list.alone && is_as_asked(place, wanted, &found) {
        Vec::new()
    } else {
        arrange(&found, &target, &unwanted, list.ordered)
    };
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
    lines.reserve(moved.new.len());
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
    own_items((place, wanted), (&ours, &inserted), made.as_ref(), entries);
    own_last(&list, (place, wanted), (&ours, &inserted), entries);
    Ok(())
}

/// Returns whether a list is exactly as it was asked for, repeated items included.
fn is_as_asked(place: &Pointer, wanted: &[&Registration], found: &[String]) -> bool {
    let asked = wanted.iter().filter(|r| r.pointer == *place).filter_map(|r| match &r.entry {
        Entry::Item { item, .. } => Some(item.meaning()),
        _ => None,
    });
    asked.eq(found.iter().cloned())
}

/// Notes the items as ours, each with what was there before.
fn own_items(
    (place, wanted): (&Pointer, &[&Registration]),
    (ours, inserted): (&BTreeMap<String, &OwnedEntry>, &BTreeSet<&str>),
    made: Option<&Before>,
    entries: &mut Vec<OwnedEntry>,
) {
    for registration in wanted.iter().filter(|r| r.pointer == *place) {
        let Entry::Item { item, alone, anywhere, .. } = &registration.entry else { continue };
        let item = item.meaning();
        let before = match ours.get(&item) {
            Some(entry) => entry.before.clone(),
            None if inserted.contains(item.as_str()) => match made {
                Some(before @ (Before::Absent { .. } | Before::Instead { .. })) => before.clone(),
                _ => Before::Absent { made: 0 },
            },
            // It goes with its content: the server would look for what is no longer there.
            None if !registration.exclusive && !alone && !anywhere => Before::Absent { made: 0 },
            None => Before::Text(item),
        };
        entries.push(own(registration, before));
    }
}

/// What stays at the list's end is ours if it was not there before.
fn own_last(
    list: &Wanted<'_>,
    (place, wanted): (&Pointer, &[&Registration]),
    (ours, inserted): (&BTreeMap<String, &OwnedEntry>, &BTreeSet<&str>),
    entries: &mut Vec<OwnedEntry>,
) {
    let first = wanted.iter().find(|r| r.pointer == *place && matches!(r.entry, Entry::Item { .. }));
    if let (Some(last), Some(first)) = (list.last.filter(|last| list.has(last).is_none()), first)
        && (inserted.contains(last.as_str()) || ours.contains_key(last))
    {
        let mut own = own(first, Before::Absent { made: 0 });
        if let Entry::Item { item, .. } = &mut own.entry {
            *item = Value::Text(last.clone());
        }
        entries.push(own);
    }
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
        if moved.now != found {
            match document.set_parts(place, separator, &moved.now)? {
                Before::Absent { made: above } => note(Before::Absent { made: above + 1 }),
                // An empty text comes back as it was written.
                Before::Text(text) if found.is_empty() => note(Before::Instead { up: 0, text }),
                Before::Text(_) | Before::Instead { .. } => {}
            }
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
