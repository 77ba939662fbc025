//! Looking at a server without changing anything: its game, values, platform, and the contents in its folder.

mod ahead;
mod inventory;

use std::{
    collections::{BTreeMap, BTreeSet},
    os::unix::fs::MetadataExt,
    path::Path,
    sync::Arc,
};

use globset::GlobBuilder;
use regex::Regex;
use serde::{Deserialize, Serialize};
use yalotheca_core::{
    catalogue::Platform,
    control::MapsSection,
    document::{Document, ParseDocumentError, Pointer, Value},
    game::{ConfigPlace, Game, ListPlace, PlatformRule, RenderError, Scope, Shape, Template},
    hint::{Advice, Hint},
    id::{ContentId, ParseIdError, TreePath},
    route::{Bundle, recognise},
    version::ReleaseVersion,
};

use crate::{
    archive::{FolderBundle, ZipBundle},
    store::Store,
    tree::{EntryKind, Tree, TreeError},
    trust::{Invocation, Trust},
};

pub use inventory::{
    FoundContent, Inventory, LinkOut, Protected, bears_name, content_folders, inventory, inventory_beside,
    protected,
};

/// A server that could not be looked at.
#[derive(Debug, thiserror::Error)]
pub enum SurveyError {
    /// The folder could not be read.
    #[error(transparent)]
    Tree(#[from] TreeError),
    /// A configuration file is broken.
    #[error("{path}: {source}")]
    Broken {
        /// The file.
        path: String,
        /// Where and why.
        source: ParseDocumentError,
    },
    /// A template of the definition cannot be filled.
    #[error(transparent)]
    Render(#[from] RenderError),
    /// A program would have to be run to which this user has not agreed.
    #[error(
        "to find out the game's version, {invocation} would be run, which this account has not allowed yet"
    )]
    Untrusted {
        /// What would be run.
        invocation: Box<Invocation>,
    },
    /// A path that the definition gives is none.
    #[error(transparent)]
    Path(#[from] ParseIdError),
}

impl Hint for SurveyError {
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::Tree(error) => error.hint(),
            Self::Broken { source, .. } => source.hint(),
            Self::Render(error) => error.hint(),
            Self::Untrusted { .. } => Some(Advice::ReviewPrograms),
            Self::Path(error) => error.hint(),
        }
    }
}

/// What is known of a server before anything is solved.
#[derive(Debug, Clone)]
pub struct Survey {
    /// The values and the folder, for templates.
    pub scope: Scope,
    /// What the server brings.
    pub platform: Platform,
}

/// Reads a value at a place; nothing where the file or the value is not there.
///
/// # Errors
/// Where the file is there and broken.
pub fn value_at(tree: &dyn Tree, place: &ConfigPlace, scope: &Scope) -> Result<Option<String>, SurveyError> {
    let file = TreePath::new(&place.file.render(scope)?)?;
    let Some(bytes) = tree.read_file(&file)? else { return Ok(None) };
    value_in(&file.to_string(), bytes, place, scope)
}

fn value_in(
    file: &str,
    bytes: Vec<u8>,
    place: &ConfigPlace,
    scope: &Scope,
) -> Result<Option<String>, SurveyError> {
    let document = Document::read(place.format, bytes)
        .map_err(|source| SurveyError::Broken { path: file.to_owned(), source })?;
    let pointer = place.pointer.render(scope)?;
    Ok(Pointer::parse(&pointer).ok().and_then(|pointer| document.get(&pointer)).map(|value| value.plain()))
}

/// Reads a value in a member of an archive on the server.
///
/// # Errors
/// Where the member is there and broken.
pub fn value_inside(
    tree: &dyn Tree,
    archive: &Template,
    place: &ConfigPlace,
    scope: &Scope,
) -> Result<Option<String>, SurveyError> {
    let name = archive.render(scope)?;
    if name.is_empty() {
        return Ok(None);
    }
    let path = TreePath::new(&name)?;
    let Some(file) = tree.open(&path).ok().flatten() else { return Ok(None) };
    let Ok(Some(mut bundle)) = ZipBundle::of_file(file) else { return Ok(None) };
    let member = place.file.render(scope)?;
    match bundle.read(&member) {
        Ok(Some(bytes)) => value_in(&format!("{name}: {member}"), bytes, place, scope),
        _ => Ok(None),
    }
}

