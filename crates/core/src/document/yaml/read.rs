//! Goes through a text along with what the parser says of it, and finds where everything lies.

use std::{collections::HashMap, iter::Peekable, vec::IntoIter};

use saphyr_parser::{Event, ScalarStyle, Span};

use super::events::events_of;
use crate::document::{
    ParseDocumentError, Value,
    lined::{line_end, line_start},
    node::{Body, Form, Node},
};

type Parsed<T> = Result<T, ParseDocumentError>;

/// Reads a text.
pub(super) fn read(text: &str) -> Parsed<Node> {
    let events = events_of(text)?;
    let empty = || Node::root(text, Vec::new()).written(Form::Open);
    if events.is_empty() {
        return Ok(empty());
    }
    let mut builder = Builder {
        text,
        events: events.into_iter().peekable(),
        at: 0,
        anchors: HashMap::new(),
        by_aliases: 0,
    };
    builder.head();
    let (head, from) = (builder.at, {
        builder.gap();
        builder.at
    });
    // The document's region begins with a line, unless its first line is the one that begins it.
    builder.at = line_start(text, from).max(head);
    let root = builder.node("")?;
    Ok(if root.form == Form::Open { empty() } else { root })
}

/// How many values aliases may stand for in a file.
const MOST_BY_ALIASES: usize = 100_000;

struct Builder<'a> {
    text: &'a str,
    events: Peekable<IntoIter<(Event<'static>, Span)>>,
    /// Where the next thing is looked for.
    at: usize,
    /// What each anchor names, and of how many values it is made.
    anchors: HashMap<usize, (serde_json::Value, usize)>,
    by_aliases: usize,
}

/// What stands before a value: an anchor, a tag.
struct Properties {
    anchor: usize,
    has_tag: bool,
}

