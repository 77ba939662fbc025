//! What lies in a server's folder: contents wherever they are, and what is none.

use std::{
    collections::{BTreeSet, HashSet},
    fmt,
    path::PathBuf,
};

use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use yalotheca_core::{
    catalogue::Recognised,
    game::{DescribeError, Game, RenderError, Scope, Shape},
    id::TreePath,
    route::{Asked, Payload, PayloadFile, recognise, scope_of, sort_out},
};

use super::{
    SurveyError,
    ahead::{bears_suffix, fetch_ahead},
};
use crate::{
    archive::{FolderBundle, ZipBundle, folder_payloads},
    mirror::RECORD,
    settle::OWN,
    tree::{EntryKind, Tree},
};

/// A content found in a server's folder.
#[derive(Debug, Clone)]
pub struct FoundContent {
    /// What it is.
    pub content: Recognised,
    /// The file or folder.
    pub path: TreePath,
    /// Its files.
    pub payload: Payload,
}

/// What lies in a server's folder.
#[derive(Debug, Clone, Default)]
pub struct Inventory {
    /// Contents, wherever they lie.
    pub contents: Vec<FoundContent>,
    /// What bears the mark of a content and cannot be read.
    pub unreadable: Vec<(TreePath, DescribeError)>,
    /// Files in folders of contents that are none.
    pub strangers: Vec<TreePath>,
    /// Symbolic links in folders of contents that lead out of the server's folder, or nowhere. They are not followed.
    pub links_out: Vec<LinkOut>,
    /// Symbolic links to folders of the server, and where they lead.
    pub links: Vec<(TreePath, TreePath)>,
}

/// A symbolic link that leads out of the server's folder, or nowhere.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct LinkOut {
    /// The link.
    pub path: TreePath,
    /// Where it leads.
    pub target: PathBuf,
}

impl fmt::Display for LinkOut {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { path, target } = self;
        write!(f, "{path} is a symbolic link to {}, which is not in the server's folder", target.display())
    }
}

impl Inventory {
    /// Returns whether two paths lead to one folder, one of them by a symbolic link.
    pub fn are_one(&self, one: &TreePath, other: &TreePath) -> bool {
        let real = |path: &TreePath| -> TreePath {
            let link = self
                .links
                .iter()
                .filter(|(link, _)| path.is_within(link))
                .max_by_key(|(link, _)| link.as_str().len());
            let below = link.and_then(|(link, real)| {
                let rest = path.as_str().strip_prefix(link.as_str())?.trim_start_matches('/');
                if rest.is_empty() { Some(real.clone()) } else { real.join(rest).ok() }
            });
            below.unwrap_or_else(|| path.clone())
        };
        one != other && real(one) == real(other)
    }

    /// Returns the link behind which a content of this name probably lies.
    pub fn link_named(&self, id: &str) -> Option<&LinkOut> {
        self.links_out.iter().find(|link| bears_name(link.path.name(), id))
    }
}

/// Returns whether a file or folder is called by a content's name: `bells`, `bells.zip`, `bells-1.2.zip`.
pub fn bears_name(file: &str, id: &str) -> bool {
    let (file, id) = (file.to_lowercase(), id.to_lowercase());
    let Some(rest) = file.strip_prefix(&id) else { return false };
    let is_version = |text: &str| text.trim_start_matches('v').starts_with(|c: char| c.is_ascii_digit());
    rest.is_empty() || rest.starts_with('.') || rest.strip_prefix(['-', '_', ' ']).is_some_and(is_version)
}

/// Looks through a server's folder for contents, wherever they lie, but not where worlds and saves are.
///
/// # Errors
/// Where the folder cannot be read.
pub fn inventory(tree: &dyn Tree, game: &Game, scope: &Scope) -> Result<Inventory, SurveyError> {
    inventory_beside(tree, game, scope, &HashSet::new())
}

