//! YAML: blocks by indentation and flow in brackets. The parser is `saphyr-parser`; the edits are made on the text, at
//! the places it reports. Only the first document of a file is looked into.

use std::ops::Range;

use saphyr_parser::{Event, Parser, ScalarStyle, Span};

use super::{
    ParseDocumentError, Value, commas,
    lined::{cut_lines, indent, line_end, line_ending, line_start, put_line},
    node::{Body, DEEPEST, Form, Node, Syntax, Why},
};

/// The format.
pub(super) struct Yaml;

struct Builder<'a> {
    text: &'a str,
    events: Vec<(Event<'a>, Span)>,
    next: usize,
    /// The byte of each character, where a text has longer ones.
    bytes: Option<Vec<usize>>,
}

type Parsed<T> = Result<T, ParseDocumentError>;

impl Builder<'_> {
    fn span(&self, span: &Span) -> Range<usize> {
        let byte = |index: usize| match &self.bytes {
            Some(bytes) => bytes.get(index).copied().unwrap_or(self.text.len()),
            None => index.min(self.text.len()),
        };
        byte(span.start.index())..byte(span.end.index())
    }

    fn peek_ends(&self) -> bool {
        matches!(self.events.get(self.next), None | Some((Event::MappingEnd | Event::SequenceEnd, _)))
    }

    /// Reads the value whose region begins at a byte: behind a colon or a dash.
    fn node(&mut self, key: &str, region: usize) -> Parsed<Node> {
        let Some((event, span)) = self.events.get(self.next).cloned() else {
            return Ok(Node::leaf(key, region..region, Value::Compound(serde_json::Value::Null)));
        };
        let span = self.span(&span);
        self.next += 1;
        match event {
            Event::Scalar(says, style, _, tag) => {
                Ok(self.scalar(key, region, span, (&says, style, tag.is_some())))
            }
            Event::MappingStart(..) => self.group(key, region, span),
            Event::SequenceStart(..) => self.list(key, region, span),
            _ => Ok(self.with_gap(key, region, span.clone(), Value::Text(self.text[span].into()))),
        }
    }

    /// Returns where the gap before a value begins, which is all white space.
    fn gap(&self, region: usize, from: usize) -> usize {
        let blank = self.text.get(region..from).is_some_and(|gap| gap.trim().is_empty());
        if blank { region } else { from }
    }

    fn with_gap(&self, key: &str, region: usize, span: Range<usize>, value: Value) -> Node {
        Node::leaf(key, self.gap(region, span.start)..span.end, value)
    }

    fn scalar(&self, key: &str, region: usize, span: Range<usize>, said: (&str, ScalarStyle, bool)) -> Node {
        let (says, style, tagged) = said;
        match style {
            ScalarStyle::Plain if span.is_empty() && !tagged => {
                let null = Value::Compound(serde_json::Value::Null);
                Node::leaf(key, region..region, null).written(Form::Open)
            }
            ScalarStyle::Literal | ScalarStyle::Folded => {
                let from = self.text[region..].find(['|', '>']).map_or(span.start, |at| region + at);
                let to = from + self.text[from..span.end.max(from)].trim_end().len();
                self.with_gap(key, region, from..to, Value::Text(says.into()))
            }
            ScalarStyle::Plain if !tagged => self.with_gap(key, region, span, resolve(says)),
            ScalarStyle::SingleQuoted | ScalarStyle::DoubleQuoted => {
                let to = self.closing_quote(span.start).unwrap_or(span.end);
                self.with_gap(key, region, span.start..to, Value::Text(says.into()))
            }
            ScalarStyle::Plain => self.with_gap(key, region, span, Value::Text(says.into())),
        }
    }

    /// Returns where the bracket ends that closes what ends at a byte.
    fn bracket(&self, from: usize) -> Option<usize> {
        let mut at = from;
        for line in self.text[from..].split_inclusive('\n') {
            let end = if at == from { line.find(" #") } else { line.find('#') }.unwrap_or(line.len());
            if let Some(found) = line[..end].find([']', '}']) {
                return Some(at + found + 1);
            }
            at += line.len();
        }
        None
    }

    /// The parser's end of a text in quotes may lie behind what follows it.
    fn closing_quote(&self, from: usize) -> Option<usize> {
        let mut chars = self.text[from..].char_indices().peekable();
        let (_, quote) = chars.next()?;
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

    fn finish(
        &mut self,
        key: &str,
        region: usize,
        start: Range<usize>,
        children: Vec<Node>,
        list: bool,
    ) -> Node {
        let end = self.events.get(self.next).map_or(start.end, |(_, span)| self.span(&span.clone()).end);
        self.next += 1;
        let body = if list { Body::List(children) } else { Body::Group(children) };
        if self.text[start.start..].starts_with(['[', '{']) {
            let final_child = match &body {
                Body::Leaf(_) => None,
                Body::Group(children) | Body::List(children) => children.last(),
            };
            // The parser's end may lie behind what follows.
            let end =
                self.bracket(final_child.map_or(start.start + 1, |child| child.whole.end)).unwrap_or(end);
            let mut node = Node::holder(key, start.start..end, body).written(Form::Flow);
            node.gap = self.gap(region, start.start);
            return node;
        }
        let children = match &body {
            Body::Leaf(_) => &[],
            Body::Group(children) | Body::List(children) => children.as_slice(),
        };
        let from = children.first().map_or(start.start, |first| first.whole.start);
        let to = children.last().map_or(start.end, |last| last.whole.end);
        let mut node = Node::holder(key, from..to, body).written(Form::Block);
        // Where the region begins that it fills.
        node.tail = region;
        node.gap = self.gap(region, from);
        node
    }

    fn group(&mut self, key: &str, region: usize, start: Range<usize>) -> Parsed<Node> {
        let mut children = Vec::new();
        while !self.peek_ends() {
            let Some((event, span)) = self.events.get(self.next).cloned() else { break };
            let at = self.span(&span);
            self.next += 1;
            let Event::Scalar(name, ..) = event else {
                return Err(ParseDocumentError::at(self.text, at.start, "expected a text as the name"));
            };
            // In brackets a name may stand without a colon.
            let gap = self.text[at.end..].len() - self.text[at.end..].trim_start_matches([' ', '\t']).len();
            let there = self.text[at.end + gap..].starts_with(':');
            let colon = if there { at.end + gap + 1 } else { at.end };
            let value = self.node(&name, colon)?;
            let end = value.whole.end.max(colon);
            children.push(value.within(at.start..end));
        }
        Ok(self.finish(key, region, start, children, false))
    }

    fn list(&mut self, key: &str, region: usize, start: Range<usize>) -> Parsed<Node> {
        let flow = self.text[start.start..].starts_with('[');
        let mut children: Vec<Node> = Vec::new();
        while !self.peek_ends() {
            let Some((_, span)) = self.events.get(self.next) else { break };
            let at = self.span(&span.clone()).start;
            if flow {
                let mut item = self.node("", at)?;
                item.whole = item.span.clone();
                children.push(item);
                continue;
            }
            let after = children.last().map_or(region, |last| last.whole.end);
            let dash = self.dash(after, at);
            let item = self.node("", dash + 1)?;
            let end = item.whole.end.max(dash + 1);
            children.push(item.within(dash..end));
        }
        Ok(self.finish(key, region, start, children, true))
    }

    /// Finds the dash before an item: the first one behind what came before that is no part of a comment.
    fn dash(&self, after: usize, item: usize) -> usize {
        let mut at = after;
        for line in self.text[after..].split_inclusive('\n') {
            let lead = line.len() - line.trim_start().len();
            if line[lead..].starts_with('-') {
                return at + lead;
            }
            at += line.len();
            if at > item {
                break;
            }
        }
        self.text[..item].rfind('-').unwrap_or(item.saturating_sub(1))
    }
}

