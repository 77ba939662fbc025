//! Edits at random, and what the other reader must see after each.

use serde_json::{Map, Value as Json};
use yalotheca_core::document::{Before, Document, EditDocumentError, Format, Pointer, Value};

use super::model::{Element, Model, read, read_both};

/// Decides one random matter after the other.
pub(crate) struct Dice(u64);

pub(crate) fn hash(text: &str) -> u64 {
    text.bytes()
        .fold(0xcbf2_9ce4_8422_2325, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3))
}

impl Dice {
    pub(crate) fn new(seed: &str) -> Self {
        Self(hash(seed))
    }

    pub(crate) fn of(&mut self, sides: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from((self.0 >> 33) % (sides.max(1) as u64)).unwrap_or(0)
    }

    fn value(&mut self, single_line: bool) -> Value {
        const TEXTS: &[&str] = &[
            "new",
            "two words",
            "0x10",
            "12:30",
            "on",
            "yes",
            "1_000",
            "~",
            "null",
            "true",
            "2001-01-01",
            ".inf",
            "é ü",
            "a: b",
            "a # b",
            "- x",
            "it's",
            "[x]",
            "{y}",
            "*z",
            "&w",
            "http://x.example/y",
            "1.10",
            "=x",
            "a,b",
            "<t>&",
            "",
            "say \"hi\"",
            "C:\\dir",
            "%d",
            "@at",
            "`tick`",
            "!tag",
            "|",
            ">",
            "?",
            ": ",
            "x:",
            "0o17",
            "1e5",
            "a\tb",
        ];
        match self.of(10) {
            0 => Value::Whole(i64::try_from(self.of(100_000)).unwrap_or(0) - 500),
            1 => Value::Flag(self.of(2) == 0),
            2 => Value::Real(2.5),
            3 if !single_line => Value::from("two\nlines\n"),
            _ => Value::from(TEXTS[self.of(TEXTS.len())]),
        }
    }
}

/// What came of an edit.
pub(crate) enum Verdict {
    Right,
    Refused(String),
    Wrong(String),
}

fn refused(error: &EditDocumentError) -> Verdict {
    Verdict::Refused(match error {
        EditDocumentError::Unsafe { why, .. } => format!("unsafe: {why}"),
        EditDocumentError::Unwritable { why, .. } => format!("unwritable: {why}"),
        EditDocumentError::OtherSort { found, wanted, .. } => format!("{found} instead of {wanted}"),
        EditDocumentError::NoPlace { .. } => "no such place".into(),
        EditDocumentError::Parse(_) => "parse".into(),
    })
}

/// Makes one edit in a copy of the document, and judges it.
pub(crate) fn edit(document: &Document, format: Format, model: &Model, dice: &mut Dice) -> Verdict {
    match model {
        Model::Tree(json) => tree_edit(document, format, json, dice),
        Model::Element(root) => xml_edit(document, root, dice),
        Model::Lines(_) => line_edit(document, format, dice),
    }
}

/// All places of a tree, with what is there.
fn places<'j>(json: &'j Json, at: &Pointer, found: &mut Vec<(Pointer, &'j Json)>) {
    found.push((at.clone(), json));
    match json {
        Json::Array(items) => {
            items
                .iter()
                .enumerate()
                .for_each(|(index, item)| places(item, &at.join(&index.to_string()), found));
        }
        Json::Object(entries) => entries.iter().for_each(|(key, value)| places(value, &at.join(key), found)),
        _ => {}
    }
}

fn at_mut<'j>(json: &'j mut Json, at: &Pointer) -> Option<&'j mut Json> {
    at.tokens().iter().try_fold(json, |json, token| match json {
        Json::Array(items) => items.get_mut(token.parse::<usize>().ok()?),
        Json::Object(entries) => entries.get_mut(token),
        _ => None,
    })
}

/// What is nothing may be written as nothing, as an empty group or list, or not at all.
fn is_nothing(json: &Json) -> bool {
    match json {
        Json::Null => true,
        Json::Array(items) => items.is_empty(),
        Json::Object(entries) => entries.values().all(is_nothing),
        _ => false,
    }
}

