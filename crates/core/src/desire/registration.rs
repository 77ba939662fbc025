//! Entries of configuration files: what is put, and how it is found again.

use regex::Regex;
use serde::{Deserialize, Serialize};

use crate::{
    document::{Document, Format, Pointer, Value},
    id::{ContentId, TreePath},
};

/// What a registration puts into a configuration file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Entry {
    /// One value.
    Set(Value),
    /// An item of a list.
    Item {
        /// The item.
        item: Value,
        /// Whether the list follows the lineup's order.
        ordered: bool,
        /// What separates items, where the list is one text.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        separator: Option<String>,
        /// Whether the list holds nothing else: the administrator decides the whole of it.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        alone: bool,
        /// The item that stays at the end of the list, even if it was written by hand.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        last: Option<String>,
        /// A pattern with the group `item`: how an entry with more in it is read back.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        seen_as: Option<String>,
        /// Whether the position in the list does not matter. An item already there is left alone, even when its content is removed.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        anywhere: bool,
    },
    /// A name under a number of its own.
    Number {
        /// The name.
        item: String,
        /// Whether the numbers run from 1 without a gap.
        consecutive: bool,
    },
    /// A text between a first and a last line of its own.
    Block {
        /// What these lines call it.
        name: String,
        /// The text.
        text: String,
    },
}

/// One configuration entry that tells the server about a content.
#[derive(Debug, Clone, PartialEq)]
pub struct Registration {
    /// Whose entry it is.
    pub content: ContentId,
    /// The configuration file.
    pub file: TreePath,
    /// Its format.
    pub format: Format,
    /// The place in it.
    pub pointer: Pointer,
    /// What the file begins with where it does not exist.
    pub create: String,
    /// Whether it waits for the file, which only the server makes.
    pub waits: bool,
    /// Whether it is an error if another content sets the same place: true for tweaks.
    pub exclusive: bool,
    /// Whether the content is loaded because of it.
    pub enables: bool,
    /// What is put there.
    pub entry: Entry,
}

impl Registration {
    /// Returns what tells an entry from all others of its content: the file, the place, and the item where it is one of a list.
    pub fn key(&self) -> String {
        let Self { file, pointer, .. } = self;
        match &self.entry {
            Entry::Set(_) => format!("{file}#{pointer}"),
            Entry::Item { item, .. } => format!("{file}#{pointer}: {}", item.plain()),
            Entry::Number { item, .. } => format!("{file}#{pointer}: {item}"),
            Entry::Block { name, .. } => format!("{file}: {name}"),
        }
    }

    /// Returns whether the entry is in its file.
    pub fn is_in(&self, document: &Document) -> bool {
        match &self.entry {
            Entry::Set(value) => document.get(&self.pointer).is_some_and(|now| now.means(value)),
            Entry::Number { item, .. } => {
                document.numbered(&self.pointer).iter().any(|(_, name)| name == item)
            }
            Entry::Block { name, .. } => document.fragment(name).is_ok_and(|there| there.is_some()),
            Entry::Item { .. } => self.place_in_list(document).is_some(),
        }
    }

    /// Returns the place of the item in its list, from 0.
    pub fn place_in_list(&self, document: &Document) -> Option<usize> {
        let Entry::Item { item, separator, seen_as, .. } = &self.entry else { return None };
        // A pattern was tried when its definition was loaded.
        let seen_as = seen_as.as_ref().and_then(|pattern| Regex::new(pattern).ok());
        let items: Vec<String> = if let Some(separator) = separator {
            document.parts(&self.pointer, separator)
        } else {
            let items = document.items(&self.pointer).unwrap_or_default();
            items.iter().map(Value::meaning).collect()
        };
        let item = item.meaning();
        items.into_iter().position(|there| picked(seen_as.as_ref(), there) == item)
    }
}

/// Returns the part of a list's item that its pattern picks; the whole item where there is no pattern or it does not fit.
pub(crate) fn picked(seen_as: Option<&Regex>, item: String) -> String {
    let part = seen_as.and_then(|pattern| Some(pattern.captures(&item)?.name("item")?.as_str().to_owned()));
    part.unwrap_or(item)
}
