//! Data tables as scripts of many games keep them: `name = { ["key"] = { a = 1 }, "item", }`, with `--` comments. Only
//! data is read: a call or an expression is an error.

use super::{
    ParseDocumentError, Value, commas,
    lined::{cut_lines, line_end, line_start, put_line},
    node::{Body, DEEPEST, Form, Node, Syntax, Why},
};

/// The format.
pub(super) struct Table;

struct Reader<'a> {
    text: &'a str,
    at: usize,
}

type Parsed<T> = Result<T, ParseDocumentError>;

/// Words that cannot be names.
const WORDS: &[&str] = &[
    "and", "break", "do", "else", "elseif", "end", "false", "for", "function", "goto", "if", "in", "local",
    "nil", "not", "or", "repeat", "return", "then", "true", "until", "while",
];

fn is_name(text: &str) -> bool {
    text.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
        && text.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
        && !WORDS.contains(&text)
}

impl<'a> Reader<'a> {
    fn rest(&self) -> &'a str {
        &self.text[self.at..]
    }

    fn fail<T>(&self, at: usize, expected: &str) -> Parsed<T> {
        Err(ParseDocumentError::at(self.text, at, expected))
    }

    fn gap(&mut self) -> Parsed<()> {
        loop {
            let rest = self.rest();
            let bare = rest.trim_start();
            self.at += rest.len() - bare.len();
            let Some(comment) = bare.strip_prefix("--") else { return Ok(()) };
            self.at += match long_bracket(comment) {
                Some((open, close)) => match comment[open..].find(&close) {
                    Some(end) => 2 + open + end + close.len(),
                    None => {
                        return self
                            .fail(self.at, &format!("this comment is not closed: a \"{close}\" is missing"));
                    }
                },
                None => bare.find('\n').unwrap_or(bare.len()),
            };
        }
    }

    fn take(&mut self, sign: &str) -> bool {
        let there = self.rest().starts_with(sign);
        self.at += if there { sign.len() } else { 0 };
        there
    }

    fn word(&self) -> &'a str {
        let rest = self.rest();
        let end = rest.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(rest.len());
        &rest[..end]
    }

    fn text_in_quotes(&mut self) -> Parsed<Option<String>> {
        let from = self.at;
        if let Some((open, close)) = long_bracket(self.rest()) {
            self.at += open;
            let Some(end) = self.rest().find(&close) else {
                return self.fail(from, &format!("this text is not closed: a \"{close}\" is missing"));
            };
            // A line ending right behind the bracket is none of the text.
            let says = &self.rest()[..end];
            let says =
                says.strip_prefix("\r\n").or_else(|| says.strip_prefix('\n')).unwrap_or(says).to_owned();
            self.at += end + close.len();
            return Ok(Some(says));
        }
        let Some(quote) = self.rest().chars().next().filter(|c| matches!(c, '"' | '\'')) else {
            return Ok(None);
        };
        self.at += 1;
        let mut says = String::new();
        loop {
            let Some(c) = self.rest().chars().next().filter(|c| *c != '\n') else {
                return self.fail(from, "this quote is not closed on its line");
            };
            self.at += c.len_utf8();
            match c {
                c if c == quote => return Ok(Some(says)),
                '\\' => self.escape(&mut says)?,
                c => says.push(c),
            }
        }
    }

    /// Reads what follows a backslash.
    fn escape(&mut self, says: &mut String) -> Parsed<()> {
        const UNKNOWN: &str = "this is no escape that such a text has";
        let (from, rest) = (self.at, self.rest());
        let Some(c) = rest.chars().next() else { return Ok(()) };
        self.at += c.len_utf8();
        let number = match c {
            'x' => {
                let digits =
                    rest.get(1..3).filter(|digits| digits.bytes().all(|digit| digit.is_ascii_hexdigit()));
                self.at += 2;
                digits.and_then(|digits| u32::from_str_radix(digits, 16).ok())
            }
            'u' => {
                let digits = rest[1..].strip_prefix('{').and_then(|rest| rest.split_once('}'));
                self.at += digits.map_or(0, |(digits, _)| digits.len() + 2);
                digits.and_then(|(digits, _)| u32::from_str_radix(digits, 16).ok())
            }
            '0'..='9' => {
                let length = rest.bytes().take(3).take_while(u8::is_ascii_digit).count();
                self.at = from + length;
                rest[..length].parse().ok().filter(|number| *number < 256)
            }
            'z' => {
                self.at += self.rest().len() - self.rest().trim_start().len();
                return Ok(());
            }
            other => {
                let sign = "abfnrtv\\\"'\n\r".find(other);
                let Some(at) = sign else { return self.fail(from - 1, UNKNOWN) };
                says.push(char::from(b"\x07\x08\x0c\n\r\t\x0b\\\"'\n\n"[at]));
                if other == '\r' {
                    self.take("\n");
                }
                return Ok(());
            }
        };
        // A byte above 127 is part of a character here, or of none; such a text is not read.
        match number.filter(|number| c == 'u' || *number < 128).and_then(char::from_u32) {
            Some(character) => says.push(character),
            None => return self.fail(from - 1, UNKNOWN),
        }
        Ok(())
    }

    fn value(&mut self, key: &str, depth: usize) -> Parsed<Node> {
        let from = self.at;
        if self.rest().starts_with('{') {
            return self.table(key, depth + 1);
        }
        if let Some(text) = self.text_in_quotes()? {
            return Ok(Node::leaf(key, from..self.at, Value::Text(text)));
        }
        let rest = self.rest();
        let end = rest
            .find(|c: char| !(c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '-' | '+')))
            .unwrap_or(rest.len());
        // A comment may follow at once.
        let behind = rest[..end].get(1..).unwrap_or_default();
        let end = behind.find("--").map_or(end, |at| at + 1);
        let word = &rest[..end];
        let value = match word {
            "true" => Value::Flag(true),
            "false" => Value::Flag(false),
            "nil" => Value::Compound(serde_json::Value::Null),
            number => match (number.parse::<i64>(), number.parse::<f64>()) {
                (Ok(whole), _) => Value::Whole(whole),
                (_, Ok(real))
                    if number.starts_with(|c: char| c.is_ascii_digit() || matches!(c, '.' | '-')) =>
                {
                    Value::Real(real)
                }
                _ => {
                    let hex = number.strip_prefix("0x").and_then(|hex| i64::from_str_radix(hex, 16).ok());
                    match hex {
                        Some(whole) => Value::Whole(whole),
                        None => {
                            return self.fail(
                                from,
                                "expected a value: a text in quotes, a number, true, false or a table",
                            );
                        }
                    }
                }
            },
        };
        self.at += end;
        Ok(Node::leaf(key, from..self.at, value))
    }

    fn table(&mut self, key: &str, depth: usize) -> Parsed<Node> {
        let from = self.at;
        if depth > DEEPEST {
            return self.fail(from, "tables lie too deep in each other");
        }
        self.at += 1;
        let mut children: Vec<Node> = Vec::new();
        let (mut named, mut positions) = (false, 0);
        loop {
            self.gap()?;
            if self.take("}") {
                break;
            }
            if self.rest().is_empty() {
                return self.fail(from, "this table is not closed: a \"}\" is missing");
            }
            let start = self.at;
            let (key, has_name) = self.key(positions, depth)?;
            named |= has_name;
            positions += usize::from(!has_name);
            let value = self.value(&key, depth)?.within(start..self.at);
            children.push(Node { whole: start..self.at, ..value });
            self.gap()?;
            if !self.take(",") && !self.take(";") && !self.rest().starts_with('}') {
                return self.fail(self.at, "expected a comma or \"}\"");
            }
        }
        let form = if children.is_empty() { Form::Open } else { Form::Flow };
        let body = if named || children.is_empty() { Body::Group(children) } else { Body::List(children) };
        Ok(Node::holder(key, from..self.at, body).written(form))
    }

    /// Reads `name =` or `["name"] =`; what has no name is numbered from 1.
    fn key(&mut self, place: usize, depth: usize) -> Parsed<(String, bool)> {
        let start = self.at;
        if self.rest().starts_with('[') && long_bracket(self.rest()).is_none() {
            self.at += 1;
            self.gap()?;
            let key = match self.text_in_quotes()? {
                Some(key) => key,
                None => match self.value("", depth)?.body {
                    Body::Leaf(value @ Value::Whole(_)) => value.plain(),
                    _ => return self.fail(start, "expected a text or a whole number between the brackets"),
                },
            };
            self.gap()?;
            if !self.take("]") {
                return self.fail(self.at, "expected \"]\"");
            }
            self.gap()?;
            if !self.take("=") {
                return self.fail(self.at, "expected \"=\"");
            }
            self.gap()?;
            return Ok((key, true));
        }
        let word = self.word().to_owned();
        if is_name(&word) {
            self.at += word.len();
            self.gap()?;
            if self.take("=") {
                self.gap()?;
                return Ok((word, true));
            }
            return self.fail(start, "expected a value: a text in quotes, a number, true, false or a table");
        }
        Ok(((place + 1).to_string(), false))
    }
}

