//! The resource pack that players are offered: what is at its link, and whether the server announces the same digest.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use yalotheca_core::{
    control::{ControlFile, LockedPack, PackSection},
    document::Value,
    game::{Game, PackDigest, PackRule, Scope},
    hint::Advice,
    id::Digest,
    link::user_of,
};
use yalotheca_host::{
    archive::ZipBundle,
    fetch::Wanted,
    foreign_digest::{FileDigests, digest_file},
    survey::value_at,
    tree::Tree,
};

use crate::{
    AppError, Server,
    words::{size, wrong_target},
};

/// A pack's file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PackFile {
    /// The digest of its bytes.
    pub blake3: Digest,
    /// Its size.
    pub bytes: u64,
    /// The digest that the game uses, in hexadecimal.
    pub digest: String,
}

impl PackFile {
    /// Returns the lock of a pack that came from this link.
    pub fn locked(self, link: &str) -> LockedPack {
        let Self { blake3, bytes, digest } = self;
        LockedPack { link: link.into(), digest: Some(digest), blake3: Some(blake3), bytes: Some(bytes) }
    }
}

/// What is at a link.
#[derive(Debug)]
pub enum AtLink {
    /// A pack.
    Pack(PackFile),
    /// Something else, in words.
    Wrong(String),
    /// The host does not answer, in words.
    Silent(String),
    /// A file too large to download for a check: its size in bytes.
    NotRead(u64),
}

/// The pack that a server's own files announce.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct PackAsTold {
    /// The link, if a pack is offered.
    pub link: Option<String>,
    /// The digest.
    pub digest: Option<String>,
    /// Whether players who refuse it are turned away.
    pub must: Option<bool>,
}

/// Returns the game's rule for packs.
///
/// # Errors
/// If the game has none.
pub fn rule(server: &Server) -> Result<&PackRule, AppError> {
    server.game.pack.as_ref().ok_or_else(|| AppError::Usage {
        what: format!(
            "a {} offers players no resource pack, as far as its definition says",
            server.game.title
        ),
        hint: None,
    })
}

/// Returns the pack that a server's own files announce.
///
/// # Errors
/// If one of the files cannot be parsed.
pub fn as_told(tree: &dyn Tree, game: &Game, scope: &Scope) -> Result<PackAsTold, AppError> {
    let Some(rule) = &game.pack else { return Ok(PackAsTold::default()) };
    let is_given = |text: &String| !text.trim().is_empty();
    let must = match &rule.must {
        None => None,
        Some(must) => value_at(tree, &must.place, scope)?.and_then(|there| {
            let is = |value: Result<Value, _>| value.is_ok_and(|value| value.plain() == there);
            if is(must.yes.render(scope)) { Some(true) } else { is(must.no.render(scope)).then_some(false) }
        }),
    };
    let digest = match &rule.digest {
        Some((place, _)) => value_at(tree, place, scope)?.filter(is_given),
        None => None,
    };
    Ok(PackAsTold { link: value_at(tree, &rule.link, scope)?.filter(is_given), digest, must })
}

/// Returns the wants and the lock for a pack that was set up by hand.
pub fn taken_over(told: &PackAsTold) -> Option<(PackSection, LockedPack)> {
    // A password is never stored.
    let link = told.link.clone().filter(|link| user_of(link).is_none())?;
    let section = PackSection { links: vec![link.clone()], must: told.must };
    Some((section, LockedPack { link, digest: told.digest.clone(), blake3: None, bytes: None }))
}

/// Returns the pack that is offered then: the one that is locked, if its link is still wanted; else what the first link gives that gives
/// a pack.
///
/// # Errors
/// Where none of the links gives one.
pub fn resolve(server: &Server, wants: &ControlFile, anew: bool) -> Result<Option<LockedPack>, AppError> {
    let Some(PackSection { links, .. }) = &wants.pack else { return Ok(None) };
    let rule = rule(server)?;
    let locked = server.control.lock.pack.as_ref().filter(|pack| !anew && links.contains(&pack.link));
    if let Some(locked) = locked {
        return Ok(Some(locked.clone()));
    }
    let mut first = None;
    for link in links {
        match fetch(server, rule, link) {
            Ok((file, _)) => return Ok(Some(file.locked(link))),
            Err(error) => drop(first.get_or_insert(error)),
        }
    }
    Err(first.unwrap_or_else(|| AppError::Usage {
        what: "[pack] in yalotheca.toml has no link".into(),
        hint: Some("add the link that players download the pack from".into()),
    }))
}