/// The same, without the files of the contents in folders that somebody owns: their payloads are empty.
///
/// # Errors
/// Where the folder cannot be read.
#[expect(clippy::implicit_hasher, reason = "there is one caller")]
pub fn inventory_beside(
    tree: &dyn Tree,
    game: &Game,
    scope: &Scope,
    owned: &HashSet<TreePath>,
) -> Result<Inventory, SurveyError> {
    let mut found = Inventory::default();
    let content_folders = content_folders(game, scope);
    let loads_from = game.kinds.values().flat_map(|kind| &kind.loads_from);
    let mut folders: BTreeSet<TreePath> = loads_from
        .filter_map(|rule| TreePath::new(&rule.folder.render(scope).ok()?).ok())
        .filter(|folder| !folder.is_root())
        .collect();
    folders.extend(content_folders.iter().cloned());
    let protected = protected(game, scope)?;
    fetch_ahead(tree, game, &[TreePath::root()], &|path| protected.is_match(path));
    let mut in_folders = Vec::new();
    let mut links = Vec::new();
    let mut next = vec![(TreePath::root(), 0)];
    while let Some((folder, depth)) = next.pop() {
        let names = tree.list(std::slice::from_ref(&folder), false)?.pop().unwrap_or_default();
        if !folder.is_root() && is_mirror(tree, &folder, &names)? {
            continue;
        }
        for (name, sort) in names {
            let Ok(path) = folder.join(&name) else { continue };
            if name.starts_with(".yalotheca") || protected.is_match(path.as_str()) {
                continue;
            }
            match sort {
                EntryKind::Folder => {
                    links.extend(inner_link(tree, &scope.folder, &path).map(|real| (path.clone(), real)));
                    match recognise(game, Shape::Folder, &name, &mut FolderBundle::within(tree, &path)) {
                        Ok(Some(content)) if owned.contains(&path) => {
                            found.contents.push(FoundContent { content, path, payload: Payload::default() });
                        }
                        Ok(Some(content)) => in_folders.push((content, path)),
                        Ok(None) if depth < 8 => next.push((path, depth + 1)),
                        Ok(None) => {}
                        Err(error) => found.unreadable.push((path, error)),
                    }
                }
                EntryKind::File(_) => look_at_file(tree, game, path, &name, &content_folders, &mut found)?,
                EntryKind::Other => {
                    let holds_contents = |path: &TreePath| folders.contains(path);
                    if holds_contents(&path) || holds_contents(&folder) {
                        let target = tree.link_target(&path);
                        found.links_out.extend(target.map(|target| LinkOut { path, target }));
                    }
                }
            }
        }
    }
    // What could not be read is not what is not there.
    tree.check_reads()?;
    hide_behind_links(&mut in_folders, &mut found.contents, (&links, &folders));
    found.links = links;
    // Their files are looked at together, in the order of their paths.
    in_folders.sort_by(|a, b| a.1.cmp(&b.1));
    let (contents, paths): (Vec<Recognised>, Vec<TreePath>) = in_folders.into_iter().unzip();
    let payloads = folder_payloads(tree, &paths)?;
    let in_folders = contents.into_iter().zip(paths).zip(payloads);
    found.contents.extend(in_folders.map(|((content, path), payload)| FoundContent {
        content,
        path,
        payload,
    }));
    found.links_out.sort();
    let claimed: BTreeSet<TreePath> = found
        .contents
        .iter()
        .filter(|content| content.payload.files.len() > 1)
        .flat_map(|found| {
            let folder = found.path.parent();
            found.payload.files.iter().filter_map(move |file| folder.as_ref()?.join(&file.path).ok())
        })
        .collect();
    let settings = settings_files(game, scope, &found.contents);
    // Key files are checked with the signatures.
    let is_key =
        |path: &TreePath| game.signatures.as_ref().is_some_and(|rule| rule.key_name(path.as_str()).is_some());
    found.strangers.retain(|path| !claimed.contains(path) && !settings.contains(path) && !is_key(path));
    found.contents.sort_by(|a, b| (&a.content.id, &a.path).cmp(&(&b.content.id, &b.path)));
    found.strangers.sort();
    Ok(found)
}

/// What lies behind a link is seen through it, and is no second copy of itself, unless the server loads it from there as well.
fn hide_behind_links(
    in_folders: &mut Vec<(Recognised, TreePath)>,
    contents: &mut Vec<FoundContent>,
    (links, folders): (&[(TreePath, TreePath)], &BTreeSet<TreePath>),
) {
    let is_loaded = |path: &TreePath| path.parent().is_some_and(|parent| folders.contains(&parent));
    let is_hidden = |path: &TreePath| {
        !is_loaded(path) && links.iter().any(|(link, real)| link != path && path.is_within(real))
    };
    in_folders.retain(|(_, path)| !is_hidden(path));
    contents.retain(|found| !is_hidden(&found.path));
}

