//! Game definitions: how one game's servers are laid out and run.
//!
//! A definition is data. It is read in two steps: `raw` is the file as written, and [`Game`] is what it means, with
//! every template, pattern and pointer checked, so that nothing in it can fail for being malformed later.

mod configuration;
mod console;
mod copy;
mod describe;
mod join;
mod kinds_of_ours;
mod limit;
mod load;
mod maps;
mod mirror;
mod pack;
mod pattern;
mod raw;
mod run;
mod runtime;
mod shared;
mod template;
#[cfg(test)]
mod tests;
mod value;

use std::collections::{BTreeMap, BTreeSet};

use globset::GlobMatcher;

pub use configuration::{Numbers, Reference, RegisterRule, RegisterVerb, SchemaLine, SettingsFile, Target};
pub use console::{ConsoleChannel, ConsoleRule, LIVE_NAMES, LiveRule, PlayersRule, Told};
pub use copy::CopyRule;
pub use describe::{DescribeError, Described, ReadMember, describe};
pub use join::{JoinAsk, JoinRule, Need, NeedDigest, NeedFrom, NeedRule};
pub use kinds_of_ours::{PACK_FILE, PACK_KIND, TWEAK_KIND, TWEAK_SUFFIX};
pub use limit::{Limit, LimitRule};
pub use load::load;
pub(crate) use load::register_rule;
pub use maps::{ListPlace, MapFolders, MapForm, Maps, WithMap};
pub use mirror::{Compression, MirrorFiles, MirrorIndex, MirrorNames, MirrorRule};
pub use pack::{MustRule, PackDigest, PackRule};
pub use pattern::Pattern;
pub(crate) use raw::RawRegister;
pub use run::{Probe, Run, StopSignal, Symptom};
pub use runtime::RuntimeRule;
pub use shared::{Assets, Signatures, Tool, Wins};
pub use template::{RenderError, Scope, Template};
pub use value::ValueTemplate;

use crate::{
    document::{Format, Pointer},
    id::{ContentId, TreePath},
    version::split_version,
};

/// The definitions that come with the program: name and text.
pub const BUILT_IN: &[(&str, &str)] = &[
    ("bzfs", include_str!("../../games/bzfs.toml")),
    ("kitehollow", include_str!("../../games/kitehollow.toml")),
    ("luanti", include_str!("../../games/luanti.toml")),
    ("mossgarrow", include_str!("../../games/mossgarrow.toml")),
    ("saltwick", include_str!("../../games/saltwick.toml")),
    ("teeworlds", include_str!("../../games/teeworlds.toml")),
];

/// A game definition.
#[derive(Debug, Clone)]
pub struct Game {
    /// Its name, as `yalotheca.toml` gives it.
    pub name: String,
    /// What people call it.
    pub title: String,
    /// What differs from server to server, by name, in the order in which one may use another.
    pub values: Vec<(String, ValueRule)>,
    /// The files in which a comment's sign begins a comment inside a word too.
    pub comments_anywhere: BTreeSet<String>,
    /// Files that are all there on such a server.
    pub recognise_all: Vec<Template>,
    /// Files of which at least one is there; empty asks for nothing.
    pub recognise_any: Vec<Template>,
    /// Where the version of each part of the platform is read.
    pub platform: BTreeMap<String, PlatformRule>,
    /// Folders of the base game's contents, by kind.
    pub provides: BTreeMap<String, Vec<Template>>,
    /// The content kinds.
    pub kinds: BTreeMap<String, Kind>,
    /// Groups of contents by their ids, the first loaded first.
    pub order: OrderGroups,
    /// What nothing may touch: worlds, saves.
    pub never_touch: Vec<Template>,
    /// What stays out of what is placed.
    pub leave_out: Vec<LeaveOut>,
    /// How a number or a page's address becomes the address of a file.
    pub links: Vec<LinkRule>,
    /// Which of its contents a server plays.
    pub maps: Option<Maps>,
    /// The resource pack that players download when they join, if the game has one.
    pub pack: Option<PackRule>,
    /// The web folder from which players' games download files, if the game knows one.
    pub mirror: Option<MirrorRule>,
    /// What a player's game does when it joins, if the definition says so.
    pub join: Option<JoinRule>,
    /// What the engine itself runs on.
    pub runtimes: Vec<RuntimeRule>,
    /// What is different on a copy on which something is tried.
    pub copy: Option<CopyRule>,
    /// How commands reach a running server, if the definition says so.
    pub console: Option<ConsoleRule>,
    /// Bounds on the sizes of files that players download.
    pub limits: Vec<LimitRule>,
    /// Files whose names all contents share.
    pub assets: Option<Assets>,
    /// The game's own tools that make files of others.
    pub tools: Vec<Tool>,
    /// Parts that are signed.
    pub signatures: Option<Signatures>,
    /// The server's own settings files.
    pub settings: Vec<SettingsFile>,
    /// What must name something that is there.
    pub references: Vec<Reference>,
    /// What must say the same.
    pub agree: Vec<Agree>,
    /// The server's terms.
    pub terms: Option<Terms>,
    /// How it runs.
    pub run: Run,
    /// What lines of its log mean.
    pub symptoms: Vec<Symptom>,
}

