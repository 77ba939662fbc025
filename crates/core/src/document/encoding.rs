//! How a file's bytes are text: UTF-8, with or without a mark at its beginning, UTF-16 with a mark, or one byte a character.

use std::collections::BTreeSet;

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
    /// UTF-16 with a byte order mark, the lower byte first.
    Utf16Le,
    /// UTF-16 with a byte order mark, the higher byte first.
    Utf16Be,
    /// One byte a character.
    Latin1,
    /// Only ASCII so far, in a file that declares an encoding that is not written here.
    Ascii,
    /// None of these: read one byte a character, and never written.
    Unknown,
}

/// Why a text cannot be written to a file.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EncodeTextError {
    /// The file's encoding cannot hold a character.
    #[error("line {line} would have the character {character:?}, which a file in {encoding} cannot hold")]
    Character {
        /// The line, from 1.
        line: usize,
        /// The character.
        character: char,
        /// The encoding's name.
        encoding: &'static str,
    },
    /// The file is in no encoding that is written here.
    #[error(
        "it is not edited: its bytes are neither UTF-8, UTF-16 nor Latin-1, or it declares another encoding"
    )]
    Unknown,
}

/// Returns the encoding that an XML file declares, in lower case.
fn declared(bytes: &[u8]) -> Option<String> {
    let head = bytes.strip_prefix(MARK).unwrap_or(bytes).strip_prefix(b"<?xml")?;
    let end = head.windows(2).position(|pair| pair == b"?>")?;
    let head = std::str::from_utf8(&head[..end]).ok()?;
    let rest = head.split_once("encoding")?.1.trim_start().strip_prefix('=')?.trim_start();
    let quote = rest.chars().next().filter(|quote| matches!(quote, '"' | '\''))?;
    Some(rest[1..].split_once(quote)?.0.to_ascii_lowercase())
}

fn utf16(bytes: &[u8], unit: fn([u8; 2]) -> u16) -> Option<String> {
    let (pairs, rest) = bytes.as_chunks::<2>();
    let units = pairs.iter().map(|pair| unit(*pair));
    char::decode_utf16(units).collect::<Result<String, _>>().ok().filter(|_| rest.is_empty())
}

fn one_byte_each(bytes: &[u8]) -> String {
    bytes.iter().copied().map(char::from).collect()
}

impl Encoding {
    /// Returns a file's text and its encoding: what its mark says, else what its XML declaration says, else UTF-8. What is
    /// not UTF-8 is read one byte a character. A file with NUL characters is no text.
    pub fn decode(bytes: Vec<u8>) -> (String, Self) {
        let (text, encoding) = Self::decode_any(bytes);
        let encoding = if text.contains('\0') { Self::Unknown } else { encoding };
        (text, encoding)
    }

    fn decode_any(bytes: Vec<u8>) -> (String, Self) {
        if let Some(rest) = bytes.strip_prefix(MARK)
            && let Ok(text) = std::str::from_utf8(rest)
        {
            return (text.to_owned(), Self::Utf8Marked);
        }
        for (mark, unit, encoding) in [
            (&[0xff, 0xfe], u16::from_le_bytes as fn([u8; 2]) -> u16, Self::Utf16Le),
            (&[0xfe, 0xff], u16::from_be_bytes, Self::Utf16Be),
        ] {
            if let Some(rest) = bytes.strip_prefix(mark) {
                return match utf16(rest, unit) {
                    Some(text) => (text, encoding),
                    None => (one_byte_each(&bytes), Self::Unknown),
                };
            }
        }
        let declared = declared(&bytes);
        match declared.as_deref() {
            Some("iso-8859-1" | "latin1" | "latin-1") => (one_byte_each(&bytes), Self::Latin1),
            Some("utf-8" | "utf8") | None => match String::from_utf8(bytes) {
                Ok(text) => (text, Self::Utf8),
                Err(error) => {
                    let encoding = if declared.is_some() { Self::Unknown } else { Self::Latin1 };
                    (one_byte_each(error.as_bytes()), encoding)
                }
            },
            Some(_) => {
                let encoding = if bytes.is_ascii() { Self::Ascii } else { Self::Unknown };
                (one_byte_each(&bytes), encoding)
            }
        }
    }

