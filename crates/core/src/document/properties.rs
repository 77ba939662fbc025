//! `key = value` lines and `key: value` lines. Comments begin with `#` at the start of a line, and a line that begins with
//! `!` is kept and not looked into. Of a doubled key the last one counts. A value that ends in a backslash goes on in the next
//! line where that line is none of its own.

use super::{
    ParseDocumentError, Value,
    lined::{blanks_behind, cut_lines, lines, put_line},
    node::{Body, Node, Syntax, Why},
};

/// The format.
pub(super) struct Properties {
    /// What stands between a key and its value.
    pub(super) sign: char,
    /// Whether a line without it is skipped.
    pub(super) loose: bool,
}

impl Properties {
    /// Returns the sign as the last entry has it: with white space around or without.
    fn joined(&self, text: &str, into: &Node) -> String {
        let sign = self.sign;
        let usual = if sign == '=' { " = ".to_owned() } else { format!("{sign} ") };
        into.children().last().map_or(usual.clone(), |last| {
            let line = &text[last.whole.start..last.span.start];
            let bare = line.find(sign).is_some_and(|at| at > 0 && !line[..at].ends_with(' '));
            if bare && line.ends_with(sign) { sign.to_string() } else { usual }
        })
    }
}

const TRIPLE: &str = "\"\"\"";

/// Whether a line ends in a backslash that no other one takes away.
fn ends_open(line: &str) -> bool {
    line.bytes().rev().take_while(|byte| *byte == b'\\').count() % 2 == 1
}

/// Returns what lines say of which all but the last one end in a backslash.
fn joined_lines(text: &str) -> String {
    let lines = text.lines().map(|line| {
        let line = line.trim();
        if ends_open(line) { &line[..line.len() - 1] } else { line }
    });
    lines.collect()
}

fn plain(value: &Value) -> Result<String, Why> {
    let value = value.scalar()?;
    if value.trim() != value || value.contains(['\n', '\r']) || value.contains("\"\"\"") {
        return Err("values are one line without white space around them");
    }
    Ok(value)
}

impl Syntax for Properties {
    fn parse(&self, text: &str) -> Result<Node, ParseDocumentError> {
        let mut found: Vec<Node> = Vec::new();
        // A value in triple quotes may run over several lines.
        let mut quoted = false;
        // Whether the last value ends in a backslash.
        let mut goes_on = false;
        for line in lines(text) {
            let was_quoted = quoted;
            let bare = line.text.trim();
            let opens = || {
                line.text
                    .split_once(self.sign)
                    .is_some_and(|(_, value)| value.trim_start().starts_with(TRIPLE))
            };
            if (was_quoted || !bare.starts_with('#') && opens()) && line.text.matches(TRIPLE).count() % 2 == 1
            {
                quoted = !quoted;
            }
            let is_continuation = std::mem::take(&mut goes_on)
                && !bare.is_empty()
                && (line.text.starts_with([' ', '\t']) || !bare.contains(self.sign))
                && !bare.starts_with('#');
            if let Some(last) = found.last_mut().filter(|_| was_quoted || is_continuation) {
                (last.span.end, last.whole.end) = (line.from + line.text.len(), line.to);
                let says = text[last.span.clone()].trim_end();
                let says = if was_quoted { says.to_owned() } else { joined_lines(says) };
                last.body = Body::Leaf(Value::Text(says));
                goes_on = !was_quoted && ends_open(bare);
                continue;
            }
            if bare.is_empty() || bare.starts_with(['#', '!']) {
                continue;
            }
            let Some((key, value)) = line.text.split_once(self.sign) else {
                // A brace closes a group that some programs write; it is kept and not looked into.
                if self.loose || matches!(bare, "}" | "{") {
                    continue;
                }
                let expected = format!(
                    "expected \"key{}value\" or a comment",
                    self.joined("", &Node::root("", Vec::new()))
                );
                return Err(ParseDocumentError::at(text, line.start(), expected));
            };
            let gap = line.from + key.len() + 1;
            let from = gap + value.len() - value.trim_start().len();
            let said = value.trim();
            // With the blanks behind it, so that what is put back is what was there.
            let entry = Node::leaf(key.trim(), from..gap + value.len(), Value::Text(said.into()));
            goes_on = ends_open(said);
            found.push(Node { gap, ..entry.within(line.from..line.to) });
        }
        Ok(Node::root(text, found))
    }

    fn leaf(&self, text: &str, old: &Node, value: &Value) -> Result<String, Why> {
        let lead = &text[old.gap..old.span.start];
        // Where nothing stood behind the sign, the gap before it stands behind it as well.
        let spaced = text[..old.gap].ends_with(&format!(" {}", self.sign));
        let lead = if old.outer().is_empty() && spaced { " " } else { lead };
        Ok(format!("{lead}{}{}", plain(value)?, blanks_behind(&text[old.span.clone()])))
    }

    fn add(&self, text: &mut String, into: &Node, at: usize, key: &str, value: &Value) -> Result<(), Why> {
        if key.is_empty()
            || key.trim() != key
            || key.contains([self.sign, '\n', '\r'])
            || key.starts_with(['#', '!'])
        {
            return Err("it cannot be a key");
        }
        let line = format!("{key}{}{}", self.joined(text, into), plain(value)?);
        let place = into.children().get(at).map_or(into.tail, |next| next.whole.start);
        put_line(text, place, line.trim_end());
        Ok(())
    }

    fn cut(&self, text: &mut String, from: &Node, child: usize) {
        let whole = from.children()[child].whole.clone();
        cut_lines(text, whole.start, whole.end);
    }

    fn depth(&self) -> usize {
        1
    }

    fn comment(&self) -> Option<&'static str> {
        Some("#")
    }
}
