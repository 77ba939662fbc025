//! Maps stored as folders, installed by a content or by hand, and the folders with their saves.

use std::collections::BTreeMap;

use globset::Glob;
use serde::Serialize;
use yalotheca_core::{
    game::{MapFolders, Maps},
    id::{ContentId, TreePath},
};
use yalotheca_host::tree::{EntryKind, Tree};

use super::{MapLine, MapSource, NamedMaps};
use crate::{AppError, Server};

/// The saves of a map.
#[derive(Debug, Clone, Serialize)]
pub struct Saves {
    /// Their folder.
    pub folder: String,
    /// The number of files in it.
    pub files: usize,
    /// Their total size in bytes.
    pub bytes: u64,
}

/// Returns the maps of a server whose maps are folders.
pub(super) fn list(
    server: &Server,
    folders: &MapFolders,
    named: &NamedMaps,
) -> Result<Vec<MapLine>, AppError> {
    let found = Found::of(&*server.tree, &folders.pattern)?;
    let root = folders.root();
    // The first start creates them.
    let are_to_come =
        server.game.run.first.is_some() && server.tree.kind_of(&TreePath::new(root)?)?.is_none();
    let mut owners: BTreeMap<&str, &ContentId> = BTreeMap::new();
    for (path, placed) in server.receipt()?.placed.iter() {
        if let Some(map) = folders.map_of(path.as_str()) {
            owners.entry(map).or_insert(&placed.content);
        }
    }
    let paths: Vec<TreePath> = found.names.values().cloned().collect();
    let sizes: BTreeMap<&String, Saves> = found.names.keys().zip(contents(&*server.tree, &paths)?).collect();
    let mut maps: BTreeMap<&String, MapLine> = BTreeMap::new();
    for name in found.names.keys().chain(named.all()) {
        let origin = match (owners.get(name.as_str()), sizes.contains_key(name)) {
            (Some(_), true) => MapSource::Lineup,
            (None, true) => MapSource::ByHand,
            (_, false) if are_to_come => MapSource::Game,
            (_, false) => MapSource::Nowhere,
        };
        let mut map = MapLine::new(name, origin, named);
        map.id = owners.get(name.as_str()).map(|id| (*id).clone());
        map.bytes = sizes.get(name).map(|size| size.bytes);
        if origin == MapSource::Nowhere {
            if found.hides(name) {
                map.origin = MapSource::ByHand;
                map.notes
                    .push(format!("{root}/{name} lies behind a link that leads out of the server's folder"));
            } else {
                map.problems.push(format!("the server names {root}/{name}, and there is no such folder"));
            }
        }
        maps.insert(name, map);
    }
    Ok(maps.into_values().collect())
}

/// Adds its saves to each map; returns the saves of maps that are not installed.
pub fn add_saves(server: &Server, rule: &Maps, maps: &mut [MapLine]) -> Result<Vec<Saves>, AppError> {
    let Some(saves) = &rule.saves else { return Ok(Vec::new()) };
    let any = vec!["*"; rule.folders().map_or(1, MapFolders::depth)].join("/");
    let pattern = rule.scope(&server.survey.scope, &any).and_then(|scope| saves.render(&scope).ok());
    let Some(pattern) = pattern else { return Ok(Vec::new()) };
    let found = Found::of(&*server.tree, pattern.trim_end_matches('/'))?;
    let paths: Vec<TreePath> = found.names.into_values().collect();
    let mut of_none = Vec::new();
    for saves in contents(&*server.tree, &paths)? {
        let map =
            maps.iter_mut().find(|map| folder_of(server, rule, &map.name).as_ref() == Some(&saves.folder));
        match map {
            Some(map) => map.saves = Some(saves),
            None => of_none.push(saves),
        }
    }
    of_none.retain(|saves| saves.files > 0);
    Ok(of_none)
}

/// Returns the folder with the saves of a map.
pub fn folder_of(server: &Server, rule: &Maps, map: &str) -> Option<String> {
    let folder = rule.saves.as_ref()?.render(&rule.scope(&server.survey.scope, map)?).ok()?;
    Some(folder.trim_end_matches('/').to_owned())
}

/// The folders that match a pattern.
struct Found {
    /// By the text that the pattern's wildcards matched.
    names: BTreeMap<String, TreePath>,
    /// Links out of the server's folder that a map's folder may lie behind: names, or the first parts of names.
    links: Vec<String>,
}

impl Found {
    fn of(tree: &dyn Tree, pattern: &str) -> Result<Self, AppError> {
        let parts: Vec<&str> = pattern.split('/').collect();
        let fixed = parts.iter().take_while(|part| !part.contains(['*', '?', '[', '{'])).count();
        let mut level = vec![(String::new(), TreePath::new(&parts[..fixed].join("/"))?)];
        let mut links = Vec::new();
        for part in &parts[fixed..] {
            let Ok(glob) = Glob::new(part).map(|glob| glob.compile_matcher()) else { break };
            let folders: Vec<TreePath> = level.iter().map(|(_, path)| path.clone()).collect();
            let mut next = Vec::new();
            for ((name, path), inside) in level.iter().zip(tree.list(&folders, false)?) {
                for (own, kind) in inside.into_iter().filter(|(own, _)| glob.is_match(own)) {
                    let name = if name.is_empty() { own.clone() } else { format!("{name}/{own}") };
                    match kind {
                        EntryKind::Folder => next.push((name, path.join(&own)?)),
                        EntryKind::Other => links.push(name),
                        EntryKind::File(_) => {}
                    }
                }
            }
            level = next;
        }
        Ok(Self { names: level.into_iter().collect(), links })
    }

    /// Returns whether the map of this name may lie behind such a link.
    fn hides(&self, name: &str) -> bool {
        let is_link = |link: &String| {
            name.strip_prefix(link.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        };
        self.links.iter().any(is_link)
    }
}

/// Returns the number and size of the files in each folder.
fn contents(tree: &dyn Tree, folders: &[TreePath]) -> Result<Vec<Saves>, AppError> {
    /// Folders nested deeper than this are not counted.
    const DEEPEST: usize = 16;
    let mut all: Vec<Saves> =
        folders.iter().map(|folder| Saves { folder: folder.to_string(), files: 0, bytes: 0 }).collect();
    let mut level: Vec<(usize, TreePath)> = folders.iter().cloned().enumerate().collect();
    for _ in 0..DEEPEST {
        let paths: Vec<TreePath> = level.iter().map(|(_, path)| path.clone()).collect();
        let mut next = Vec::new();
        for ((index, path), inside) in level.iter().zip(tree.list(&paths, true)?) {
            for (name, kind) in inside {
                match kind {
                    EntryKind::Folder => next.push((*index, path.join(&name)?)),
                    EntryKind::File(bytes) => {
                        all[*index].files += 1;
                        all[*index].bytes += bytes;
                    }
                    EntryKind::Other => {}
                }
            }
        }
        if next.is_empty() {
            break;
        }
        level = next;
    }
    Ok(all)
}
