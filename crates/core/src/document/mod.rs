//! Lossless edits of configuration files.
//!
//! A document is its text; an edit changes the bytes it must and no others. Every format answers the same few calls:
//! read a value, set it, take it out, and the same for items of a list. Places are RFC 6901 pointers in every format.
//!
//! To add a format: copy the nearest sibling file, add a variant to [`Format`] and the arms in [`Document`].

mod arguments;
mod blocks;
mod commas;
mod edit;
mod encoding;
mod guard;
mod ini;
mod json;
mod keywords;
mod lined;
mod lines;
mod lists;
mod node;
mod pieces;
mod properties;
mod table;
#[cfg(test)]
mod tests;
mod toml;
mod value;
mod xml;
mod yaml;

use crate::hint::{Advice, Hint};
use lined::Comments;

pub use encoding::{EncodeTextError, Encoding, TextFile};
pub use lists::{Placing, arrange};
use node::{Node, NodePlace, Syntax};
pub use value::{Pointer, PointerError, Value};

/// The formats that can be edited.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Format {
    /// `key = value` lines with `#` comments.
    Properties,
    /// The same, where a line that is no entry is skipped.
    PropertiesLoose,
    /// `key: value` lines with `#` comments.
    Pairs,
    /// One item a line with `#` comments.
    Lines,
    /// `name value` lines with `//` or `#` comments.
    Keywords,
    /// The same, where a comment's sign begins one inside a word too.
    KeywordsAnywhere,
    /// Sections of `key = value` lines.
    Ini,
    /// Nested blocks: `name { name "value" }`.
    Blocks,
    /// The same, where a comment's sign begins one inside a word too.
    BlocksAnywhere,
    /// A program's arguments, on one line or many.
    Arguments,
    /// A program's arguments, one option a line.
    Options,
    /// JSON; comments and trailing commas stay where a file has them.
    Json,
    /// YAML.
    Yaml,
    /// TOML.
    Toml,
    /// XML.
    Xml,
    /// Data tables: `name = { ["key"] = 1 }` with `--` comments.
    Table,
}

impl Format {
    /// All that `as` names in a game definition.
    pub const ALL: [Self; 13] = [
        Self::Properties,
        Self::Pairs,
        Self::Lines,
        Self::Keywords,
        Self::Ini,
        Self::Blocks,
        Self::Arguments,
        Self::Options,
        Self::Json,
        Self::Yaml,
        Self::Toml,
        Self::Xml,
        Self::Table,
    ];

