//! The web folder from which players' games download files: what belongs in it, and whether players get it.

use std::collections::{BTreeMap, BTreeSet};

use yalotheca_core::{
    game::{MirrorFiles, MirrorIndex, MirrorNames, MirrorRule},
    id::{ContentId, Digest, TreePath},
    mirror::MirrorLayout,
};
use yalotheca_host::{
    foreign_digest::{hex, sha1_from_hex},
    mirror::{MirrorRecord, WantedFile, link_to, sha1_of},
    survey::value_at,
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
    let paths = index.files(is_wanted);
    let owners = server.owners(&paths.iter().cloned().collect())?;
    let lock = &server.control.lock;
    let on: BTreeSet<&ContentId> = lock.on().map(|locked| &locked.id).collect();
    let is_off = |path: &TreePath| {
        owners.get(path).is_some_and(|(content, _)| lock.get(content).is_some() && !on.contains(content))
    };
    let paths: Vec<TreePath> = paths.into_iter().filter(|path| !is_off(path)).collect();
    let digests = server.tree.digest_found(&paths)?;
    let sources: Vec<Source<'_>> = paths
        .into_iter()
        .zip(digests)
        .filter_map(|(path, digest)| {
            let files = layout.set_of(&path)?;
            let (digest, bytes) = digest?;
            Some(Source { path, files, digest, bytes })
        })
        .collect();
    let sha1 = named_by_sha1(server, &sources, known)?;
    let mut wanted: BTreeMap<TreePath, WantedFile> = BTreeMap::new();
    for source in &sources {
        let hex = sha1.get(&source.digest).map(|digest| hex(digest.as_slice())).unwrap_or_default();
        for (name, compress) in source.files.names(&source.path, &hex) {
            let Ok(name) = TreePath::new(&name) else { continue };
            wanted.entry(name.clone()).or_insert_with(|| WantedFile {
                name,
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
    let paths: Vec<TreePath> = missing.iter().map(|source| source.path.clone()).collect();
    for (source, sha1) in missing.iter().zip(sha1_of(&*server.tree, &paths)?) {
        found.extend(sha1.map(|sha1| (source.digest, sha1)));
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