    fn name(self) -> &'static str {
        match self {
            Self::Latin1 => "Latin-1",
            Self::Ascii => "the encoding that it declares",
            _ => "this encoding",
        }
    }

    /// Returns the bytes of a text.
    ///
    /// # Errors
    /// Where the encoding has no bytes for a character.
    pub fn encode(self, text: &str) -> Result<Vec<u8>, EncodeTextError> {
        let byte = |(at, character): (usize, char)| {
            let most = if self == Self::Ascii { 127 } else { 255 };
            let byte = u8::try_from(u32::from(character)).ok().filter(|byte| *byte <= most);
            byte.ok_or_else(|| EncodeTextError::Character {
                line: text[..at].matches('\n').count() + 1,
                character,
                encoding: self.name(),
            })
        };
        let units = |mark: u16, bytes: fn(u16) -> [u8; 2]| {
            std::iter::once(mark).chain(text.encode_utf16()).flat_map(bytes).collect()
        };
        match self {
            Self::Utf8 => Ok(text.as_bytes().to_vec()),
            Self::Utf8Marked => Ok([MARK, text.as_bytes()].concat()),
            Self::Utf16Le => Ok(units(0xfeff, u16::to_le_bytes)),
            Self::Utf16Be => Ok(units(0xfeff, u16::to_be_bytes)),
            Self::Latin1 | Self::Ascii | Self::Unknown => text.char_indices().map(byte).collect(),
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
    /// Where its encoding has no bytes for a character, or is not known.
    pub fn with(&self, text: String) -> Result<Self, EncodeTextError> {
        if self.encoding == Encoding::Unknown && text != self.text {
            return Err(EncodeTextError::Unknown);
        }
        if self.encoding == Encoding::Latin1 && self.is_another_code_page() {
            self.only_known_characters(&text)?;
        }
        self.encoding.encode(&text)?;
        Ok(Self { text, encoding: self.encoding })
    }

    /// Returns whether some bytes are control characters in Latin-1. The file then uses another code page: its own bytes can
    /// be kept, but the bytes of any new character are unknown.
    fn is_another_code_page(&self) -> bool {
        self.text.contains(|c: char| ('\u{80}'..='\u{9f}').contains(&c))
    }

    fn only_known_characters(&self, text: &str) -> Result<(), EncodeTextError> {
        let count = |text: &str, wanted: char| text.chars().filter(|c| *c == wanted).count();
        let others: BTreeSet<char> = text.chars().filter(|c| !c.is_ascii()).collect();
        match others.into_iter().find(|c| count(text, *c) > count(&self.text, *c)) {
            Some(character) => Err(EncodeTextError::Character {
                line: text.find(character).map_or(1, |at| text[..at].matches('\n').count() + 1),
                character,
                encoding: "a code page that it does not name",
            }),
            None => Ok(()),
        }
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
            (b"\xff\xfea\0=\0\xe9\0".to_vec(), "a=é", Encoding::Utf16Le),
            (b"\xfe\xff\0a\0=\0\xe9".to_vec(), "a=é", Encoding::Utf16Be),
            (
                b"<?xml version='1.0' encoding=\"ISO-8859-1\"?>\xe9".to_vec(),
                "<?xml version='1.0' encoding=\"ISO-8859-1\"?>é",
                Encoding::Latin1,
            ),
            (b"<?xml encoding='ISO-8859-1'?>".to_vec(), "<?xml encoding='ISO-8859-1'?>", Encoding::Latin1),
            (b"<?xml encoding='windows-1251'?>".to_vec(), "<?xml encoding='windows-1251'?>", Encoding::Ascii),
        ] {
            let read = Encoding::decode(bytes.clone());
            assert_eq!((read.0.as_str(), read.1), (text, encoding));
            assert_eq!(encoding.encode(text).unwrap(), bytes);
            let file = TextFile::read(bytes.clone());
            let written = serde_json::to_string(&file).unwrap();
            let read: TextFile = serde_json::from_str(&written).unwrap();
            assert_eq!((read.bytes(), read.text()), (bytes, text));
            assert_eq!(
                file.with("€".into()).is_err(),
                matches!(encoding, Encoding::Latin1 | Encoding::Ascii)
            );
        }
        let error = Encoding::Latin1.encode("a\nb €").unwrap_err();
        assert!(matches!(error, EncodeTextError::Character { line: 2, character: '€', .. }), "{error}");
    }
    #[test]
    fn what_is_in_no_known_encoding_keeps_its_bytes_and_is_not_edited() {
        for bytes in [
            b"a\0b".to_vec(),
            b"\xff\xfea".to_vec(),
            b"\xff\xfe\0\xd8".to_vec(),
            b"<?xml version='1.0' encoding='windows-1251'?><a>\xe9</a>".to_vec(),
            b"<?xml version='1.0' encoding='utf-8'?><a>\xe9</a>".to_vec(),
        ] {
            let file = TextFile::read(bytes.clone());
            assert_eq!(file.bytes(), bytes);
            assert_eq!(file.with("b = 1".into()), Err(EncodeTextError::Unknown), "{bytes:?}");
        }
        // Some code page with other letters: what is there stays, and none is added.
        let file = TextFile::read(b"motd = don\x92t \xe9\nn = 1\n".to_vec());
        let text = file.text().replace("n = 1", "n = 2");
        assert_eq!(file.with(text).unwrap().bytes(), b"motd = don\x92t \xe9\nn = 2\n");
        assert!(file.with(format!("{}\nm = é", file.text())).is_err());
    }
}