    /// Returns what a new file begins with, where nothing else is said.
    pub fn head(self) -> &'static str {
        match self {
            Self::Json => "{}\n",
            _ => "",
        }
    }

    /// Returns the format that a file's name tells, if it tells one.
    pub fn of_name(name: &str) -> Option<Self> {
        match name.rsplit_once('.').map_or("", |(_, suffix)| suffix) {
            "json" | "jsonc" => Some(Self::Json),
            "conf" | "properties" | "mt" => Some(Self::Properties),
            "cfg" => Some(Self::Keywords),
            "txt" | "list" => Some(Self::Lines),
            "ini" => Some(Self::Ini),
            "yml" | "yaml" => Some(Self::Yaml),
            "toml" => Some(Self::Toml),
            "xml" => Some(Self::Xml),
            "args" => Some(Self::Arguments),
            "def" => Some(Self::Blocks),
            "index" | "info" => Some(Self::Pairs),
            "tbl" | "lua" => Some(Self::Table),
            _ => None,
        }
    }

    /// Returns the name that game definitions use after `as`.
    pub fn name(self) -> &'static str {
        match self {
            Self::Properties | Self::PropertiesLoose => "properties",
            Self::Pairs => "pairs",
            Self::Lines => "lines",
            Self::Keywords | Self::KeywordsAnywhere => "keywords",
            Self::Ini => "ini",
            Self::Blocks | Self::BlocksAnywhere => "blocks",
            Self::Arguments => "arguments",
            Self::Options => "options",
            Self::Json => "json",
            Self::Yaml => "yaml",
            Self::Toml => "toml",
            Self::Xml => "xml",
            Self::Table => "table",
        }
    }

    /// Returns the same format where a comment's sign begins a comment inside a word too.
    #[must_use]
    pub fn with_comments_anywhere(self) -> Self {
        match self {
            Self::Keywords => Self::KeywordsAnywhere,
            Self::Blocks => Self::BlocksAnywhere,
            other => other,
        }
    }

    /// Returns the same format where a line that is no entry is skipped, if there is such a one.
    #[must_use]
    pub fn with_stray_lines(self) -> Option<Self> {
        (self == Self::Properties).then_some(Self::PropertiesLoose)
    }

    /// Whether a name may be empty: in quotes, or where it is that of an argument without one.
    fn has_empty_names(self) -> bool {
        matches!(self, Self::Json | Self::Yaml | Self::Toml | Self::Arguments | Self::Options)
    }

    fn syntax(self) -> Box<dyn Syntax> {
        match self {
            Self::Properties => Box::new(properties::Properties { sign: '=', loose: false }),
            Self::PropertiesLoose => Box::new(properties::Properties { sign: '=', loose: true }),
            Self::Pairs => Box::new(properties::Properties { sign: ':', loose: false }),
            Self::Lines => Box::new(lines::Lines),
            Self::Keywords => Box::new(keywords::Keywords { comments: Comments::Apart }),
            Self::KeywordsAnywhere => Box::new(keywords::Keywords { comments: Comments::Anywhere }),
            Self::Ini => Box::new(ini::Ini),
            Self::Blocks => Box::new(blocks::Blocks { comments: Comments::Apart }),
            Self::BlocksAnywhere => Box::new(blocks::Blocks { comments: Comments::Anywhere }),
            Self::Arguments => Box::new(arguments::Arguments { lined: false }),
            Self::Options => Box::new(arguments::Arguments { lined: true }),
            Self::Json => Box::new(json::Json),
            Self::Yaml => Box::new(yaml::Yaml),
            Self::Toml => Box::new(toml::Toml),
            Self::Xml => Box::new(xml::Xml),
            Self::Table => Box::new(table::Table),
        }
    }
}

/// Why a file's text cannot be read in its format.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: {expected}\n{excerpt}")]
pub struct ParseDocumentError {
    /// The line, from 1.
    pub line: usize,
    /// The column in characters, from 1.
    pub column: usize,
    /// What was expected there.
    pub expected: String,
    /// The line itself with a caret below the place.
    pub excerpt: String,
}

impl Hint for ParseDocumentError {
    fn hint(&self) -> Option<Advice> {
        Some("correct that line; a file that cannot be read is never written to".into())
    }
}

impl ParseDocumentError {
    /// Returns the error at a byte of the text.
    pub fn at(text: &str, byte: usize, expected: impl Into<String>) -> Self {
        let byte = (0..=byte.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
        // Behind the last line there is nothing to point at: what is missing is missing at its end.
        let byte = if text[byte..].trim().is_empty() { byte.min(text.trim_end().len()) } else { byte };
        let start = text[..byte].rfind('\n').map_or(0, |at| at + 1);
        let end = text[byte..].find('\n').map_or(text.len(), |at| byte + at);
        let line_text: String = text[start..end].trim_end_matches('\r').chars().take(90).collect();
        let column = text[start..byte].chars().count() + 1;
        let excerpt = format!("  {}\n  {}^", line_text.replace('\t', " "), " ".repeat((column - 1).min(90)));
        Self { line: text[..start].matches('\n').count() + 1, column, expected: expected.into(), excerpt }
    }
}

fn read(syntax: &dyn Syntax, text: &str) -> Result<Node, ParseDocumentError> {
    let root = syntax.parse(text)?;
    if root.is_sound(text) {
        return Ok(root);
    }
    Err(ParseDocumentError::at(text, 0, "this file is written in a manner that cannot be edited safely"))
}

/// Why an edit cannot be made.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EditDocumentError {
    /// The file cannot be read.
    #[error(transparent)]
    Parse(#[from] ParseDocumentError),
    /// The place holds something of another sort.
    #[error("{pointer} holds {found}, but {wanted} is expected there")]
    OtherSort {
        /// The place.
        pointer: Pointer,
        /// What is there.
        found: &'static str,
        /// What the edit wants.
        wanted: &'static str,
    },
    /// The format has no such places.
    #[error("a {format} file has no place {pointer}")]
    NoPlace {
        /// The format's name.
        format: &'static str,
        /// The place.
        pointer: Pointer,
    },
    /// The edit would do something else than it should; the file stays as it is.
    #[error("{value:?} was not written to this {format} file: {why}")]
    Unsafe {
        /// The format's name.
        format: &'static str,
        /// The value.
        value: String,
        /// What would happen.
        why: &'static str,
    },
    /// The value cannot be written in the format.
    #[error("{value:?} cannot be written in a {format} file: {why}")]
    Unwritable {
        /// The format's name.
        format: &'static str,
        /// The value.
        value: String,
        /// What stands against it.
        why: &'static str,
    },
}

impl Hint for EditDocumentError {
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::Parse(error) => error.hint(),
            Self::OtherSort { .. } => Some("correct the file by hand, or remove the entry".into()),
            Self::Unsafe { .. } => Some("the file is as it was; make this change by hand".into()),
            Self::NoPlace { .. } | Self::Unwritable { .. } => {
                Some("the game definition needs to be corrected".into())
            }
        }
    }
}