/// Returns the values of a server. What `given` decides is not read.
///
/// # Errors
/// Where a file that holds one is broken.
pub fn values(tree: &dyn Tree, game: &Game, given: &BTreeMap<String, String>) -> Result<Scope, SurveyError> {
    let mut scope = Scope { folder: tree.location(), ..Scope::default() };
    for (name, rule) in &game.values {
        let read = match (given.get(name), &rule.from) {
            (Some(given), _) => Some(given.clone()),
            (None, Some(place)) => value_at(tree, place, &scope)?,
            (None, None) => None,
        };
        let value =
            read.filter(|value| !value.is_empty()).or_else(|| rule.default.clone()).unwrap_or_default();
        scope.values.insert(name.clone(), value);
    }
    Ok(scope)
}

/// Returns the values that another user could have chosen: those that are not defaults of the definition, not plain numbers, and not
/// typed by this user.
pub fn foreign_values(game: &Game, scope: &Scope, typed: &BTreeMap<String, String>) -> BTreeSet<String> {
    let is_foreign = |name: &str, value: &str| {
        let rule = game.values.iter().find(|(known, _)| known == name).map(|(_, rule)| rule);
        let is_default = rule.is_some_and(|rule| rule.default.as_deref() == Some(value));
        !is_default
            && typed.get(name).is_none_or(|typed| typed != value)
            && !value.bytes().all(|byte| byte.is_ascii_digit())
    };
    let values = scope.values.iter().filter(|(name, value)| is_foreign(name, value));
    values.map(|(_, value)| value.clone()).collect()
}

