//! `catalogue.json`, read as far as it is asked about.
//!
//! A command asks about some hundred of many thousand entries. So what an index says of itself is read, and where each
//! entry stands in its text; an entry is read when somebody asks for it.

use std::{collections::BTreeMap, fmt, ops::Range};

use memchr::{memchr, memmem};
use serde::{
    Deserialize, Deserializer, Serialize,
    de::{DeserializeOwned, MapAccess, Visitor},
};
use serde_json::value::RawValue;

use super::{
    ReadCatalogueError,
    format::{CatalogueEntry, check_format, read_json},
};
use crate::id::ContentId;

/// `catalogue.json`: the name of a catalogue and where each content's file stands.
#[derive(Debug, Clone)]
pub struct CatalogueIndex {
    /// The format's number.
    pub format: u32,
    /// What the publisher calls the catalogue.
    pub name: String,
    /// What is in it.
    pub about: String,
    /// The publisher's public key, where files are signed.
    pub key: Option<String>,
    /// A number that grows with each edition, so that an older one is known as such.
    pub serial: Option<u64>,
    /// What it is called in messages.
    file: String,
    text: String,
    /// By id.
    places: Vec<EntrySpan>,
    /// Those of the entries that may say that their contents provide something.
    providing: Vec<usize>,
}

/// Where an id stands in the text, without its quotes, and what is said of it.
#[derive(Debug, Clone)]
struct EntrySpan {
    id: Range<usize>,
    entry: Range<usize>,
}

/// The file as it is written, its entries read or not.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Written<E> {
    format: u32,
    name: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    about: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    key: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    serial: Option<u64>,
    contents: E,
}

/// Entries that are not read.
struct Unread<'t>(Vec<(&'t str, &'t RawValue)>);

impl<'de> Deserialize<'de> for Unread<'de> {
    fn deserialize<D: Deserializer<'de>>(reader: D) -> Result<Self, D::Error> {
        struct Entries;
        impl<'de> Visitor<'de> for Entries {
            type Value = Unread<'de>;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("the contents by id")
            }
            fn visit_map<M: MapAccess<'de>>(self, mut map: M) -> Result<Unread<'de>, M::Error> {
                let mut entries = Vec::new();
                while let Some(entry) = map.next_entry()? {
                    entries.push(entry);
                }
                Ok(Unread(entries))
            }
        }
        reader.deserialize_map(Entries)
    }
}

impl CatalogueIndex {
    /// Reads an index; `file` is what it is called in messages.
    ///
    /// # Errors
    /// Where it is not JSON of that shape, or of a newer format. What is wrong with an entry is told to whoever asks for it.
    pub fn read(file: &str, bytes: Vec<u8>) -> Result<Self, ReadCatalogueError> {
        let mut text = String::from_utf8(bytes).or_else(|error| written_anew(file, error.as_bytes()))?;
        let index = if let Ok(index) = Self::of(file, &text) {
            index
        } else {
            // Its shape is wrong, or an id is written with escapes.
            text = written_anew(file, text.as_bytes())?;
            Self::of(file, &text).map_err(|source| shape(file, source))?
        };
        check_format(file, index.format)?;
        Ok(Self { text, ..index })
    }

