//! Arguments as a program gets them: `--port 2410 --carry Heronry`, on one line or many, with quotes where a shell has
//! them. An option may stand there again and again: that is a list. Lines that begin with `#` are comments.

use std::ops::Range;

use super::{
    ParseDocumentError, Value,
    lined::{cut_lines, indent, line_end, put_line},
    node::{Form, Node, Syntax, Why},
};

/// The format; where each option has a line of its own, a new one gets one as well.
pub(super) struct Arguments {
    /// Whether the program wants each option on a line.
    pub(super) lined: bool,
}

/// One word: where it lies, and what it says without its quotes.
struct Word {
    span: Range<usize>,
    says: String,
}

fn words(text: &str) -> Result<Vec<Word>, ParseDocumentError> {
    let mut found = Vec::new();
    let mut chars = text.char_indices().peekable();
    while let Some(&(from, first)) = chars.peek() {
        if first.is_whitespace() {
            chars.next();
            continue;
        }
        if first == '#' && indent(text, from).is_some() {
            while chars.next_if(|(_, c)| *c != '\n').is_some() {}
            continue;
        }
        let mut says = String::new();
        let mut quote: Option<(char, usize)> = None;
        let mut to = from;
        while let Some(&(at, c)) = chars.peek() {
            if quote.is_none() && c.is_whitespace() {
                break;
            }
            chars.next();
            to = at + c.len_utf8();
            match (quote, c) {
                (Some((open, _)), c) if c == open => quote = None,
                (None, '"' | '\'') => quote = Some((c, at)),
                (None | Some(('"', _)), '\\') => {
                    if let Some((at, c)) = chars.next_if(|(_, c)| !c.is_whitespace() || quote.is_some()) {
                        to = at + c.len_utf8();
                        says.push(c);
                    } else {
                        says.push('\\');
                    }
                }
                (_, c) => says.push(c),
            }
        }
        if let Some((_, at)) = quote {
            return Err(ParseDocumentError::at(text, at, "this quote is not closed"));
        }
        found.push(Word { span: from..to, says });
    }
    Ok(found)
}

/// An option begins with a dash and is no number.
fn is_option(word: &str) -> bool {
    word.starts_with('-')
        && word.trim_start_matches('-').starts_with(|c: char| !c.is_ascii_digit() && c != '.')
}

fn written(value: &Value) -> Result<String, Why> {
    let text = value.scalar()?;
    if text.contains(['\n', '\r']) {
        return Err("arguments are one line");
    }
    let plain = !text.is_empty()
        && !text.starts_with('#')
        && !text.contains(|c: char| c.is_whitespace() || matches!(c, '"' | '\'' | '\\'));
    if plain && !is_option(&text) {
        return Ok(text);
    }
    Ok(format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\"")))
}

impl Syntax for Arguments {
    fn parse(&self, text: &str) -> Result<Node, ParseDocumentError> {
        let mut found = Vec::new();
        let words = words(text)?;
        let mut words = words.iter().peekable();
        while let Some(Word { span, says }) = words.next() {
            let raw = &text[span.clone()];
            if !is_option(raw) {
                found.push(Node::leaf("", span.clone(), Value::Text(says.clone())));
                continue;
            }
            if let Some((key, value)) = says.split_once('=') {
                let at = span.start + raw.find('=').unwrap_or(0) + 1;
                let leaf = Node::leaf(key.trim_start_matches('-'), at..span.end, Value::Text(value.into()));
                found.push(leaf.within(span.clone()).written(Form::Dotted));
                continue;
            }
            let key = says.trim_start_matches('-');
            if let Some(value) = words.next_if(|next| !is_option(&text[next.span.clone()])) {
                let leaf = Node::leaf(key, span.end..value.span.end, Value::Text(value.says.clone()));
                found.push(leaf.within(span.start..value.span.end));
            } else {
                let leaf = Node::leaf(key, span.end..span.end, Value::Flag(true));
                found.push(leaf.within(span.clone()).written(Form::Bare));
            }
        }
        let mut root = Node::root(text, found).written(Form::Options);
        root.tail = root.children().last().map_or(text.len(), |last| last.whole.end);
        Ok(root)
    }

    fn leaf(&self, text: &str, old: &Node, value: &Value) -> Result<String, Why> {
        let raw = &text[old.span.clone()];
        let gap = &raw[..raw.len() - raw.trim_start().len()];
        Ok(match (old.form, value) {
            (Form::Bare, Value::Flag(true)) => String::new(),
            (Form::Bare, value) => format!(" {}", written(value)?),
            (_, value) => format!("{gap}{}", written(value)?),
        })
    }

    fn add(&self, text: &mut String, into: &Node, at: usize, key: &str, value: &Value) -> Result<(), Why> {
        if key.contains(|c: char| c.is_whitespace() || matches!(c, '"' | '\'' | '\\' | '=')) {
            return Err("it cannot be an option's name");
        }
        if !key.is_empty()
            && !key.trim_start_matches('-').starts_with(|c: char| !c.is_ascii_digit() && c != '.')
        {
            return Err("an option's name does not begin with a digit");
        }
        let children = into.children();
        let dashes = if key.is_empty() || key.starts_with('-') {
            ""
        } else {
            let first = children.iter().find(|child| !child.key.is_empty());
            let one = |child: &Node| !text[child.whole.start..].starts_with("--");
            if first.is_some_and(one) { "-" } else { "--" }
        };
        let word = match value {
            Value::Flag(true) if !key.is_empty() => format!("{dashes}{key}"),
            value if key.is_empty() => written(value)?,
            value => format!("{dashes}{key} {}", written(value)?),
        };
        let many = self.lined
            || matches!(children, [first, second, ..] if text[first.whole.end..second.whole.start].contains('\n'));
        match (children.get(at), children.last()) {
            (Some(next), _) if many && indent(text, next.whole.start).is_some() => {
                let lead = indent(text, next.whole.start).unwrap_or_default().to_owned();
                put_line(text, next.whole.start - lead.len(), &format!("{lead}{word}"));
            }
            // Behind the one before it, so that the gap before the next one stays.
            (Some(next), _) => match at.checked_sub(1).map(|before| &children[before]) {
                Some(before) => text.insert_str(before.whole.end, &format!(" {word}")),
                None => text.insert_str(next.whole.start, &format!("{word} ")),
            },
            (None, Some(last)) if many => {
                let lead = indent(text, last.whole.start).unwrap_or_default().to_owned();
                let end = line_end(text, last.whole.end).min(into.span.end.max(last.whole.end));
                put_line(text, end, &format!("{lead}{word}"));
            }
            (None, Some(last)) => text.insert_str(last.whole.end, &format!(" {word}")),
            (None, None) => put_line(text, into.tail, &word),
        }
        Ok(())
    }

    fn cut(&self, text: &mut String, from: &Node, child: usize) {
        let Range { start, end } = from.children()[child].whole.clone();
        let lead = indent(text, start).map(str::len);
        let behind = &text[end..line_end(text, end)];
        match lead {
            Some(lead) if behind.trim().is_empty() => {
                let to = end + behind.len();
                cut_lines(text, start - lead, to);
            }
            Some(_) => {
                let gap = behind.len() - behind.trim_start_matches([' ', '\t']).len();
                text.replace_range(start..end + gap, "");
            }
            None => {
                let gap = text[..start].len() - text[..start].trim_end_matches([' ', '\t']).len();
                text.replace_range(start - gap..end, "");
            }
        }
    }

    fn depth(&self) -> usize {
        1
    }

    fn repeats(&self) -> bool {
        true
    }

    fn comment(&self) -> Option<&'static str> {
        Some("#")
    }
}