/// Looks at a server: its values and its platform.
///
/// # Errors
/// Where a configuration file is broken or the folder cannot be read, or where a program would have to be run that
/// is not trusted.
pub fn survey(
    tree: &dyn Tree,
    game: &Game,
    given: &BTreeMap<String, String>,
    (queries, store): (Queries<'_>, &Store),
) -> Result<Survey, SurveyError> {
    let scope = values(tree, game, given)?;
    let foreign = foreign_values(game, &scope, &BTreeMap::new());
    let mut platform = Platform::default();
    for (part, rule) in &game.platform {
        let read = match rule {
            PlatformRule::File(place) => value_at(tree, place, &scope)?,
            PlatformRule::Inside { archive, place } => value_inside(tree, archive, place, &scope)?,
            // It would be asked of a program of this machine, which is not the server's.
            PlatformRule::Command { .. } if tree.local().is_none() => {
                platform.unknown.insert(part.clone());
                None
            }
            PlatformRule::Command { command, pattern } => {
                match ask((command, pattern), &scope, (queries, store), &foreign)? {
                    QueryAnswer::Version(version) => version,
                    QueryAnswer::Unknown => {
                        platform.unknown.insert(part.clone());
                        None
                    }
                }
            }
        };
        if let Some(version) = read.and_then(|text| ReleaseVersion::parse(text.trim()).ok()) {
            platform.parts.insert(part.clone(), version);
        }
    }
    for (kind, folders) in &game.provides {
        for folder in folders {
            let (base, paths) = expand(tree, &folder.render(&scope)?);
            let of_kind = |kind: &EntryKind| *kind == EntryKind::Folder;
            let folders: Vec<TreePath> =
                paths.iter().filter(|(_, kind)| of_kind(kind)).map(|(path, _)| path.clone()).collect();
            ahead::fetch_ahead(base.as_deref().unwrap_or(tree), game, &folders, &|_| false);
            for (path, entry) in paths {
                let name = path.name().to_owned();
                let is_file = matches!(entry, EntryKind::File(_));
                let rule = game.kinds.get(kind).filter(|rule| rule.shape == Shape::File && is_file);
                if let Some(rule) = rule {
                    let is_one = rule.suffix.as_ref().is_none_or(|suffix| name.ends_with(suffix.as_str()));
                    if let (true, Ok(id)) = (is_one, ContentId::new(rule.stem(&name))) {
                        platform.provides.insert(id, None);
                    }
                    continue;
                }
                let base = base.as_deref().unwrap_or(tree);
                let found = recognise(game, Shape::Folder, &name, &mut FolderBundle::within(base, &path));
                if let Ok(Some(found)) = found
                    && found.release.kind == *kind
                {
                    platform
                        .provides
                        .insert(found.id, Some(found.release.version).filter(|v| !v.is_unversioned()));
                }
            }
        }
    }
    // What could not be read is not what is not there.
    tree.check_reads()?;
    Ok(Survey { scope, platform })
}

/// Returns the contents, and the members of packs, that lie in folders of the system from which the server loads contents too. They
/// are not the server's own.
///
/// # Errors
/// Where a template of the definition cannot be filled.
pub fn available(tree: &dyn Tree, game: &Game, scope: &Scope) -> Result<BTreeSet<ContentId>, SurveyError> {
    let mut available = BTreeSet::new();
    for kind in game.kinds.values() {
        for rule in &kind.loads_from {
            let folder = rule.folder.render(scope)?;
            if !folder.starts_with('/') {
                continue;
            }
            let beside = tree.elsewhere(&folder);
            ahead::fetch_ahead(&*beside, game, &[TreePath::root()], &|_| false);
            for (name, _) in beside.list_folder(&TreePath::root()).unwrap_or_default() {
                let Ok(path) = TreePath::new(&name) else { continue };
                let mut bundle = FolderBundle::within(&*beside, &path);
                let Ok(Some(found)) = recognise(game, Shape::Folder, &name, &mut bundle) else { continue };
                available.extend(found.release.members.into_iter().map(|member| member.id));
                available.insert(found.id);
            }
        }
    }
    Ok(available)
}

/// Paths, and what each of them is.
type Expanded = Vec<(TreePath, EntryKind)>;

/// Expands a path that may end in `/*`: relative ones are relative to the server; for others the tree is returned as well that they
/// are in.
fn expand(tree: &dyn Tree, pattern: &str) -> (Option<Arc<dyn Tree>>, Expanded) {
    let (folder, name) = pattern.rsplit_once('/').unwrap_or(("", pattern));
    let other = folder.starts_with('/').then(|| tree.elsewhere(folder));
    let (base, folder) = match &other {
        Some(other) => (&**other, Ok(TreePath::root())),
        None => (tree, TreePath::new(folder)),
    };
    let Ok(folder) = folder else { return (other, Vec::new()) };
    let names = base.list(std::slice::from_ref(&folder), false).ok().and_then(|mut lists| lists.pop());
    let names = names.unwrap_or_default().into_iter().filter(|(other, _)| name == "*" || name == other);
    let paths = names.filter_map(|(name, kind)| Some((folder.join(&name).ok()?, kind))).collect();
    (other, paths)
}

/// Whether programs may be run to learn what a server brings.
#[derive(Debug, Clone, Copy)]
pub enum Queries<'a> {
    /// None: what was learned before counts.
    Remembered,
    /// Those that this user has agreed to.
    Run(&'a Trust),
}

/// What was learned from a program.
#[derive(Debug, Serialize, Deserialize)]
struct Learned {
    /// What told then that the program is the same.
    stamp: (u64, u64, u64, i64, i64),
    version: Option<String>,
}

fn stamp_of(program: &Path) -> Option<(u64, u64, u64, i64, i64)> {
    let metadata = std::fs::metadata(program).ok()?;
    Some((metadata.dev(), metadata.ino(), metadata.len(), metadata.mtime(), metadata.mtime_nsec()))
}

/// What a version query answers.
enum QueryAnswer {
    Version(Option<String>),
    /// It was not asked, and nothing is remembered.
    Unknown,
}

/// Asks for a version, or remembers what was answered last. A program that is not there answers nothing.
fn ask(
    (command, pattern): (&[Template], &Regex),
    scope: &Scope,
    (queries, store): (Queries<'_>, &Store),
    foreign: &BTreeSet<String>,
) -> Result<QueryAnswer, SurveyError> {
    let Some(invocation) = Invocation::of(command, &BTreeMap::new(), scope)? else {
        return Ok(QueryAnswer::Version(None));
    };
    let Some(stamp) = stamp_of(&invocation.program) else { return Ok(QueryAnswer::Version(None)) };
    let known = store.noted("versions", &invocation.key());
    let known = known.and_then(|(bytes, _)| serde_json::from_slice::<Learned>(&bytes).ok());
    match (known, queries) {
        (Some(known), _) if known.stamp == stamp => Ok(QueryAnswer::Version(known.version)),
        // It was brought up to date since; which version it is now is learned by the next change.
        (Some(known), Queries::Remembered) => Ok(QueryAnswer::Version(known.version)),
        (None, Queries::Remembered) => Ok(QueryAnswer::Unknown),
        (_, Queries::Run(trust)) => {
            if !trust.may_run(&invocation, foreign) {
                return Err(SurveyError::Untrusted { invocation: Box::new(invocation) });
            }
            let text = invocation.ask().unwrap_or_default();
            let version = pattern
                .captures(&text)
                .and_then(|groups| groups.name("version"))
                .map(|group| group.as_str().to_owned());
            let learned = Learned { stamp, version };
            if let Ok(bytes) = serde_json::to_vec(&learned) {
                // Not worth a failure: it would only be asked again.
                store.note("versions", &invocation.key(), &bytes).ok();
            }
            Ok(QueryAnswer::Version(learned.version))
        }
    }
}

/// Returns the definitions that recognise a folder.
///
/// # Errors
/// Where the folder cannot be read.
pub fn recognise_game<'a>(
    tree: &dyn Tree,
    games: impl IntoIterator<Item = &'a Game>,
    given: &BTreeMap<String, String>,
) -> Result<Vec<&'a Game>, SurveyError> {
    let mut found = Vec::new();
    for game in games {
        // A broken file in the folder must not hide that it is such a server.
        let scope = values(tree, game, given).unwrap_or_else(|_| default_scope(game));
        let there = |template: &Template| -> Result<bool, SurveyError> {
            let pattern = template.render(&scope)?;
            let (folder, name) = pattern.rsplit_once('/').unwrap_or(("", &pattern));
            let folder = TreePath::new(folder)?;
            let glob = GlobBuilder::new(name)
                .literal_separator(true)
                .build()
                .ok()
                .map(|glob| glob.compile_matcher());
            let fits = |other: &str| other == name || glob.as_ref().is_some_and(|glob| glob.is_match(other));
            let names = match tree.list_folder(&folder) {
                // Where a link leads out of the folder is not this server's.
                Err(error) if error.refusal().is_some() => Vec::new(),
                names => names?,
            };
            Ok(names.iter().any(|(other, _)| fits(other)))
        };
        let all = game.recognise_all.iter().map(&there).collect::<Result<Vec<_>, _>>()?;
        let any = game.recognise_any.iter().map(&there).collect::<Result<Vec<_>, _>>()?;
        let says_something = !(all.is_empty() && any.is_empty());
        if says_something && all.iter().all(|yes| *yes) && (any.is_empty() || any.contains(&true)) {
            found.push(game);
        }
    }
    Ok(found)
}

