//! The web folder from which players' games download files: what belongs in it, and whether players get it.

use crate::words::ServerName;
use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;
use yalotheca_core::{
    game::{MirrorFiles, MirrorIndex, MirrorNames, MirrorRule},
    id::{ContentId, Digest, TreePath},
    mirror::MirrorLayout,
};
use yalotheca_host::{
    archive::folder_payload,
    foreign_digest::{hex, sha1_from_hex},
    mirror::{MirrorRecord, WantedFile, link_to, read_record, sha1_of},
    survey::value_at,
    tree::{EntryKind, LocalTree},
};

use crate::{AppError, Server, words::wrong_target};

/// What belongs in a mirror.
#[derive(Debug, Default)]
pub struct NeededFiles {
    /// The files, by name.
    pub files: Vec<WantedFile>,
    /// The file that lists the others, with its name.
    pub index: Option<(TreePath, Vec<u8>)>,
}

/// Returns the game's rule for mirrors.
///
/// # Errors
/// If the game has none.
pub fn rule(server: &Server) -> Result<&MirrorRule, AppError> {
    server.game.mirror.as_ref().ok_or_else(|| AppError::Usage {
        what: format!(
            "players of a {} download nothing from a web folder, as far as its definition says",
            server.game.title
        ),
        hint: None,
    })
}

/// Returns the address that the server announces, if it does.
///
/// # Errors
/// If the file cannot be parsed.
pub fn address(server: &Server, rule: &MirrorRule) -> Result<Option<String>, AppError> {
    let there = value_at(&*server.tree, &rule.address, &server.survey.scope)?;
    Ok(there.map(|text| text.trim().to_owned()).filter(|text| !text.is_empty()))
}

/// Returns what players need of what is on the server and switched on. `known` has what an earlier mirror knew, so that digests are
/// not computed again.
///
/// # Errors
/// If the server cannot be read.
pub fn needed(server: &Server, rule: &MirrorRule, known: &MirrorRecord) -> Result<NeededFiles, AppError> {
    let layout = layout(server, rule)?;
    let index = server.tree.names(&server.fetcher.store().names_of(&*server.tree));
    let is_wanted = |path: &str| TreePath::new(path).is_ok_and(|path| layout.set_of(&path).is_some());
    // A link that stays in the folder is the file that it leads to; nothing behind others is given to anybody.
    let mut paths = index.files_and_links(is_wanted);
    // What lies in a folder that is a link is known by its owner.
    paths.extend(server.receipt()?.placed.keys().filter(|path| layout.set_of(path).is_some()).cloned());
    paths.sort();
    paths.dedup();
    let there = server.tree.metadata(&paths)?;
    let is_file = |there: &Option<EntryKind>| matches!(there, Some(EntryKind::File(_)));
    let paths: Vec<TreePath> =
        paths.into_iter().zip(there).filter(|(_, there)| is_file(there)).map(|(path, _)| path).collect();
    let owners = server.owners(&paths.iter().cloned().collect())?;
    let lock = &server.control.lock;
    let on: BTreeSet<&ContentId> = lock.on().map(|locked| &locked.id).collect();
    let is_off = |path: &TreePath| {
        owners.get(path).is_some_and(|(content, _)| lock.get(content).is_some() && !on.contains(content))
    };
    let paths: Vec<TreePath> = paths.into_iter().filter(|path| !is_off(path)).collect();
    let digests = server.tree.digest_found(&paths)?;
    let mut sources: Vec<Source<'_>> = paths
        .into_iter()
        .zip(digests)
        .filter_map(|(path, digest)| {
            let files = layout.set_of(&path)?;
            let (digest, bytes) = digest?;
            Some(Source { path, outside: None, files, digest, bytes })
        })
        .collect();
    for outside in layout.outside() {
        let tree = server.tree.elsewhere(&outside.folder);
        let tree = tree.with_inventory(Some(&server.fetcher.store().inventory_of(&*tree)));
        let payload = folder_payload(&*tree, &TreePath::root())?;
        for file in payload.files {
            let Some(path) = TreePath::new(&file.path).ok().filter(|path| outside.has(path)) else {
                continue;
            };
            let (files, folder) = (outside.files, Some(outside.folder.clone()));
            sources.push(Source { path, outside: folder, files, digest: file.digest, bytes: file.size });
        }
    }
    let sha1 = named_by_sha1(server, &sources, known)?;
    let mut wanted: BTreeMap<TreePath, WantedFile> = BTreeMap::new();
    for source in &sources {
        let hex = sha1.get(&source.digest).map(|digest| hex(digest.as_slice())).unwrap_or_default();
        for (name, compress) in source.files.names(&source.path, &hex) {
            let Ok(name) = TreePath::new(&name) else { continue };
            wanted.entry(name.clone()).or_insert_with(|| WantedFile {
                name,
                outside: source.outside.clone(),
                from: source.path.clone(),
                source: source.digest,
                bytes: source.bytes,
                compress,
            });
        }
    }
    let index = rule.index.as_ref().map(|index| index_of(index, sha1.into_values().collect())).transpose()?;
    Ok(NeededFiles { files: wanted.into_values().collect(), index })
}