/// Returns the length of a long bracket (`[[`, `[==[`) that a text begins with, and what closes it.
fn long_bracket(text: &str) -> Option<(usize, String)> {
    let rest = text.strip_prefix('[')?;
    let level = rest.bytes().take_while(|byte| *byte == b'=').count();
    rest[level..].starts_with('[').then(|| (level + 2, format!("]{}]", "=".repeat(level))))
}

fn quoted(text: &str, quote: char) -> String {
    let mut out = String::from(quote);
    for c in text.chars() {
        match c {
            '\n' => out += "\\n",
            '\r' => out += "\\r",
            '\\' => out += "\\\\",
            c if c == quote => {
                out.push('\\');
                out.push(c);
            }
            c if c.is_ascii_control() && c != '\t' => out.extend([format!("\\{:03}", u32::from(c))]),
            c => out.push(c),
        }
    }
    out.push(quote);
    out
}

fn write(value: &serde_json::Value) -> Result<String, Why> {
    Ok(match value {
        serde_json::Value::Null => "nil".into(),
        serde_json::Value::Bool(flag) => flag.to_string(),
        serde_json::Value::Number(number) => number.to_string(),
        serde_json::Value::String(text) => quoted(text, '"'),
        serde_json::Value::Array(items) if items.is_empty() => "{}".into(),
        serde_json::Value::Array(items) => {
            format!("{{ {} }}", items.iter().map(write).collect::<Result<Vec<_>, _>>()?.join(", "))
        }
        serde_json::Value::Object(entries) if entries.is_empty() => "{}".into(),
        serde_json::Value::Object(entries) => {
            let one = |(key, value): (&String, _)| Ok(format!("{} = {}", name(key, false)?, write(value)?));
            format!("{{ {} }}", entries.iter().map(one).collect::<Result<Vec<_>, Why>>()?.join(", "))
        }
    })
}