/// Groups of contents by their ids, the first loaded first.
#[derive(Debug, Clone, Default)]
pub struct OrderGroups {
    /// The patterns of each group as written, and as matchers.
    groups: Vec<Vec<(String, GlobMatcher)>>,
    /// Whether the server orders contents by itself, by what they need: nothing can be asked of their places.
    pub by_needs: bool,
}

impl OrderGroups {
    /// What stands for all that is in no other group.
    const REST: &'static str = "*";

    /// Returns the place of a content's group. What no pattern names stands where `*` does, or after all groups.
    pub fn group(&self, id: &ContentId) -> usize {
        let named = |is_it: &dyn Fn(&(String, GlobMatcher)) -> bool| {
            self.groups.iter().position(|group| group.iter().any(is_it))
        };
        named(&|(text, glob)| text != Self::REST && glob.is_match(id.as_str()))
            .or_else(|| named(&|(text, _)| text == Self::REST))
            .unwrap_or(self.groups.len())
    }

    /// Returns the patterns of a group, as they are written.
    pub fn patterns(&self, group: usize) -> impl Iterator<Item = &str> {
        self.groups.get(group).into_iter().flatten().map(|(text, _)| text.as_str())
    }
}

/// One value of a server.
#[derive(Debug, Clone)]
pub struct ValueRule {
    /// Where it is read.
    pub from: Option<ConfigPlace>,
    /// What it is where nothing says otherwise.
    pub default: Option<String>,
    /// What it is for.
    pub help: String,
}

/// A place in a configuration file: `file#/pointer`.
#[derive(Debug, Clone)]
pub struct ConfigPlace {
    /// The file, relative to the server.
    pub file: Template,
    /// The place in it.
    pub pointer: Template,
    /// The file's format.
    pub format: Format,
}

impl ConfigPlace {
    /// Returns the file and the place in it for a scope.
    ///
    /// # Errors
    /// Says what does not fit the scope, or makes no path or no pointer.
    pub fn spot(&self, scope: &Scope) -> Result<(TreePath, Pointer), String> {
        let text = |template: &Template| template.render(scope).map_err(|error| error.to_string());
        let file = TreePath::new(&text(&self.file)?).map_err(|error| error.to_string())?;
        let pointer = Pointer::parse(&text(&self.pointer)?).map_err(|error| error.to_string())?;
        Ok((file, pointer))
    }
}

/// Where a part of the platform's version is read.
#[derive(Debug, Clone)]
pub enum PlatformRule {
    /// In a configuration file.
    File(ConfigPlace),
    /// In a member of an archive.
    Inside {
        /// The archive.
        archive: Template,
        /// The place in its member.
        place: ConfigPlace,
    },
    /// In what a command prints.
    Command {
        /// The command and its arguments.
        command: Vec<Template>,
        /// A pattern with the group `version`.
        pattern: Pattern,
    },
}

/// How a content's payload is shaped.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shape {
    /// An archive that is itself placed.
    Archive,
    /// A folder whose files are placed.
    Folder,
    /// A single file, with its companions.
    File,
}

/// One content kind.
#[derive(Debug, Clone)]
pub struct Kind {
    /// The payload's shape.
    pub shape: Shape,
    /// What the name of the file ends in.
    pub suffix: Option<String>,
    /// Members of which one marks the kind.
    pub marker: Vec<String>,
    /// What a file of the kind begins with.
    pub magic: Option<Vec<u8>>,
    /// How long such a file says that it is.
    pub length: Option<LengthRule>,
    /// Names of files that go along with one, where they are there; `{{ name }}` is its name without the suffix.
    pub companions: Vec<String>,
    /// The part of the platform that such a content is, if it is one.
    pub brings: Option<String>,
    /// Where a content says what it is.
    pub describe: Vec<DescribeRule>,
    /// What its id is, by what was discovered, where no descriptor says it.
    pub id: Option<Template>,
    /// What is discovered about it besides, by name.
    pub facts: BTreeMap<String, FactRule>,
    /// What the server takes for a name, where it does not take every one: the whole name fits it.
    pub id_pattern: Option<Pattern>,
    /// The kinds of contents that lie in folders directly inside.
    pub members: Vec<String>,
    /// Where it is placed.
    pub place: Vec<PlaceRule>,
    /// Other folders from which the server loads such contents, whatever they are called there.
    pub loads_from: Vec<LoadsFrom>,
    /// What players do with it.
    pub players: PlayersPart,
    /// How the server is told about it.
    pub register: Vec<RegisterRule>,
    /// Its settings files.
    pub settings: Vec<SettingsFile>,
    /// A pattern (as a template) of the log's line that says it is loaded.
    pub loaded: Option<Template>,
    /// A pattern (as a template) of the line that says it failed, with the group `why`.
    pub failed: Option<Template>,
}

