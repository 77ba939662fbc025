//! How configuration is written: registrations, settings files, cross references.

use globset::GlobMatcher;

use super::{ConfigPlace, LiveRule, Pattern, PlaceRule, Template, ValueTemplate};
use crate::{
    document::{Format, Pointer},
    settings::{SettingRule, SettingType},
};

/// How the server is told about a content.
#[derive(Debug, Clone)]
pub struct RegisterRule {
    /// The place in a configuration file.
    pub place: ConfigPlace,
    /// What is put there.
    pub verb: RegisterVerb,
    /// Once for each member of this kind, instead of once for the content.
    pub each: Option<String>,
    /// Once for each line of this fact, which templates call `it`.
    pub for_each: Option<String>,
    /// What a file that does not exist begins with.
    pub create: Template,
    /// Whether a content without this entry is loaded all the same, after those that have one: the entry is only about the order.
    pub loads_unlisted: bool,
}

impl PlaceRule {
    /// Returns whether the rule is about a file.
    pub fn takes(&self, path: &str) -> bool {
        self.take.as_ref().is_none_or(|glob| glob.is_match(path))
    }

    /// Returns what is left of a file's path below the rule's folder.
    pub fn below<'p>(&self, path: &'p str) -> &'p str {
        path.match_indices('/').nth(self.strip.wrapping_sub(1)).map_or(path, |(at, _)| &path[at + 1..])
    }
}

impl RegisterRule {
    /// Whether its list follows the order in which contents are loaded.
    pub fn is_ordered(&self) -> bool {
        matches!(self.verb, RegisterVerb::Item { ordered: true, .. })
    }
}

/// What a registration puts.
#[derive(Debug, Clone)]
pub enum RegisterVerb {
    /// One value, or a row of a table: a value with parts under a name of its own.
    Set(ValueTemplate),
    /// An item of a list.
    Item {
        /// The item.
        item: ValueTemplate,
        /// Whether the list follows the lineup's order.
        ordered: bool,
        /// What separates items, where the list is one text.
        separator: Option<String>,
        /// What stays at the list's end.
        last: Option<String>,
        /// A pattern with the group `item`: how an entry with more in it is read back.
        seen_as: Option<String>,
    },
    /// A name under the next free number.
    Number {
        /// The name.
        item: Template,
        /// Whether the numbers run from 1 without a gap.
        consecutive: bool,
    },
    /// A text between a first and a last line of its own.
    Block {
        /// What these lines call it.
        name: Template,
        /// The text.
        text: Template,
    },
}

/// How a line describes a setting.
#[derive(Debug, Clone)]
pub struct SchemaLine {
    /// Its pattern, with the group `key`; it may have `default`, `least`, `most`, `choices` and `help`.
    pub pattern: Pattern,
    /// The sort of such a setting.
    pub sort: SettingType,
}

/// A settings file: a content's, or one of the server's own.
#[derive(Debug, Clone)]
pub struct SettingsFile {
    /// The file on the server.
    pub file: Template,
    /// Its format.
    pub format: Format,
    /// What it is called for short, in `yalotheca.toml` and by commands.
    pub short: Template,
    /// What people call it.
    pub title: String,
    /// The member of the content that holds the defaults.
    pub defaults: Option<String>,
    /// The member of the content that holds a schema of the settings.
    pub schema: Option<String>,
    /// How lines of that member describe settings, where it is not JSON Schema. Such a file belongs to others as well, and of it only
    /// what is described is the content's.
    pub schema_lines: Vec<SchemaLine>,
    /// Whether it only comes into being when the server starts.
    pub appears: bool,
    /// Whether it says how the server is started.
    pub launch: bool,
    /// What makes a running server take a change of it.
    pub live: Option<LiveRule>,
    /// Whether it takes settings that nobody has heard of.
    pub open: bool,
    /// What is known of its settings, by place; `*` in a place stands for any one name.
    pub keys: Vec<(Pointer, SettingRule)>,
}

/// Values that must name something.
#[derive(Debug, Clone)]
pub struct Reference {
    /// The files in which they stand.
    pub files: GlobMatcher,
    /// The same as written.
    pub pattern: String,
    /// Their format.
    pub format: Format,
    /// Where they stand; `*` stands for any one name.
    pub each: Pointer,
    /// Whether the keys at that place are checked, rather than its values.
    pub keys: bool,
    /// A place below each: only where it says `true`, the name counts.
    pub only_if: Option<Pointer>,
    /// What separates them, where several are one text.
    pub separator: Option<String>,
    /// A pattern with the group `item`: which part of a value names something; where it does not fit, nothing does.
    pub seen_as: Option<Pattern>,
    /// What they must name; nothing where each value may only occur once.
    pub is: Vec<Target>,
    /// Whether a value may occur only once in all these files.
    pub once: bool,
    /// What such a value is called in a message.
    pub called: String,
    /// The numbers expected below each place, instead of a name.
    pub numbers: Option<Numbers>,
}

/// Numbers below a place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Numbers {
    /// Exactly this many.
    Many(usize),
    /// One under each of these names.
    Named(Vec<String>),
}

/// What a reference may name.
#[derive(Debug, Clone)]
pub enum Target {
    /// The name of a file without its suffix, or of a folder.
    StemOf {
        /// The files.
        files: GlobMatcher,
        /// The same as written.
        pattern: String,
    },
    /// A value in files.
    Entry {
        /// The files.
        files: GlobMatcher,
        /// The same as written.
        pattern: String,
        /// Their format.
        format: Format,
        /// Where the values stand.
        at: Pointer,
        /// What separates them, where several are one text.
        separator: Option<String>,
    },
    /// A key in files.
    KeyOf {
        /// The files.
        files: GlobMatcher,
        /// The same as written.
        pattern: String,
        /// Their format.
        format: Format,
        /// The place below which the keys stand.
        at: Pointer,
    },
    /// A file's path.
    PathOf {
        /// The files.
        files: GlobMatcher,
        /// The same as written.
        pattern: String,
    },
    /// The name of a folder with something in it.
    FolderOf {
        /// What lies in such folders.
        files: GlobMatcher,
        /// The folders, as written.
        pattern: String,
    },
    /// A path below a folder.
    Below(String),
    /// One of these words.
    Words(Vec<String>),
}