/// What stood at a place before an edit; enough to put it back byte for byte.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Before {
    /// Nothing; and so many folders of the place had to be made.
    Absent {
        /// How many containers above the place were made for it.
        made: usize,
    },
    /// This text.
    Text(String),
    /// Nothing; but above the place stood something empty that was written over.
    Instead {
        /// How many names above the place.
        up: usize,
        /// What stood there.
        text: String,
    },
}

/// A configuration file's text in its format.
#[derive(Debug, Clone, PartialEq)]
pub struct Document {
    format: Format,
    text: String,
    root: Node,
}

impl Document {
    /// Reads a text.
    ///
    /// # Errors
    /// Where the text is not of that format.
    pub fn parse(format: Format, text: &str) -> Result<Self, ParseDocumentError> {
        let root = read(&*format.syntax(), text)?;
        Ok(Self { format, text: text.into(), root })
    }

    /// Reads a file's bytes.
    ///
    /// # Errors
    /// Where the text is not of that format.
    pub fn read(format: Format, bytes: Vec<u8>) -> Result<Self, ParseDocumentError> {
        Self::parse(format, &Encoding::decode(bytes).0)
    }

    /// Returns the format.
    pub fn format(&self) -> Format {
        self.format
    }

    /// Returns the text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Returns the text, giving the document up.
    pub fn into_text(self) -> String {
        self.text
    }

    /// Returns the value at a place, if there is one.
    pub fn get(&self, at: &Pointer) -> Option<Value> {
        self.root.find(at.tokens()).map(Node::value)
    }

    /// Returns the keys directly below a place.
    pub fn keys(&self, at: &Pointer) -> Vec<String> {
        match self.root.find(at.tokens()).map(|node| &node.body) {
            Some(node::Body::Group(children)) => children.iter().map(|child| child.key.clone()).collect(),
            _ => Vec::new(),
        }
    }

    /// Returns every single value with its place, in the order of the text. Of a doubled name each has its number.
    pub fn leaves(&self) -> Vec<(Pointer, Value)> {
        let mut found = Vec::new();
        self.root.leaves(&NodePlace::root(), &mut found);
        found.into_iter().map(|(place, value)| (place.full, value.clone())).collect()
    }

    /// Returns every single value whose place fits a pattern; `*` in it stands for any one name.
    pub fn matching(&self, pattern: &Pointer) -> Vec<(Pointer, Value)> {
        // The number of a doubled name need not be in the pattern.
        let mut found = Vec::new();
        self.root.leaves(&NodePlace::root(), &mut found);
        let fitting = found.into_iter().filter(|(at, _)| at.full.fits(pattern) || at.bare.fits(pattern));
        fitting.map(|(at, value)| (at.full, value.clone())).collect()
    }

    /// Returns the line on which a place's value begins, from 1.
    pub fn line_of(&self, at: &Pointer) -> Option<usize> {
        let node = self.root.find(at.tokens())?;
        let from = node.whole.start.min(node.span.start);
        Some(self.text[..from].matches('\n').count() + 1)
    }

    fn no_place(&self, at: &Pointer) -> EditDocumentError {
        EditDocumentError::NoPlace { format: self.format.name(), pointer: at.clone() }
    }
}
