//! What a text says, and where: the tree that every format's parser makes and every edit starts from.

use std::{collections::HashMap, ops::Range};

use super::{ParseDocumentError, Pointer, Value};

/// How many levels a file may nest. Parsers and everything that walks a tree call themselves once a level.
pub(super) const DEEPEST: usize = 200;

/// One value of a document with its place in the text.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Node {
    /// Its name in the group that holds it; empty for items of a list.
    pub(super) key: String,
    /// Where its value lies, with all that an edit of the value replaces.
    pub(super) span: Range<usize>,
    /// All that goes with it when it is taken out.
    pub(super) whole: Range<usize>,
    /// Where the gap before it begins, where another value may need another gap.
    pub(super) gap: usize,
    /// Where another child would go, for groups and lists.
    pub(super) tail: usize,
    /// How it is written.
    pub(super) form: Form,
    /// What it holds.
    pub(super) body: Body,
}

/// What a value holds.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Body {
    /// A single value.
    Leaf(Value),
    /// Named values, in the order of the text; a name may stand there more than once.
    Group(Vec<Node>),
    /// Values without names.
    List(Vec<Node>),
}

/// Where a single value is.
#[derive(Clone)]
pub(super) struct NodePlace {
    /// With the numbers of doubled names.
    pub(super) full: Pointer,
    /// Without them.
    pub(super) bare: Pointer,
}

impl NodePlace {
    pub(super) fn root() -> Self {
        Self { full: Pointer::root(), bare: Pointer::root() }
    }

    fn join(&self, token: &str) -> Self {
        Self { full: self.full.join(token), bare: self.bare.join(token) }
    }
}

/// How a value is written, where a format has more than one way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Form {
    /// The usual way.
    Plain,
    /// Between brackets, apart by commas.
    Flow,
    /// One entry a line, by indentation.
    Block,
    /// Below a heading of its own.
    Section,
    /// Named by a path of names on one line.
    Dotted,
    /// Nothing: it may become a group or a list as well as a value.
    Open,
    /// A name that stands alone.
    Bare,
    /// What stands for another part of the file.
    Alias,
    /// A program's arguments: options may be named with the dashes that they are written with.
    Options,
}

impl Node {
    /// Returns a single value; what is taken out with it is only itself.
    pub(super) fn leaf(key: impl Into<String>, span: Range<usize>, value: Value) -> Self {
        let whole = span.clone();
        Self {
            key: key.into(),
            gap: span.start,
            tail: span.end,
            span,
            whole,
            form: Form::Plain,
            body: Body::Leaf(value),
        }
    }

    /// Returns a group over the whole of a text.
    pub(super) fn root(text: &str, children: Vec<Self>) -> Self {
        Self::holder("", 0..text.len(), Body::Group(children))
    }

    /// Returns a group or a list.
    pub(super) fn holder(key: impl Into<String>, span: Range<usize>, body: Body) -> Self {
        let whole = span.clone();
        Self { key: key.into(), gap: span.start, tail: span.end, span, whole, form: Form::Plain, body }
    }

    /// Returns what is replaced where it gets another value.
    pub(super) fn outer(&self) -> Range<usize> {
        self.gap..self.span.end
    }

    /// Returns the same with another outline.
    pub(super) fn within(mut self, whole: Range<usize>) -> Self {
        self.whole = whole;
        self
    }

    /// Returns the same, written in a certain way.
    pub(super) fn written(mut self, form: Form) -> Self {
        self.form = form;
        self
    }

    /// Returns what it holds, in the order of the text.
    pub(super) fn children(&self) -> &[Self] {
        match &self.body {
            Body::Leaf(_) => &[],
            Body::Group(children) | Body::List(children) => children,
        }
    }

    /// Returns whether an alias is in it.
    pub(super) fn has_alias(&self) -> bool {
        self.form == Form::Alias || self.children().iter().any(Self::has_alias)
    }

    /// Returns whether it holds nothing.
    pub(super) fn is_empty(&self) -> bool {
        self.children().is_empty() && (!matches!(self.body, Body::Leaf(_)) || self.form == Form::Open)
    }

    /// Returns its children of one name, with their places.
    pub(super) fn named<'n, 'k>(
        &'n self,
        key: &'k str,
    ) -> impl DoubleEndedIterator<Item = (usize, &'n Self)> + use<'n, 'k> {
        let group: &[Self] = if let Body::Group(children) = &self.body { children } else { &[] };
        let bare = if self.form == Form::Options { key.trim_start_matches('-') } else { key };
        group.iter().enumerate().filter(move |(_, child)| child.key == key || child.key == bare)
    }

    /// Finds a place. Of a doubled name the last one that leads there counts; a number behind a doubled name chooses.
    pub(super) fn find(&self, tokens: &[String]) -> Option<&Self> {
        let Some((token, rest)) = tokens.split_first() else { return Some(self) };
        match &self.body {
            Body::Leaf(_) => None,
            Body::List(items) => items.get(token.parse::<usize>().ok()?)?.find(rest),
            Body::Group(_) => {
                let found = self.named(token).rev().find_map(|(_, child)| child.find(rest));
                found.or_else(|| {
                    let (number, rest) = rest.split_first()?;
                    // A number after a name that occurs once is a place inside that value.
                    self.named(token).nth(1)?;
                    let (_, child) = self.named(token).nth(number.parse().ok()?)?;
                    child.find(rest)
                })
            }
        }
    }