impl<'a> Builder<'a> {
    fn rest(&self) -> &'a str {
        &self.text[self.at..]
    }

    fn fail<T>(&self) -> Parsed<T> {
        Err(ParseDocumentError::at(self.text, self.at, "this is written in a manner that is not edited"))
    }

    /// Goes past white space and comments.
    fn gap(&mut self) {
        loop {
            let rest = self.rest();
            let bare = rest.trim_start();
            self.at += rest.len() - bare.len();
            let begins = self.at == 0 || self.text[..self.at].ends_with(char::is_whitespace);
            if !(begins && bare.starts_with('#')) {
                return;
            }
            self.at += bare.find('\n').unwrap_or(bare.len());
        }
    }

    /// Goes past what may stand before a document: directives, and the line that begins it.
    fn head(&mut self) {
        self.gap();
        while self.rest().starts_with('%') {
            self.at = line_end(self.text, self.at);
            self.gap();
        }
        if self
            .rest()
            .strip_prefix("---")
            .is_some_and(|rest| rest.is_empty() || rest.starts_with(char::is_whitespace))
        {
            self.at += 3;
        }
    }

    /// Goes past an anchor and a tag where they are said to be there.
    fn properties(&mut self, said: &Properties) -> Parsed<()> {
        for _ in 0..usize::from(said.anchor > 0) + usize::from(said.has_tag) {
            if !self.rest().starts_with(['&', '!']) {
                return self.fail();
            }
            let end = if self.rest().starts_with("!<") {
                self.rest().find('>').map_or(self.rest().len(), |at| at + 1)
            } else {
                self.rest()
                    .find(|c: char| c.is_whitespace() || ",[]{}".contains(c))
                    .unwrap_or(self.rest().len())
            };
            self.at += end;
            let end = self.at;
            self.gap();
            // What follows may be nothing at all: then the place is behind the properties.
            if self.rest().is_empty() {
                self.at = end;
            }
        }
        Ok(())
    }

    fn ends(&mut self) -> bool {
        matches!(self.events.peek(), None | Some((Event::MappingEnd | Event::SequenceEnd, _)))
    }

    /// Reads the value whose region begins here: behind a colon, a dash, a comma or a bracket.
    fn node(&mut self, key: &str) -> Parsed<Node> {
        let region = self.at;
        let Some((event, span)) = self.events.next() else { return Ok(nothing(key, region)) };
        let is_nothing = span.start.index() == span.end.index();
        let said = match &event {
            Event::Scalar(_, _, anchor, tag) => Properties { anchor: *anchor, has_tag: tag.is_some() },
            Event::MappingStart(anchor, tag) | Event::SequenceStart(anchor, tag) => {
                Properties { anchor: *anchor, has_tag: tag.is_some() }
            }
            _ => Properties { anchor: 0, has_tag: false },
        };
        let is_bare = said.anchor == 0 && !said.has_tag;
        if is_bare && matches!(event, Event::Scalar(_, ScalarStyle::Plain, ..)) && is_nothing {
            return Ok(nothing(key, region));
        }
        self.gap();
        let (before, counted) = (self.at, self.by_aliases);
        self.properties(&said)?;
        let behind = if self.at > before { self.text[..self.at].trim_end().len() } else { region };
        let mut node = match event {
            Event::Scalar(says, style, ..) if is_nothing && style == ScalarStyle::Plain => {
                // Only the properties are there.
                self.at = behind;
                let null = if said.has_tag {
                    Value::Text(String::new())
                } else {
                    Value::Compound(serde_json::Value::Null)
                };
                debug_assert!(says.is_empty() || says == "~", "{says}");
                Node::leaf(key, behind..behind, null)
            }
            Event::Scalar(says, style, ..) => {
                let from = self.at;
                self.scalar(&says, style)?;
                let plain = style == ScalarStyle::Plain && !said.has_tag;
                let is_long = matches!(style, ScalarStyle::Literal | ScalarStyle::Folded);
                // The last line of a text has an ending only where the file has one there.
                let says =
                    if is_long && self.at == self.text.len() { says.trim_end_matches('\n') } else { &says };
                let value = if plain { resolve(says) } else { Value::Text(says.into()) };
                Node::leaf(key, from..self.at, value)
            }
            Event::Alias(anchor) => self.alias(key, anchor)?,
            Event::MappingStart(..) => self.group(key, behind)?,
            Event::SequenceStart(..) => self.list(key, behind)?,
            _ => return self.fail(),
        };
        if said.anchor > 0 {
            let json = node.value().to_json();
            let size = size_of(&json) + self.by_aliases - counted;
            self.anchors.insert(said.anchor, (json, size));
        }
        // The gap is replaced with the value, unless it contains a comment.
        let between = &self.text[region..node.span.start];
        node.gap = if between.contains('#') { node.span.start } else { region };
        Ok(node)
    }

    fn alias(&mut self, key: &str, anchor: usize) -> Parsed<Node> {
        let from = self.at;
        if !self.rest().starts_with('*') {
            return self.fail();
        }
        let end = self.rest().find(|c: char| c.is_whitespace() || ",[]{}".contains(c));
        let (json, size) = self.anchors.get(&anchor).cloned().unwrap_or((serde_json::Value::Null, 1));
        self.by_aliases += size;
        if self.by_aliases > MOST_BY_ALIASES {
            return Err(ParseDocumentError::at(
                self.text,
                from,
                "the aliases of this file stand for too much",
            ));
        }
        self.at += end.unwrap_or(self.rest().len());
        Ok(Node::leaf(key, from..self.at, Value::from(json)).written(Form::Alias))
    }

    /// Goes past a scalar.
    fn scalar(&mut self, says: &str, style: ScalarStyle) -> Parsed<()> {
        let sign = self.rest().chars().next();
        match (style, sign) {
            (ScalarStyle::Plain, _) => {
                for c in says.chars().filter(|c| !c.is_whitespace()) {
                    let rest = self.rest();
                    let bare = rest.trim_start();
                    if !bare.starts_with(c) {
                        return self.fail();
                    }
                    self.at += rest.len() - bare.len() + c.len_utf8();
                }
            }
            (ScalarStyle::SingleQuoted, Some(quote @ '\''))
            | (ScalarStyle::DoubleQuoted, Some(quote @ '"')) => {
                self.at = match closing_quote(self.text, self.at, quote) {
                    Some(end) => end,
                    None => return self.fail(),
                };
            }
            (ScalarStyle::Literal, Some('|')) | (ScalarStyle::Folded, Some('>')) => self.long_text(says),
            _ => return self.fail(),
        }
        Ok(())
    }

    /// Goes past a text that runs over lines of its own, up to before the ending of its last line.
    fn long_text(&mut self, says: &str) {
        let header = self.rest().lines().next().unwrap_or_default();
        let keeps = header.split('#').next().unwrap_or_default().contains('+');
        let mut end = self.at + header.trim_end().len();
        let mut next = line_end(self.text, self.at);
        let width = |line: &str| line.len() - line.trim_start_matches(' ').len();
        let first = self.text[next..].lines().find(|line| !line.trim().is_empty());
        let own = says.lines().find(|line| !line.trim().is_empty()).map_or(0, width);
        // Where the text is blank, no line with something on it is its own.
        let depth = match first {
            Some(first) if !says.trim().is_empty() => width(first).saturating_sub(own),
            _ => usize::MAX,
        };
        while next < self.text.len() {
            let to = line_end(self.text, next);
            let line = self.text[next..to].trim_end_matches(['\n', '\r']);
            let is_blank = line.trim().is_empty();
            if !is_blank && width(line) < depth {
                break;
            }
            if !is_blank || keeps {
                end = next + line.len();
            }
            next = to;
        }
        self.at = end;
    }

    /// Reads a name.
    fn key(&mut self) -> Parsed<String> {
        self.gap();
        let at = self.at;
        let not_a_text = || Err(ParseDocumentError::at(self.text, at, "expected a text as the name"));
        match self.events.next() {
            Some((Event::Scalar(name, style, anchor, tag), _)) => {
                self.properties(&Properties { anchor, has_tag: tag.is_some() })?;
                self.scalar(&name, style)?;
                if anchor > 0 {
                    self.anchors.insert(anchor, (name.clone().into_owned().into(), 1));
                }
                Ok(name.into_owned())
            }
            _ => not_a_text(),
        }
    }

    /// Reads `name: value`.
    fn pair(&mut self, flow: bool) -> Parsed<Node> {
        self.gap();
        let from = self.at;
        // A name behind a question mark may stand on lines of its own.
        let marked =
            !flow && self.rest().strip_prefix('?').is_some_and(|rest| rest.starts_with([' ', '\n', '\r']));
        self.at += usize::from(marked);
        let name = self.key()?;
        let named = self.at;
        if flow || marked {
            self.gap();
        } else {
            self.at += self.rest().len() - self.rest().trim_start_matches([' ', '\t']).len();
        }
        if self.rest().starts_with(':') {
            self.at += 1;
        } else if flow || marked {
            // In brackets, and behind a question mark, a name may stand without a colon.
            self.at = named;
        } else {
            return self.fail();
        }
        let colon = self.at;
        let value = self.node(&name)?;
        let end = value.span.end.max(colon);
        Ok(value.within(from..end))
    }

    fn group(&mut self, key: &str, behind: usize) -> Parsed<Node> {
        let mut children = Vec::new();
        if self.rest().starts_with('{') {
            let from = self.at;
            self.at += 1;
            while !self.ends() {
                children.push(self.pair(true)?);
                self.comma();
            }
            return self.close(key, from, '}', Body::Group(children));
        }
        while !self.ends() {
            children.push(self.pair(false)?);
        }
        self.events.next();
        Ok(block(key, behind, self.at, Body::Group(children)))
    }

    fn comma(&mut self) {
        let at = self.at;
        self.gap();
        if self.rest().starts_with(',') {
            self.at += 1;
        } else {
            self.at = at;
        }
    }

    /// Reads the bracket that closes a group or a list.
    fn close(&mut self, key: &str, from: usize, bracket: char, body: Body) -> Parsed<Node> {
        self.events.next();
        self.gap();
        if !self.rest().starts_with(bracket) {
            return self.fail();
        }
        self.at += 1;
        Ok(Node::holder(key, from..self.at, body).written(Form::Flow))
    }

    fn list(&mut self, key: &str, behind: usize) -> Parsed<Node> {
        let mut children: Vec<Node> = Vec::new();
        if self.rest().starts_with('[') {
            let from = self.at;
            self.at += 1;
            while !self.ends() {
                self.gap();
                let is_pair = matches!(self.events.peek(), Some((Event::MappingStart(0, None), _)))
                    && !self.rest().starts_with('{');
                let item = if is_pair {
                    // A pair without braces is a group of one.
                    self.events.next();
                    let pair = self.pair(true)?;
                    self.events.next();
                    Node::holder("", pair.whole.clone(), Body::Group(vec![pair])).written(Form::Open)
                } else {
                    let mut item = self.node("")?;
                    item.gap = item.span.start;
                    item.whole = item.span.clone();
                    item
                };
                children.push(item);
                self.comma();
            }
            return self.close(key, from, ']', Body::List(children));
        }
        while !self.ends() {
            self.gap();
            let dash = self.at;
            if !self.rest().starts_with('-') {
                return self.fail();
            }
            self.at += 1;
            let item = self.node("")?;
            let end = item.span.end.max(dash + 1);
            children.push(item.within(dash..end));
        }
        self.events.next();
        Ok(block(key, behind, self.at, Body::List(children)))
    }
}