fn layout<'a>(server: &Server, rule: &'a MirrorRule) -> Result<MirrorLayout<'a>, AppError> {
    rule.layout(&server.survey.scope).map_err(|why| AppError::Usage {
        what: format!("[mirror] in the definition of {}: {why}", server.game.title),
        hint: None,
    })
}

fn index_of(rule: &MirrorIndex, digests: Vec<[u8; 20]>) -> Result<(TreePath, Vec<u8>), AppError> {
    Ok((TreePath::new(&rule.file)?, rule.bytes(digests)))
}

struct Source<'a> {
    path: TreePath,
    /// The folder below which it lies, if that is not the server's.
    outside: Option<String>,
    files: &'a MirrorFiles,
    digest: Digest,
    bytes: u64,
}

/// Returns the SHA-1 of the sources that are named by it.
fn named_by_sha1(
    server: &Server,
    sources: &[Source<'_>],
    known: &MirrorRecord,
) -> Result<BTreeMap<Digest, [u8; 20]>, AppError> {
    let by_sha1 = || sources.iter().filter(|source| source.files.named == MirrorNames::Sha1);
    let earlier: BTreeMap<Digest, [u8; 20]> = known
        .files
        .iter()
        .filter_map(|(name, file)| Some((file.source, sha1_from_hex(name.as_str().split('.').next()?)?)))
        .collect();
    let mut found = BTreeMap::new();
    let mut missing = Vec::new();
    for source in by_sha1() {
        match earlier.get(&source.digest) {
            Some(sha1) => drop(found.insert(source.digest, *sha1)),
            None => missing.push(source),
        }
    }
    // By the folder below which they lie.
    let mut by_folder: BTreeMap<Option<&String>, Vec<&Source<'_>>> = BTreeMap::new();
    for source in missing {
        by_folder.entry(source.outside.as_ref()).or_default().push(source);
    }
    for (folder, own) in by_folder {
        let outside = folder.map(|folder| server.tree.elsewhere(folder));
        let tree = outside.as_deref().unwrap_or(&*server.tree);
        let paths: Vec<TreePath> = own.iter().map(|source| source.path.clone()).collect();
        for (source, sha1) in own.iter().zip(sha1_of(tree, &paths)?) {
            found.extend(sha1.map(|sha1| (source.digest, sha1)));
        }
    }
    Ok(found)
}

/// What a player finds at a mirror's address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AtMirror {
    /// The file, as far as was looked.
    Good,
    /// Something else, or nothing; in words.
    Wrong(String),
    /// The host does not answer; in words.
    Silent(String),
}

/// Asks for a file as a player's game does. `bytes` is the size that it should have, if that is known.
pub fn ask(server: &Server, address: &str, name: &TreePath, bytes: Option<u64>) -> AtMirror {
    let told = match server.fetcher.ask(&link_to(address, name)) {
        Ok(told) => told,
        Err(error) => return AtMirror::Silent(error.to_string()),
    };
    if let Some(wrong) = wrong_target(&told.sort) {
        return AtMirror::Wrong(wrong);
    }
    match (told.size, bytes) {
        (Some(there), Some(bytes)) if there != bytes => {
            AtMirror::Wrong(format!("it has {there} bytes instead of {bytes}"))
        }
        _ => AtMirror::Good,
    }
}

/// A mirror as it is.
#[derive(Debug, Serialize)]
pub struct MirrorStatus {
    /// The server, as people call it.
    pub server: ServerName,
    /// Where it is built.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub folder: Option<String>,
    /// Where it is published.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    /// The address that the server announces.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// How many files players need.
    pub files: usize,
    /// The files that were asked for at the address.
    pub asked: usize,
    /// What is wrong with the settings that announce it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub settings: Vec<String>,
    /// What players do not get, with the reason.
    pub problems: Vec<MirrorProblem>,
    /// Why the address could not be asked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub silent: Option<String>,
}