/// Returns what the parser says in words that people have for it.
fn in_words(said: &str) -> String {
    [
        ("flow sequence", "list in brackets"),
        ("flow mapping", "group in braces"),
        ("block collection", "list"),
        ("block sequence", "list"),
        ("block mapping", "group"),
        ("block scalar", "long text"),
        ("quoted scalar", "text in quotes"),
        ("plain scalar", "text"),
        ("while parsing", "in"),
        ("did not find expected", "expected"),
    ]
    .iter()
    .fold(said.to_owned(), |said, (from, to)| said.replace(from, to))
}

/// Returns what a plain scalar means.
fn resolve(text: &str) -> Value {
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

/// Whether some reader takes a bare text, in lower case, for a number, a time or a date: `0x10`, `.inf`, `1_000`, `12:30`, `2001-01-01`.
fn may_be_a_number(word: &str) -> bool {
    let bare = word.trim_start_matches(['+', '-']);
    matches!(bare, ".inf" | ".nan" | "=" | "<<")
        || bare.starts_with(|c: char| c.is_ascii_digit() || c == '.')
            && bare.chars().all(|c| c.is_ascii_hexdigit() || "_:.-+xotz ".contains(c))
}

fn is_plain(text: &str) -> bool {
    let word = text.to_ascii_lowercase();
    !text.is_empty()
        && text.trim() == text
        && !matches!(word.as_str(), "yes" | "no" | "on" | "off" | "y" | "n")
        && matches!(resolve(text), Value::Text(_))
        && !may_be_a_number(&word)
        && !text.starts_with(|c: char| "-?:,[]{}#&*!|>'\"%@`".contains(c))
        && !text.contains(": ")
        && !text.contains(" #")
        && !text.ends_with(':')
        && !text.contains(|c: char| c.is_control() || ",[]{}\u{feff}\u{2028}\u{2029}\u{85}".contains(c))
}

/// Returns a text as a scalar, in the manner of what stood there.
fn scalar(text: &str, old: &str) -> String {
    let tame = !text.contains(|c: char| c.is_control());
    if old.starts_with('\'') && tame {
        return format!("'{}'", text.replace('\'', "''"));
    }
    if is_plain(text) && !old.starts_with('"') {
        return text.into();
    }
    serde_json::Value::from(text).to_string()
}

fn single(value: &Value, old: &str) -> Result<String, Why> {
    Ok(match value {
        Value::Text(text) => scalar(text, old),
        Value::Real(number) if !number.is_finite() => return Err("there is no such number there"),
        value => value.to_json().to_string(),
    })
}

/// Returns the lines of a value that has parts; the first one without its indentation.
fn render(json: &serde_json::Value, lead: &str, step: &str) -> Result<String, Why> {
    let lines: Vec<String> = match json {
        serde_json::Value::Object(entries) if !entries.is_empty() => {
            let one = |(key, value): (&String, _)| entry(key, value, lead, step);
            entries.iter().map(one).collect::<Result<_, _>>()?
        }
        serde_json::Value::Array(items) if !items.is_empty() => {
            items.iter().map(|value| item(value, lead, step)).collect::<Result<_, _>>()?
        }
        other => return single(&Value::from(other.clone()), ""),
    };
    Ok(lines.join(&format!("\n{lead}")))
}

fn has_parts(json: &serde_json::Value) -> bool {
    match json {
        serde_json::Value::Object(entries) => !entries.is_empty(),
        serde_json::Value::Array(items) => !items.is_empty(),
        _ => false,
    }
}

fn entry(key: &str, value: &serde_json::Value, lead: &str, step: &str) -> Result<String, Why> {
    let key = scalar(key, "");
    if has_parts(value) {
        let inner = format!("{lead}{step}");
        return Ok(format!("{key}:\n{inner}{}", render(value, &inner, step)?));
    }
    Ok(format!("{key}: {}", render(value, lead, step)?))
}

fn item(value: &serde_json::Value, lead: &str, step: &str) -> Result<String, Why> {
    let inner = format!("{lead}  ");
    Ok(format!("- {}", render(value, &inner, step)?))
}

/// Returns by how much a file indents.
fn step_of(text: &str) -> String {
    let width = text
        .lines()
        .filter(|line| !line.trim().is_empty() && !line.trim_start().starts_with(['#', '-']))
        .map(|line| line.len() - line.trim_start_matches(' ').len())
        .find(|width| *width > 0);
    " ".repeat(width.unwrap_or(2).min(8))
}

/// Returns the indentation of a block's children.
fn lead_of(text: &str, block: &Node) -> String {
    let from = block.children().first().map_or(block.span.start, |first| first.whole.start);
    let line = &text[line_start(text, from)..from];
    " ".repeat(line.chars().count())
}

fn flow_child(into: &Node, key: &str, value: &Value) -> Result<String, Why> {
    let value = match value {
        Value::Compound(json) => json.to_string(),
        value => single(value, "")?,
    };
    let is_list = matches!(into.body, Body::List(_));
    Ok(if is_list { value } else { format!("{}: {value}", scalar(key, "")) })
}

impl Syntax for Yaml {
    fn parse(&self, text: &str) -> Parsed<Node> {
        let bytes = (!text.is_ascii()).then(|| text.char_indices().map(|(at, _)| at).collect::<Vec<_>>());
        let mut builder = Builder { text, events: Vec::new(), next: 0, bytes };
        let (mut documents, mut depth) = (0, 0_usize);
        for event in Parser::new_from_str(text) {
            let (event, span) = event.map_err(|error| {
                let index = error.marker().index();
                let at =
                    builder.bytes.as_ref().map_or(index, |all| all.get(index).copied().unwrap_or(text.len()));
                ParseDocumentError::at(text, at, in_words(error.info()))
            })?;
            match event {
                Event::MappingStart(..) | Event::SequenceStart(..) => depth += 1,
                Event::MappingEnd | Event::SequenceEnd => depth = depth.saturating_sub(1),
                _ => {}
            }
            if depth > DEEPEST {
                let at = builder.span(&span).start;
                return Err(ParseDocumentError::at(text, at, "lists and groups lie too deep in each other"));
            }
            match event {
                Event::DocumentStart(_) => documents += 1,
                Event::StreamStart | Event::StreamEnd | Event::DocumentEnd | Event::Nothing => {}
                event if documents == 1 => builder.events.push((event, span)),
                _ => {}
            }
        }
        let empty = || Node::root(text, Vec::new()).written(Form::Open);
        if builder.events.is_empty() {
            return Ok(empty());
        }
        let start = match builder.events.first() {
            Some((_, span)) => line_start(text, builder.span(&span.clone()).start),
            None => 0,
        };
        let root = builder.node("", start)?;
        Ok(if root.form == Form::Open { empty() } else { root })
    }

    fn leaf(&self, text: &str, old: &Node, value: &Value) -> Result<String, Why> {
        let raw = &text[old.outer()];
        let bare = raw.trim_start();
        let gap = &raw[..raw.len() - bare.len()];
        let json = value.to_json();
        let is_leaf = matches!(old.body, Body::Leaf(_));
        let commented = old.form == Form::Open
            && text[old.span.end..].lines().next().is_some_and(|rest| !rest.trim().is_empty());
        if !has_parts(&json) || old.form == Form::Flow || commented {
            let gap = if raw.is_empty() || gap.contains('\n') { " " } else { gap };
            return Ok(format!("{gap}{}", single(value, if is_leaf { bare } else { "" })?));
        }
        let step = step_of(text);
        if !is_leaf {
            return Ok(format!(
                "{gap}{}",
                render(&json, &lead_of(text, old), &step)?.replace('\n', line_ending(text))
            ));
        }
        let line = &text[line_start(text, old.span.start)..];
        let width = line.len() - line.trim_start_matches([' ', '-']).len();
        let lead = format!("{}{step}", " ".repeat(width));
        Ok(format!("\n{lead}{}", render(&json, &lead, &step)?).replace('\n', line_ending(text)))
    }

    fn add(&self, text: &mut String, into: &Node, at: usize, key: &str, value: &Value) -> Result<(), Why> {
        if into.form == Form::Flow {
            commas::add(text, into, at, &flow_child(into, key, value)?);
            return Ok(());
        }
        let step = step_of(text);
        let is_list = matches!(into.body, Body::List(_)) || into.form == Form::Open && key.is_empty();
        let lead = if into.form == Form::Open { String::new() } else { lead_of(text, into) };
        let json = value.to_json();
        let new = if is_list { item(&json, &lead, &step)? } else { entry(key, &json, &lead, &step)? };
        let children = into.children();
        match (children.get(at), children.last()) {
            (Some(next), _) if indent(text, next.whole.start).is_some() => {
                // Behind its forerunner, so that comments above the next one stay with that one.
                let behind = at.checked_sub(1).map(|before| line_end(text, children[before].whole.end));
                let place = behind.unwrap_or_else(|| line_start(text, next.whole.start));
                put_line(text, place, &format!("{lead}{new}"));
            }
            (Some(next), _) => {
                let ending = line_ending(text);
                text.insert_str(next.whole.start, &format!("{new}\n{lead}").replace('\n', ending));
            }
            (None, Some(last)) => {
                let end = line_end(text, last.whole.end);
                put_line(text, end, &format!("{lead}{new}"));
            }
            (None, None) => put_line(text, into.span.end, &new),
        }
        Ok(())
    }

    fn cut(&self, text: &mut String, from: &Node, child: usize) {
        if from.form == Form::Flow {
            return commas::cut(text, from, child);
        }
        let children = from.children();
        let Range { start, end } = children[child].whole.clone();
        let own_line = indent(text, start).is_some();
        let nothing = if matches!(from.body, Body::List(_)) { "[]" } else { "{}" };
        match (children.len(), children.get(child + 1)) {
            (1, _) if own_line => {
                let (first, last) = (line_start(text, start), line_end(text, end));
                cut_lines(text, first, last);
                // A region that begins a line is the whole document's.
                if from.tail > 0 && from.tail <= text.len() && !text[..from.tail].ends_with('\n') {
                    text.insert_str(from.tail, &format!(" {nothing}"));
                }
            }
            (1, _) => text.replace_range(start..end, nothing),
            (_, Some(next)) if !own_line => {
                let next = next.whole.start;
                text.replace_range(start..next, "");
            }
            _ => {
                let (first, last) = (line_start(text, start), line_end(text, end));
                cut_lines(text, first, last);
            }
        }
    }

    fn comment(&self) -> Option<&'static str> {
        Some("#")
    }
}
