//! What is inside a content, and where its files go.

mod names;
mod sort;
#[cfg(test)]
mod tests;

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::{
    catalogue::{Member, Recognised, Release},
    game::{
        DescribeError, FactRule, Game, Kind, PACK_FILE, PACK_KIND, PlaceRule, RenderError, Scope, Shape,
        TWEAK_KIND, Template, describe,
    },
    id::{ContentId, Digest, ParseIdError, TreePath},
    pack::Pack,
    tweak::Tweak,
    version::{ReleaseVersion, VersionRange, split_version},
};

pub use names::{UnsafeName, link_target, meeting_names, member_path};
pub use sort::{Asked, FoundFile, LeftOut, Sorted, SortedContent, is_litter, sort_out};

/// The inside of an archive or a folder, as far as recognising needs it. The host brings real ones.
pub trait Bundle {
    /// Returns whether there is such a file.
    fn has(&mut self, path: &str) -> bool;
    /// Returns a file's bytes, or nothing where there is no such file.
    ///
    /// # Errors
    /// Where it is there and cannot be read.
    fn read(&mut self, path: &str) -> Result<Option<Vec<u8>>, String>;
    /// Returns the names of the folders directly in `path` (the empty path is the top).
    fn folders(&mut self, path: &str) -> Vec<String>;
    /// Returns the paths and sizes of all files.
    fn files(&mut self) -> Vec<(String, u64)>;
    /// Returns the first bytes of a file, at most so many; none where there is no such file.
    fn head(&mut self, path: &str, most: usize) -> Vec<u8>;
    /// Opens an archive inside; nothing where it is none.
    fn open(&mut self, _path: &str) -> Option<Box<dyn Bundle>> {
        None
    }
    /// Returns whether a file inside is an archive.
    fn is_archive(&mut self, _path: &str) -> bool {
        false
    }
}

/// One file of a payload.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PayloadFile {
    /// Its path inside the payload; the file's own name where the archive is the payload.
    pub path: String,
    /// Its size in bytes.
    pub size: u64,
    /// The digest of its bytes.
    pub digest: Digest,
    /// Where it goes on the server, where the administrator said so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<TreePath>,
}

/// All files of a content, by path.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Payload {
    /// The files.
    pub files: Vec<PayloadFile>,
}

impl Payload {
    /// Returns one digest for all files: of their paths and digests, sorted by path.
    pub fn digest(&self) -> Digest {
        let mut files: Vec<&PayloadFile> = self.files.iter().collect();
        files.sort_by(|a, b| (&a.path, a.digest, &a.to).cmp(&(&b.path, b.digest, &b.to)));
        let mut text = String::with_capacity(files.len() * 128);
        for PayloadFile { path, digest, to, .. } in files {
            text.extend([path.as_str(), "\0", &digest.hex()]);
            text.extend(to.iter().flat_map(|to| ["\0", to.as_str()]));
            text.push('\n');
        }
        Digest::of(text.as_bytes())
    }

    /// Returns whether both have the same files. A file that is alone may have another name.
    pub fn is_same_as(&self, other: &Self) -> bool {
        match (self.files.as_slice(), other.files.as_slice()) {
            ([one], [two]) => one.digest == two.digest,
            _ => self.digest() == other.digest(),
        }
    }

    /// Returns the sum of the files' sizes in bytes.
    pub fn size(&self) -> u64 {
        self.files.iter().map(|file| file.size).sum()
    }
}

/// Recognises a content. `name` is the name of the file or folder.
///
/// # Errors
/// Where it bears a kind's mark and its descriptor cannot be read.
pub fn recognise(
    game: &Game,
    shape: Shape,
    name: &str,
    bundle: &mut dyn Bundle,
) -> Result<Option<Recognised>, DescribeError> {
    for (kind_name, kind) in game.kinds.iter().filter(|(_, kind)| kind.shape == shape) {
        if kind.suffix.as_ref().is_some_and(|suffix| !name.ends_with(suffix.as_str())) {
            continue;
        }
        if kind.marker.iter().any(|marker| bundle.has(marker)) {
            return recognise_as(game, (kind_name, kind), name, bundle).map(Some);
        }
    }
    Ok(None)
}

/// Takes something for a content of a kind, whether it bears the kind's mark or not; nothing where there is no such kind.
///
/// # Errors
/// Where its descriptor is there and cannot be read.
pub fn recognise_as_kind(
    game: &Game,
    kind: &str,
    name: &str,
    bundle: &mut dyn Bundle,
) -> Result<Option<Recognised>, DescribeError> {
    game.kinds
        .get_key_value(kind)
        .map(|(name_of, kind)| recognise_as(game, (name_of, kind), name, bundle))
        .transpose()
}