/// Returns a name as it stands before its sign.
fn name(key: &str, brackets: bool) -> Result<String, Why> {
    if key.is_empty() {
        return Err("it cannot be a name");
    }
    Ok(if is_name(key) && !brackets { key.into() } else { format!("[{}]", quoted(key, '"')) })
}

impl Syntax for Table {
    fn parse(&self, text: &str) -> Result<Node, ParseDocumentError> {
        let mut reader = Reader { text, at: 0 };
        let mut found = Vec::new();
        let mut whole = None;
        loop {
            reader.gap()?;
            while reader.take(";") || reader.take(",") {
                reader.gap()?;
            }
            if reader.rest().is_empty() {
                break;
            }
            let start = reader.at;
            if reader.word() == "return" {
                reader.at += "return".len();
                reader.gap()?;
                whole = Some(reader.value("", 0)?);
                continue;
            }
            if reader.word() == "local" {
                reader.at += "local".len();
                reader.gap()?;
            }
            let word = reader.word().to_owned();
            if !is_name(&word) || whole.is_some() {
                return reader.fail(reader.at, "expected \"name = value\"");
            }
            reader.at += word.len();
            reader.gap()?;
            if !reader.take("=") {
                return reader.fail(reader.at, "expected \"=\"");
            }
            reader.gap()?;
            let value = reader.value(&word, 0)?;
            found.push(value.within(start..reader.at));
        }
        Ok(whole.unwrap_or_else(|| Node::root(text, found)))
    }

    fn leaf(&self, text: &str, old: &Node, value: &Value) -> Result<String, Why> {
        match value {
            Value::Text(new) if text[old.span.clone()].starts_with('\'') => Ok(quoted(new, '\'')),
            Value::Real(number) if !number.is_finite() => Err("there is no such number there"),
            value => write(&value.to_json()),
        }
    }

    fn add(&self, text: &mut String, into: &Node, at: usize, key: &str, value: &Value) -> Result<(), Why> {
        let value = write(&value.to_json())?;
        if into.form == Form::Plain {
            let key = name(key, false)?;
            if key.starts_with('[') {
                return Err("it cannot be a name");
            }
            let place = into.children().get(at).map_or(into.tail, |next| line_start(text, next.whole.start));
            put_line(text, place, &format!("{key} = {value}"));
            return Ok(());
        }
        let as_item = matches!(into.body, Body::List(_)) || key.is_empty();
        let written = |child: &Node| &text[child.whole.start..];
        let brackets = into.children().last().is_some_and(|last| written(last).starts_with('['));
        // Among numbers a number is one, and not a text of digits.
        let is_number = |text: &str| text.parse::<u64>().is_ok_and(|number| number.to_string() == text);
        let mut numbers = into.children().iter().filter(|child| is_number(&child.key));
        let is_text = |child: &Node| {
            written(child)
                .strip_prefix('[')
                .is_some_and(|inner| inner.trim_start().starts_with(['"', '\'', '[']))
        };
        let by_number = is_number(key) && numbers.next_back().is_some_and(|child| !is_text(child));
        let new = if as_item {
            value
        } else if by_number {
            format!("[{key}] = {value}")
        } else {
            format!("{} = {value}", name(key, brackets)?)
        };
        commas::add(text, into, at, &new);
        Ok(())
    }

    fn cut(&self, text: &mut String, from: &Node, child: usize) {
        if from.form != Form::Plain {
            return commas::cut(text, from, child);
        }
        let whole = from.children()[child].whole.clone();
        let (from, to) = (line_start(text, whole.start), line_end(text, whole.end));
        if text[from..whole.start].trim().is_empty() && text[whole.end..to].trim().is_empty() {
            cut_lines(text, from, to);
        } else {
            text.replace_range(whole, "");
        }
    }

    fn comment(&self) -> Option<&'static str> {
        Some("--")
    }
}
