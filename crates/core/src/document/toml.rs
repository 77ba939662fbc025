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

/// Returns where the lines end that stand below a heading themselves.
fn own_end(children: &[Node], from: usize) -> usize {
    let own = children.iter().filter(|child| child.form != Form::Section);
    own.map(|child| child.whole.end).max().unwrap_or(from).max(from)
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
        root.tail = if tail == 0 && first.is_none() { text.len() } else { tail };
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
                let head = head.lines().next().unwrap_or_default().trim().to_owned();
                let place = items.get(at).map_or(into.span.end, |next| next.whole.start);
                put_line(text, place, &format!("{gap}{head}{}", lines_of(entries)?));
            }
            (Body::List(_), _) => return Err("the list holds tables only"),
            (_, serde_json::Value::Object(entries)) if into.form == Form::Plain => {
                let end = into.span.end;
                put_line(text, end, &format!("{gap}[{}]{}", name(key), lines_of(entries)?));
            }
            _ if into.form == Form::Dotted => return Err("its table has no heading of its own"),
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
        if node.form == Form::Dotted {
            for inner in (0..node.children().len()).rev() {
                self.cut(text, node, inner);
            }
            return;
        }
        let Range { mut start, end } = node.whole.clone();
        if node.form == Form::Section && start > 0 {
            // The blank line that sets it apart goes along.
            let before = line_start(text, start - 1);
            if text[before..start].trim().is_empty() {
                start = before;
            }
        }
        cut_lines(text, start, end);
    }

    fn comment(&self) -> Option<&'static str> {
        Some("#")
    }
}