fn recognise_as(
    game: &Game,
    (kind_name, kind): (&str, &Kind),
    name: &str,
    bundle: &mut dyn Bundle,
) -> Result<Recognised, DescribeError> {
    if kind_name == PACK_KIND {
        return pack(name, bundle).map(|pack| pack.content());
    }
    if kind_name == TWEAK_KIND {
        return tweak(game, name, bundle);
    }
    let stem = kind.stem(name);
    let described = describe(kind, &mut |path| bundle.read(&Template::fill_name(path, stem)))?;
    let (named, version) = if kind.shape == Shape::Archive { split_version(stem) } else { (stem, None) };
    let facts = discover(kind, described.facts, stem, bundle);
    let by_facts = || {
        let scope = Scope { fact: facts.clone(), ..Scope::default() };
        kind.id.as_ref().map(|id| id.render(&scope)).filter(|id| id.as_ref().is_ok_and(|id| !id.is_empty()))
    };
    let named = by_facts().and_then(Result::ok).unwrap_or_else(|| named.to_owned());
    let id = match described.id {
        Some(id) => id,
        None => {
            id_from(&named).map_err(|error| DescribeError { file: name.into(), why: error.to_string() })?
        }
    };
    let version = described.version.or(version).unwrap_or_else(ReleaseVersion::unversioned);
    let mut release = Release::new(version, kind_name);
    release.facts = facts;
    release.needs = described.needs;
    release.welcomes = described.welcomes;
    release.refuses = described.refuses;
    release.side = described.side.unwrap_or_default();
    release.after = described.after;
    release.before = described.before;
    if !described.platform.is_empty() {
        release.platforms.push(described.platform);
    }
    if !kind.members.is_empty() {
        add_members(game, kind, "", bundle, &mut release)?;
        close_pack(&mut release);
    }
    Ok(Recognised {
        title: described.title.unwrap_or_else(|| id.to_string()),
        about: described.about.unwrap_or_default(),
        id,
        release,
    })
}

/// Discovers the facts about a content; what a descriptor states counts.
fn discover(
    kind: &Kind,
    mut facts: BTreeMap<String, String>,
    own_name: &str,
    bundle: &mut dyn Bundle,
) -> BTreeMap<String, String> {
    for (name, rule) in &kind.facts {
        let found = match rule {
            FactRule::OnlyFolder(below) => match bundle.folders(below).as_slice() {
                [only] => Some(only.clone()),
                _ => None,
            },
            FactRule::OwnName(pattern) => pattern.captures(own_name).map(|groups| {
                let part = groups.name("fact").or_else(|| groups.get(0));
                part.map_or("", |part| part.as_str()).to_owned()
            }),
            FactRule::Folders(glob) => {
                let files = bundle.files();
                let folders =
                    files.iter().flat_map(|(path, _)| path.match_indices('/').map(|(at, _)| &path[..at]));
                let fitting = folders.filter(|folder| glob.is_match(folder));
                let names: BTreeSet<&str> =
                    fitting.map(|folder| folder.rsplit('/').next().unwrap_or(folder)).collect();
                Some(Vec::from_iter(names).join("\n"))
            }
        };
        if let Some(found) = found.filter(|found| !found.is_empty()) {
            facts.entry(name.clone()).or_insert(found);
        }
    }
    facts
}

/// Reads what a pack in our own format says of itself.
///
/// # Errors
/// Where it cannot be read.
pub fn pack(name: &str, bundle: &mut dyn Bundle) -> Result<Pack, DescribeError> {
    let failed = |why: String| DescribeError { file: PACK_FILE.into(), why };
    let bytes = bundle.read(PACK_FILE).map_err(failed)?;
    let bytes = bytes.ok_or_else(|| failed(format!("{name} has none at its top")))?;
    let text = String::from_utf8(bytes).map_err(|_| failed("it is not UTF-8 text".into()))?;
    Pack::parse(&text).map_err(failed)
}

fn tweak(game: &Game, name: &str, bundle: &mut dyn Bundle) -> Result<Recognised, DescribeError> {
    let failed = |why: String| DescribeError { file: name.into(), why };
    let bytes = bundle.read(name).map_err(failed)?.ok_or_else(|| failed("it is not there".into()))?;
    let text = String::from_utf8(bytes).map_err(|_| failed("it is not UTF-8 text".into()))?;
    let values: Vec<String> = game.values.iter().map(|(name, _)| name.clone()).collect();
    let tweak = Tweak::parse(name, &text, &values)
        .map_err(|error| failed(format!("line {}, column {}: {}", error.line, error.column, error.why)))?;
    match &tweak.game {
        Some(other) if *other != game.name => {
            Err(failed(format!("it is a tweak for {other}, and this is {}", game.name)))
        }
        _ => Ok(tweak.content(&text)),
    }
}