/// A file that players do not get.
#[derive(Debug, Serialize)]
pub struct MirrorProblem {
    /// Its address.
    pub link: String,
    /// The server's file.
    pub path: TreePath,
    /// Why, in words.
    pub why: String,
}

/// How many files are asked for at an address, unless all are.
const SAMPLE: usize = 32;

/// Returns how a mirror is: where, and whether players get from it what they need.
///
/// # Errors
/// If the game has no mirrors, or the server cannot be read.
pub fn status(server: &Server, all: bool) -> Result<MirrorStatus, AppError> {
    let rule = rule(server)?;
    let known = known(server);
    let needed = needed(server, rule, &known)?;
    let address = address(server, rule)?;
    let mut status = MirrorStatus {
        server: server.shown(),
        folder: server.control.wants.mirror.folder.clone(),
        target: server.control.wants.mirror.target.clone(),
        address: address.clone(),
        files: needed.files.len(),
        asked: 0,
        settings: settings_problems(server, rule, address.as_deref())?,
        problems: Vec::new(),
        silent: None,
    };
    let Some(address) = address.filter(|_| !server.fetcher.is_offline()) else { return Ok(status) };
    let most = if all { usize::MAX } else { SAMPLE };
    for file in asked_first(server, &needed.files).into_iter().take(most) {
        status.asked += 1;
        let bytes = known.files.get(&file.name).filter(|known| known.source == file.source);
        let bytes = bytes.map(|known| known.bytes).or(file.compress.is_none().then_some(file.bytes));
        match ask(server, &address, &file.name, bytes) {
            AtMirror::Good => {}
            AtMirror::Wrong(why) => {
                let link = link_to(&address, &file.name);
                status.problems.push(MirrorProblem { link, path: file.from.clone(), why });
            }
            AtMirror::Silent(why) => {
                status.silent = Some(why);
                break;
            }
        }
    }
    Ok(status)
}

/// Returns what is wrong with the settings that announce the mirror.
///
/// # Errors
/// If one of the files cannot be parsed.
pub fn settings_problems(
    server: &Server,
    rule: &MirrorRule,
    address: Option<&str>,
) -> Result<Vec<String>, AppError> {
    let Some(address) = address else { return Ok(Vec::new()) };
    let scope = &server.survey.scope;
    let mut problems = Vec::new();
    if rule.slash && !address.ends_with('/') {
        problems.push(format!("the address {address} must end in /, since games put names right behind it"));
    }
    for (place, value) in &rule.switches {
        let Ok(wanted) = value.render(scope) else { continue };
        let there = value_at(&*server.tree, place, scope)?;
        if let Some(there) = there.filter(|there| *there != wanted.plain()) {
            let name = place.pointer.render(scope).unwrap_or_default();
            let name = name.trim_start_matches('/').to_owned();
            problems.push(format!(
                "{name} is {there}, and the address has no effect unless it is {}",
                wanted.plain()
            ));
        }
    }
    Ok(problems)
}

/// Returns the record of the built mirror; an empty one if there is none.
pub fn known(server: &Server) -> MirrorRecord {
    let folder = server.control.wants.mirror.folder.as_ref();
    let folder = folder.map(|folder| server.control.folder.join(folder)).filter(|folder| folder.is_dir());
    folder.and_then(|folder| read_record(&LocalTree::new(&folder)).ok()).unwrap_or_default()
}

/// Returns one name of each file, those of maps that are played first.
pub fn asked_first<'a>(server: &Server, files: &'a [WantedFile]) -> Vec<&'a WantedFile> {
    let mut seen = BTreeSet::new();
    let mut first: Vec<&WantedFile> = files
        .iter()
        // The compressed form is the one that players ask for first.
        .filter(|file| file.compress.is_some())
        .chain(files.iter().filter(|file| file.compress.is_none()))
        .filter(|file| seen.insert(&file.from))
        .collect();
    let maps = &server.control.wants.maps;
    let named: Vec<&String> =
        maps.play.iter().chain(maps.rotate.iter().flatten()).chain(maps.offer.iter().flatten()).collect();
    first.sort_by_key(|file| {
        let stem = file.from.name().split('.').next().unwrap_or_default();
        named.iter().position(|name| *name == stem).unwrap_or(usize::MAX)
    });
    first
}
