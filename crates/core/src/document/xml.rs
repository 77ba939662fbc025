//! XML. The parser is `roxmltree`; the edits are made on the text, at the places it reports. An attribute's name has an
//! `@` before it, and the text of an element with attributes is `#text`. Several elements of one name are numbered.

use std::ops::Range;

use super::{
    ParseDocumentError, Value,
    lined::{cut_lines, indent, line_end, line_ending, line_start},
    node::{Body, DEEPEST, Form, Node, Syntax, Why},
};

/// The format.
pub(super) struct Xml;

fn element(text: &str, element: roxmltree::Node<'_, '_>) -> Node {
    let span = element.range();
    let key = &text[span.start + 1..];
    let key = &key[..key.find(|c: char| c.is_whitespace() || matches!(c, '>' | '/')).unwrap_or(key.len())];
    let said = || element.text().unwrap_or_default().to_owned();
    let elements: Vec<_> = element.children().filter(roxmltree::Node::is_element).collect();
    let mut children: Vec<Node> = element
        .attributes()
        .map(|attribute| {
            let name = format!("@{}", text[attribute.range()].split('=').next().unwrap_or_default().trim());
            let leaf = Node::leaf(name, attribute.range_value(), Value::Text(attribute.value().into()));
            leaf.within(attribute.range())
        })
        .collect();
    if children.is_empty() && elements.is_empty() && element.children().count() < 2 {
        let form = if said().trim().is_empty() { Form::Open } else { Form::Plain };
        return Node::leaf(key, span, Value::Text(said())).written(form);
    }
    if elements.is_empty()
        && let Some(inner) = element
            .children()
            .find(|child| child.is_text() && child.text().is_some_and(|text| !text.trim().is_empty()))
    {
        let says = inner.text().unwrap_or_default();
        children.push(Node::leaf("#text", inner.range(), Value::Text(says.into())));
    }
    children.extend(elements.into_iter().map(|child| self::element(text, child)));
    let mut holder = Node::holder(key, span.clone(), Body::Group(children));
    holder.tail = text[span.clone()].rfind("</").map_or(span.end, |at| span.start + at);
    if text[span.clone()].ends_with("/>") && !text[span.clone()].contains("</") {
        holder.form = Form::Open;
    }
    holder
}

fn escaped(text: &str, quote: Option<char>) -> Result<String, Why> {
    let mut out = String::new();
    for c in text.chars() {
        match c {
            '&' => out += "&amp;",
            '<' => out += "&lt;",
            '>' if quote.is_none() => out += "&gt;",
            '"' if quote == Some('"') => out += "&quot;",
            '\'' if quote == Some('\'') => out += "&apos;",
            '\n' | '\t' | '\r' if quote.is_some() => out.extend([format!("&#{};", u32::from(c))]),
            '\r' => out += "&#13;",
            c if u32::from(c) < 32 && c != '\n' && c != '\t' => return Err("XML has no such sign"),
            c => out.push(c),
        }
    }
    Ok(out)
}

fn name_is_good(name: &str) -> Result<(), Why> {
    let good = name.starts_with(|c: char| c.is_alphabetic() || c == '_')
        && name.chars().all(|c| c.is_alphanumeric() || matches!(c, '_' | '-' | '.' | ':'));
    if good { Ok(()) } else { Err("it cannot be an element's or an attribute's name") }
}

fn render(key: &str, value: &Value, lead: &str, step: &str, ending: &str) -> Result<String, Why> {
    name_is_good(key)?;
    let Value::Compound(serde_json::Value::Object(entries)) = value else {
        let text = escaped(&value.scalar()?, None)?;
        return Ok(if text.is_empty() { format!("<{key}/>") } else { format!("<{key}>{text}</{key}>") });
    };
    let mut open = format!("<{key}");
    let mut inner = String::new();
    let deeper = format!("{lead}{step}");
    for (name, value) in entries {
        let value = Value::from(value.clone());
        if let Some(attribute) = name.strip_prefix('@') {
            name_is_good(attribute)?;
            open.extend([format!(" {attribute}=\"{}\"", escaped(&value.scalar()?, Some('"'))?)]);
        } else if name == "#text" {
            inner += &escaped(&value.scalar()?, None)?;
        } else {
            inner.extend([format!("{ending}{deeper}{}", render(name, &value, &deeper, step, ending)?)]);
        }
    }
    let close = if inner.starts_with(ending) { format!("{ending}{lead}") } else { String::new() };
    Ok(if inner.is_empty() { format!("{open}/>") } else { format!("{open}>{inner}{close}</{key}>") })
}

/// Returns where the start tag's name and attributes end, and whether the element is written as one tag.
fn tag_end(text: &str, node: &Node) -> (usize, bool) {
    let attributes = node.children().iter().filter(|child| child.key.starts_with('@'));
    let from = attributes.map(|child| child.whole.end).max().unwrap_or(node.span.start + 1 + node.key.len());
    let sign = text[from..].find(['/', '>']).map_or(from, |at| from + at);
    (from, text[sign..].starts_with('/'))
}