/// What players do with a kind of content.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum PlayersPart {
    /// Nothing: it is the server's.
    #[default]
    None,
    /// They install it.
    Install,
    /// They install it if the release says that it is for players as well.
    BySide,
    /// Their games download it.
    Download,
}

/// Where a file says how long it is: a little-endian number of 32 bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LengthRule {
    /// Where the number stands.
    pub at: usize,
    /// What it does not count.
    pub plus: u64,
}

impl Kind {
    /// The kind of packs in our own format: they are recognised, and nothing of them is placed by rule.
    fn of_packs() -> Self {
        Self {
            shape: Shape::Folder,
            suffix: None,
            marker: vec![PACK_FILE.into()],
            magic: None,
            length: None,
            companions: Vec::new(),
            brings: None,
            describe: Vec::new(),
            id: None,
            facts: BTreeMap::new(),
            id_pattern: None,
            players: PlayersPart::None,
            members: Vec::new(),
            place: Vec::new(),
            loads_from: Vec::new(),
            register: Vec::new(),
            settings: Vec::new(),
            loaded: None,
            failed: None,
        }
    }

    /// The kind of tweaks: one file that says what is written where, and nothing is placed.
    fn of_tweaks() -> Self {
        Self { shape: Shape::File, suffix: Some(TWEAK_SUFFIX.into()), marker: Vec::new(), ..Self::of_packs() }
    }

    /// Returns whether a content of this kind can be switched off: an entry of its own enables it.
    pub fn can_be_off(&self) -> bool {
        self.brings.is_none() && self.register.iter().any(|rule| !rule.loads_unlisted)
    }

    /// How many first bytes of a file [`Kind::looks_right`] wants to see.
    pub const HEAD: usize = 64;

    /// Returns a file's name without the kind's suffix.
    pub fn stem<'n>(&self, name: &'n str) -> &'n str {
        self.suffix.as_ref().and_then(|suffix| name.strip_suffix(suffix.as_str())).unwrap_or(name)
    }

    /// Returns whether the server takes a name for a content of this kind.
    pub fn takes_id(&self, id: &str) -> bool {
        self.id_pattern.as_ref().is_none_or(|pattern| {
            pattern.find(id).is_some_and(|found| found.start() == 0 && found.end() == id.len())
        })
    }

    /// Returns what a content is probably called whose file's or folder's name the server does not take: without a version and
    /// what code hosts put behind a name.
    pub fn likely_id(&self, name: &str) -> Option<ContentId> {
        let (name, _) = split_version(name);
        let name = ["-master", "-main"].iter().find_map(|end| name.strip_suffix(end)).unwrap_or(name);
        // An edition without a dot, as in quartz-v2, is no part of a name that has to be another one anyway.
        let bare = name.rsplit_once(['-', '_', ' ']).filter(|(_, end)| {
            let digits = end.strip_prefix('v').unwrap_or(end);
            !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit())
        });
        let bare = bare.map_or(name, |(bare, _)| bare);
        let plain = |name: &str| name.to_lowercase().replace(['-', '.', '+', ' '], "_");
        let tries = [bare.to_owned(), plain(bare), name.to_owned(), plain(name)];
        tries.iter().find(|name| self.takes_id(name)).and_then(|name| ContentId::new(name).ok())
    }

    /// Returns the names of the files that go along with one, by its name without the suffix.
    pub fn companions_of(&self, stem: &str) -> impl Iterator<Item = String> {
        self.companions.iter().map(move |companion| Template::fill_name(companion, stem))
    }

    /// Looks whether a file that begins so and has that size can be one of the kind.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn looks_right(&self, head: &[u8], size: u64) -> Result<(), String> {
        if let Some(magic) = &self.magic
            && !head.starts_with(magic)
        {
            return Err(match head {
                [b'P', b'K', 3 | 5, ..] => "it is a zip archive under another name".into(),
                [b'B', b'Z', b'h', ..] => "it is compressed by bzip2; the server wants it unpacked".into(),
                [0x1f, 0x8b, ..] => "it is compressed by gzip; the server wants it unpacked".into(),
                [b'<', ..] => "it is a web page, not the file".into(),
                [] => "it is empty".into(),
                _ => "it does not begin as such a file does".into(),
            });
        }
        let Some(LengthRule { at, plus }) = self.length else { return Ok(()) };
        let Some(number) = head.get(at..at + 4).and_then(|bytes| bytes.try_into().ok()) else {
            return Err(format!("it is truncated: {size} bytes"));
        };
        let told = u64::from(u32::from_le_bytes(number)) + plus;
        if size < told { Err(format!("it is truncated: {size} of {told} bytes")) } else { Ok(()) }
    }
}