/// Returns what a server plays, as its own files say.
///
/// # Errors
/// Where one of them is broken.
pub fn played(tree: &dyn Tree, game: &Game, scope: &Scope) -> Result<MapsSection, SurveyError> {
    let Some(maps) = &game.maps else { return Ok(MapsSection::default()) };
    let list = |list: &Option<ListPlace>| match list {
        Some(list) => items_of(tree, list, scope),
        None => Ok(None),
    };
    Ok(MapsSection {
        play: value_at(tree, &maps.play, scope)?.filter(|name| !name.is_empty()),
        rotate: list(&maps.rotate)?,
        offer: list(&maps.offer)?,
    })
}

/// Returns the items of a list, or nothing if it has none.
fn items_of(tree: &dyn Tree, list: &ListPlace, scope: &Scope) -> Result<Option<Vec<String>>, SurveyError> {
    let ListPlace { place, separator, .. } = list;
    let file = TreePath::new(&place.file.render(scope)?)?;
    let Some(bytes) = tree.read_file(&file)? else { return Ok(None) };
    let document = Document::read(place.format, bytes)
        .map_err(|source| SurveyError::Broken { path: file.to_string(), source })?;
    let Ok(pointer) = Pointer::parse(&place.pointer.render(scope)?) else { return Ok(None) };
    let items = match separator {
        Some(separator) => document.parts(&pointer, separator),
        None => document.items(&pointer).unwrap_or_default().iter().map(Value::plain).collect(),
    };
    Ok((!items.is_empty()).then_some(items))
}

/// Returns the items that a list lacks for the played map.
///
/// # Errors
/// If the list's file cannot be parsed.
pub fn missing_with(
    tree: &dyn Tree,
    game: &Game,
    scope: &Scope,
    map: &str,
) -> Result<Option<String>, SurveyError> {
    let Some((rule, with)) = game.maps.as_ref().and_then(|rule| Some((rule, rule.with.as_ref()?))) else {
        return Ok(None);
    };
    let Some(of_map) = rule.scope(scope, map) else { return Ok(None) };
    let item = with.item.render(&of_map)?;
    let there = items_of(tree, &with.list, scope)?.unwrap_or_default();
    Ok((!there.contains(&item)).then_some(item))
}

/// Returns the scope of a server of which nothing is known yet: every value as it is by default.
pub fn default_scope(game: &Game) -> Scope {
    let mut scope = Scope::default();
    let defaults =
        game.values.iter().map(|(name, rule)| (name.clone(), rule.default.clone().unwrap_or_default()));
    scope.values = defaults.collect();
    scope
}