/// Returns where in the server's folder a symbolic link leads.
fn inner_link(tree: &dyn Tree, server: &str, path: &TreePath) -> Option<TreePath> {
    let target = tree.link_target(path)?;
    let text = target.to_str()?;
    let mut names: Vec<&str> = Vec::new();
    let parent = path.parent();
    let rest = if text.starts_with('/') {
        text.strip_prefix(server)?
    } else {
        names.extend(parent.as_ref().map(TreePath::as_str).unwrap_or_default().split('/'));
        text
    };
    for name in rest.split('/') {
        match name {
            "" | "." => {}
            ".." => drop(names.pop()?),
            name => names.push(name),
        }
    }
    names.retain(|name| !name.is_empty());
    TreePath::new(&names.join("/")).ok()
}

/// Returns whether a folder is a mirror, whose files are copies of the server's for players.
fn is_mirror(tree: &dyn Tree, folder: &TreePath, names: &[(String, EntryKind)]) -> Result<bool, SurveyError> {
    if !names.iter().any(|(name, _)| name == OWN) {
        return Ok(false);
    }
    let Ok(record) = folder.join(&format!("{OWN}/{RECORD}")) else { return Ok(false) };
    Ok(tree.kind_of(&record)?.is_some())
}

/// Returns the settings files of a server and of what lies on it.
fn settings_files(game: &Game, scope: &Scope, contents: &[FoundContent]) -> BTreeSet<TreePath> {
    let own = game.settings.iter().map(|rule| rule.file.render(scope));
    let of_contents = contents.iter().flat_map(|FoundContent { content, .. }| {
        let scope = scope_of(scope, &content.id, &content.title, &content.release);
        let rules = game.kinds.get(&content.release.kind).map(|kind| kind.settings.as_slice());
        rules.unwrap_or_default().iter().map(move |rule| rule.file.render(&scope))
    });
    own.chain(of_contents).filter_map(|file| TreePath::new(&file.ok()?).ok()).collect()
}

/// A file that is a content by itself, with its companions beside it. Returns whether it bears the name of one.
fn look_at_single(
    tree: &dyn Tree,
    game: &Game,
    path: &TreePath,
    name: &str,
    found: &mut Inventory,
) -> Result<bool, SurveyError> {
    let bears =
        |suffix: &Option<String>| suffix.as_ref().is_some_and(|suffix| name.ends_with(suffix.as_str()));
    let kinds = game.kinds.values().filter(|kind| kind.shape == Shape::File && bears(&kind.suffix));
    let mut few: BTreeSet<String> =
        kinds.flat_map(|kind| kind.companions_of(kind.stem(name)).chain([name.to_owned()])).collect();
    if few.is_empty() {
        return Ok(false);
    }
    few.insert(name.to_owned());
    let folder = path.parent().unwrap_or_else(TreePath::root);
    let mut bundle = FolderBundle::within(tree, &folder).only(few);
    let sorted = match sort_out(game, name, &mut bundle, &Asked::default()) {
        Ok(sorted) => sorted,
        Err(error) => {
            found.unreadable.push((path.clone(), error));
            return Ok(true);
        }
    };
    for (file, why) in sorted.broken {
        if file == name {
            found.unreadable.push((path.clone(), DescribeError { file, why }));
        }
    }
    for one in sorted.contents.into_iter().filter(|one| one.root == name) {
        let mut payload = Payload::default();
        for file in one.files {
            if let Some((digest, size)) = tree.digest_file(&folder.join(&file.from)?)? {
                payload.files.push(PayloadFile { path: file.path, size, digest, to: None });
            }
        }
        payload.files.sort_by(|a, b| a.path.cmp(&b.path));
        found.contents.push(FoundContent { content: one.content, path: path.clone(), payload });
    }
    Ok(true)
}

