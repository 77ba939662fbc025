//! Configuration edits on awkward files: `golden/<case>/in.*`, the edits in `edits.txt`, and `out.*` as it must be.
//!
//! An edit is a line: `set /pointer value`, `insert /pointer index item`, `remove /pointer index`, `unset /pointer`,
//! `block /name text`. A value that is JSON is taken
//! as JSON. After the comparison every edit is taken back in reverse, and the file must be `in` again, byte for byte.

use std::fs;

use yalotheca_core::document::{Before, Document, Format, Pointer, Value};

use crate::Done;

enum Undo {
    PutBack(Pointer, Before),
    Remove(Pointer, usize),
    Insert(Pointer, usize, Value),
    Block(String),
    Never,
}

fn value(text: &str) -> Value {
    serde_json::from_str::<serde_json::Value>(text).map_or_else(|_| Value::Text(text.into()), Value::from)
}

fn edit(document: &mut Document, line: &str) -> Result<Undo, Box<dyn std::error::Error>> {
    let mut words = line.splitn(3, ' ');
    let (verb, at, rest) = (words.next(), words.next().unwrap_or(""), words.next().unwrap_or(""));
    let at = Pointer::parse(if at == "-" { "" } else { at })?;
    match verb {
        Some("set") => {
            let before = document.set(&at, &value(rest))?;
            Ok(Undo::PutBack(at, before))
        }
        Some("insert") => {
            let (index, item) = rest.split_once(' ').ok_or("an index and an item")?;
            let index = index.parse()?;
            document.insert(&at, index, &value(item))?;
            Ok(Undo::Remove(at, index))
        }
        Some("unset") => {
            document.unset(&at)?;
            Ok(Undo::Never)
        }
        Some("block") => {
            let name = at.to_string().trim_start_matches('/').to_owned();
            document.set_fragment(&name, Some(&rest.replace("\\n", "\n")))?;
            Ok(Undo::Block(name))
        }
        Some("remove") => {
            let index = rest.parse()?;
            let item = document.items(&at)?.get(index).cloned().ok_or("an item")?;
            document.remove(&at, index)?;
            Ok(Undo::Insert(at, index, item))
        }
        other => Err(format!("{other:?} is no edit").into()),
    }
}

#[test]
fn every_case() -> Done {
    let root = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/golden");
    let (mut cases, mut wrong) = (0, Vec::new());
    for entry in fs::read_dir(root)? {
        let folder = entry?.path();
        let name = folder.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let file = |stem: &str| -> Result<(String, Format), Box<dyn std::error::Error>> {
            for entry in fs::read_dir(&folder)? {
                let path = entry?.path();
                let file =
                    path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
                if file.starts_with(&format!("{stem}.")) {
                    let told = name
                        .split_once('-')
                        .and_then(|(format, _)| Format::ALL.into_iter().find(|f| f.name() == format));
                    let format = told.ok_or("a format")?;
                    return Ok((fs::read_to_string(path)?, format));
                }
            }
            Err(format!("{name} has no {stem}").into())
        };
        let (before, format) = file("in")?;
        let (after, _) = file("out")?;
        let mut document = Document::parse(format, &before)?;
        assert_eq!(document.text(), before, "{name}: parse and print is identity");
        let mut undo = Vec::new();
        let mut reversible = true;
        for line in fs::read_to_string(folder.join("edits.txt"))?.lines() {
            let back = edit(&mut document, line).map_err(|error| format!("{name}: {line}: {error}"))?;
            reversible &= !matches!(back, Undo::Insert(..) | Undo::Never);
            undo.push(back);
        }
        if document.text() != after {
            wrong.push(format!("{name}:\n{}", document.text()));
        }
        for back in undo.into_iter().rev() {
            match back {
                Undo::PutBack(at, before) => document.put_back(&at, &before)?,
                Undo::Remove(at, index) => document.remove(&at, index)?,
                Undo::Block(name) => document.set_fragment(&name, None)?,
                Undo::Never => {}
                Undo::Insert(at, index, item) => drop(document.insert(&at, index, &item)?),
            }
        }
        if reversible && document.text() != before {
            wrong.push(format!("{name}, taken back:\n{}", document.text()));
        }
        cases += 1;
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(cases >= 50, "only {cases} cases were found");
    Ok(())
}