impl Xml {
    /// Puts an element into another one.
    fn add_element(text: &mut String, into: &Node, at: usize, key: &str, value: &Value) -> Result<(), Why> {
        let ending = line_ending(text);
        let elements: Vec<&Node> =
            into.children().iter().filter(|child| !child.key.starts_with(['@', '#'])).collect();
        let outer = indent(text, into.span.start).unwrap_or_default().to_owned();
        let lead = elements.iter().find_map(|child| indent(text, child.span.start)).map(str::to_owned);
        let step = lead.as_ref().and_then(|lead| lead.strip_prefix(&outer)).unwrap_or("  ").to_owned();
        let inner = lead.clone().unwrap_or_else(|| format!("{outer}{step}"));
        let new = render(key, value, &inner, &step, ending)?;
        let (tag, single) = tag_end(text, into);
        if single {
            let slash = text[tag..].find("/>").map_or(tag, |at| tag + at);
            let close = format!("{ending}{outer}</{}>", into.key);
            let tail = text[tag..slash].trim_end().len();
            text.replace_range(tag + tail..slash + 2, &format!(">{ending}{inner}{new}{close}"));
            return Ok(());
        }
        let next = into.children().get(at).filter(|next| !next.key.starts_with(['@', '#']));
        match (next, elements.last()) {
            (Some(next), _) if lead.is_some() => {
                text.insert_str(next.span.start, &format!("{new}{ending}{inner}"));
            }
            (Some(next), _) => text.insert_str(next.span.start, &new),
            (None, Some(last)) if lead.is_some() => {
                text.insert_str(last.span.end, &format!("{ending}{inner}{new}"));
            }
            (None, Some(last)) => text.insert_str(last.span.end, &new),
            (None, None) => text.insert_str(into.tail, &new),
        }
        Ok(())
    }
}

impl Syntax for Xml {
    fn parse(&self, text: &str) -> Result<Node, ParseDocumentError> {
        let options = roxmltree::ParsingOptions { allow_dtd: true, ..roxmltree::ParsingOptions::default() };
        let document = roxmltree::Document::parse_with_options(text, options).map_err(|error| {
            let place = error.pos();
            let line: usize = text.split_inclusive('\n').take(place.row as usize - 1).map(str::len).sum();
            let column: usize = text[line..].chars().take(place.col as usize - 1).map(char::len_utf8).sum();
            let said = error.to_string();
            let said = said.rsplit_once(" at ").map_or(said.as_str(), |(said, _)| said);
            ParseDocumentError::at(text, line + column, said)
        })?;
        let deep =
            |node: &roxmltree::Node<'_, '_>| node.is_element() && node.ancestors().nth(DEEPEST).is_some();
        if let Some(deep) = document.descendants().find(deep) {
            return Err(ParseDocumentError::at(
                text,
                deep.range().start,
                "elements lie too deep in each other",
            ));
        }
        Ok(Node::root(text, vec![element(text, document.root_element())]))
    }

    fn leaf(&self, text: &str, old: &Node, value: &Value) -> Result<String, Why> {
        if old.key.starts_with('@') {
            let quote = if text[..old.span.start].ends_with('\'') { '\'' } else { '"' };
            return escaped(&value.scalar()?, Some(quote));
        }
        if old.key == "#text" {
            return escaped(&value.scalar()?, None);
        }
        let lead = indent(text, old.span.start).unwrap_or_default();
        render(&old.key, value, lead, "  ", line_ending(text))
    }

    fn add(&self, text: &mut String, into: &Node, at: usize, key: &str, value: &Value) -> Result<(), Why> {
        if into.span == (0..text.len()) && !text[into.span.clone()].starts_with(&format!("<{}", into.key)) {
            return Err("an XML file has one outermost element");
        }
        if let Some(attribute) = key.strip_prefix('@') {
            name_is_good(attribute)?;
            let (end, _) = tag_end(text, into);
            text.insert_str(end, &format!(" {attribute}=\"{}\"", escaped(&value.scalar()?, Some('"'))?));
            return Ok(());
        }
        if key == "#text" {
            return Err("a text beside elements cannot be written");
        }
        Self::add_element(text, into, at, key, value)
    }

    fn cut(&self, text: &mut String, from: &Node, child: usize) {
        let node = &from.children()[child];
        let Range { start, end } = node.whole.clone();
        if node.key.starts_with('@') {
            let gap = text[..start].len() - text[..start].trim_end().len();
            text.replace_range(start - gap..end, "");
            return;
        }
        let to = line_end(text, end);
        match indent(text, start) {
            Some(_) if text[end..to].trim().is_empty() => {
                let from = line_start(text, start);
                cut_lines(text, from, to);
            }
            _ => text.replace_range(start..end, ""),
        }
    }

    fn repeats(&self) -> bool {
        true
    }
}
