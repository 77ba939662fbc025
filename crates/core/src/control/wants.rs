//! `yalotheca.toml`, edited so that comments and order stay.

use std::collections::BTreeMap;

use serde::Deserialize;
use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, value};

use crate::{
    document::ParseDocumentError, hint::Hint, id::ContentId, order::Place, suggest, version::VersionRange,
};

/// What is wrong with `yalotheca.toml`.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{file}:{line}:{column}: {why}\n{excerpt}")]
pub struct ReadControlError {
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
    /// What could be meant.
    pub suggestion: Option<String>,
}

impl Hint for ReadControlError {
    fn hint(&self) -> Option<String> {
        self.suggestion.clone().or_else(|| Some("mend that line; nothing was changed".into()))
    }
}

/// The section `[server]`.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ServerSection {
    /// What people call the server.
    #[serde(default)]
    pub name: String,
    /// The game definition's name.
    pub game: String,
    /// The server's folder, relative to this file.
    #[serde(default = "here")]
    pub at: String,
    /// Values of the game definition that this file decides.
    #[serde(default)]
    pub values: BTreeMap<String, String>,
}

fn here() -> String {
    ".".into()
}

/// One `[[catalogue]]`.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CatalogueSource {
    /// What it is called here.
    pub name: String,
    /// Its address or folder.
    pub at: String,
    /// The publisher's public key.
    #[serde(default)]
    pub key: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Raw {
    format: u32,
    server: ServerSection,
    #[serde(default)]
    catalogue: Vec<CatalogueSource>,
    #[serde(default)]
    wants: BTreeMap<ContentId, VersionRange>,
    #[serde(default)]
    order: BTreeMap<ContentId, Place>,
}

/// `yalotheca.toml`.
#[derive(Debug, Clone)]
pub struct ControlFile {
    document: DocumentMut,
    /// Which server.
    pub server: ServerSection,
    /// Where contents come from; earlier ones decide.
    pub catalogues: Vec<CatalogueSource>,
    /// What was asked for.
    pub wants: BTreeMap<ContentId, VersionRange>,
    /// What was asked of the load order.
    pub order: BTreeMap<ContentId, Place>,
}

impl ControlFile {
    /// Returns a new file for a server.
    pub fn new(server: &ServerSection, catalogues: &[CatalogueSource]) -> Self {
        let mut document = DocumentMut::new();
        document["format"] = value(1);
        let mut section = Table::new();
        if !server.name.is_empty() {
            section["name"] = value(&server.name);
        }
        section["game"] = value(&server.game);
        section["at"] = value(&server.at);
        if !server.values.is_empty() {
            let mut values = Table::new();
            for (name, text) in &server.values {
                values[name] = value(text);
            }
            section["values"] = Item::Table(values);
        }
        document["server"] = Item::Table(section);
        let mut list = toml_edit::ArrayOfTables::new();
        for catalogue in catalogues {
            let mut table = Table::new();
            table["name"] = value(&catalogue.name);
            table["at"] = value(&catalogue.at);
            list.push(table);
        }
        if !list.is_empty() {
            document["catalogue"] = Item::ArrayOfTables(list);
        }
        document["wants"] = Item::Table(Table::new());
        Self {
            document,
            server: server.clone(),
            catalogues: catalogues.to_vec(),
            wants: BTreeMap::new(),
            order: BTreeMap::new(),
        }
    }

    /// Reads the file; `file` is its name for messages.
    ///
    /// # Errors
    /// Where it is not TOML, or a key or a value in it is wrong.
    pub fn parse(file: &str, text: &str) -> Result<Self, ReadControlError> {
        let fail = |at: usize, why: &str| {
            let ParseDocumentError { line, column, expected, excerpt } =
                ParseDocumentError::at(text, at, why);
            let names: Vec<&str> = why.split('`').skip(1).step_by(2).collect();
            let suggestion = names
                .split_first()
                .filter(|_| why.starts_with("unknown"))
                .and_then(|(wrong, known)| suggest::did_you_mean(wrong, known.iter().copied()));
            ReadControlError { file: file.into(), line, column, why: expected, excerpt, suggestion }
        };
        let raw: Raw = toml::from_str(text)
            .map_err(|error| fail(error.span().map_or(0, |span| span.start), error.message()))?;
        if raw.format != 1 {
            return Err(fail(0, "this program reads format 1; a newer yalotheca wrote this file"));
        }
        let document = text
            .parse::<DocumentMut>()
            .map_err(|error| fail(error.span().map_or(0, |span| span.start), error.message()))?;
        let Raw { server, catalogue: catalogues, wants, order, .. } = raw;
        Ok(Self { document, server, catalogues, wants, order })
    }

