//! The catalogue format: an entry of `catalogue.json` (see `index`), and `contents/<id>.json`.

use serde::{Deserialize, Serialize};

use super::{Content, Release, lists};
use crate::{
    hint::{Advice, Hint},
    id::{ContentId, Digest},
};

/// The format number that this program reads and writes.
pub const FORMAT: u32 = 1;

/// One content in a catalogue's index.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CatalogueEntry {
    /// What people call it.
    pub title: String,
    /// What it is for, in a line.
    #[serde(default)]
    pub about: String,
    /// Its kind.
    pub kind: String,
    /// What any of its releases provides besides itself, so that who needs that finds it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub provides: Vec<ContentId>,
    /// The BLAKE3 digest of `contents/<id>.json`.
    pub digest: Digest,
}

/// `contents/<id>.json`: one content with all its releases.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ContentFile {
    /// The format's number.
    pub format: u32,
    /// The content's id.
    pub id: ContentId,
    /// What people call it.
    pub title: String,
    /// What it is for.
    #[serde(default)]
    pub about: String,
    /// Its releases, in any order.
    #[serde(deserialize_with = "lists::many")]
    pub releases: Vec<Release>,
}

/// What is wrong with a catalogue's file.
#[derive(Debug, thiserror::Error)]
pub enum ReadCatalogueError {
    /// The file is not JSON of the expected shape.
    #[error("{file}: {source}")]
    Shape {
        /// The file.
        file: String,
        /// What the reader says, with line and column.
        source: serde_json::Error,
    },
    /// An index's entry about a content is not of the expected shape.
    #[error("{file}: {id}: {source}")]
    Entry {
        /// The file.
        file: String,
        /// The content's id as it stands there.
        id: String,
        /// What the reader says, with line and column.
        source: serde_json::Error,
    },
    /// The file has a newer format than this program knows.
    #[error("{file}: it has format {found}, but this program reads format {FORMAT}")]
    Format {
        /// The file.
        file: String,
        /// The number in the file.
        found: u32,
    },
    /// The file describes another content than its name says.
    #[error("{file}: it describes {found}, not {expected}")]
    OtherContent {
        /// The file.
        file: String,
        /// The id that was asked for.
        expected: ContentId,
        /// The id in the file.
        found: ContentId,
    },
}

impl Hint for ReadCatalogueError {
    fn hint(&self) -> Option<Advice> {
        Some(match self {
            Self::Format { .. } => "use a newer version of yalotheca".into(),
            _ => "tell the catalogue's publisher; nothing was changed here".into(),
        })
    }
}

/// Reads `contents/<id>.json`.
///
/// # Errors
/// Where it is not JSON of that shape, of a newer format, or about another content.
pub fn read_content(
    file: &str,
    bytes: &[u8],
    expected: &ContentId,
    catalogue: &str,
) -> Result<Content, ReadCatalogueError> {
    let read: ContentFile = read_json(file, bytes)?;
    check_format(file, read.format)?;
    if read.id != *expected {
        return Err(ReadCatalogueError::OtherContent {
            file: file.into(),
            expected: expected.clone(),
            found: read.id,
        });
    }
    let ContentFile { id, title, about, releases, .. } = read;
    Ok(Content { id, title, about, catalogue: catalogue.into(), releases })
}

pub(super) fn read_json<T: serde::de::DeserializeOwned>(
    file: &str,
    bytes: &[u8],
) -> Result<T, ReadCatalogueError> {
    // Whether it is text is looked at once, and not for each of very many short ones; where it is none, the reader says where.
    let read =
        std::str::from_utf8(bytes).map_or_else(|_| serde_json::from_slice(bytes), serde_json::from_str);
    read.map_err(|source| ReadCatalogueError::Shape { file: file.into(), source })
}

pub(super) fn check_format(file: &str, found: u32) -> Result<(), ReadCatalogueError> {
    if found == FORMAT { Ok(()) } else { Err(ReadCatalogueError::Format { file: file.into(), found }) }
}

#[cfg(test)]
mod tests {
    use super::*;

    const TIDEBELL: &str = r#"{"format": 1, "id": "tidebell", "title": "Tidebell", "releases": [
        {"version": "1.4.0", "kind": "plugin", "needs": {"harbour-core": ">=2.1 <3"}, "needs-any": [{"a": "*", "b": ">=2"}],
         "platforms": [{"engine": ">=2.2"}], "files": [{"name": "t.swp", "size": 3,
         "blake3": "0000000000000000000000000000000000000000000000000000000000000000"}]}]}"#;

    #[test]
    fn a_content_file_is_read_and_written_the_same() {
        let id = ContentId::new("tidebell").unwrap();
        let content = read_content("x", TIDEBELL.as_bytes(), &id, "quayside").unwrap();
        assert_eq!(content.releases[0].needs_any[0].len(), 2);
        let text = serde_json::to_string(&content.releases[0]).unwrap();
        assert_eq!(serde_json::from_str::<Release>(&text).unwrap(), content.releases[0]);
    }

    #[test]
    fn what_is_wrong_is_told_with_its_place() {
        let id = ContentId::new("tidebell").unwrap();
        let read = |text: &str| read_content("c.json", text.as_bytes(), &id, "q").unwrap_err().to_string();
        assert!(read("{").starts_with("c.json: EOF"));
        assert!(read(&TIDEBELL.replace("needs\"", "need\"")).contains("unknown field `need`"));
        assert!(read(&TIDEBELL.replace("\"format\": 1", "\"format\": 7")).contains("format 7"));
        assert!(
            read(&TIDEBELL.replace("\"id\": \"tidebell\"", "\"id\": \"foghorn\""))
                .contains("foghorn, not tidebell")
        );
        assert!(read(&TIDEBELL.replace(">=2.1 <3", "~~2")).contains("not a version range"));
    }
}
