//! The resource pack that players are offered: what its link gives, and whether the server says the same of it.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use yalotheca_core::{
    control::{ControlFile, LockedPack, PackSection},
    document::Value,
    game::{Game, PackDigest, PackRule, Scope},
    hint::Advice,
    id::Digest,
    link::{LinkTarget, user_of},
};
use yalotheca_host::{
    archive::ZipBundle,
    fetch::Wanted,
    foreign_digest::{FileDigests, digest_file},
    survey::value_at,
    tree::Tree,
};

use crate::{AppError, Server, words::size};

/// A pack, read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PackFile {
    /// The digest of its bytes.
    pub blake3: Digest,
    /// Its size.
    pub bytes: u64,
    /// Its digest as the game wants it.
    pub digest: String,
}

/// What a link gives.
#[derive(Debug)]
pub enum AtLink {
    /// A pack.
    Pack(PackFile),
    /// Something else, in words.
    Wrong(String),
    /// The host does not answer.
    Silent(String),
    /// It is so large that it was not fetched.
    NotRead(u64),
}

/// What a server's own files say of its pack.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct PackAsTold {
    /// The link; nothing where players are offered none.
    pub link: Option<String>,
    /// The digest.
    pub digest: Option<String>,
    /// Whether players must have it.
    pub must: Option<bool>,
}

/// Returns the game's rule about packs.
///
/// # Errors
/// Where it has none.
pub fn rule(server: &Server) -> Result<&PackRule, AppError> {
    server.game.pack.as_ref().ok_or_else(|| AppError::Usage {
        what: format!(
            "a {} offers players no resource pack, as far as its definition says",
            server.game.title
        ),
        hint: None,
    })
}

/// Returns what a server's own files say of its pack.
///
/// # Errors
/// Where one of them is broken.
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

/// Returns what is wanted and locked of a pack that somebody else has set up.
pub fn taken_over(told: &PackAsTold) -> Option<(PackSection, LockedPack)> {
    // A password is never noted.
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
            Ok((file, _)) => {
                return Ok(Some(LockedPack {
                    link: link.clone(),
                    digest: Some(file.digest),
                    blake3: Some(file.blake3),
                    bytes: Some(file.bytes),
                }));
            }
            Err(error) => drop(first.get_or_insert(error)),
        }
    }
    Err(first.unwrap_or_else(|| AppError::Usage {
        what: "[pack] in yalotheca.toml has no link".into(),
        hint: Some("players fetch the pack by a link: give one".into()),
    }))
}

/// Fetches what a link gives, and returns it with its place in the cache.
///
/// # Errors
/// Where it gives no pack.
pub fn fetch(server: &Server, rule: &PackRule, link: &str) -> Result<(PackFile, PathBuf), AppError> {
    let name = link.rsplit('/').next().unwrap_or(link).to_owned();
    let wanted = Wanted { url: link.into(), name, ..Wanted::default() };
    let came = server.fetcher.download(wanted)?;
    let file = read(rule, &came.path, link)?;
    Ok((file, came.path))
}

/// Reads a file that is to be a pack; `name` is what people know it by.
///
/// # Errors
/// Where it is none.
pub fn read(rule: &PackRule, path: &Path, name: &str) -> Result<PackFile, AppError> {
    let failed = |source| AppError::Io { what: name.to_owned(), source };
    let refused = |what: String, hint: &str| AppError::Refused { what, hint: Some(Advice::Say(hint.into())) };
    match ZipBundle::open(path) {
        Err(error) => {
            let why = format!("{name} is no whole zip archive: {error}");
            return Err(refused(why, "upload it again; the transfer was probably cut short"));
        }
        Ok(None) => return Err(refused(format!("{name} is no zip archive"), "give the pack itself")),
        Ok(Some(archive)) => {
            if let Some(why) = what_is_wrong(rule, archive) {
                return Err(refused(format!("{name}: {why}"), "pack it again, so that it lies at the top"));
            }
        }
    }
    let kind = rule.digest.as_ref().map_or(PackDigest::Sha1, |(_, kind)| *kind);
    let FileDigests { blake3, bytes, foreign } = digest_file(path, kind).map_err(failed)?;
    Ok(PackFile { blake3, bytes, digest: foreign })
}

/// Says why players would get nothing out of an archive.
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

/// Larger ones are fetched only where every byte is to be read.
const LARGE: u64 = 64 << 20;

/// Finds out what a link gives. What it gave earlier is not fetched again if its host says that it is the same.
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
                // It is only fetched once more where that cannot be kept.
                store.remember(&kept, tag, &serde_json::to_vec(&file).unwrap_or_default()).ok();
            }
            AtLink::Pack(file)
        }
        Err(error @ (AppError::Refused { .. } | AppError::Usage { .. })) => AtLink::Wrong(error.to_string()),
        Err(error) => AtLink::Silent(error.to_string()),
    }
}

/// Says what is wrong with what a link gives; nothing where it is a file.
pub fn wrong_target(target: &LinkTarget) -> Option<String> {
    Some(match target {
        LinkTarget::File => return None,
        LinkTarget::Page(title) if title.is_empty() => "it is a web page, not the file".into(),
        LinkTarget::Page(title) => format!("it is a web page (“{title}”), not the file"),
        LinkTarget::Login => "the host wants a login".into(),
        LinkTarget::Expired => "the link has expired".into(),
        LinkTarget::Missing => "there is nothing at that address".into(),
        LinkTarget::Failing(status) | LinkTarget::Refused(status) => format!("the host answers {status}"),
    })
}

/// Says how what a link gives differs from what the server tells players; nothing where it does not.
pub fn difference(told: &PackAsTold, file: &PackFile, kind: PackDigest) -> Option<String> {
    let digest = told.digest.as_ref()?;
    if digest.trim().eq_ignore_ascii_case(&file.digest) {
        return None;
    }
    let short = |digest: &str| digest.chars().take(10).collect::<String>();
    Some(format!(
        "the file there ({}) has the {} {}…, and players are told {}…",
        size(file.bytes),
        kind.name(),
        short(&file.digest),
        short(digest.trim())
    ))
}
