//! `yalotheca.toml`, edited so that comments and order stay.

use std::collections::BTreeMap;

use serde::Deserialize;
use toml_edit::{DocumentMut, Item, Table, value};

use crate::{document::ParseDocumentError, hint::Hint, id::ContentId, suggest, version::VersionRange};

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
        Self { document, server: server.clone(), catalogues: catalogues.to_vec(), wants: BTreeMap::new() }
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
        Ok(Self { document, server: raw.server, catalogues: raw.catalogue, wants: raw.wants })
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