    /// Finds where everything stands in a text, which is not kept here.
    fn of(file: &str, text: &str) -> Result<Self, serde_json::Error> {
        let written: Written<Unread<'_>> = serde_json::from_str(text)?;
        let mut entries = written.contents.0;
        // Mostly it is written in the order of ids. Where one stands there twice, the last counts.
        if !entries.is_sorted_by(|(a, _), (b, _)| a < b) {
            entries.reverse();
            entries.sort_by_key(|(id, _)| *id);
            entries.dedup_by_key(|(id, _)| *id);
        }
        let place = |part: &str| {
            let from = part.as_ptr().addr() - text.as_ptr().addr();
            from..from + part.len()
        };
        let provides = memmem::Finder::new("\"provides\"");
        let may_provide = |entry: &RawValue| {
            let entry = entry.get().as_bytes();
            provides.find(entry).is_some() || memchr(b'\\', entry).is_some()
        };
        let providing = (0..).zip(&entries).filter(|(_, (_, entry))| may_provide(entry));
        let providing = providing.map(|(at, _)| at).collect();
        let places =
            entries.into_iter().map(|(id, entry)| EntrySpan { id: place(id), entry: place(entry.get()) });
        Ok(Self {
            format: written.format,
            name: written.name,
            about: written.about,
            key: written.key,
            serial: written.serial,
            file: file.into(),
            text: String::new(),
            providing,
            places: places.collect(),
        })
    }

    /// Returns what is said of a content.
    ///
    /// # Errors
    /// Where that has not the shape of an entry.
    pub fn entry(&self, id: &ContentId) -> Result<Option<CatalogueEntry>, ReadCatalogueError> {
        let found = self.places.binary_search_by(|place| self.text[place.id.clone()].cmp(id.as_str()));
        found.ok().map(|at| self.read_at(&self.places[at], &self.places[at].entry)).transpose()
    }

    /// Returns all entries, by id.
    pub fn entries(&self) -> impl Iterator<Item = Result<(ContentId, CatalogueEntry), ReadCatalogueError>> {
        self.places.iter().map(|place| self.named(place))
    }

    /// Returns the contents that provide something besides themselves, with what that is.
    ///
    /// # Errors
    /// Where one of their entries has not its shape.
    pub fn providing(&self) -> Result<Vec<(ContentId, Vec<ContentId>)>, ReadCatalogueError> {
        let all = self.providing.iter().map(|at| self.named(&self.places[*at]));
        all.map(|named| named.map(|(id, entry)| (id, entry.provides))).collect()
    }

    fn named(&self, place: &EntrySpan) -> Result<(ContentId, CatalogueEntry), ReadCatalogueError> {
        let with_quotes = place.id.start - 1..place.id.end + 1;
        Ok((self.read_at(place, &with_quotes)?, self.read_at(place, &place.entry)?))
    }

    /// Reads one part of an entry.
    fn read_at<T: DeserializeOwned>(
        &self,
        of: &EntrySpan,
        part: &Range<usize>,
    ) -> Result<T, ReadCatalogueError> {
        let told = |source| {
            let id = self.text[of.id.clone()].to_owned();
            ReadCatalogueError::Entry { file: self.file.clone(), id, source }
        };
        serde_json::from_str(&self.text[part.clone()]).or_else(|_| {
            // Read again behind as much that says nothing, so that what is wrong is told with its place in the file.
            let before = self.text.as_bytes()[..part.start].iter();
            let mut text: Vec<u8> = before.map(|byte| if *byte == b'\n' { b'\n' } else { b' ' }).collect();
            text.extend_from_slice(self.text[part.clone()].as_bytes());
            serde_json::from_slice(&text).map_err(told)
        })
    }
}

/// Reads the whole of an index, and writes it as this program would; what is wrong with it is told with its place.
fn written_anew(file: &str, bytes: &[u8]) -> Result<String, ReadCatalogueError> {
    let whole: Written<BTreeMap<ContentId, CatalogueEntry>> = read_json(file, bytes)?;
    serde_json::to_string(&whole).map_err(|source| shape(file, source))
}

