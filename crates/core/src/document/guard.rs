//! What an edit may change: after it, the place reads as it was asked for, and every other value is what it was.

use std::hash::{DefaultHasher, Hash, Hasher};

use super::{
    Value,
    node::{Body, Form, Node, Why},
};

/// What an edit is about.
pub(super) enum Change<'e> {
    /// What is at a place gets another value; `None` where that is a text that stood there before.
    Replaced { at: &'e [String], value: Option<&'e Value> },
    /// A value comes to a place where none is.
    Added { at: &'e [String], value: &'e Value },
    /// A child of what is at a place goes.
    Cut { above: &'e [String], child: usize },
    /// No value: only how something is written.
    Nothing,
    /// Items come into a list.
    Inserted { items: Vec<&'e Value> },
}

const OTHERS: Why = "other values of the file would change";
const ITSELF: Why = "the place would not read as that afterwards";

/// A single value.
struct Single<'n> {
    /// A number for the names that lead to it, without the numbers of items and of doubled names.
    path: u64,
    says: &'n Value,
}

impl PartialEq for Single<'_> {
    fn eq(&self, other: &Self) -> bool {
        // What is no number is not equal to itself.
        let both_nan = || matches!((self.says, other.says), (Value::Real(a), Value::Real(b)) if a.is_nan() && b.is_nan());
        self.path == other.path && (self.says == other.says || both_nan())
    }
}

/// Collects the single values below a node in the tree's order, and where those of `target` are. What is nothing is left out: an
/// empty group, list or text becomes one of the others when something is put in or taken out.
fn singles<'n>(
    node: &'n Node,
    path: u64,
    target: Option<&Node>,
    found: &mut (Vec<Single<'n>>, Option<(usize, usize)>),
) {
    let from = found.0.len();
    match &node.body {
        Body::Leaf(value) => {
            let is_nothing = match value {
                Value::Compound(json) => json.is_null() && node.form != Form::Bare,
                Value::Text(text) => node.form == Form::Open && text.trim().is_empty(),
                _ => false,
            };
            if !is_nothing {
                found.0.push(Single { path, says: value });
            }
        }
        Body::List(items) => {
            for item in items {
                singles(item, below(path, None), target, found);
            }
        }
        Body::Group(children) => {
            for child in children {
                singles(child, below(path, Some(&child.key)), target, found);
            }
        }
    }
    if target.is_some_and(|target| std::ptr::eq(target, node)) {
        found.1 = Some((from, found.0.len()));
    }
}

fn below(path: u64, key: Option<&str>) -> u64 {
    let mut hasher = DefaultHasher::new();
    (path, key).hash(&mut hasher);
    hasher.finish()
}

fn all<'n>(root: &'n Node, target: Option<&Node>) -> (Vec<Single<'n>>, Option<(usize, usize)>) {
    let mut found = (Vec::new(), None);
    singles(root, 0, target, &mut found);
    found
}

/// How many single values something has at least and at most: empty texts may read as nothing.
fn count(value: &Value) -> (usize, usize) {
    fn of(json: &serde_json::Value) -> (usize, usize) {
        let sum = |(a, b): (usize, usize), (c, d): (usize, usize)| (a + c, b + d);
        match json {
            serde_json::Value::Null => (0, 1),
            serde_json::Value::String(text) if text.is_empty() => (0, 1),
            serde_json::Value::Array(items) => items.iter().map(of).fold((0, 0), sum),
            serde_json::Value::Object(entries) => entries.values().map(of).fold((0, 0), sum),
            _ => (1, 1),
        }
    }
    of(&value.to_json())
}

/// Checks that an edit has changed what it is about, and nothing else.
pub(super) fn check(before: &Node, after: &Node, change: &Change<'_>) -> Result<(), Why> {
    let target = match change {
        Change::Replaced { at, .. } => before.find(at),
        Change::Cut { above, child } => before.find(above).and_then(|holder| holder.children().get(*child)),
        Change::Added { .. } | Change::Inserted { .. } | Change::Nothing => None,
    };
    let (old, place) = all(before, target);
    let (new, _) = all(after, None);
    match change {
        Change::Replaced { .. } | Change::Cut { .. } => {
            let (from, to) = place.unwrap_or((old.len(), old.len()));
            let behind = old.len() - to;
            let others_stay = new.len() >= from + behind
                && new[..from] == old[..from]
                && new[new.len() - behind..] == old[to..];
            if !others_stay || matches!(change, Change::Cut { .. }) && new.len() != from + behind {
                return Err(OTHERS);
            }
        }
        Change::Nothing if old != new => return Err(OTHERS),
        Change::Nothing => {}
        Change::Added { value, .. } => added(&old, &new, count(value))?,
        Change::Inserted { items } => {
            let all = items.iter().map(|item| count(item)).fold((0, 0), |(a, b), (c, d)| (a + c, b + d));
            added(&old, &new, all)?;
        }
    }
    match change {
        Change::Replaced { at, value: Some(value) } | Change::Added { at, value } => {
            let reads = after.find(at).map(Node::value);
            let is_nothing =
                || count(value) == (0, 0) || value.meaning() == "null" || value.plain().is_empty();
            match reads {
                Some(reads) if reads.meaning() == value.meaning() => Ok(()),
                None | Some(Value::Compound(_)) if is_nothing() => Ok(()),
                _ => Err(ITSELF),
            }
        }
        _ => Ok(()),
    }
}

/// Checks that everything that was there is there in the same order, with so many more.
fn added(old: &[Single<'_>], new: &[Single<'_>], (least, most): (usize, usize)) -> Result<(), Why> {
    let mut rest = old.iter();
    let mut next = rest.next();
    for single in new {
        if next == Some(single) {
            next = rest.next();
        }
    }
    let more = new.len().checked_sub(old.len());
    if next.is_some() || !more.is_some_and(|more| (least..=most).contains(&more)) {
        return Err(OTHERS);
    }
    Ok(())
}
