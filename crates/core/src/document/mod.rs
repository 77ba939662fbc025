//! Lossless edits of configuration files.
//!
//! A document is its text; an edit changes the bytes it must and no others. Every format answers the same few calls:
//! read a value, set it, take it out, and the same for items of a list. Places are RFC 6901 pointers in every format.
//!
//! To add a format: copy the nearest sibling file, add a variant to [`Format`] and the arms in [`Document`].

mod json;
mod keywords;
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
    /// `name value` lines with `//` or `#` comments.
    Keywords,
}

impl Format {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Properties, Self::Lines, Self::Json, Self::Keywords];

    /// Returns what a new file begins with, where nothing else is said.
    pub fn head(self) -> &'static str {
        match self {
            Self::Json => "{}\n",
            Self::Properties | Self::Lines | Self::Keywords => "",
        }
    }

    /// Returns the format that a file's name tells, if it tells one.
    pub fn of_name(name: &str) -> Option<Self> {
        match name.rsplit_once('.').map_or("", |(_, suffix)| suffix) {
            "json" | "jsonc" => Some(Self::Json),
            "conf" | "properties" | "mt" => Some(Self::Properties),
            "cfg" => Some(Self::Keywords),
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
            Self::Keywords => "keywords",
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
            Format::Keywords => keywords::check(text)?,
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
            Format::Keywords => keywords::get(&self.text, at.only()?).map(Value::Text),
        }
    }

    /// Returns the keys directly below a place.
    pub fn keys(&self, at: &Pointer) -> Vec<String> {
        match self.format {
            Format::Properties if at.is_root() => properties::keys(&self.text),
            Format::Keywords if at.is_root() => keywords::keys(&self.text),
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
            Format::Keywords => {
                let key = at.only().ok_or_else(|| self.no_place(at))?;
                keywords::set(&mut self.text, key, value)
            }
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
            Format::Keywords => {
                let key = at.only().ok_or_else(|| self.no_place(at))?;
                keywords::put_back(&mut self.text, key, before);
                Ok(())
            }
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

    /// Returns the items of a list that is one text, where they stand apart by `separator`.
    pub fn parts(&self, at: &Pointer, separator: &str) -> Vec<String> {
        let text = self.get(at).map(|value| value.plain()).unwrap_or_default();
        let parts: Vec<&str> = match separator.trim() {
            "" => text.split_whitespace().collect(),
            sign => text.split(sign).map(str::trim).filter(|part| !part.is_empty()).collect(),
        };
        parts.into_iter().map(str::to_owned).collect()
    }

    /// Writes a list that is one text, and returns what stood there. The text keeps the sort of gap that it has.
    ///
    /// # Errors
    /// As for [`Document::set`].
    pub fn set_parts(
        &mut self,
        at: &Pointer,
        separator: &str,
        parts: &[String],
    ) -> Result<Before, EditDocumentError> {
        let now = self.get(at).map(|value| value.plain()).unwrap_or_default();
        let sign = separator.trim();
        let joiner = match now.find(sign).filter(|_| !sign.is_empty()) {
            Some(at) if now[at + sign.len()..].starts_with(' ') => format!("{sign} "),
            Some(_) => sign.to_owned(),
            None => separator.to_owned(),
        };
        self.set(at, &Value::Text(parts.join(&joiner)))
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