fn shape(file: &str, source: serde_json::Error) -> ReadCatalogueError {
    ReadCatalogueError::Shape { file: file.into(), source }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ZEROS: &str = "0000000000000000000000000000000000000000000000000000000000000000";

    fn entry(id: &str, more: &str) -> String {
        format!(r#""{id}": {{"title": "{id}", "kind": "plugin", {more} "digest": "{ZEROS}"}}"#)
    }

    fn index(entries: &[String]) -> Result<CatalogueIndex, ReadCatalogueError> {
        let text = format!(
            "{{\"format\": 1, \"name\": \"Quayside\",\n\"contents\": {{\n{}\n}}}}",
            entries.join(",\n")
        );
        CatalogueIndex::read("catalogue.json", text.into_bytes())
    }

    fn id(text: &str) -> ContentId {
        ContentId::new(text).unwrap()
    }

    fn ids(index: &CatalogueIndex) -> Vec<String> {
        index.entries().map(|entry| entry.unwrap().0.to_string()).collect()
    }

    #[test]
    fn entries_are_found_in_whatever_order_they_are_written() {
        for order in [["a", "b", "c"], ["c", "a", "b"]] {
            let index = index(&order.map(|id| entry(id, ""))).unwrap();
            assert_eq!(ids(&index), ["a", "b", "c"]);
            assert_eq!(index.entry(&id("b")).unwrap().unwrap().title, "b");
            assert_eq!(index.entry(&id("bb")).unwrap(), None);
        }
    }

    #[test]
    fn of_an_id_that_stands_there_twice_the_last_counts() {
        let twice = [entry("a", ""), entry("b", ""), entry("a", r#""about": "newer","#)];
        let index = index(&twice).unwrap();
        assert_eq!(ids(&index), ["a", "b"]);
        assert_eq!(index.entry(&id("a")).unwrap().unwrap().about, "newer");
    }

    #[test]
    fn escapes_hide_nothing() {
        let index = index(&[
            entry("\\u0061bc", ""),
            entry("bell", r#""\u0070rovides": ["chime"],"#),
            entry("core", r#""provides": ["base"],"#),
            entry("doc", r#""about": "says \"provides\"","#),
        ]);
        let index = index.unwrap();
        assert_eq!(ids(&index), ["abc", "bell", "core", "doc"]);
        let providing = index.providing().unwrap();
        let providing: Vec<(&str, Vec<&str>)> = providing
            .iter()
            .map(|(id, all)| (id.as_str(), all.iter().map(ContentId::as_str).collect()))
            .filter(|(_, all): &(_, Vec<_>)| !all.is_empty())
            .collect();
        assert_eq!(providing, [("bell", vec!["chime"]), ("core", vec!["base"])]);
    }

    #[test]
    fn what_is_wrong_with_an_entry_is_told_with_its_place_to_who_asks_for_it() {
        let index = index(&[entry("a", ""), entry("b", r#""provide": [],"#), entry("B c", "")]).unwrap();
        assert!(index.entry(&id("a")).unwrap().is_some());
        let told = index.entry(&id("b")).unwrap_err().to_string();
        assert!(told.starts_with("catalogue.json: b: unknown field `provide`"), "{told}");
        assert!(told.ends_with("at line 4 column 47"), "{told}");
        let all: Vec<_> =
            index.entries().map(|entry| entry.map(|_| ()).map_err(|error| error.to_string())).collect();
        assert_eq!(all.iter().filter(|entry| entry.is_err()).count(), 2);
        let first = all[0].as_ref().unwrap_err();
        assert!(
            first.starts_with("catalogue.json: B c: ") && first.ends_with("at line 5 column 5"),
            "{first}"
        );
    }

    #[test]
    fn what_is_wrong_with_the_file_is_told_with_its_place() {
        let read = |bytes: &[u8]| CatalogueIndex::read("c.json", bytes.into()).unwrap_err().to_string();
        assert_eq!(read(b"{"), "c.json: EOF while parsing an object at line 1 column 1");
        assert!(read(br#"{"format": 1, "nam": "x", "contents": {}}"#).contains("unknown field `nam`"));
        assert!(read(b"{\"format\": 1, \"name\": \"\xff\", \"contents\": {}}").contains("at line 1 column"));
        assert!(read(br#"{"format": 9, "name": "x", "contents": {}}"#).contains("format 9"));
    }
}
