//! TOML. The parser is `toml_edit`; the edits are made on the text, at the places it reports, so that line endings stay.

use std::ops::Range;

use toml_edit::{Item, TableLike};

use super::{
    ParseDocumentError, Value, commas,
    lined::{cut_lines, line_end, line_start, put_line},
    node::{Body, Form, Node, Syntax, Why},
};

/// The format.
pub(super) struct Toml;

fn from_toml(value: &toml_edit::Value) -> Value {
    match value {
        toml_edit::Value::String(text) => Value::Text(text.value().clone()),
        toml_edit::Value::Integer(number) => Value::Whole(*number.value()),
        toml_edit::Value::Float(number) => Value::Real(*number.value()),
        toml_edit::Value::Boolean(flag) => Value::Flag(*flag.value()),
        other => Value::Text(other.to_string().trim().into()),
    }
}

fn value(text: &str, key: &str, item: &toml_edit::Value) -> Node {
    let span = item.span().unwrap_or(0..0);
    if let Some(array) = item.as_array() {
        let items = array.iter().map(|item| value(text, "", item)).collect();
        return Node::holder(key, span, Body::List(items)).written(Form::Flow);
    }
    if let Some(table) = item.as_inline_table() {
        let children = entries(text, table, false);
        return Node::holder(key, span, Body::Group(children)).written(Form::Flow);
    }
    Node::leaf(key, span, from_toml(item))
}

/// Returns a table's children; each on its lines where the table is none in braces.
fn entries(text: &str, table: &dyn TableLike, lined: bool) -> Vec<Node> {
    let mut found = Vec::new();
    for (name, item) in table.iter() {
        let key_from = table.get_key_value(name).and_then(|(key, _)| key.span()).map_or(0, |span| span.start);
        match item {
            Item::None => {}
            Item::Value(inline)
                if inline.as_inline_table().is_some_and(toml_edit::InlineTable::is_dotted) =>
            {
                if let Some(inner) = inline.as_inline_table() {
                    found.push(dotted(name, entries(text, inner, lined)));
                }
            }
            Item::Value(item) => {
                let node = value(text, name, item);
                let whole = if lined {
                    line_start(text, key_from)..line_end(text, node.span.end)
                } else {
                    key_from..node.span.end
                };
                found.push(node.within(whole));
            }
            Item::Table(inner) if inner.is_dotted() => found.push(dotted(name, entries(text, inner, lined))),
            Item::Table(inner) => found.push(section(text, name, inner)),
            Item::ArrayOfTables(tables) => {
                let items: Vec<Node> = tables.iter().map(|table| section(text, "", table)).collect();
                let from = items.first().map_or(0, |first| first.whole.start);
                let to = items.iter().map(|item| item.span.end).max().unwrap_or(from);
                found.push(Node::holder(name, from..to, Body::List(items)).written(Form::Section));
            }
        }
    }
    found.sort_by_key(|node| node.whole.start);
    found
}

fn dotted(name: &str, children: Vec<Node>) -> Node {
    let from = children.iter().map(|child| child.whole.start).min().unwrap_or(0);
    let to = children.iter().map(|child| child.whole.end).max().unwrap_or(0);
    Node::holder(name, from..to, Body::Group(children)).written(Form::Dotted)
}

/// Returns where the last line ends that names something in this node without a heading of its own.
fn own_lines_end(node: &Node) -> Option<usize> {
    match node.form {
        Form::Section => None,
        Form::Dotted => node.children().iter().filter_map(own_lines_end).max(),
        _ => Some(node.whole.end),
    }
}

/// Returns where the lines end that stand below a heading themselves.
fn own_end(children: &[Node], from: usize) -> usize {
    children.iter().filter_map(own_lines_end).max().unwrap_or(from).max(from)
}

/// Collects all lines of a table with a heading: its own, and those of the tables below it.
fn sections_of(node: &Node, found: &mut Vec<Range<usize>>) {
    match (&node.body, node.form) {
        (Body::List(items), Form::Section) => items.iter().for_each(|item| sections_of(item, found)),
        (_, Form::Section) => {
            found.push(node.whole.clone());
            node.children().iter().for_each(|child| sections_of(child, found));
        }
        (_, Form::Dotted) => node.children().iter().for_each(|child| sections_of(child, found)),
        _ => {}
    }
}

/// Collects the lines of dotted keys below a node that has no heading.
fn lines_of_dotted(node: &Node, found: &mut Vec<Range<usize>>) {
    match node.form {
        Form::Section => {}
        Form::Dotted => node.children().iter().for_each(|child| lines_of_dotted(child, found)),
        _ => found.push(node.whole.clone()),
    }
}