fn same(a: &Json, b: &Json) -> bool {
    match (a, b) {
        (Json::Array(a), Json::Array(b)) => a.len() == b.len() && a.iter().zip(b).all(|(a, b)| same(a, b)),
        (Json::Object(a), Json::Object(b)) => {
            let others = |map: &Map<String, Json>, other: &Map<String, Json>| {
                map.iter().all(|(key, value)| match other.get(key) {
                    Some(other) => same(value, other),
                    None => is_nothing(value),
                })
            };
            others(a, b) && others(b, a)
        }
        (Json::Number(a), Json::Number(b)) => a.as_f64() == b.as_f64() || a == b,
        (a, b) => a == b || is_nothing(a) && is_nothing(b),
    }
}

type Undo = Box<dyn Fn(&mut Document) -> Result<(), EditDocumentError>>;

/// Takes an inserted item back, and what was made for it.
fn undo_insert(at: Pointer, index: usize, before: Before) -> Undo {
    Box::new(move |document| {
        document.remove(&at, index)?;
        match &before {
            Before::Absent { made: 0 } | Before::Text(_) => Ok(()),
            Before::Absent { made } => document.put_back(&at, &Before::Absent { made: made - 1 }),
            before @ Before::Instead { .. } => document.put_back(&at, before),
        }
    })
}

/// An edit of a tree.
enum Plan {
    Set(Pointer),
    Insert(Pointer, usize),
    Unset(Pointer),
}

impl Plan {
    fn choose(json: &Json, dice: &mut Dice) -> Option<Self> {
        let mut all = Vec::new();
        places(json, &Pointer::root(), &mut all);
        let (at, there) = &all[dice.of(all.len())];
        match (there, dice.of(5)) {
            (Json::Object(entries), 0..3) => {
                let key = ["new_key", "new.key", "new key", "N1", "on", "1"][dice.of(6)];
                (!entries.contains_key(key)).then(|| Self::Set(at.join(key)))
            }
            (Json::Array(items), 0..3) => Some(Self::Insert(at.clone(), dice.of(items.len() + 1))),
            _ if at.is_root() => None,
            (_, 3) => Some(Self::Unset(at.clone())),
            _ => Some(Self::Set(at.clone())),
        }
    }

    /// Makes the edit, and returns what takes it back.
    fn carry_out(&self, document: &mut Document, new: &Value) -> Result<Undo, EditDocumentError> {
        Ok(match self {
            Self::Set(at) => {
                let (before, at) = (document.set(at, new)?, at.clone());
                Box::new(move |document| document.put_back(&at, &before))
            }
            Self::Insert(at, index) => {
                let before = document.insert(at, *index, new)?;
                undo_insert(at.clone(), *index, before)
            }
            Self::Unset(at) => {
                document.unset(at)?;
                Box::new(|_| Ok(()))
            }
        })
    }

    /// Does the same to what another reader sees.
    fn apply(&self, json: &mut Json, new: &Value) {
        match self {
            Self::Insert(at, index) => {
                if let Some(Json::Array(items)) = at_mut(json, at) {
                    items.insert(*index, new.to_json());
                }
            }
            Self::Set(at) | Self::Unset(at) => {
                let last = at.tokens().last().cloned().unwrap_or_default();
                let value = matches!(self, Self::Set(_)).then(|| new.to_json());
                match (at_mut(json, &at.above(at.tokens().len() - 1)), value) {
                    (Some(Json::Object(entries)), Some(value)) => drop(entries.insert(last, value)),
                    (Some(Json::Object(entries)), None) => drop(entries.shift_remove(&last)),
                    (Some(Json::Array(items)), Some(value)) => {
                        drop(last.parse().map(|index: usize| items[index] = value));
                    }
                    (Some(Json::Array(items)), None) => {
                        drop(last.parse().map(|index: usize| items.remove(index)));
                    }
                    _ => {}
                }
            }
        }
    }

    fn tell(&self, new: &Value) -> String {
        match self {
            Self::Set(at) => format!("set {at} to {new:?}"),
            Self::Insert(at, index) => format!("insert {new:?} into {at} at {index}"),
            Self::Unset(at) => format!("unset {at}"),
        }
    }
}