    /// Notes a want, in the place it has or at the end.
    pub fn want(&mut self, id: &ContentId, range: &VersionRange) {
        let wants = self.document.entry("wants").or_insert_with(|| Item::Table(Table::new()));
        match wants.get_mut(id.as_str()).and_then(Item::as_value_mut) {
            Some(there) => {
                let decor = there.decor().clone();
                *there = range.as_str().into();
                *there.decor_mut() = decor;
            }
            None => wants[id.as_str()] = value(range.as_str()),
        }
        self.wants.insert(id.clone(), range.clone());
    }

    /// Takes a want out and returns whether it was there.
    pub fn unwant(&mut self, id: &ContentId) -> bool {
        if let Some(table) = self.document.get_mut("wants").and_then(Item::as_table_like_mut) {
            table.remove(id.as_str());
        }
        self.wants.remove(id).is_some()
    }

    /// Notes what is asked of a content's place in the load order, in place of what was asked before; an empty place asks
    /// for nothing.
    pub fn ask_place(&mut self, id: &ContentId, place: Place) {
        if place == Place::default() {
            self.order.remove(id);
            let Some(table) = self.document.get_mut("order").and_then(Item::as_table_like_mut) else {
                return;
            };
            table.remove(id.as_str());
            if table.is_empty() {
                self.document.remove("order");
            }
            return;
        }
        let mut inline = InlineTable::new();
        for (key, ids) in [("after", &place.after), ("before", &place.before)] {
            if !ids.is_empty() {
                inline.insert(key, ids.iter().map(ContentId::as_str).collect::<Array>().into());
            }
        }
        let table = self.document.entry("order").or_insert_with(|| Item::Table(Table::new()));
        match table.get_mut(id.as_str()).and_then(Item::as_value_mut) {
            Some(there) => {
                let decor = there.decor().clone();
                *there = inline.into();
                *there.decor_mut() = decor;
            }
            None => table[id.as_str()] = value(inline),
        }
        self.order.insert(id.clone(), place);
    }

    /// Returns the text of the file.
    pub fn text(&self) -> String {
        self.document.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "format = 1\n# ours\n[server]\ngame = \"saltwick\"\n\n[wants]\n# the core\nharbour-core = \">=2\" # keep\ntidebell = \"*\"\n";

    #[test]
    fn places_are_noted_and_forgotten() {
        let mut control = ControlFile::parse("yalotheca.toml", TEXT).unwrap();
        let id = |text| ContentId::new(text).unwrap();
        let place = Place { after: vec![id("gull-chat")], before: Vec::new() };
        control.ask_place(&id("tidebell"), place.clone());
        assert_eq!(control.text(), format!("{TEXT}\n[order]\ntidebell = {{ after = [\"gull-chat\"] }}\n"));
        assert_eq!(ControlFile::parse("y", &control.text()).unwrap().order[&id("tidebell")], place);
        control.ask_place(&id("tidebell"), Place::default());
        assert_eq!(control.text(), TEXT);
        let wrong = format!("{TEXT}\n[order]\ntidebell = {{ aftr = [] }}\n");
        assert!(ControlFile::parse("y", &wrong).unwrap_err().to_string().contains("aftr"));
    }

    #[test]
    fn edits_keep_comments_and_undo_themselves() {
        let mut control = ControlFile::parse("yalotheca.toml", TEXT).unwrap();
        assert_eq!(control.text(), TEXT);
        let id = ContentId::new("gull-chat").unwrap();
        control.want(&id, &VersionRange::any());
        assert_eq!(control.text(), format!("{TEXT}gull-chat = \"*\"\n"));
        assert!(control.unwant(&id) && !control.unwant(&id));
        assert_eq!(control.text(), TEXT);
        control.want(&ContentId::new("harbour-core").unwrap(), &VersionRange::parse("=2.1").unwrap());
        assert!(control.text().contains("harbour-core = \"=2.1\" # keep"));
    }

    #[test]
    fn a_new_file_reads_as_it_was_made() {
        let server = ServerSection {
            name: "Larkspur".into(),
            game: "saltwick".into(),
            at: ".".into(),
            values: [("program".to_string(), "x".to_string())].into(),
        };
        let catalogues = [CatalogueSource { name: "q".into(), at: "http://x/".into(), key: None }];
        let made = ControlFile::new(&server, &catalogues);
        let read = ControlFile::parse("y", &made.text()).unwrap();
        assert_eq!((read.server, read.catalogues), (server, catalogues.to_vec()));
    }

    #[test]
    fn mistakes_have_places_and_suggestions() {
        let error = ControlFile::parse("y", &TEXT.replace("game =", "gane =")).unwrap_err();
        assert_eq!((error.line, error.suggestion.as_deref()), (4, Some("did you mean game?")));
        let error = ControlFile::parse("y", &TEXT.replace("\">=2\"", "\"~2\"")).unwrap_err();
        assert_eq!(error.line, 8, "{error}");
        assert!(ControlFile::parse("y", "format = 1\n[server\n").is_err());
    }
}
