//! Lossless edits of configuration files.
//!
//! A document is its text; an edit changes the bytes it must and no others. Every format answers the same few calls:
//! read a value, set it, take it out, and the same for items of a list. Places are RFC 6901 pointers in every format.
//!
//! To add a format: copy the nearest sibling file, add a variant to [`Format`] and the arms in [`Document`].

mod json;
mod lines;
mod lists;
mod properties;
#[cfg(test)]
mod tests;
mod value;

use crate::hint::Hint;

pub use lists::{Placing, arrange};
pub use value::{Pointer, PointerError, Value};

/// The formats that can be edited.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Format {
    /// `key = value` lines with `#` comments.
    Properties,
    /// One item a line with `#` comments.
    Lines,
    /// JSON; comments and trailing commas stay where a file has them.
    Json,
}

impl Format {
    /// Returns the format that a file's name tells, if it tells one.
    pub fn of_name(name: &str) -> Option<Self> {
        match name.rsplit_once('.').map_or("", |(_, suffix)| suffix) {
            "json" | "jsonc" => Some(Self::Json),
            "conf" | "properties" | "mt" | "cfg" => Some(Self::Properties),
            "txt" | "list" => Some(Self::Lines),
            _ => None,
        }
    }

    /// Returns the name that game definitions use after `as`.
    pub fn name(self) -> &'static str {
        match self {
            Self::Properties => "properties",
            Self::Lines => "lines",
            Self::Json => "json",
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
    fn hint(&self) -> Option<String> {
        Some("mend that line; nothing is written to a file that cannot be read".into())
    }
}

impl ParseDocumentError {
    /// Returns the error at a byte of the text.
    pub fn at(text: &str, byte: usize, expected: impl Into<String>) -> Self {
        let byte = (0..=byte.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
        let start = text[..byte].rfind('\n').map_or(0, |at| at + 1);
        let end = text[byte..].find('\n').map_or(text.len(), |at| byte + at);
        let line_text: String = text[start..end].trim_end_matches('\r').chars().take(90).collect();
        let column = text[start..byte].chars().count() + 1;
        let excerpt = format!("  {}\n  {}^", line_text.replace('\t', " "), " ".repeat((column - 1).min(90)));
        Self { line: text[..start].matches('\n').count() + 1, column, expected: expected.into(), excerpt }
    }
}

/// Why an edit cannot be made.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EditDocumentError {
    /// The file cannot be read.
    #[error(transparent)]
    Parse(#[from] ParseDocumentError),
    /// The place holds something of another sort.
    #[error("{pointer} holds {found}, and {wanted} is wanted there")]
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
    fn hint(&self) -> Option<String> {
        match self {
            Self::Parse(error) => error.hint(),
            Self::OtherSort { .. } => Some("mend the file by hand, or take the entry out".into()),
            Self::NoPlace { .. } | Self::Unwritable { .. } => {
                Some("the game definition is at fault here".into())
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
}

/// A configuration file's text in its format.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Document {
    format: Format,
    text: String,
}

impl Document {
    /// Reads a text.
    ///
    /// # Errors
    /// Where the text is not of that format.
    pub fn parse(format: Format, text: &str) -> Result<Self, ParseDocumentError> {
        match format {
            Format::Properties => properties::check(text)?,
            Format::Lines => {}
            Format::Json => json::check(text)?,
        }
        Ok(Self { format, text: text.into() })
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
        match self.format {
            Format::Properties => properties::get(&self.text, at.only()?).map(Value::Text),
            Format::Lines => None,
            Format::Json => json::get(&self.text, at),
        }
    }

    /// Returns the keys directly below a place.
    pub fn keys(&self, at: &Pointer) -> Vec<String> {
        match self.format {
            Format::Properties if at.is_root() => properties::keys(&self.text),
            Format::Json => json::keys(&self.text, at),
            _ => Vec::new(),
        }
    }

    /// Sets the value at a place and returns what stood there.
    ///
    /// # Errors
    /// Where the format has no such place, the place is inside something else, or the value cannot be written.
    pub fn set(&mut self, at: &Pointer, value: &Value) -> Result<Before, EditDocumentError> {
        match self.format {
            Format::Properties => {
                let key = at.only().ok_or_else(|| self.no_place(at))?;
                properties::set(&mut self.text, key, value)
            }
            Format::Lines => Err(self.no_place(at)),
            Format::Json => json::set(&mut self.text, at, value),
        }
    }

    /// Puts back what stood at a place before [`Document::set`].
    ///
    /// # Errors
    /// As for `set`.
    pub fn put_back(&mut self, at: &Pointer, before: &Before) -> Result<(), EditDocumentError> {
        match self.format {
            Format::Properties => {
                let key = at.only().ok_or_else(|| self.no_place(at))?;
                properties::put_back(&mut self.text, key, before);
                Ok(())
            }
            Format::Lines => Err(self.no_place(at)),
            Format::Json => json::put_back(&mut self.text, at, before),
        }
    }

    /// Returns the items of the list at a place; none where there is no list.
    ///
    /// # Errors
    /// Where the place holds something that is no list.
    pub fn items(&self, at: &Pointer) -> Result<Vec<String>, EditDocumentError> {
        match self.format {
            Format::Lines if at.is_root() => Ok(lines::items(&self.text)),
            Format::Json => json::items(&self.text, at),
            _ => Err(self.no_place(at)),
        }
    }

    /// Puts an item into the list at a place; a list that is not there is made.
    ///
    /// # Errors
    /// Where the place holds something that is no list, or the item cannot be written.
    pub fn insert(&mut self, at: &Pointer, index: usize, item: &str) -> Result<Before, EditDocumentError> {
        match self.format {
            Format::Lines if at.is_root() => {
                lines::insert(&mut self.text, index, item).map(|()| Before::Absent { made: 0 })
            }
            Format::Json => json::insert(&mut self.text, at, index, item),
            _ => Err(self.no_place(at)),
        }
    }

    /// Puts items into the list at a place one after another; each index is the one at that time.
    ///
    /// # Errors
    /// As for [`Document::insert`].
    pub fn insert_all(
        &mut self,
        at: &Pointer,
        items: &[(usize, String)],
    ) -> Result<Vec<Before>, EditDocumentError> {
        match self.format {
            Format::Lines if at.is_root() => lines::insert_all(&mut self.text, items),
            _ => items.iter().map(|(index, item)| self.insert(at, *index, item)).collect(),
        }
    }

    /// Takes the item at `index` out of the list at a place.
    ///
    /// # Errors
    /// Where the place holds no list; an index that is not there changes nothing.
    pub fn remove(&mut self, at: &Pointer, index: usize) -> Result<(), EditDocumentError> {
        match self.format {
            Format::Lines if at.is_root() => {
                lines::remove(&mut self.text, index);
                Ok(())
            }
            Format::Json => json::remove(&mut self.text, at, index),
            _ => Err(self.no_place(at)),
        }
    }

    fn no_place(&self, at: &Pointer) -> EditDocumentError {
        EditDocumentError::NoPlace { format: self.format.name(), pointer: at.clone() }
    }
}

/// Returns the line ending that most lines of a text have.
fn line_ending(text: &str) -> &'static str {
    let all = text.matches('\n').count();
    let crlf = text.matches("\r\n").count();
    if crlf * 2 > all { "\r\n" } else { "\n" }
}