fn tree_edit(document: &Document, format: Format, json: &Json, dice: &mut Dice) -> Verdict {
    let new = dice.value(false);
    let Some(plan) = Plan::choose(json, dice) else { return Verdict::Refused("not tried".into()) };
    let mut changed = document.clone();
    let undo = match plan.carry_out(&mut changed, &new) {
        Ok(undo) => undo,
        Err(error) => return refused(&error),
    };
    let what = plan.tell(&new);
    let Some((Model::Tree(mut expected), Model::Tree(reads))) =
        read_both(format, document.text(), changed.text())
    else {
        return wrong(document, &changed, &what, "the other reader does not read it any more");
    };
    plan.apply(&mut expected, &new);
    if !same(&reads, &expected) {
        return wrong(document, &changed, &what, "another value is changed, or this one is not");
    }
    if matches!(plan, Plan::Unset(_)) {
        return Verdict::Right;
    }
    taken_back(document, changed, &what, &undo)
}

fn taken_back(
    document: &Document,
    mut changed: Document,
    what: &str,
    undo: &dyn Fn(&mut Document) -> Result<(), EditDocumentError>,
) -> Verdict {
    let between = changed.clone();
    match undo(&mut changed) {
        Ok(()) if changed.text() == document.text() => Verdict::Right,
        Ok(()) => wrong(&between, &changed, what, "it is not as it was when that is taken back"),
        Err(error) => Verdict::Wrong(format!("{what}: it cannot be taken back: {error}")),
    }
}

/// Tells what is wrong, with the lines that differ.
fn wrong(before: &Document, after: &Document, what: &str, why: &str) -> Verdict {
    let (old, new): (Vec<&str>, Vec<&str>) =
        (before.text().lines().collect(), after.text().lines().collect());
    let head = old.iter().zip(&new).take_while(|(a, b)| a == b).count();
    let show = |lines: &[&str]| {
        let shown: Vec<&str> = lines.iter().skip(head.saturating_sub(1)).take(5).copied().collect();
        format!("\n      {}", shown.join("\n      "))
    };
    Verdict::Wrong(format!("{what}: {why}\n    before:{}\n    after:{}", show(&old), show(&new)))
}

fn line_edit(document: &Document, format: Format, dice: &mut Dice) -> Verdict {
    let leaves = document.leaves();
    let new = dice.value(true);
    let mut changed = document.clone();
    let (place, is_new) = match dice.of(3) {
        0 if format != Format::Lines => (Pointer::root().join("new_key"), true),
        _ if leaves.is_empty() => return Verdict::Refused("nothing is there".into()),
        _ => (leaves[dice.of(leaves.len())].0.clone(), false),
    };
    let what = format!("set {place} to {new:?}");
    let before = match changed.set(&place, &new) {
        Ok(before) => before,
        Err(error) => return refused(&error),
    };
    // All lines but those of the value stay.
    let (old, now): (Vec<&str>, Vec<&str>) =
        (document.text().lines().collect(), changed.text().lines().collect());
    let head = old.iter().zip(&now).take_while(|(a, b)| a == b).count();
    let tail = old[head..].iter().rev().zip(now[head..].iter().rev()).take_while(|(a, b)| a == b).count();
    let in_line = matches!(format, Format::Arguments | Format::Options);
    let touched =
        if is_new && !in_line { old.len() - head - tail == 0 } else { now.len() - head - tail <= 1 };
    let says = changed.get(&place).map(|value| value.plain());
    if !touched || says.as_deref() != Some(new.plain().as_str()) && new.plain() != "true" {
        return wrong(document, &changed, &what, "other lines are changed, or the value is another");
    }
    taken_back(document, changed, &what, &move |document| document.put_back(&place, &before))
}

