//! Nested blocks: `name { name "value" }`. A value ends where its line does; `#` and `//` begin comments, but not inside a
//! word unless the server reads them so.

use super::{
    ParseDocumentError, Value,
    lined::{Comments, cut_lines, indent, line_end, line_ending, line_start},
    node::{Body, DEEPEST, Form, Node, Syntax, Why},
};

/// The format.
pub(super) struct Blocks {
    pub(super) comments: Comments,
}

struct Reader<'a> {
    text: &'a str,
    at: usize,
    comments: Comments,
}

impl<'a> Reader<'a> {
    fn rest(&self) -> &'a str {
        &self.text[self.at..]
    }

    fn fail<T>(&self, at: usize, expected: &str) -> Result<T, ParseDocumentError> {
        Err(ParseDocumentError::at(self.text, at, expected))
    }

    /// Goes past white space and comments.
    fn gap(&mut self) {
        loop {
            let rest = self.rest();
            let bare = rest.trim_start();
            self.at += rest.len() - bare.len();
            if !bare.starts_with('#') && !bare.starts_with("//") {
                return;
            }
            self.at += bare.find('\n').unwrap_or(bare.len());
        }
    }

    /// Reads a word, or a text in quotes; its length in the text and what it says.
    fn word(&self) -> Result<(usize, String), ParseDocumentError> {
        let rest = self.rest();
        if let Some(inner) = rest.strip_prefix('"') {
            let line = inner.find('\n').unwrap_or(inner.len());
            return match inner[..line].find('"') {
                Some(end) => Ok((end + 2, inner[..end].into())),
                None => self.fail(self.at, "this quote is not closed on its line"),
            };
        }
        let ends = |c: char| c.is_whitespace() || matches!(c, '{' | '}' | '"');
        let end = rest.find(ends).unwrap_or(rest.len());
        let end = self.comments.find(&rest[..end], &["//", "#"]);
        Ok((end, rest[..end].into()))
    }

    fn entries(&mut self, depth: usize) -> Result<Vec<Node>, ParseDocumentError> {
        let mut found = Vec::new();
        loop {
            self.gap();
            let rest = self.rest();
            if rest.is_empty() || rest.starts_with('}') {
                return Ok(found);
            }
            if rest.starts_with('{') {
                return self.fail(self.at, "expected a name before \"{\"");
            }
            found.push(self.entry(depth)?);
        }
    }

    fn entry(&mut self, depth: usize) -> Result<Node, ParseDocumentError> {
        if depth > DEEPEST {
            return self.fail(self.at, "blocks lie too deep in each other");
        }
        let from = self.at;
        let (length, key) = self.word()?;
        self.at += length;
        let key_to = self.at;
        let value = self.value()?;
        let mut peek = Self { text: self.text, at: self.at, comments: self.comments };
        peek.gap();
        if !peek.rest().starts_with('{') {
            let leaf = Node::leaf(key, key_to..self.at, value.unwrap_or(Value::Text(String::new())));
            return Ok(leaf.within(from..self.at));
        }
        // A word between the name and the brace is part of the name.
        let key = value.map_or(key.clone(), |label| format!("{key} {label}"));
        let open = peek.at;
        self.at = open + 1;
        let children = self.entries(depth + 1)?;
        if !self.rest().starts_with('}') {
            return self.fail(open, "this block is not closed: a \"}\" is missing");
        }
        self.at += 1;
        let mut block = Node::holder(key, open..self.at, Body::Group(children)).within(from..self.at);
        block.tail = self.at - 1;
        Ok(block.written(Form::Block))
    }

    /// Reads what stands behind a name on its line.
    fn value(&mut self) -> Result<Option<Value>, ParseDocumentError> {
        let mut parts: Vec<String> = Vec::new();
        let mut quoted = false;
        let start = self.at;
        let mut to = self.at;
        loop {
            let rest = self.rest();
            // Other signs than these are blank too: a word never begins with one.
            let bare = rest.trim_start_matches(|c: char| c.is_whitespace() && !matches!(c, '\n' | '\r'));
            self.at += rest.len() - bare.len();
            if bare.starts_with(['\n', '\r', '{', '}', '#']) || bare.starts_with("//") || bare.is_empty() {
                self.at = to;
                break;
            }
            quoted = bare.starts_with('"');
            let (length, says) = self.word()?;
            debug_assert!(length > 0, "a word that is none would be read for ever");
            parts.push(says);
            self.at += length;
            to = self.at;
        }
        Ok(match parts.as_slice() {
            [] => None,
            [only] if quoted => Some(Value::Text(only.clone())),
            _ => Some(Value::Text(self.text[start..to].trim().into())),
        })
    }
}

fn plain(value: &Value, quoted: bool) -> Result<String, Why> {
    let text = value.scalar()?;
    if text.contains(['\n', '\r', '"']) {
        return Err("values are one line without quotes in it");
    }
    let bare = !text.is_empty()
        && !text.contains(|c: char| c.is_whitespace() || matches!(c, '{' | '}' | '#'))
        && !text.contains("//");
    let number = matches!(value, Value::Whole(_) | Value::Real(_) | Value::Flag(_));
    Ok(if bare && (!quoted || number) { text } else { format!("\"{text}\"") })
}

