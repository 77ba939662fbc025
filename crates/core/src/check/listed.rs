//! Entries that enable contents which are not there: the registration rules read backwards.

use crate::{
    change::OwnedEntry,
    desire::Entry,
    document::{Before, Document, Format, Pointer, Value},
    game::{RegisterRule, RegisterVerb, Scope},
    id::{ContentId, TreePath},
};

/// Stands for the content's name while a rule's templates are filled. No server file holds it.
const MARK: &str = "\u{1}";

/// Where a rule puts its entries, whatever the content is called.
#[derive(Debug, Clone, PartialEq)]
pub struct Listing {
    /// The file.
    pub file: TreePath,
    /// Its format.
    pub format: Format,
    /// The list, or the group in which each content has a key.
    pub pointer: Pointer,
    /// What stands before and after a name.
    around: (String, String),
    /// The value that enables; nothing for a list.
    value: Option<Value>,
    /// What separates items, where the list is one text.
    separator: Option<String>,
}

/// An entry that names something.
#[derive(Debug, Clone, PartialEq)]
pub struct Listed {
    /// The name.
    pub name: String,
    /// Its line, from 1.
    pub line: usize,
    /// The entry, so that it can be taken out.
    pub entry: OwnedEntry,
}

impl Listing {
    /// Returns where a rule puts its entries; nothing for a rule whose entries do not name a content by its id alone.
    pub fn of(rule: &RegisterRule, server: &Scope) -> Option<Self> {
        let mut scope = server.clone();
        scope.content.insert("id".into(), MARK.into());
        scope.member.insert("id".into(), MARK.into());
        let (file, pointer) =
            rule.place.spot(&scope).ok().filter(|(file, _)| !file.as_str().contains(MARK))?;
        let format = rule.place.format;
        let around = |text: &str| {
            let (before, after) = text.split_once(MARK)?;
            (!after.contains(MARK)).then(|| (before.to_owned(), after.to_owned()))
        };
        match &rule.verb {
            RegisterVerb::Set(value) => {
                let value = value.render(&scope).ok().filter(|value| !value.plain().contains(MARK))?;
                let around = around(pointer.tokens().last()?)?;
                let pointer = pointer.above(pointer.tokens().len() - 1);
                Some(Self { file, format, pointer, around, value: Some(value), separator: None })
            }
            RegisterVerb::Item { item, separator, seen_as: None, .. } => {
                let Value::Text(item) = item.render(&scope).ok()? else { return None };
                let around = around(&item)?;
                Some(Self { file, format, pointer, around, value: None, separator: separator.clone() })
            }
            _ => None,
        }
    }

    /// Returns the entries that are in its file.
    pub fn read(&self, document: &Document) -> Vec<Listed> {
        let name_in = |text: &str| {
            let name = text.strip_prefix(self.around.0.as_str())?.strip_suffix(self.around.1.as_str())?;
            (!name.is_empty()).then(|| name.to_owned())
        };
        let listed = |name: String, at: &Pointer, pointer: &Pointer, entry: Entry| {
            let content = ContentId::new(&name).ok().or_else(|| ContentId::new("unknown").ok())?;
            let line = document.line_of(at).unwrap_or(1);
            let (file, format, pointer) = (self.file.clone(), document.format(), pointer.clone());
            let before = Before::Absent { made: 0 };
            Some(Listed { name, line, entry: OwnedEntry { content, file, format, pointer, entry, before } })
        };
        if let Some(value) = &self.value {
            let keys = document.keys(&self.pointer).into_iter();
            return keys
                .filter_map(|key| {
                    let name = name_in(&key)?;
                    let at = self.pointer.join(&key);
                    document.get(&at).filter(|now| now.means(value))?;
                    listed(name, &at, &at, Entry::Set(value.clone()))
                })
                .collect();
        }
        let items: Vec<String> = if let Some(separator) = &self.separator {
            document.parts(&self.pointer, separator)
        } else {
            let items = document.items(&self.pointer).unwrap_or_default();
            items.iter().map(Value::plain).collect()
        };
        let items = items.into_iter().enumerate();
        items
            .filter_map(|(index, item)| {
                let at = if self.separator.is_some() {
                    self.pointer.clone()
                } else {
                    self.pointer.join(&index.to_string())
                };
                let entry = Entry::Item {
                    item: Value::Text(item.clone()),
                    ordered: false,
                    separator: self.separator.clone(),
                    alone: false,
                    last: None,
                    seen_as: None,
                    anywhere: false,
                };
                listed(name_in(&item)?, &at, &self.pointer, entry)
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::game::{BUILT_IN, load};

    fn listings(game: &str, kind: &str) -> Vec<Listing> {
        let (name, text) = BUILT_IN.iter().find(|(known, _)| *known == game).unwrap();
        let game = load(name, text).unwrap();
        let values = [("world", "world"), ("town", "brinewick")].into_iter();
        let values = values.map(|(name, value)| (name.to_owned(), value.to_owned())).collect();
        let scope = Scope { values, ..Scope::default() };
        game.kinds[kind].register.iter().filter_map(|rule| Listing::of(rule, &scope)).collect()
    }

    fn names(listing: &Listing, text: &str) -> Vec<(String, usize)> {
        let document = Document::parse(listing.format, text).unwrap();
        listing.read(&document).into_iter().map(|listed| (listed.name, listed.line)).collect()
    }

    #[test]
    fn names_are_read_back_from_what_rules_write() {
        let [order] = listings("saltwick", "plugin").try_into().unwrap();
        assert_eq!(
            names(&order, "# first\ntidebell\n\nghost\n"),
            [("tidebell".to_owned(), 2), ("ghost".to_owned(), 4)]
        );
        let [packs] = listings("saltwick", "datapack").try_into().unwrap();
        assert_eq!(
            names(&packs, "[\n  \"cobbles\",\n  7\n]"),
            [("cobbles".to_owned(), 2), ("7".to_owned(), 3)]
        );
        let [enabled] = listings("luanti", "mod").try_into().unwrap();
        let world = "gameid = minetest\nload_mod_a = true\nload_mod_b = false\nload_mod_ = true\n";
        assert_eq!(names(&enabled, world), [("a".to_owned(), 2)]);
        assert_eq!(listings("luanti", "modpack"), [enabled], "a pack's members are enabled as mods are");
        assert!(listings("bzfs", "plugin").is_empty(), "files are not named by an id");
    }
}