/// Downloads the file at a link; returns the pack and its path in the cache.
///
/// # Errors
/// If it is not a pack.
pub fn fetch(server: &Server, rule: &PackRule, link: &str) -> Result<(PackFile, PathBuf), AppError> {
    let name = link.rsplit('/').next().unwrap_or(link).to_owned();
    let wanted = Wanted { url: link.into(), name, ..Wanted::default() };
    let came = server.fetcher.download(wanted)?;
    let file = read(rule, &came.path, link)?;
    Ok((file, came.path))
}

/// Reads a pack's file; `name` is used in messages.
///
/// # Errors
/// If it is not a pack.
pub fn read(rule: &PackRule, path: &Path, name: &str) -> Result<PackFile, AppError> {
    let failed = |source| AppError::Io { what: name.to_owned(), source };
    let refused = |what: String, hint: &str| AppError::Refused { what, hint: Some(Advice::Say(hint.into())) };
    match ZipBundle::open(path) {
        Err(error) => {
            let why = format!("{name} is not a complete zip archive: {error}");
            return Err(refused(why, "upload it again; the transfer was probably cut short"));
        }
        Ok(None) => return Err(refused(format!("{name} is not a zip archive"), "give the pack itself")),
        Ok(Some(archive)) => {
            if let Some(why) = what_is_wrong(rule, archive) {
                return Err(refused(
                    format!("{name}: {why}"),
                    "pack the folder's contents, not the folder itself",
                ));
            }
        }
    }
    let bytes = path.metadata().map_err(failed)?.len();
    if let Some(most) = rule.most.filter(|most| bytes > *most) {
        let why = format!("{name} has {}, but players' games take at most {}", size(bytes), size(most));
        return Err(refused(why, "make it smaller: leave out what players can do without"));
    }
    let kind = rule.digest.as_ref().map_or(PackDigest::Sha1, |(_, kind)| *kind);
    let FileDigests { blake3, bytes, foreign } = digest_file(path, kind).map_err(failed)?;
    Ok(PackFile { blake3, bytes, digest: foreign })
}

/// Says why the game would ignore an archive.
fn what_is_wrong(rule: &PackRule, archive: ZipBundle) -> Option<String> {
    let names: Vec<String> = archive.sums().into_iter().map(|(name, ..)| name).collect();
    let marker = &rule.marker;
    if names.contains(marker) {
        return None;
    }
    let deeper =
        names.iter().find(|name| name.strip_suffix(marker.as_str()).is_some_and(|at| at.ends_with('/')));
    Some(match deeper {
        Some(deeper) => format!("it holds {deeper}, one folder too deep; {marker} has to be at the top"),
        None => format!("there is no {marker} in it"),
    })
}

/// Larger packs are downloaded only for a check that reads every byte.
const LARGE: u64 = 64 << 20;

/// Finds out what is at a link. A file seen earlier is not downloaded again if its host reports it unchanged.
pub fn at_link(server: &Server, rule: &PackRule, link: &str, every_byte: bool) -> AtLink {
    let told = match server.fetcher.ask(link) {
        Ok(told) => told,
        Err(error) => return AtLink::Silent(error.to_string()),
    };
    if let Some(wrong) = wrong_target(&told.sort) {
        return AtLink::Wrong(wrong);
    }
    let store = server.fetcher.store();
    let kept = format!("pack {link}");
    let known = store.answer(&kept).filter(|(tag, _)| !tag.is_empty() && Some(tag) == told.tag.as_ref());
    let known = known.and_then(|(_, bytes)| serde_json::from_slice::<PackFile>(&bytes).ok());
    if let Some(known) = known.filter(|known| !every_byte && told.size.is_none_or(|size| size == known.bytes))
    {
        return AtLink::Pack(known);
    }
    if let Some(bytes) = told.size.filter(|bytes| *bytes > LARGE && !every_byte) {
        return AtLink::NotRead(bytes);
    }
    match fetch(server, rule, link) {
        Ok((file, _)) => {
            if let Some(tag) = &told.tag {
                // Losing this only costs another download.
                store.remember(&kept, tag, &serde_json::to_vec(&file).unwrap_or_default()).ok();
            }
            AtLink::Pack(file)
        }
        Err(error @ (AppError::Refused { .. } | AppError::Usage { .. })) => AtLink::Wrong(error.to_string()),
        Err(error) => AtLink::Silent(error.to_string()),
    }
}

/// Says how the file at a link differs from the digest that the server announces, if it does.
pub fn difference(told: &PackAsTold, file: &PackFile, kind: PackDigest) -> Option<String> {
    let digest = told.digest.as_ref()?;
    if digest.trim().eq_ignore_ascii_case(&file.digest) {
        return None;
    }
    let short = |digest: &str| digest.chars().take(10).collect::<String>();
    Some(format!(
        "the file at the link ({}) has the {} {}…, but the server announces {}…",
        size(file.bytes),
        kind.name(),
        short(&file.digest),
        short(digest.trim())
    ))
}