fn name(key: &str) -> Result<String, Why> {
    let one_blank =
        key.split(' ').count() < 3 && key.trim() == key && !key.contains(['\t', '\u{b}', '\u{c}', '\u{a0}']);
    if key.is_empty() || !one_blank || key.contains(['\n', '\r', '"', '{', '}', '#']) || key.contains("//") {
        return Err("it cannot be a name");
    }
    Ok(key.into())
}

/// Returns an entry's lines.
fn render(key: &str, value: &Value, lead: &str, step: &str, ending: &str) -> Result<String, Why> {
    let key = name(key)?;
    let Value::Compound(serde_json::Value::Object(entries)) = value else {
        if key.contains(char::is_whitespace) {
            return Err("the name of a value is one word");
        }
        return Ok(format!("{lead}{key} {}", plain(value, true)?));
    };
    let mut text = format!("{lead}{key} {{{ending}");
    let inner = format!("{lead}{step}");
    for (key, value) in entries {
        text += &render(key, &Value::from(value.clone()), &inner, step, ending)?;
        text += ending;
    }
    Ok(text + lead + "}")
}

impl Syntax for Blocks {
    fn parse(&self, text: &str) -> Result<Node, ParseDocumentError> {
        let mut reader = Reader { text, at: 0, comments: self.comments };
        let found = reader.entries(0)?;
        if reader.rest().is_empty() {
            return Ok(Node::root(text, found));
        }
        reader.fail(reader.at, "this \"}\" closes nothing")
    }

    fn leaf(&self, text: &str, old: &Node, value: &Value) -> Result<String, Why> {
        let raw = &text[old.span.clone()];
        let bare = raw.trim_start();
        let lead = if raw.is_empty() { " " } else { &raw[..raw.len() - bare.len()] };
        Ok(format!("{lead}{}", plain(value, bare.starts_with('"'))?))
    }

    fn add(&self, text: &mut String, into: &Node, at: usize, key: &str, value: &Value) -> Result<(), Why> {
        let ending = line_ending(text);
        let children = into.children();
        let outer = indent(text, line_start(text, into.whole.start)).unwrap_or_default();
        let outer = {
            let line = &text[line_start(text, into.whole.start)..];
            let width = line.len() - line.trim_start_matches([' ', '\t']).len();
            format!("{outer}{}", &line[..width])
        };
        let is_root = into.form != Form::Block;
        let own_line = |child: &Node| indent(text, child.whole.start).map(str::to_owned);
        let lead = children.iter().find_map(own_line);
        let lead = lead.unwrap_or_else(|| if is_root { String::new() } else { format!("{outer}    ") });
        let step = lead.strip_prefix(outer.as_str()).filter(|step| !step.is_empty()).unwrap_or("    ");
        let inside = &text[into.span.clone()];
        if !is_root && !inside.contains('\n') {
            let new = render(key, value, "", step, ending)?;
            if new.contains('\n') || !children.is_empty() {
                return Err("the block that it goes into is written on one line");
            }
            // The gap that is there stays before the closing brace.
            let gap = if inside.len() > 2 { " " } else { "" };
            text.insert_str(into.tail, &format!("{new}{gap}"));
            return Ok(());
        }
        let new = render(key, value, &lead, step, ending)?;
        let next = children.get(at).filter(|next| indent(text, next.whole.start).is_some());
        let place = match next {
            Some(next) => line_start(text, next.whole.start),
            None if is_root => into.tail,
            None if indent(text, into.tail).is_none() => {
                // The brace that closes it stands behind something else on its line.
                let new = render(key, value, "", step, ending)?;
                if new.contains('\n') || !text[..into.tail].ends_with('}') {
                    return Err("the block's closing brace stands on the line of its last entry");
                }
                text.insert_str(into.tail, &format!(" {new}"));
                return Ok(());
            }
            None => line_start(text, into.tail),
        };
        if place > 0 && !text[..place].ends_with('\n') {
            text.insert_str(place, &format!("{ending}{new}"));
        } else {
            text.insert_str(place, &format!("{new}{ending}"));
        }
        Ok(())
    }

    fn cut(&self, text: &mut String, from: &Node, child: usize) {
        let whole = from.children()[child].whole.clone();
        let behind = &text[whole.end..line_end(text, whole.end)];
        let bare = behind.trim();
        let alone = bare.is_empty() || bare.starts_with('#') || bare.starts_with("//");
        match indent(text, whole.start).map(str::len) {
            Some(lead) if alone => {
                let to = whole.end + behind.len();
                cut_lines(text, whole.start - lead, to);
            }
            _ => {
                let before = text[..whole.start].trim_end_matches([' ', '\t']);
                if before.ends_with('}') {
                    let from = before.len();
                    text.replace_range(from..whole.end, "");
                    return;
                }
                let gap = behind.len() - behind.trim_start_matches([' ', '\t']).len();
                let gap = if from.span.start + 1 == whole.start { 0 } else { gap };
                text.replace_range(whole.start..whole.end + gap, "");
            }
        }
    }

    fn repeats(&self) -> bool {
        true
    }

    fn comment(&self) -> Option<&'static str> {
        Some("#")
    }
}
