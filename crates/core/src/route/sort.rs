//! Sorting out what came: which contents are in an archive or a folder, what belongs to each, what is left out and why,
//! and what nobody knows a place for. A pure function of names, a few first bytes and descriptors.

use std::collections::{BTreeMap, BTreeSet};

use globset::GlobMatcher;

use super::{Bundle, Inner, recognise, recognise_as};
use crate::{
    catalogue::Recognised,
    game::{DescribeError, Game, Kind, Shape},
    id::TreePath,
};

/// What the administrator says about it.
#[derive(Debug, Clone, Default)]
pub struct Asked {
    /// Which kind it is, where that cannot be seen.
    pub kind: Option<String>,
    /// Where files go that nobody knows a place for: patterns and folders of the server.
    pub place: Vec<(GlobMatcher, TreePath)>,
    /// What stays out.
    pub leave: Vec<GlobMatcher>,
}

/// One file of a content that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundFile {
    /// Its path in the bundle.
    pub from: String,
    /// Its path in the content.
    pub path: String,
    /// Where it goes, where the administrator said so.
    pub to: Option<TreePath>,
}

/// One content in a bundle.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SortedContent {
    /// What it is.
    pub content: Recognised,
    /// The file or folder that it is; empty for the top.
    pub root: String,
    /// Its files.
    pub files: Vec<FoundFile>,
}

/// A file that is not placed, and why.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct LeftOut {
    /// Its path; of a whole folder that ends in `/`.
    pub path: String,
    /// Why.
    pub why: String,
}

/// A bundle, sorted out. Every file of it is in exactly one of these.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Sorted {
    /// The contents.
    pub contents: Vec<SortedContent>,
    /// What is left out.
    pub left_out: Vec<LeftOut>,
    /// Archives that are no content themselves and may hold some.
    pub inner: Vec<String>,
    /// What nobody knows a place for.
    pub unrouted: Vec<String>,
    /// Files that bear a kind's name and are something else: the file, and what is wrong.
    pub broken: Vec<(String, String)>,
}

/// Why a file that no content claims is left out, by its name in lower case.
fn left_out_by_name(name: &str) -> Option<&'static str> {
    let (stem, suffix) = name.rsplit_once('.').unwrap_or((name, ""));
    let begins = |words: &[&str]| words.iter().any(|word| stem.starts_with(word));
    match suffix {
        "exe" | "msi" | "dmg" | "deb" | "rpm" => Some("an installer or a program; nothing is run"),
        "sh" | "bat" | "cmd" | "ps1" if begins(&["install", "setup", "uninstall"]) => {
            Some("an installer; nothing is run")
        }
        "sh" | "bat" | "cmd" | "ps1" => Some("a start script; yours stays"),
        "log" => Some("a log"),
        "md" | "pdf" | "html" | "htm" | "url" | "rst" | "asc" | "sha256" | "md5" => {
            Some("for people to read")
        }
        _ if begins(&[
            "readme",
            "read me",
            "read_me",
            "license",
            "licence",
            "copying",
            "changelog",
            "changes",
            "credits",
            "authors",
        ]) =>
        {
            Some("for people to read")
        }
        "png" | "jpg" | "jpeg" | "gif" | "webp"
            if begins(&["screenshot", "preview", "banner", "thumbnail"]) =>
        {
            Some("a picture for people")
        }
        _ => None,
    }
}

/// Returns whether a path is a leftover of an operating system, such as a thumbnail cache.
pub fn is_litter(path: &str) -> bool {
    path.split('/').any(|name| {
        matches!(name, "__MACOSX" | ".DS_Store" | "Thumbs.db" | "desktop.ini" | ".git" | ".svn")
            || name.starts_with("._")
    })
}

fn base(path: &str) -> &str {
    path.rsplit_once('/').map_or(path, |(_, name)| name)
}

fn folder_of(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(folder, _)| folder)
}

fn inside<'p>(path: &'p str, folder: &str) -> Option<&'p str> {
    if folder.is_empty() { Some(path) } else { path.strip_prefix(folder)?.strip_prefix('/') }
}

/// Sorts out a bundle. `name` is the name of the file or folder, without what says that it is an archive.
///
/// # Errors
/// Where something bears a kind's mark and its descriptor cannot be read.
pub fn sort_out(
    game: &Game,
    name: &str,
    bundle: &mut dyn Bundle,
    asked: &Asked,
) -> Result<Sorted, DescribeError> {
    let mut files: Vec<(String, u64)> = bundle.files();
    files.sort();
    let mut sorting = Sorting { game, asked, sorted: Sorted::default(), left: BTreeMap::new() };
    files.retain(|(path, _)| match sorting.why_out(path) {
        Some(why) => {
            sorting.leave(path.clone(), why);
            false
        }
        None => true,
    });
    // Those are in order, and made into a map in one go.
    sorting.left = files.into_iter().collect();
    sorting.folders(name, bundle)?;
    sorting.archives(bundle)?;
    sorting.single_files(bundle)?;
    sorting.rest(bundle)?;
    Ok(sorting.sorted)
}