/// Makes an id of a file's or a folder's name.
fn id_from(name: &str) -> Result<ContentId, ParseIdError> {
    let clean: String =
        name.chars().map(|c| if c.is_ascii_alphanumeric() || "-_.+".contains(c) { c } else { '-' }).collect();
    ContentId::new(clean.trim_matches('-'))
}

/// Looks into the folders directly inside; packs nest.
fn add_members(
    game: &Game,
    kind: &Kind,
    below: &str,
    bundle: &mut dyn Bundle,
    release: &mut Release,
) -> Result<(), DescribeError> {
    for name in bundle.folders(below) {
        let folder = if below.is_empty() { name.clone() } else { format!("{below}/{name}") };
        let mut inner = Inner { folder: &folder, of: bundle };
        let found = kind
            .members
            .iter()
            .filter_map(|name| game.kinds.get_key_value(name))
            .find(|(_, kind)| kind.marker.iter().any(|marker| inner.has(marker)));
        let Some((kind_name, member_kind)) = found else { continue };
        if !member_kind.members.is_empty() {
            add_members(game, member_kind, &folder, bundle, release)?;
            continue;
        }
        let told = describe(member_kind, &mut |path| inner.read(path))
            .map_err(|error| DescribeError { file: format!("{folder}/{}", error.file), why: error.why })?;
        let id = match told.id {
            Some(id) => id,
            None => id_from(&name)
                .map_err(|error| DescribeError { file: folder.clone(), why: error.to_string() })?,
        };
        release.provides.insert(id.clone(), told.version.into());
        for (other, range) in told.welcomes {
            release.welcomes.entry(other).or_insert(range);
        }
        if !told.platform.is_empty() && release.platforms.is_empty() {
            release.platforms.push(told.platform);
        }
        release.members.push(Member { id, kind: kind_name.clone(), folder, needs: told.needs });
    }
    Ok(())
}

/// What a pack needs is what its members need and none of them is.
fn close_pack(release: &mut Release) {
    release.members.sort_by(|a, b| a.id.cmp(&b.id));
    let needs: Vec<(ContentId, VersionRange)> = release
        .members
        .iter()
        .flat_map(|member| member.needs.iter().map(|(id, range)| (id.clone(), range.clone())))
        .filter(|(id, _)| !release.provides.contains_key(id))
        .collect();
    for (id, range) in needs {
        release.needs.entry(id).or_insert(range);
    }
    let provides = &release.provides;
    let needs = &release.needs;
    release.welcomes.retain(|id, _| !provides.contains_key(id) && !needs.contains_key(id));
}

/// A folder of a bundle, as a bundle.
struct Inner<'a> {
    folder: &'a str,
    of: &'a mut dyn Bundle,
}

impl Bundle for Inner<'_> {
    fn has(&mut self, path: &str) -> bool {
        self.of.has(&format!("{}/{path}", self.folder))
    }
    fn read(&mut self, path: &str) -> Result<Option<Vec<u8>>, String> {
        self.of.read(&format!("{}/{path}", self.folder))
    }
    fn folders(&mut self, path: &str) -> Vec<String> {
        let whole = if path.is_empty() { self.folder.to_owned() } else { format!("{}/{path}", self.folder) };
        self.of.folders(&whole)
    }
    fn files(&mut self) -> Vec<(String, u64)> {
        let prefix = format!("{}/", self.folder);
        let inside = |(path, size): (String, u64)| Some((path.strip_prefix(&prefix)?.to_owned(), size));
        self.of.files().into_iter().filter_map(inside).collect()
    }
    fn head(&mut self, path: &str, most: usize) -> Vec<u8> {
        self.of.head(&format!("{}/{path}", self.folder), most)
    }
    fn open(&mut self, path: &str) -> Option<Box<dyn Bundle>> {
        self.of.open(&format!("{}/{path}", self.folder))
    }
    fn is_archive(&mut self, path: &str) -> bool {
        self.of.is_archive(&format!("{}/{path}", self.folder))
    }
}

