//! Numbered names.

use std::collections::{BTreeMap, BTreeSet};

use super::{EntryAct, EntryLine, own};
use crate::{
    change::OwnedEntry,
    desire::{Entry, Registration},
    document::{Before, Document, EditDocumentError, Pointer, Value},
};

/// Numbered names: each wanted one under a number of its own, the next that is free.
pub(super) fn numbers(
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