/// How what people have of a content (a number, a page's address) becomes the address of its file.
#[derive(Debug, Clone)]
pub struct LinkRule {
    /// What people have; its named groups become facts.
    pub pattern: Pattern,
    /// How to get the file.
    pub way: LinkWay,
    /// Where the host tells machines about it, if it does: the address of a JSON document.
    pub about: Option<Template>,
    /// Where that document lists what it needs, as people have it.
    pub needs: Option<Pointer>,
}

/// How to get a file that people know by a number or a page.
#[derive(Debug, Clone)]
pub enum LinkWay {
    /// From this address.
    Direct(Template),
    /// The server downloads it at its next start if this entry is set.
    Queue(Box<RegisterRule>),
}

/// What stays out of what is placed, and why.
#[derive(Debug, Clone)]
pub struct LeaveOut {
    /// The files.
    pub glob: GlobMatcher,
    /// Why.
    pub why: String,
}

/// How a descriptor is read.
#[derive(Debug, Clone)]
pub struct DescribeRule {
    /// The descriptor's path inside the content.
    pub file: String,
    /// Its format.
    pub form: DescriptorForm,
    /// The picks by what they are for.
    pub picks: BTreeMap<&'static str, Pick>,
    /// What is asked of parts of the platform.
    pub platform: BTreeMap<String, Pick>,
    /// Facts that it states, by name.
    pub facts: BTreeMap<String, Pick>,
}

/// How a fact about a content is discovered.
#[derive(Debug, Clone)]
pub enum FactRule {
    /// The name of the only folder in a folder of the content; the empty path is its top.
    OnlyFolder(String),
    /// The part of the content's own name that a pattern picks (its group `fact`, or all of it).
    OwnName(Pattern),
    /// The names of the folders that a pattern fits, one a line.
    Folders(GlobMatcher),
}

/// The formats of descriptors. They are only read, never written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DescriptorForm {
    /// JSON.
    Json,
    /// TOML.
    Toml,
    /// `key = value` lines.
    Properties,
    /// `key: value` lines.
    Pairs,
    /// One item a line.
    Lines,
}

/// Where a descriptor holds something, and how to read it.
#[derive(Debug, Clone)]
pub struct Pick {
    /// The place.
    pub at: Pointer,
    /// What separates the items of a text.
    pub split: Option<String>,
    /// A pattern with the group `id` (and `range`) that an item must fit.
    pub item: Option<Pattern>,
    /// A template over `it` that makes a range of what was found.
    pub range: Option<Template>,
    /// What each possible value means.
    pub map: BTreeMap<String, String>,
}

/// Where a kind's files go.
#[derive(Debug, Clone)]
pub struct PlaceRule {
    /// Which files; all where nothing is said.
    pub take: Option<GlobMatcher>,
    /// The folder.
    pub into: Template,
    /// Whether the files are placed by another rule as well: these are copies.
    pub also: bool,
    /// So many outer folders of a file's path are left out.
    pub strip: usize,
}

/// A folder from which the server loads contents, whatever their own folders or files are called.
#[derive(Debug, Clone)]
pub struct LoadsFrom {
    /// The folder, relative to the server; an absolute one belongs to the system and only makes contents available.
    pub folder: Template,
    /// Whether everything in it is loaded, whatever the configuration says.
    pub always_on: bool,
    /// Whether what lies in folders inside it is loaded as well.
    pub sub_folders: bool,
}

/// Two things that must fit each other.
#[derive(Debug, Clone)]
pub enum Agree {
    /// A file that must exist.
    File {
        /// The file.
        file: Template,
        /// Where it is named.
        named: ConfigPlace,
        /// Files that could be meant.
        near: Option<GlobMatcher>,
        /// The sentence for when it does not.
        say: Template,
    },
    /// A value that must be there.
    Present {
        /// Where it is said.
        value: ConfigPlace,
        /// The sentence for when nothing is.
        say: Template,
    },
    /// A value that must be the same in two places.
    Value {
        /// Where it is said.
        value: ConfigPlace,
        /// Where it is decided.
        is: ConfigPlace,
        /// The archive in which it is decided, where it is one.
        inside: Option<Template>,
        /// The sentence for when they differ; it may name `found` and `expected`.
        say: Template,
    },
}

/// The terms that a server wants accepted.
#[derive(Debug, Clone)]
pub struct Terms {
    /// Where acceptance is written.
    pub place: ConfigPlace,
    /// What is written there.
    pub agreed: String,
}
