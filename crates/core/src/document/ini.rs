//! Sections of `key = value` lines. Comments begin with `#` or `;` at the start of a line, or with ` #` behind a value. A
//! line without a sign is a name that stands alone: an item of its section. A name may stand there again and again.

use super::{
    ParseDocumentError, Value,
    lined::{Line, blanks_behind, cut_lines, line_end, line_start, lines, put_line},
    node::{Body, Form, Node, Syntax, Why},
};

/// The format.
pub(super) struct Ini;

/// Where a comment begins behind a value: at ` #`, and at ` ;` where the file's comments begin so.
fn comment(text: &str, semicolon: bool) -> Option<usize> {
    let find = |sign: &str| text.find(sign).filter(|at| *at > 0);
    let found =
        [find(" #"), find(" ;").filter(|_| semicolon), find("\t#"), find("\t;").filter(|_| semicolon)];
    found.into_iter().flatten().min()
}

/// Whether a file's comments begin with `;`, so that one behind a value does too: its lines tell.
fn has_semicolons(text: &str) -> bool {
    let begins = |sign: char| text.lines().any(|line| line.trim_start().starts_with(sign));
    begins(';') && !begins('#')
}

fn entry(text: &str, from: usize, to: usize, semicolon: bool) -> Node {
    let start = text.len() - text.trim_start().len();
    let bare = text[start..].trim_end();
    let start_at = from + start;
    let Some((key, rest)) = text[start..].split_once('=') else {
        let name = comment(bare, semicolon).map_or(bare, |at| &bare[..at]).trim_end();
        let end = start_at + name.len();
        let leaf = Node::leaf(name, end..end, Value::Flag(true));
        return leaf.within(from..to).written(Form::Bare);
    };
    let lead = rest.len() - rest.trim_start().len();
    let value_at = start_at + key.len() + 1 + lead;
    let gap = start_at + key.trim_end().len();
    let blanks = rest.trim_start().len() - rest.trim().len();
    let rest = rest.trim();
    let behind_quotes = |behind: &str| {
        let bare = behind.trim_start();
        bare.is_empty() || bare.starts_with('#') || semicolon && bare.starts_with(';')
    };
    let (value, end) = match rest.strip_prefix('"').and_then(|inner| inner.split_once('"')) {
        Some((inner, behind)) if behind_quotes(behind) => {
            (inner, inner.len() + 2 + if behind.is_empty() { blanks } else { 0 })
        }
        _ => match comment(rest, semicolon) {
            Some(at) => (rest[..at].trim_end(), rest[..at].trim_end().len()),
            // With the blanks behind it, so that what is put back is what was there.
            None => (rest, rest.len() + blanks),
        },
    };
    let entry = Node::leaf(key.trim(), value_at..value_at + end, Value::Text(value.into()));
    Node { gap, ..entry.within(from..to) }
}

/// Whether a line without a sign is part of the value before it: it is the next one, and indented more.
fn goes_on(text: &str, last: &Node, line: &Line<'_>) -> bool {
    let width = |line: &str| line.len() - line.trim_start().len();
    let own = &text[last.whole.start..];
    last.form == Form::Plain
        && last.whole.end == line.from
        && width(line.text) > width(own.lines().next().unwrap_or_default())
}

fn plain(value: &Value, quoted: bool) -> Result<String, Why> {
    let value = value.scalar()?;
    if value.contains(['\n', '\r']) {
        return Err("values are one line");
    }
    let must = value.trim() != value || comment(&value, true).is_some() || value.starts_with('"');
    if (must || quoted) && value.contains('"') {
        return Err("such a value needs quotes, and has quotes in it");
    }
    Ok(if must || quoted { format!("\"{value}\"") } else { value })
}

fn key_is_good(key: &str) -> Result<(), Why> {
    if key.is_empty()
        || key.trim() != key
        || key.contains(['=', '\n', '\r'])
        || key.starts_with(['#', ';', '['])
        || key.contains(" #")
    {
        return Err("it cannot be a key");
    }
    Ok(())
}

/// Returns the line of one entry, in the manner of its neighbours.
fn line(text: &str, into: &Node, key: &str, value: &Value) -> Result<String, Why> {
    key_is_good(key)?;
    let last = into.children().iter().rfind(|child| child.form == Form::Plain && !child.span.is_empty());
    let quotes = last.is_some_and(|last| text[last.span.clone()].starts_with('"'));
    let sign = last.map_or(" = ", |last| {
        let lead = &text[line_start(text, last.span.start)..last.span.start];
        if lead.ends_with('=') && !lead.ends_with(" =") { "=" } else { " = " }
    });
    let lead = last.map_or("", |last| {
        let line = &text[last.whole.start..];
        &line[..line.len() - line.trim_start_matches([' ', '\t']).len()]
    });
    Ok(match value {
        Value::Compound(serde_json::Value::Null) => format!("{lead}{key}"),
        value => format!("{lead}{key}{sign}{}", plain(value, quotes)?).trim_end().to_owned(),
    })
}