/// Returns where the first table below a node without a heading begins, and how many names lead to it.
fn first_section(node: &Node) -> Option<(usize, usize)> {
    let of_child = |child: &Node| match (child.form, &child.body) {
        (Form::Section, Body::List(items)) => items.first().map(|item| (item.whole.start, 1)),
        (Form::Section, _) => Some((child.whole.start, 1)),
        (Form::Dotted, _) => first_section(child).map(|(start, depth)| (start, depth + 1)),
        _ => None,
    };
    node.children().iter().filter_map(of_child).min()
}

/// Returns where a heading's lines begin, with the blank line that sets it apart.
fn with_blank_before(text: &str, start: usize) -> usize {
    let before = line_start(text, start.saturating_sub(1));
    if start > 0 && text[before..start].trim().is_empty() { before } else { start }
}

/// Returns where a key of no table goes in a text of tables only: behind the comment that the file begins with.
fn head_end(text: &str) -> usize {
    let mut end = 0;
    while text[end..].starts_with('#') {
        end = line_end(text, end);
    }
    let is_apart = text[end..].lines().next().is_some_and(|line| line.trim().is_empty());
    if is_apart { end } else { 0 }
}

/// Returns the names of a dotted key or a heading as they are written, up to the sign behind them.
fn written_names(line: &str) -> Vec<&str> {
    let (mut names, mut from, mut quote) = (Vec::new(), 0, None);
    for (at, c) in line.char_indices() {
        match (quote, c) {
            (Some(open), c) if c == open => quote = None,
            (None, '"' | '\'') => quote = Some(c),
            (None, '.' | '=' | ']') => {
                names.push(line[from..at].trim());
                from = at + 1;
                if c != '.' {
                    break;
                }
            }
            _ => {}
        }
    }
    names
}

/// Returns the last line that names something in a group of dotted keys, and how many names lead from the group to it.
fn last_own(node: &Node) -> Option<(&Node, usize)> {
    let own = node.children().iter().filter(|child| own_lines_end(child).is_some());
    let last = own.max_by_key(|child| own_lines_end(child))?;
    if last.form == Form::Dotted {
        last_own(last).map(|(line, depth)| (line, depth + 1))
    } else {
        Some((last, 1))
    }
}

fn section(text: &str, name: &str, table: &toml_edit::Table) -> Node {
    let children = entries(text, table, true);
    // A table without a heading is only named in its children's.
    let Some(head) = table.span().filter(|span| text[span.clone()].starts_with('[')) else {
        return dotted(name, children);
    };
    let from = line_start(text, head.start);
    let tail = own_end(&children, line_end(text, head.end));
    let to = children.iter().map(|child| child.span.end).max().unwrap_or(tail).max(tail);
    let mut node = Node::holder(name, from..to, Body::Group(children)).within(from..tail);
    node.tail = tail;
    node.written(Form::Section)
}

fn write(json: &serde_json::Value, old: &str) -> Result<String, Why> {
    Ok(match json {
        serde_json::Value::Null => return Err("TOML has no null"),
        serde_json::Value::String(text)
            if old.starts_with('\'')
                && !old.starts_with("'''")
                && !text.contains(|c: char| c == '\'' || c.is_control()) =>
        {
            format!("'{text}'")
        }
        serde_json::Value::String(text) => toml_edit::Value::from(text.as_str()).to_string().trim().into(),
        serde_json::Value::Array(items) => {
            let items: Vec<String> = items.iter().map(|item| write(item, "")).collect::<Result<_, _>>()?;
            format!("[{}]", items.join(", "))
        }
        serde_json::Value::Object(entries) if entries.is_empty() => "{}".into(),
        serde_json::Value::Object(entries) => {
            let one = |(key, value): (&String, _)| Ok(format!("{} = {}", name(key), write(value, "")?));
            let entries: Vec<String> = entries.iter().map(one).collect::<Result<_, Why>>()?;
            format!("{{ {} }}", entries.join(", "))
        }
        other => other.to_string(),
    })
}

fn name(key: &str) -> String {
    let bare = !key.is_empty() && key.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '-'));
    if bare { key.into() } else { toml_edit::Value::from(key).to_string().trim().into() }
}

fn lines_of(entries: &serde_json::Map<String, serde_json::Value>) -> Result<String, Why> {
    let lines = entries.iter().map(|(key, value)| Ok(format!("\n{} = {}", name(key), write(value, "")?)));
    lines.collect()
}

const NONE: Why = "its table has no heading of its own";

