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

/// A start tag: where its name and attributes end, where the element's content begins, and whether it is all of the element.
struct StartTag {
    attributes_end: usize,
    content: usize,
    single: bool,
}

/// Reads the start tag at a place of a text that is well-formed.
fn start_tag(text: &str, from: usize) -> StartTag {
    let (mut quote, mut end) = (None, text.len());
    for (at, c) in text[from..].char_indices() {
        match (quote, c) {
            (Some(open), c) if c == open => quote = None,
            (None, '"' | '\'') => quote = Some(c),
            (None, '>') => {
                end = from + at;
                break;
            }
            _ => {}
        }
    }
    let inner = &text[from..end];
    let single = inner.ends_with('/');
    let attributes_end = from + inner.strip_suffix('/').unwrap_or(inner).trim_end().len();
    StartTag { attributes_end, content: (end + 1).min(text.len()), single }
}

fn element(text: &str, element: roxmltree::Node<'_, '_>) -> Node {
    let span = element.range();
    let key = &text[span.start + 1..];
    let key = &key[..key.find(|c: char| c.is_whitespace() || matches!(c, '>' | '/')).unwrap_or(key.len())];
    let tag = start_tag(text, span.start);
    // Several stretches of text are apart by comments.
    let says: String =
        element.children().filter(roxmltree::Node::is_text).filter_map(|child| child.text()).collect();
    let content_end = text[span.clone()].rfind("</").map_or(span.end, |at| span.start + at);
    let mut children: Vec<Node> = element
        .attributes()
        .map(|attribute| {
            let name = format!("@{}", text[attribute.range()].split('=').next().unwrap_or_default().trim());
            let leaf = Node::leaf(name, attribute.range_value(), Value::Text(attribute.value().into()));
            leaf.within(attribute.range())
        })
        .collect();
    let has_elements = element.children().any(|child| child.is_element());
    let open = if says.trim().is_empty() { Form::Open } else { Form::Plain };
    if children.is_empty() && !has_elements {
        return Node::leaf(key, span, Value::Text(says)).written(open);
    }
    if !has_elements && !tag.single {
        children.push(Node::leaf("#text", tag.content..content_end, Value::Text(says)).written(open));
    }
    children.extend(
        element.children().filter(roxmltree::Node::is_element).map(|child| self::element(text, child)),
    );
    let mut holder = Node::holder(key, span.clone(), Body::Group(children));
    holder.tail = content_end;
    if tag.single {
        holder.form = Form::Open;
    }
    holder
}

/// Returns an element's content with another text, and with the comments that it has.
fn with_text(content: &str, new: &str) -> String {
    let mut out = String::new();
    let mut rest = content;
    let mut new = Some(new);
    while !rest.is_empty() {
        let closing = [("<!--", "-->"), ("<?", "?>"), ("<![CDATA[", "]]>")]
            .into_iter()
            .find(|(open, _)| rest.starts_with(open));
        let length = match closing {
            Some((open, close)) => {
                rest[open.len()..].find(close).map_or(rest.len(), |at| open.len() + at + close.len())
            }
            None => rest.find('<').unwrap_or(rest.len()),
        };
        // A comment stays where it is; the first stretch of text becomes the new one.
        if closing.is_some_and(|(open, _)| open != "<![CDATA[") {
            out += &rest[..length];
        } else {
            out += new.take().unwrap_or_default();
        }
        rest = &rest[length..];
    }
    out + new.unwrap_or_default()
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
        let tag = start_tag(text, into.span.start);
        if tag.single {
            let close = format!("{ending}{outer}</{}>", into.key);
            text.replace_range(tag.attributes_end..tag.content, &format!(">{ending}{inner}{new}{close}"));
            return Ok(());
        }
        let next = into.children().get(at).filter(|next| !next.key.starts_with(['@', '#']));
        // What stands alone on its line gets a neighbour that does; then taking that out takes out just its line.
        let is_alone = |child: &Node| {
            indent(text, child.span.start).is_some()
                && text[child.span.end..line_end(text, child.span.end)].trim().is_empty()
        };
        match (next, elements.last()) {
            (Some(next), _) if indent(text, next.span.start).is_some() => {
                text.insert_str(next.span.start, &format!("{new}{ending}{inner}"));
            }
            (Some(next), _) => text.insert_str(next.span.start, &new),
            (None, Some(last)) if is_alone(last) => {
                text.insert_str(last.span.end, &format!("{ending}{inner}{new}"));
            }
            (None, Some(last)) => text.insert_str(last.span.end, &new),
            (None, None) => text.insert_str(into.tail, &new),
        }
        Ok(())
    }
}