fn nothing(key: &str, at: usize) -> Node {
    Node::leaf(key, at..at, Value::Compound(serde_json::Value::Null)).written(Form::Open)
}

/// Returns a group or a list without brackets, whose region begins at a byte.
fn block(key: &str, region: usize, at: usize, body: Body) -> Node {
    let (Body::Group(children) | Body::List(children)) = &body else { return nothing(key, at) };
    let from = children.first().map_or(at, |first| first.whole.start);
    let to = children.last().map_or(at, |last| last.whole.end);
    let mut node = Node::holder(key, from..to, body).written(Form::Block);
    node.tail = region;
    node
}

fn size_of(json: &serde_json::Value) -> usize {
    match json {
        serde_json::Value::Array(items) => 1 + items.iter().map(size_of).sum::<usize>(),
        serde_json::Value::Object(entries) => 1 + entries.values().map(size_of).sum::<usize>(),
        _ => 1,
    }
}

/// Returns where a text in quotes ends.
fn closing_quote(text: &str, from: usize, quote: char) -> Option<usize> {
    let mut chars = text[from..].char_indices().skip(1).peekable();
    while let Some((at, c)) = chars.next() {
        match c {
            '\\' if quote == '"' => drop(chars.next()),
            c if c == quote && !(quote == '\'' && chars.next_if(|(_, next)| *next == '\'').is_some()) => {
                return Some(from + at + 1);
            }
            _ => {}
        }
    }
    None
}

/// Returns what a plain scalar means.
pub(super) fn resolve(text: &str) -> Value {
    match text {
        "" | "~" | "null" | "Null" | "NULL" => return Value::Compound(serde_json::Value::Null),
        "true" | "True" | "TRUE" => return Value::Flag(true),
        "false" | "False" | "FALSE" => return Value::Flag(false),
        _ => {}
    }
    if let Ok(whole) = text.parse::<i64>() {
        return Value::Whole(whole);
    }
    let number = text.starts_with(|c: char| c.is_ascii_digit() || matches!(c, '-' | '+' | '.'))
        && text.contains(|c: char| c.is_ascii_digit())
        && !text.contains(|c: char| c.is_ascii_alphabetic() && c != 'e' && c != 'E');
    match text.parse::<f64>() {
        Ok(real) if number => Value::Real(real),
        _ => Value::Text(text.into()),
    }
}