struct Sorting<'a> {
    game: &'a Game,
    asked: &'a Asked,
    sorted: Sorted,
    /// What nobody has claimed yet, with sizes.
    left: BTreeMap<String, u64>,
}

impl Sorting<'_> {
    /// Why a file is left out whatever it is.
    fn why_out(&self, path: &str) -> Option<&'static str> {
        if is_litter(path) {
            Some("system litter")
        } else if self.asked.leave.iter().any(|glob| glob.is_match(path)) {
            Some("you said so")
        } else {
            None
        }
    }

    fn leave(&mut self, path: String, why: &str) {
        self.sorted.left_out.push(LeftOut { path, why: why.into() });
    }

    /// Contents that are folders: those in whose folder a kind's mark lies. An outer one takes what is in it.
    fn folders(&mut self, name: &str, bundle: &mut dyn Bundle) -> Result<(), DescribeError> {
        let kinds = self.game.kinds.values().filter(|kind| kind.shape == Shape::Folder);
        let markers: BTreeSet<&str> = kinds.flat_map(|kind| &kind.marker).map(String::as_str).collect();
        let mut roots: BTreeSet<String> = BTreeSet::new();
        for path in self.left.keys() {
            for marker in &markers {
                if let Some(root) = path.strip_suffix(marker)
                    && (root.is_empty() || root.ends_with('/'))
                {
                    roots.insert(root.trim_end_matches('/').to_owned());
                }
            }
        }
        // In the order of names an outer folder comes before those in it.
        let mut last: Option<String> = None;
        for root in roots {
            if last.as_ref().is_some_and(|last| root != *last && inside(&root, last).is_some()) {
                continue;
            }
            let own = if root.is_empty() { name } else { base(&root) };
            let found = if root.is_empty() {
                recognise(self.game, Shape::Folder, own, bundle)?
            } else {
                recognise(self.game, Shape::Folder, own, &mut Inner { folder: &root, of: bundle })?
            };
            let Some(content) = found else { continue };
            let files = self.claim_below(&root);
            self.sorted.contents.push(SortedContent { content, root: root.clone(), files });
            last = Some(root);
        }
        Ok(())
    }

    fn claim_below(&mut self, root: &str) -> Vec<FoundFile> {
        let prefix = if root.is_empty() { String::new() } else { format!("{root}/") };
        let all = self.left.range(prefix.clone()..).map(|(path, _)| path);
        let count = all.take_while(|path| path.starts_with(&prefix)).count();
        let own: Vec<String> = if count == self.left.len() {
            std::mem::take(&mut self.left).into_keys().collect()
        } else {
            let own: Vec<String> =
                self.left.range(prefix.clone()..).take(count).map(|(path, _)| path.clone()).collect();
            for path in &own {
                self.left.remove(path);
            }
            own
        };
        let found = |from: String| FoundFile { path: from[prefix.len()..].to_owned(), from, to: None };
        own.into_iter().map(found).collect()
    }

    /// Archives that are contents themselves.
    fn archives(&mut self, bundle: &mut dyn Bundle) -> Result<(), DescribeError> {
        let kinds = self.game.kinds.values().filter(|kind| kind.shape == Shape::Archive);
        let suffixes: Vec<Option<&String>> = kinds.map(|kind| kind.suffix.as_ref()).collect();
        if suffixes.is_empty() {
            return Ok(());
        }
        let may_be =
            |path: &str| suffixes.iter().any(|suffix| path.ends_with(suffix.map_or(".zip", String::as_str)));
        let candidates: Vec<String> = self.left.keys().filter(|path| may_be(path)).cloned().collect();
        for path in candidates {
            let Some(mut inner) = bundle.open(&path) else {
                self.sorted.broken.push((path.clone(), "it is not an archive, or a damaged one".into()));
                self.left.remove(&path);
                continue;
            };
            let found = recognise(self.game, Shape::Archive, base(&path), &mut *inner)
                .map_err(|error| DescribeError { file: format!("{path}: {}", error.file), why: error.why })?;
            if let Some(content) = found {
                self.left.remove(&path);
                let file = FoundFile { from: path.clone(), path: base(&path).into(), to: None };
                self.sorted.contents.push(SortedContent { content, root: path, files: vec![file] });
            }
        }
        Ok(())
    }

    /// Contents that are single files, with their companions.
    fn single_files(&mut self, bundle: &mut dyn Bundle) -> Result<(), DescribeError> {
        let kinds: Vec<(&str, &Kind)> = self
            .game
            .kinds
            .iter()
            .filter(|(_, kind)| kind.shape == Shape::File)
            .map(|(name, kind)| (name.as_str(), kind))
            .collect();
        for (kind_name, kind) in kinds {
            let asked = self.asked.kind.as_deref() == Some(kind_name);
            let fits = |path: &str| kind.suffix.as_ref().is_none_or(|suffix| path.ends_with(suffix.as_str()));
            let paths: Vec<(String, u64)> = self
                .left
                .iter()
                .filter(|(path, _)| fits(path) && (kind.suffix.is_some() || asked))
                .map(|(path, size)| (path.clone(), *size))
                .collect();
            for (path, size) in paths {
                self.left.remove(&path);
                if let Err(why) = kind.looks_right(&bundle.head(&path, Kind::HEAD), size) {
                    self.sorted.broken.push((path, why));
                    continue;
                }
                self.one_file(kind_name, kind, path, bundle)?;
            }
        }
        Ok(())
    }

    fn one_file(
        &mut self,
        kind_name: &str,
        kind: &Kind,
        path: String,
        bundle: &mut dyn Bundle,
    ) -> Result<(), DescribeError> {
        let stem = kind.stem(base(&path)).to_owned();
        let mut files = vec![FoundFile { from: path.clone(), path: base(&path).into(), to: None }];
        for name in kind.companions_of(&stem) {
            let beside = if folder_of(&path).is_empty() {
                name.clone()
            } else {
                format!("{}/{name}", folder_of(&path))
            };
            let elsewhere = || self.left.keys().find(|other| base(other) == name).cloned();
            let from = if self.left.contains_key(&beside) { Some(beside) } else { elsewhere() };
            if let Some(from) = from {
                self.left.remove(&from);
                files.push(FoundFile { path: base(&from).into(), from, to: None });
            }
        }
        let mut together = Together { files: &files, of: bundle };
        let content = recognise_as(self.game, (kind_name, kind), base(&path), &mut together)?;
        self.sorted.contents.push(SortedContent { content, root: path, files });
        Ok(())
    }

    /// What nobody claimed.
    fn rest(&mut self, bundle: &mut dyn Bundle) -> Result<(), DescribeError> {
        for path in std::mem::take(&mut self.left).into_keys() {
            let told = self.asked.place.iter().find(|(glob, _)| glob.is_match(&path));
            if let (Some((_, folder)), Some(first)) = (told, self.sorted.contents.first_mut()) {
                let to = folder
                    .join(base(&path))
                    .map_err(|error| DescribeError { file: path.clone(), why: error.to_string() })?;
                first.files.push(FoundFile { path: path.clone(), from: path, to: Some(to) });
                continue;
            }
            let lower = path.to_lowercase();
            if let Some(rule) = self.game.leave_out.iter().find(|rule| rule.glob.is_match(&path)) {
                self.sorted.left_out.push(LeftOut { path, why: rule.why.clone() });
            } else if let Some(why) = left_out_by_name(base(&lower)) {
                self.leave(path, why);
            } else if bundle.is_archive(&path) {
                self.sorted.inner.push(path);
            } else {
                self.sorted.unrouted.push(path);
            }
        }
        Ok(())
    }
}

/// A file and its companions, wherever they lie, as one bundle.
struct Together<'a> {
    files: &'a [FoundFile],
    of: &'a mut dyn Bundle,
}

impl Together<'_> {
    fn from(&self, path: &str) -> Option<String> {
        self.files.iter().find(|file| file.path == path).map(|file| file.from.clone())
    }
}

impl Bundle for Together<'_> {
    fn has(&mut self, path: &str) -> bool {
        self.from(path).is_some()
    }
    fn read(&mut self, path: &str) -> Result<Option<Vec<u8>>, String> {
        self.from(path).map_or(Ok(None), |from| self.of.read(&from))
    }
    fn folders(&mut self, _: &str) -> Vec<String> {
        Vec::new()
    }
    fn files(&mut self) -> Vec<(String, u64)> {
        Vec::new()
    }
    fn head(&mut self, path: &str, most: usize) -> Vec<u8> {
        self.from(path).map(|from| self.of.head(&from, most)).unwrap_or_default()
    }
}