/// Finds where an entity is used that the file declares itself: what it stands for may hold elements.
fn own_entity(text: &str) -> Option<usize> {
    let declared = text.rfind("<!ENTITY")?;
    let body = text[declared..].find("]>").map_or(declared, |at| declared + at);
    let known = ["lt;", "gt;", "amp;", "quot;", "apos;", "#"];
    let is_own = |at: &usize| !known.iter().any(|name| text[at + 1..].starts_with(name));
    text[body..].match_indices('&').map(|(at, _)| body + at).find(is_own)
}

/// Finds a tag with very many attributes: the parser compares each with all others.
fn crowded_tag(text: &str) -> Option<usize> {
    const MOST: usize = 2_000;
    let mut at = 0;
    while let Some(found) = text[at..].find('<') {
        let from = at + found;
        let end = text[from..].find('>').map_or(text.len(), |end| from + end);
        let is_tag = !text[from..].starts_with("<!");
        if is_tag && text[from..end].bytes().filter(|byte| *byte == b'=').count() > MOST {
            return Some(from);
        }
        at = end.max(from + 1);
    }
    None
}

impl Syntax for Xml {
    fn parse(&self, text: &str) -> Result<Node, ParseDocumentError> {
        if let Some(at) = own_entity(text) {
            return Err(ParseDocumentError::at(
                text,
                at,
                "a file that uses entities of its own is not edited",
            ));
        }
        if let Some(at) = crowded_tag(text) {
            return Err(ParseDocumentError::at(text, at, "this element has more attributes than are read"));
        }
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
            return Ok(with_text(&text[old.span.clone()], &escaped(&value.scalar()?, None)?));
        }
        let tag = start_tag(text, old.span.start);
        if let (Body::Leaf(_), Ok(says)) = (&old.body, value.scalar()) {
            // The tag stays as it is, with the namespaces that it declares; so do comments.
            let says = escaped(&says, None)?;
            if tag.single {
                let open = &text[old.span.start..tag.attributes_end];
                return Ok(if says.is_empty() {
                    text[old.span.clone()].into()
                } else {
                    format!("{open}>{says}</{}>", old.key)
                });
            }
            let end = text[old.span.clone()].rfind("</").map_or(old.span.end, |at| old.span.start + at);
            let content = with_text(&text[tag.content..end], &says);
            return Ok(format!(
                "{}{content}{}",
                &text[old.span.start..tag.content],
                &text[end..old.span.end]
            ));
        }
        if text[old.span.start..tag.content].contains("xmlns") {
            return Err("an element that declares a namespace is not replaced as a whole");
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
            let end = start_tag(text, into.span.start).attributes_end;
            text.insert_str(end, &format!(" {attribute}=\"{}\"", escaped(&value.scalar()?, Some('"'))?));
            return Ok(());
        }
        if key == "#text" {
            let tag = start_tag(text, into.span.start);
            if !tag.single {
                return Err("a text beside elements cannot be written");
            }
            let says = escaped(&value.scalar()?, None)?;
            text.replace_range(tag.attributes_end..tag.content, &format!(">{says}</{}>", into.key));
            return Ok(());
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