/// Goes to an element as our pointers name it: of a doubled name the last one, unless a number chooses.
fn element_at<'e>(root: &'e mut Element, tokens: &[String]) -> Option<&'e mut Element> {
    let Some((name, rest)) = tokens.split_first() else { return Some(root) };
    let named: Vec<usize> =
        (0..root.children.len()).filter(|index| root.children[*index].name == *name).collect();
    match rest.split_first() {
        Some((number, rest)) if named.len() > 1 && number.bytes().all(|byte| byte.is_ascii_digit()) => {
            let index = *named.get(number.parse::<usize>().ok()?)?;
            element_at(&mut root.children[index], rest)
        }
        _ => element_at(&mut root.children[*named.last()?], rest),
    }
}

fn xml_edit(document: &Document, root: &Element, dice: &mut Dice) -> Verdict {
    let leaves = document.leaves();
    if leaves.is_empty() {
        return Verdict::Refused("nothing is there".into());
    }
    let (leaf, _) = &leaves[dice.of(leaves.len())];
    let new = dice.value(false);
    let (mut changed, mut expected) = (document.clone(), root.clone());
    let (last, above) = leaf
        .tokens()
        .split_last()
        .map_or((String::new(), Vec::new()), |(last, above)| (last.clone(), above.to_vec()));
    let says = new.plain().replace("\r\n", "\n");
    let place;
    match (last.as_str(), dice.of(3)) {
        (_, 0) => {
            // A new attribute of the element that it belongs to.
            let holder = if last.starts_with(['@', '#']) { above } else { leaf.tokens().to_vec() };
            let at = holder.iter().fold(Pointer::root(), |at, token| at.join(token));
            place = at.join("@new_one");
            let Some(element) = element_at(&mut expected, &holder) else {
                return Verdict::Refused("not found".into());
            };
            element.attributes.push(("new_one".into(), says));
        }
        (name, _) if name.starts_with('@') => {
            place = leaf.clone();
            let Some(element) = element_at(&mut expected, &above) else {
                return Verdict::Refused("not found".into());
            };
            let found = element.attributes.iter_mut().find(|(known, _)| *known == name[1..]);
            if let Some((_, value)) = found {
                *value = says;
            }
        }
        ("#text", _) => {
            place = leaf.clone();
            let Some(element) = element_at(&mut expected, &above) else {
                return Verdict::Refused("not found".into());
            };
            element.text = if says.trim().is_empty() { String::new() } else { says };
        }
        (_, 1)
            if above.len() > 1
                && above.last().is_some_and(|token| !token.bytes().all(|byte| byte.is_ascii_digit()))
                && last.parse::<usize>().is_err() =>
        {
            let at = above.iter().fold(Pointer::root(), |at, token| at.join(token));
            place = at.join("new_one");
            let Some(element) = element_at(&mut expected, &above) else {
                return Verdict::Refused("not found".into());
            };
            element.children.push(Element {
                name: "new_one".into(),
                text: if says.trim().is_empty() { String::new() } else { says },
                ..Element::default()
            });
        }
        _ => {
            place = leaf.clone();
            let Some(element) = element_at(&mut expected, leaf.tokens()) else {
                return Verdict::Refused("not found".into());
            };
            element.text = if says.trim().is_empty() { String::new() } else { says };
        }
    }
    let what = format!("set {place} to {new:?}");
    let before = match changed.set(&place, &new) {
        Ok(before) => before,
        Err(error) => return refused(&error),
    };
    match read(Format::Xml, changed.text()) {
        Some(Model::Element(reads)) if alike(&reads, &expected) => {}
        Some(_) => return wrong(document, &changed, &what, "another value is changed, or this one is not"),
        None => return wrong(document, &changed, &what, "the other reader does not read it any more"),
    }
    taken_back(document, changed, &what, &move |document| document.put_back(&place, &before))
}

/// Whether two elements say the same; the order of attributes says nothing.
fn alike(a: &Element, b: &Element) -> bool {
    let sorted = |element: &Element| {
        let mut attributes = element.attributes.clone();
        attributes.sort();
        attributes
    };
    a.name == b.name
        && a.text == b.text
        && a.notes == b.notes
        && sorted(a) == sorted(b)
        && a.children.len() == b.children.len()
        && a.children.iter().zip(&b.children).all(|(a, b)| alike(a, b))
}