    /// Walks as far towards a place as there is something, and returns where that ends and how many names led there.
    pub(super) fn nearest(&self, tokens: &[String]) -> (&Self, usize) {
        (0..=tokens.len())
            .rev()
            .find_map(|depth| self.find(&tokens[..depth]).map(|node| (node, depth)))
            .unwrap_or((self, 0))
    }

    /// Returns the whole as JSON.
    pub(super) fn to_json(&self) -> serde_json::Value {
        match &self.body {
            Body::Leaf(value) => value.to_json(),
            Body::List(items) => items.iter().map(Self::to_json).collect(),
            Body::Group(children) => {
                let mut map = serde_json::Map::new();
                // The text of an element that has none says nothing.
                for child in children.iter().filter(|child| child.form != Form::Open || child.key != "#text")
                {
                    map.insert(child.key.clone(), child.to_json());
                }
                serde_json::Value::Object(map)
            }
        }
    }

    /// Returns the value.
    pub(super) fn value(&self) -> Value {
        match &self.body {
            Body::Leaf(value) => value.clone(),
            _ => Value::Compound(self.to_json()),
        }
    }

    /// Returns every single value below. A doubled name gets the number of its place among them.
    pub(super) fn leaves<'n>(&'n self, at: &NodePlace, into: &mut Vec<(NodePlace, &'n Value)>) {
        match &self.body {
            Body::Leaf(value) => into.push((at.clone(), value)),
            Body::List(items) => {
                for (index, item) in items.iter().enumerate() {
                    item.leaves(&at.join(&index.to_string()), into);
                }
            }
            Body::Group(children) => {
                let mut of_name: HashMap<&str, (usize, usize)> = HashMap::new();
                for child in children {
                    of_name.entry(&child.key).or_default().0 += 1;
                }
                for child in children {
                    let mut place = at.join(&child.key);
                    if let Some((all, before)) = of_name.get_mut(child.key.as_str())
                        && *all > 1
                    {
                        place.full = place.full.join(&before.to_string());
                        *before += 1;
                    }
                    child.leaves(&place, into);
                }
            }
        }
    }

    /// Returns whether every place lies in the text, and one behind the other where that matters. A parser that is not
    /// ours may see an unusual file in another way than we do; such a file is not edited.
    pub(super) fn is_sound(&self, text: &str) -> bool {
        let is_place = |at: usize| text.is_char_boundary(at);
        let range =
            |range: &Range<usize>| range.start <= range.end && is_place(range.start) && is_place(range.end);
        let inside = |child: &Self| {
            self.form != Form::Flow || child.whole.start > self.span.start && child.whole.end < self.span.end
        };
        let children = self.children();
        range(&self.span)
            && range(&self.whole)
            && self.gap <= self.span.start
            && is_place(self.gap)
            && is_place(self.tail)
            && (self.form != Form::Flow || self.span.len() > 1)
            && children.iter().all(|child| inside(child) && child.is_sound(text))
            && (!matches!(self.form, Form::Flow | Form::Block)
                || children.windows(2).all(|pair| pair[0].whole.end <= pair[1].whole.start))
    }

    /// Returns what is there, in words.
    pub(super) fn sort(&self) -> &'static str {
        match &self.body {
            Body::Leaf(Value::Flag(_)) => "true or false",
            Body::Leaf(Value::Whole(_) | Value::Real(_)) => "a number",
            Body::Leaf(Value::Text(_)) => "a text",
            Body::Leaf(Value::Compound(_)) if self.form == Form::Alias => {
                "an alias of another part of the file"
            }
            Body::Leaf(Value::Compound(_)) => "nothing (null)",
            Body::List(_) => "a list",
            Body::Group(_) => "a group of keys",
        }
    }
}

/// Why a value or a name cannot be written.
pub(super) type Why = &'static str;

/// What a format can do. An edit changes only text at or behind the place that it is about, so that edits can be made
/// from the back to the front of one tree.
pub(super) trait Syntax {
    /// Reads a text.
    fn parse(&self, text: &str) -> Result<Node, ParseDocumentError>;

    /// Returns the text that replaces the span of what is there.
    fn leaf(&self, text: &str, old: &Node, value: &Value) -> Result<String, Why>;

    /// Puts a new child before the one at `at`, or behind all.
    fn add(&self, text: &mut String, into: &Node, at: usize, key: &str, value: &Value) -> Result<(), Why>;

    /// Takes a child out.
    fn cut(&self, text: &mut String, from: &Node, child: usize);

    /// Takes the heading out that a group got for a child that is gone, where it needs none.
    fn close(&self, _text: &mut String, _group: &Node) {}

    /// Returns how many names a place may have.
    fn depth(&self) -> usize {
        usize::MAX
    }

    /// Returns whether a list can be one name written again and again.
    fn repeats(&self) -> bool {
        false
    }

    /// Returns whether names that stand alone are items of the group that they are in.
    fn names(&self) -> bool {
        false
    }

    /// Returns what begins a comment that is a line.
    fn comment(&self) -> Option<&'static str> {
        None
    }
}
