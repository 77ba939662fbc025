//! Keyword lines: `name value` or `name "value"`. Comments begin with `//` or `#`, also behind a value, but not inside
//! quotes, nor inside a word unless the server reads them so. Of a doubled name the last one counts, unless it is a list.

use super::{
    ParseDocumentError, Value,
    lined::{Comments, cut_lines, lines, put_line},
    node::{Node, Syntax, Why},
};

/// The format.
pub(super) struct Keywords {
    pub(super) comments: Comments,
}

const SIGNS: &[&str] = &["//", "#"];

fn has_sign(text: &str) -> bool {
    SIGNS.iter().any(|sign| text.contains(sign))
}

fn must_quote(value: &str) -> bool {
    value.is_empty() || has_sign(value) || value.trim() != value
}

fn plain(value: &Value) -> Result<String, Why> {
    let value = value.scalar()?;
    if value.contains(['\n', '\r', '"']) {
        return Err("values are one line without quotes in it");
    }
    Ok(value)
}

impl Syntax for Keywords {
    fn parse(&self, text: &str) -> Result<Node, ParseDocumentError> {
        let comment_at = |text: &str| self.comments.find(text, SIGNS);
        let mut found = Vec::new();
        for line in lines(text) {
            let bare = line.text.trim();
            if comment_at(bare) == 0 {
                continue;
            }
            let length = bare.find(char::is_whitespace).unwrap_or(bare.len()).min(comment_at(bare));
            let rest = &bare[length..];
            let lead = rest.len() - rest.trim_start().len();
            let key_to = line.start() + length;
            let (value, to) = if let Some(inner) = rest[lead..].strip_prefix('"') {
                let Some(end) = inner.find('"') else {
                    let expected = "expected a closing quote on this line";
                    return Err(ParseDocumentError::at(text, key_to + lead, expected));
                };
                let to = lead + end + 2;
                if comment_at(rest[to..].trim_start()) != 0 {
                    let expected = "expected the end of the line or a comment behind the value";
                    return Err(ParseDocumentError::at(text, key_to + to, expected));
                }
                (&inner[..end], to)
            } else {
                let value = rest[lead..lead + comment_at(&rest[lead..])].trim_end();
                // Of a name without a value nothing but the name is there.
                (value, if value.is_empty() { 0 } else { lead + value.len() })
            };
            let entry = Node::leaf(&bare[..length], key_to..key_to + to, Value::Text(value.into()));
            found.push(entry.within(line.from..line.to));
        }
        Ok(Node::root(text, found))
    }

    fn leaf(&self, text: &str, old: &Node, value: &Value) -> Result<String, Why> {
        let value = plain(value)?;
        let raw = &text[old.span.clone()];
        let bare = raw.trim_start();
        let lead = if raw.is_empty() { " " } else { &raw[..raw.len() - bare.len()] };
        Ok(if bare.starts_with('"') || must_quote(&value) {
            format!("{lead}\"{value}\"")
        } else {
            format!("{lead}{value}")
        })
    }

    fn add(&self, text: &mut String, into: &Node, at: usize, key: &str, value: &Value) -> Result<(), Why> {
        if key.is_empty() || key.contains(|c: char| c.is_whitespace() || c == '"') || has_sign(key) {
            return Err("it cannot be a name");
        }
        let value = plain(value)?;
        let quoted = |child: &Node| text[child.span.clone()].ends_with('"');
        let wanted = must_quote(&value) || into.children().last().is_some_and(quoted);
        let line = if wanted { format!("{key} \"{value}\"") } else { format!("{key} {value}") };
        let place = into.children().get(at).map_or(into.tail, |next| next.whole.start);
        put_line(text, place, &line);
        Ok(())
    }

    fn cut(&self, text: &mut String, from: &Node, child: usize) {
        let whole = from.children()[child].whole.clone();
        cut_lines(text, whole.start, whole.end);
    }

    fn depth(&self) -> usize {
        1
    }

    fn repeats(&self) -> bool {
        true
    }

    fn comment(&self) -> Option<&'static str> {
        Some("//")
    }
}
