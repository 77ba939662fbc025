//! Files in TOML that people write: definitions, wants, tweaks. What is wrong in one is told with its place.

use std::ops::Range;

use crate::{
    document::ParseDocumentError,
    hint::{Advice, Hint},
    suggest,
};

/// What is wrong in a file that somebody wrote.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{file}:{line}:{column}: {why}\n{excerpt}")]
pub struct ReadTomlError {
    /// The file.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
    /// The column, from 1.
    pub column: usize,
    /// What is wrong.
    pub why: String,
    /// The line with a caret.
    pub excerpt: String,
    /// What can be done: what could be meant, or where to read on.
    pub advice: String,
}

impl Hint for ReadTomlError {
    fn hint(&self) -> Option<Advice> {
        Some(self.advice.clone().into())
    }
}

/// A file that is being read.
#[derive(Debug, Clone, Copy)]
pub(crate) struct TomlFile<'a> {
    /// Its name for messages.
    pub(crate) name: &'a str,
    /// Its text.
    pub(crate) text: &'a str,
    /// What can be done about a mistake of which nothing more is known.
    pub(crate) advice: &'static str,
}

impl TomlFile<'_> {
    /// Returns the error at a place.
    pub(crate) fn mistake(&self, span: &Range<usize>, why: impl Into<String>) -> ReadTomlError {
        let ParseDocumentError { line, column, expected: why, excerpt } =
            ParseDocumentError::at(self.text, span.start, why);
        ReadTomlError { file: self.name.into(), line, column, why, excerpt, advice: self.advice.into() }
    }

    /// Reads the file.
    pub(crate) fn read<T: serde::de::DeserializeOwned>(&self) -> Result<T, ReadTomlError> {
        toml::from_str(self.text).map_err(|error| {
            let mistake = self.mistake(&error.span().unwrap_or(0..0), error.message());
            match meant(error.message()) {
                Some(advice) => ReadTomlError { advice, ..mistake },
                None => mistake,
            }
        })
    }
}

/// Serde says ``unknown field `x`, expected one of `a`, `b` ``; the nearest of those is what was meant.
fn meant(message: &str) -> Option<String> {
    let names: Vec<&str> = message.split('`').skip(1).step_by(2).collect();
    let (wrong, known) = names.split_first()?;
    message.starts_with("unknown").then(|| suggest::did_you_mean(wrong, known.iter().copied())).flatten()
}