fn look_at_file(
    tree: &dyn Tree,
    game: &Game,
    path: TreePath,
    name: &str,
    content_folders: &BTreeSet<TreePath>,
    found: &mut Inventory,
) -> Result<(), SurveyError> {
    if look_at_single(tree, game, &path, name, found)? {
        return Ok(());
    }
    // Far away, not every file is opened to see what it is.
    if tree.local().is_none() && !bears_suffix(game, name) {
        if path.parent().is_some_and(|folder| content_folders.contains(&folder)) {
            found.strangers.push(path);
        }
        return Ok(());
    }
    let Some(file) = tree.open(&path)? else { return Ok(()) };
    let bundle = match ZipBundle::of_file(file) {
        Ok(bundle) => bundle,
        Err(error) => {
            let suffixes = game.kinds.values().filter_map(|kind| kind.suffix.as_ref());
            if suffixes.into_iter().any(|suffix| name.ends_with(suffix.as_str())) {
                let why = format!("a damaged archive: {error}");
                found.unreadable.push((path, DescribeError { file: name.into(), why }));
            }
            return Ok(());
        }
    };
    let recognised = match bundle {
        Some(mut bundle) => recognise(game, Shape::Archive, name, &mut bundle),
        None => Ok(None),
    };
    match recognised {
        // What the server stands on is what was found there, until another one is wanted.
        Ok(Some(content))
            if game.kinds.get(&content.release.kind).is_some_and(|kind| kind.brings.is_some()) => {}
        Ok(Some(content)) => {
            let Some((digest, size)) = tree.identify(std::slice::from_ref(&path))?.pop().flatten() else {
                return Ok(());
            };
            let payload = Payload { files: vec![PayloadFile { path: name.into(), size, digest, to: None }] };
            found.contents.push(FoundContent { content, path, payload });
        }
        Ok(None) => {
            if path.parent().is_some_and(|folder| content_folders.contains(&folder)) {
                found.strangers.push(path);
            }
        }
        Err(error) => found.unreadable.push((path, error)),
    }
    Ok(())
}

/// Returns the folders into which contents are placed, as far as they are the same for all contents.
pub fn content_folders(game: &Game, scope: &Scope) -> BTreeSet<TreePath> {
    let mut scope = scope.clone();
    for key in ["id", "title", "kind"] {
        scope.content.insert(key.into(), "\u{1}".into());
    }
    scope.release.insert("version".into(), "\u{1}".into());
    for kind in game.kinds.values() {
        let described = kind.describe.iter().flat_map(|rule| rule.facts.keys());
        scope.fact.extend(kind.facts.keys().chain(described).map(|name| (name.clone(), "\u{1}".into())));
    }
    let rules = game.kinds.values().flat_map(|kind| &kind.place);
    rules
        .filter_map(|rule| rule.into.render(&scope).ok())
        .filter_map(|text| TreePath::new(text.split('\u{1}').next().unwrap_or("")).ok())
        // Anything may lie at the top.
        .filter(|folder| !folder.is_root())
        .collect()
}

/// Paths that nothing may touch: worlds and saves.
#[derive(Debug, Clone)]
pub struct Protected(GlobSet);

impl Protected {
    /// Returns whether a path is one of them. A folder whose whole inside is protected is one itself.
    pub fn is_match(&self, path: &str) -> bool {
        self.0.is_match(path)
    }
}

/// Returns what nothing may touch.
///
/// # Errors
/// Where the definition's templates cannot be filled, or give no pattern.
pub fn protected(game: &Game, scope: &Scope) -> Result<Protected, SurveyError> {
    let mut set = GlobSetBuilder::new();
    for template in &game.never_touch {
        let pattern = template.render(scope)?;
        let wrong =
            |error: globset::Error| RenderError { template: pattern.clone(), why: error.kind().to_string() };
        let glob = |pattern: &str| GlobBuilder::new(pattern).literal_separator(true).build();
        set.add(glob(&pattern).map_err(wrong)?);
        if let Some(folder) = pattern.strip_suffix("/**") {
            set.add(glob(folder).map_err(wrong)?);
        }
    }
    let wrong =
        |error: globset::Error| RenderError { template: "[never-touch]".into(), why: error.to_string() };
    Ok(Protected(set.build().map_err(wrong)?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_files_and_contents() {
        for file in ["bells", "bells.zip", "Bells-1.2.zip", "bells_v2", "bells 3"] {
            assert!(bears_name(file, "bells"), "{file}");
        }
        for file in ["bell", "bells-of-brass.zip", "old-bells", "bellsong"] {
            assert!(!bears_name(file, "bells"), "{file}");
        }
    }
}