impl Syntax for Ini {
    fn parse(&self, text: &str) -> Result<Node, ParseDocumentError> {
        let mut root = Node::root(text, Vec::new());
        let mut top: Vec<Node> = Vec::new();
        let mut open: Option<Node> = None;
        root.tail = 0;
        let semicolon = has_semicolons(text);
        for line in lines(text) {
            let bare = line.text.trim();
            if bare.is_empty() || bare.starts_with(['#', ';']) {
                continue;
            }
            if let Some(inner) = bare.strip_prefix('[') {
                let Some((name, behind)) = inner.rsplit_once(']') else {
                    return Err(ParseDocumentError::at(
                        text,
                        line.start() + bare.len(),
                        "expected \"]\" behind the section's name",
                    ));
                };
                if !behind.trim().is_empty() && !behind.trim().starts_with(['#', ';']) {
                    let at = line.start() + name.len() + 2;
                    return Err(ParseDocumentError::at(
                        text,
                        at,
                        "expected the end of the line behind the section's name",
                    ));
                }
                top.extend(open.take());
                let section = Node::holder(name, line.from..line.to, Body::Group(Vec::new()));
                open = Some(section.written(Form::Section));
                continue;
            }
            if bare.starts_with('=') {
                return Err(ParseDocumentError::at(text, line.start(), "expected a key before \"=\""));
            }
            let child = entry(line.text, line.from, line.to, semicolon);
            let children = open.as_mut().map_or(&mut top, |section| match &mut section.body {
                Body::Group(children) | Body::List(children) => children,
                Body::Leaf(_) => unreachable!("a section is a group"),
            });
            if child.form == Form::Bare
                && let Some(last) = children.last_mut().filter(|last| goes_on(text, last, &line))
            {
                // A value goes on in lines that are indented more than its own.
                last.whole.end = line.to;
                last.span.end = line.from + line.text.len();
                let says: Vec<&str> = text[last.span.clone()].lines().map(str::trim).collect();
                last.body = Body::Leaf(Value::Text(says.join("\n").trim().to_owned()));
                if let Some(Node { whole, span, tail, .. }) = &mut open {
                    (whole.end, span.end, *tail) = (line.to, line.to, line.to);
                } else {
                    root.tail = line.to;
                }
                continue;
            }
            if let Some(Node { whole, span, tail, body: Body::Group(children), .. }) = &mut open {
                (whole.end, span.end, *tail) = (line.to, line.to, line.to);
                children.push(child);
            } else {
                root.tail = line.to;
                top.push(child);
            }
        }
        top.extend(open);
        root.body = Body::Group(top);
        Ok(root)
    }

    fn leaf(&self, text: &str, old: &Node, value: &Value) -> Result<String, Why> {
        if old.form == Form::Bare {
            return Ok(if *value == Value::Flag(true) {
                String::new()
            } else {
                format!(" = {}", plain(value, false)?)
            });
        }
        let sign = &text[old.gap..old.span.start];
        // Where nothing stood behind the sign, the gap before it stands behind it as well.
        let space =
            if old.span.is_empty() && sign.starts_with(' ') && sign.ends_with('=') { " " } else { "" };
        let behind = &text[old.span.end..line_end(text, old.span.end)];
        let must = *value == Value::from("") && !behind.trim().is_empty();
        let quoted = must || text[old.span.clone()].starts_with('"');
        Ok(format!("{sign}{space}{}{}", plain(value, quoted)?, blanks_behind(&text[old.span.clone()])))
    }

    fn add(&self, text: &mut String, into: &Node, at: usize, key: &str, value: &Value) -> Result<(), Why> {
        let Value::Compound(serde_json::Value::Object(entries)) = value else {
            let line = line(text, into, key, value)?;
            let place = into.children().get(at).map(|next| next.whole.start);
            // What is outside of all sections stands before them.
            let place = place.filter(|_| into.children()[at].form != Form::Section).unwrap_or(into.tail);
            put_line(text, place, &line);
            return Ok(());
        };
        if into.form == Form::Section {
            return Err("there are no sections in sections");
        }
        if key.is_empty() || key.contains([']', '\n', '\r']) {
            return Err("it cannot be a section's name");
        }
        let mut all = vec![format!("[{key}]")];
        let none = Node::root("", Vec::new());
        for (key, value) in entries {
            all.push(line(text, &none, key, &Value::from(value.clone()))?);
        }
        let gap = if text.trim().is_empty() { "" } else { "\n" };
        let end = into.span.end;
        put_line(text, end, &format!("{gap}{}", all.join("\n")));
        Ok(())
    }

    fn cut(&self, text: &mut String, from: &Node, child: usize) {
        let node = &from.children()[child];
        let mut start = node.whole.start;
        if node.form == Form::Section && start > 0 {
            // The blank line that sets it apart goes along.
            let before = line_start(text, start - 1);
            if text[before..start].trim().is_empty() {
                start = before;
            }
        }
        cut_lines(text, start, node.whole.end);
    }

    fn depth(&self) -> usize {
        2
    }

    fn repeats(&self) -> bool {
        true
    }

    fn names(&self) -> bool {
        true
    }

    fn comment(&self) -> Option<&'static str> {
        Some("#")
    }
}
