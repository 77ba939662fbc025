//! YAML: blocks by indentation and flow in brackets. The parser `saphyr-parser` says what is there, one after another; where
//! it lies is found by going through the text along with it (`read.rs`), so that no place is taken on trust. Only the first
//! document of a file is looked into. An alias is read as what it stands for.

mod events;
mod read;

use std::ops::Range;

use read::resolve;

use super::{
    ParseDocumentError, Value, commas,
    lined::{cut_lines, indent, line_end, line_ending, line_start, put_line},
    node::{Body, Form, Node, Syntax, Why},
};

/// The format.
pub(super) struct Yaml;

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
    fn parse(&self, text: &str) -> Result<Node, ParseDocumentError> {
        read::read(text)
    }

    fn leaf(&self, text: &str, old: &Node, value: &Value) -> Result<String, Why> {
        let before = &text[old.gap..old.span.start];
        let bare = &text[old.span.clone()];
        let properties = before.trim();
        let json = value.to_json();
        let is_leaf = matches!(old.body, Body::Leaf(_));
        let commented = old.form == Form::Open
            && text[old.span.end..].lines().next().is_some_and(|rest| !rest.trim().is_empty());
        let in_line = if before.is_empty() && old.gap == old.span.start && !bare.is_empty() {
            ""
        } else if before.is_empty() || before.contains('\n') {
            " "
        } else {
            &before[..before.len() - before.trim_start().len()]
        };
        if !has_parts(&json) || old.form == Form::Flow || commented {
            let new = single(value, if is_leaf { bare } else { "" })?;
            // A single value keeps the anchor and the tag of the one before it.
            let kept =
                if is_leaf && !properties.is_empty() { format!("{properties} ") } else { String::new() };
            return Ok(format!("{in_line}{kept}{new}"));
        }
        let step = step_of(text);
        if !is_leaf {
            let lead = lead_of(text, old);
            // What stood before it on its line goes: an anchor, a tag.
            let gap = if properties.is_empty() { before.to_owned() } else { format!("\n{lead}") };
            return Ok(format!("{gap}{}", render(&json, &lead, &step)?).replace('\n', line_ending(text)));
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
        if into.form == Form::Open && !into.is_empty() {
            // A pair without braces in a list gets them.
            let pair = text[into.span.clone()].to_owned();
            let new = format!("{{{pair}, {}}}", flow_child(into, key, value)?);
            text.replace_range(into.span.clone(), &new);
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