/// Adds a key to a table that has no heading: behind its other dotted keys, or below a new heading before the tables
/// that name it.
fn add_dotted(text: &mut String, into: &Node, key: &str, json: &serde_json::Value) -> Result<(), Why> {
    let value = write(json, "")?;
    if let Some((last, depth)) = last_own(into) {
        let line = &text[last.whole.start..];
        let names = written_names(line);
        let lead = &line[..line.len() - line.trim_start_matches([' ', '\t']).len()];
        let prefix = names
            .len()
            .checked_sub(depth)
            .filter(|count| *count > 0 && line_start(text, last.whole.start) == last.whole.start);
        let Some(prefix) = prefix.map(|count| names[..count].join(".")) else {
            return Err("its table is written in braces by dotted names");
        };
        let line = format!("{lead}{prefix}.{} = {value}", name(key));
        put_line(text, last.whole.end, &line);
        return Ok(());
    }
    let (first, depth) = first_section(into).ok_or(NONE)?;
    let names = written_names(text[first..].trim_start().trim_start_matches('['));
    let count = names.len().checked_sub(depth).filter(|count| *count > 0).ok_or(NONE)?;
    let heading = names[..count].join(".");
    put_line(text, first, &format!("[{heading}]\n{} = {value}\n", name(key)));
    Ok(())
}

impl Syntax for Toml {
    fn parse(&self, text: &str) -> Result<Node, ParseDocumentError> {
        let document = toml_edit::Document::parse(text).map_err(|error| {
            let at = error.span().map_or(0, |span| span.start);
            ParseDocumentError::at(text, at, error.message().replace('\n', "; "))
        })?;
        let children = entries(text, document.as_table(), true);
        let tail = own_end(&children, 0);
        let first = children.iter().map(|child| child.whole.start).min();
        let mut root = Node::root(text, children);
        // Keys of no table stand before all headings.
        root.tail = match (tail, first) {
            (0, None) => text.len(),
            (0, Some(_)) => head_end(text),
            (tail, _) => tail,
        };
        Ok(root)
    }

    fn leaf(&self, text: &str, old: &Node, value: &Value) -> Result<String, Why> {
        match (value, old.form) {
            (_, Form::Section | Form::Dotted) => Err("a table with a heading is not replaced by a value"),
            (Value::Real(number), _) if number.is_finite() => Ok(format!("{number:?}")),
            (value, _) => write(&value.to_json(), &text[old.span.clone()]),
        }
    }

    fn add(&self, text: &mut String, into: &Node, at: usize, key: &str, value: &Value) -> Result<(), Why> {
        let json = value.to_json();
        if into.form == Form::Flow {
            let value = write(&json, "")?;
            let is_list = matches!(into.body, Body::List(_));
            commas::add(text, into, at, &if is_list { value } else { format!("{} = {value}", name(key)) });
            return Ok(());
        }
        let gap = if text.trim().is_empty() { "" } else { "\n" };
        match (&into.body, &json) {
            (Body::List(items), serde_json::Value::Object(entries)) => {
                let Some(head) = items.first().map(|first| &text[first.whole.start..]) else {
                    return Err("the list has no heading to follow");
                };
                let head = head.lines().next().unwrap_or_default().trim();
                let head = head.rfind("]]").map_or(head, |end| &head[..end + 2]).to_owned();
                let place = items.get(at).map_or(into.span.end, |next| next.whole.start);
                put_line(text, place, &format!("{gap}{head}{}", lines_of(entries)?));
            }
            (Body::List(_), _) => return Err("the list holds tables only"),
            (_, serde_json::Value::Object(entries)) if into.form == Form::Plain => {
                let end = into.span.end;
                put_line(text, end, &format!("{gap}[{}]{}", name(key), lines_of(entries)?));
            }
            _ if into.form == Form::Dotted => return add_dotted(text, into, key, &json),
            _ => {
                let lead =
                    into.children().iter().find(|child| child.form != Form::Section).map_or("", |child| {
                        let line = &text[child.whole.start..];
                        &line[..line.len() - line.trim_start_matches([' ', '\t']).len()]
                    });
                let line = format!("{lead}{} = {}", name(key), write(&json, "")?);
                put_line(text, into.tail, &line);
            }
        }
        Ok(())
    }

    fn cut(&self, text: &mut String, from: &Node, child: usize) {
        if from.form == Form::Flow {
            return commas::cut(text, from, child);
        }
        let node = &from.children()[child];
        let mut ranges = Vec::new();
        sections_of(node, &mut ranges);
        lines_of_dotted(node, &mut ranges);
        // From the back to the front, so that the places before stay right.
        ranges.sort_by_key(|range| std::cmp::Reverse(range.start));
        for Range { start, end } in ranges {
            let heads = text[start..end].trim_start().starts_with('[');
            cut_lines(text, if heads { with_blank_before(text, start) } else { start }, end);
        }
    }

    fn close(&self, text: &mut String, node: &Node) {
        // Only tables below it are left, which name it in their headings.
        if node.form == Form::Section
            && own_end(node.children(), 0) == 0
            && matches!(node.body, Body::Group(_))
        {
            let Range { start, end } = node.whole.clone();
            let blank = &text[end..line_end(text, end)];
            let end = if blank.trim().is_empty() { end + blank.len() } else { end };
            text.replace_range(start..end, "");
        }
    }

    fn comment(&self) -> Option<&'static str> {
        Some("#")
    }
}
