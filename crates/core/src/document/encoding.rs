//! How a file's bytes are text: UTF-8, with or without a mark at its beginning, or Latin-1.

use serde::{Deserialize, Serialize};

const MARK: &[u8] = &[0xef, 0xbb, 0xbf];

/// How a file's bytes are text. A file keeps its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Encoding {
    /// UTF-8.
    #[default]
    Utf8,
    /// UTF-8 with a byte order mark before it.
    Utf8Marked,
    /// One byte a character.
    Latin1,
}

/// A text that a file's encoding cannot hold.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line} has the character {character:?}, which a Latin-1 file cannot hold")]
pub struct UnknownEncodingError {
    /// The line, from 1.
    pub line: usize,
    /// The character.
    pub character: char,
}

impl Encoding {
    /// Returns a file's text and its encoding. What is not UTF-8 is Latin-1, in which every byte is a character.
    pub fn decode(bytes: Vec<u8>) -> (String, Self) {
        if let Some(rest) = bytes.strip_prefix(MARK)
            && let Ok(text) = std::str::from_utf8(rest)
        {
            return (text.to_owned(), Self::Utf8Marked);
        }
        match String::from_utf8(bytes) {
            Ok(text) => (text, Self::Utf8),
            Err(error) => (error.into_bytes().into_iter().map(char::from).collect(), Self::Latin1),
        }
    }

    /// Returns the bytes of a text.
    ///
    /// # Errors
    /// Where a character has no byte in Latin-1.
    pub fn encode(self, text: &str) -> Result<Vec<u8>, UnknownEncodingError> {
        match self {
            Self::Utf8 => Ok(text.as_bytes().to_vec()),
            Self::Utf8Marked => Ok([MARK, text.as_bytes()].concat()),
            Self::Latin1 => text
                .char_indices()
                .map(|(at, character)| {
                    u8::try_from(u32::from(character)).map_err(|_| UnknownEncodingError {
                        line: text[..at].matches('\n').count() + 1,
                        character,
                    })
                })
                .collect(),
        }
    }
}

/// A text file: what it says, and how its bytes are text.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(from = "Written", into = "Written")]
pub struct TextFile {
    text: String,
    encoding: Encoding,
}

/// Most files are UTF-8, and are kept as their text alone.
#[derive(Clone, Serialize, Deserialize)]
#[serde(untagged)]
enum Written {
    Plain(String),
    Encoded { text: String, encoding: Encoding },
}

impl From<Written> for TextFile {
    fn from(written: Written) -> Self {
        match written {
            Written::Plain(text) => Self { text, encoding: Encoding::Utf8 },
            Written::Encoded { text, encoding } => Self { text, encoding },
        }
    }
}

impl From<TextFile> for Written {
    fn from(file: TextFile) -> Self {
        match file {
            TextFile { text, encoding: Encoding::Utf8 } => Self::Plain(text),
            TextFile { text, encoding } => Self::Encoded { text, encoding },
        }
    }
}

impl From<&str> for TextFile {
    fn from(text: &str) -> Self {
        Self { text: text.into(), encoding: Encoding::Utf8 }
    }
}

impl TextFile {
    /// Reads a file's bytes.
    pub fn read(bytes: Vec<u8>) -> Self {
        let (text, encoding) = Encoding::decode(bytes);
        Self { text, encoding }
    }

    /// Returns the same file with another text.
    ///
    /// # Errors
    /// Where its encoding has no bytes for a character.
    pub fn with(&self, text: String) -> Result<Self, UnknownEncodingError> {
        self.encoding.encode(&text)?;
        Ok(Self { text, encoding: self.encoding })
    }

    /// Returns what it says.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Returns its bytes.
    pub fn bytes(&self) -> Vec<u8> {
        // Only texts that can be written are ever in here, or those of a journal that was edited by hand.
        self.encoding.encode(&self.text).unwrap_or_else(|_| self.text.clone().into_bytes())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_keeps_its_encoding() {
        for (bytes, text, encoding) in [
            (b"a = \xc3\xa9\n".to_vec(), "a = é\n", Encoding::Utf8),
            (b"\xef\xbb\xbfa = \xc3\xa9\n".to_vec(), "a = é\n", Encoding::Utf8Marked),
            (b"a = \xe9\n".to_vec(), "a = é\n", Encoding::Latin1),
        ] {
            let read = Encoding::decode(bytes.clone());
            assert_eq!((read.0.as_str(), read.1), (text, encoding));
            assert_eq!(encoding.encode(text).unwrap(), bytes);
            let file = TextFile::read(bytes.clone());
            let written = serde_json::to_string(&file).unwrap();
            let read: TextFile = serde_json::from_str(&written).unwrap();
            assert_eq!((read.bytes(), read.text()), (bytes, text));
            assert_eq!(file.with("€".into()).is_err(), encoding == Encoding::Latin1);
        }
        let error = Encoding::Latin1.encode("a\nb €").unwrap_err();
        assert_eq!((error.line, error.character), (2, '€'));
    }
}