/// What stands against placing a file.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PlaceError {
    /// The game definition's template cannot be filled.
    #[error(transparent)]
    Render(#[from] RenderError),
    /// The path is none.
    #[error(transparent)]
    Path(#[from] ParseIdError),
    /// The game definition does not know the kind.
    #[error("the game {game} has no content kind {kind:?}")]
    NoKind {
        /// The game.
        game: String,
        /// The kind.
        kind: String,
    },
}

impl crate::hint::Hint for PlaceError {
    fn hint(&self) -> Option<crate::hint::Advice> {
        match self {
            Self::Render(error) => error.hint(),
            Self::Path(error) => error.hint(),
            Self::NoKind { .. } => Some(crate::hint::Advice::ListKinds),
        }
    }
}

/// Where a content's files belong: the kind's rules, with its templates filled.
#[derive(Debug)]
pub struct Places<'a> {
    rules: Vec<(&'a PlaceRule, TreePath)>,
}

impl<'a> Places<'a> {
    /// Returns the places of a content.
    ///
    /// # Errors
    /// Where a template of the definition or the folder that comes of it is wrong.
    pub fn new(kind: &'a Kind, scope: &Scope) -> Result<Self, PlaceError> {
        let rule = |rule: &'a PlaceRule| Ok((rule, TreePath::new(&rule.into.render(scope)?)?));
        let rules = kind.place.iter().map(rule).collect::<Result<_, PlaceError>>()?;
        Ok(Self { rules })
    }

    /// Moves everything that belongs into the kind's first folder to another one, where the content was found.
    pub fn move_to(&mut self, folder: &TreePath) {
        let usual = self.rules.first().map(|(_, usual)| usual.clone());
        for (_, into) in self.rules.iter_mut().filter(|(_, into)| usual.as_ref() == Some(into)) {
            into.clone_from(folder);
        }
    }

    /// Returns the path at which a payload's file belongs.
    ///
    /// # Errors
    /// Where that is no path.
    pub fn of(&self, file: &PayloadFile) -> Result<TreePath, PlaceError> {
        if let Some(to) = &file.to {
            return Ok(to.clone());
        }
        let rule = self.rules.iter().find(|(rule, _)| !rule.also && rule.takes(&file.path));
        Ok(rule.map_or_else(|| TreePath::new(&file.path), |(rule, into)| into.join(rule.below(&file.path)))?)
    }

    /// Returns the paths at which copies of a payload's file belong besides.
    ///
    /// # Errors
    /// Where one is no path.
    pub fn copies_of(&self, file: &PayloadFile) -> Result<Vec<TreePath>, PlaceError> {
        let rules = self.rules.iter().filter(|(rule, _)| rule.also && rule.takes(&file.path));
        rules.map(|(rule, into)| Ok(into.join(rule.below(&file.path))?)).collect()
    }
}

/// Returns the path at which a payload's file belongs.
///
/// # Errors
/// Where the definition's template or the resulting path is wrong.
pub fn destination(kind: &Kind, scope: &Scope, file: &PayloadFile) -> Result<TreePath, PlaceError> {
    Places::new(kind, scope)?.of(file)
}

/// Returns the scope for a content's templates.
pub fn scope_of(server: &Scope, id: &ContentId, title: &str, release: &Release) -> Scope {
    let mut scope = server.clone();
    scope.content.insert("id".into(), id.to_string());
    scope.content.insert("title".into(), title.into());
    scope.content.insert("kind".into(), release.kind.clone());
    scope.release.insert("version".into(), release.version.to_string());
    scope.fact.clone_from(&release.facts);
    scope
}

/// A bundle in memory, for tests.
#[derive(Debug, Clone, Default)]
pub struct MemoryBundle {
    /// The files by path.
    pub files: std::collections::BTreeMap<String, Vec<u8>>,
}

impl Bundle for MemoryBundle {
    fn has(&mut self, path: &str) -> bool {
        self.files.contains_key(path)
    }
    fn read(&mut self, path: &str) -> Result<Option<Vec<u8>>, String> {
        Ok(self.files.get(path).cloned())
    }
    fn folders(&mut self, path: &str) -> Vec<String> {
        let prefix = if path.is_empty() { String::new() } else { format!("{path}/") };
        let names = self.files.keys().filter_map(|file| file.strip_prefix(&prefix)?.split_once('/'));
        let set: std::collections::BTreeSet<String> = names.map(|(name, _)| name.to_owned()).collect();
        set.into_iter().collect()
    }
    fn files(&mut self) -> Vec<(String, u64)> {
        self.files.iter().map(|(path, bytes)| (path.clone(), bytes.len() as u64)).collect()
    }
    fn head(&mut self, path: &str, most: usize) -> Vec<u8> {
        self.files.get(path).map(|bytes| bytes[..bytes.len().min(most)].to_vec()).unwrap_or_default()
    }
}
