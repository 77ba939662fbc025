//! The change set that takes a settle back.

use std::collections::BTreeMap;

use yalotheca_core::{
    change::{ChangeSet, FileAct, Present, Receipt, Source, Step, plan, undo},
    desire::{Desired, Entry, Placement, Registration},
    document::{Format, Pointer},
    id::{ContentId, Digest, TreePath},
};

use crate::Done;

fn path(text: &str) -> TreePath {
    TreePath::new(text).unwrap_or_else(|_| TreePath::root())
}

fn game() -> Result<ContentId, Box<dyn std::error::Error>> {
    Ok(ContentId::new("saltwick")?)
}

fn desired(names: &[&str]) -> Result<Desired, Box<dyn std::error::Error>> {
    let mut desired = Desired::default();
    for name in names {
        let content = ContentId::new(name)?;
        let placement = Placement { content: content.clone(), size: 3, digest: Digest::of(name.as_bytes()) };
        desired.placements.insert(path(&format!("plugins/{name}.swp")), placement);
        desired.registrations.push(Registration {
            content,
            file: path("plugins/order.txt"),
            format: Format::Lines,
            pointer: Pointer::root(),
            create: String::new(),
            waits: false,
            exclusive: false,
            enables: false,
            entry: Entry::Item {
                item: (*name).into(),
                ordered: true,
                separator: None,
                alone: false,
                last: None,
                seen_as: None,
                anywhere: false,
            },
        });
    }
    Ok(desired)
}

/// The first settle on a server with an order of its own, and what is there afterwards.
fn first(order: &str) -> Result<(ChangeSet, Present), Box<dyn std::error::Error>> {
    let mut present = Present::default();
    present.texts.insert(path("plugins/order.txt"), order.into());
    present.folders.insert(path("plugins"));
    let change = plan(&desired(&["a", "b"])?, BTreeMap::new(), &Receipt::empty(), &present)?;
    for step in &change.steps {
        if let Step::Put { path, source, after, size, .. } = step {
            match source {
                Source::Text(file) => drop(present.texts.insert(path.clone(), file.clone())),
                _ => drop(present.files.insert(path.clone(), (*after, *size))),
            }
        }
    }
    Ok((change, present))
}

#[test]
fn untouched_files_come_back_from_the_attic() -> Done {
    let (change, present) = first("mine\n")?;
    let back = undo((7, &game()?), &change.steps, (&Receipt::empty(), &change.receipt), &present)?;
    let order = back.steps.iter().find_map(|step| match step {
        Step::Put { path, source: Source::Attic { settle, step }, after, .. } => {
            Some((path, *settle, *step, *after))
        }
        _ => None,
    });
    let (file, settle, index, after) = order.ok_or("the order file")?;
    assert_eq!((file.as_str(), settle, after), ("plugins/order.txt", 7, Digest::of(b"mine\n")));
    assert!(matches!(&change.steps[index], Step::Put { path, .. } if path.name() == "order.txt"));
    let aside = back.steps.iter().filter(|step| matches!(step, Step::SetAside { .. })).count();
    assert_eq!(aside, 2);
    assert_eq!(back.receipt, Receipt::empty());
    Ok(())
}

#[test]
fn a_file_that_was_written_to_since_loses_only_our_entries() -> Done {
    let (change, mut present) = first("mine\n")?;
    present.texts.insert(path("plugins/order.txt"), "mine\na\nby-hand # new\nb\n".into());
    let back = undo((1, &game()?), &change.steps, (&Receipt::empty(), &change.receipt), &present)?;
    let text = back.steps.iter().find_map(|step| match step {
        Step::Put { source: Source::Text(file), .. } => Some(file.text()),
        _ => None,
    });
    assert_eq!(text, Some("mine\nby-hand # new\n"));
    let taken: Vec<&str> = back.config[0].entries.iter().map(|entry| entry.what.as_str()).collect();
    assert_eq!(taken, ["a", "b"]);
    Ok(())
}

#[test]
fn what_is_gone_already_needs_no_step() -> Done {
    let (change, mut present) = first("mine\n")?;
    present.files.remove(&path("plugins/a.swp"));
    let back = undo((1, &game()?), &change.steps, (&Receipt::empty(), &change.receipt), &present)?;
    let aside: Vec<&Step> = back.steps.iter().filter(|step| matches!(step, Step::SetAside { .. })).collect();
    assert_eq!(aside.len(), 1);
    Ok(())
}

#[test]
fn a_removal_is_taken_back_by_putting() -> Done {
    let (change, present) = first("mine\n")?;
    let removal = plan(&desired(&["a"])?, BTreeMap::new(), &change.receipt, &present)?;
    let mut after = present.clone();
    after.files.remove(&path("plugins/b.swp"));
    after.texts.insert(path("plugins/order.txt"), "mine\na\n".into());
    let back = undo((2, &game()?), &removal.steps, (&change.receipt, &removal.receipt), &after)?;
    let puts: Vec<String> = back
        .steps
        .iter()
        .filter_map(|step| match step {
            Step::Put { path, source: Source::Attic { .. }, .. } => Some(path.to_string()),
            _ => None,
        })
        .collect();
    assert_eq!(puts, ["plugins/b.swp", "plugins/order.txt"]);
    assert_eq!(back.receipt, change.receipt);
    Ok(())
}

#[test]
fn a_file_that_cannot_be_read_any_more_stops_the_undo() -> Done {
    let mut steps_of = first("mine\n")?;
    for entry in &mut steps_of.0.receipt.entries {
        entry.format = Format::Json;
    }
    steps_of.1.texts.insert(path("plugins/order.txt"), "{oops".into());
    let error =
        undo((1, &game()?), &steps_of.0.steps, (&Receipt::empty(), &steps_of.0.receipt), &steps_of.1).err();
    let error = error.ok_or("it is broken")?;
    assert!(error.to_string().starts_with("plugins/order.txt: line 1"), "{error}");
    Ok(())
}

#[test]
fn what_no_content_owns_is_told_as_well() -> Done {
    let steps = [
        Step::SetAside { path: path("plugins/notes.txt"), before: Digest::of(b"notes") },
        Step::Put {
            path: path("made.bin"),
            source: Source::Payload,
            before: Some(Digest::of(b"old")),
            after: Digest::of(b"new"),
            size: 3,
        },
    ];
    let mut present = Present::default();
    present.files.insert(path("made.bin"), (Digest::of(b"new"), 3));
    let back = undo((3, &game()?), &steps, (&Receipt::empty(), &Receipt::empty()), &present)?;
    let told: Vec<(&str, FileAct)> = back.files.iter().map(|line| (line.path.as_str(), line.act)).collect();
    assert_eq!(told, [("made.bin", FileAct::Restore), ("plugins/notes.txt", FileAct::Restore)]);
    Ok(())
}
