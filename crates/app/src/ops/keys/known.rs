//! Remembered keys: a different key under a known name is never accepted silently.

use std::collections::{BTreeMap, BTreeSet};

use yalotheca_core::{
    change::{ChangeSet, Step},
    game::{Game, Signatures},
    hint::{Advice, Amendment},
    id::{Digest, TreePath},
};
use yalotheca_host::{
    signatures::{self, KeyFile, short_form},
    sources::{ByteSource, Sources},
    tree::Tree,
};

use crate::{
    AppError, OpenCatalogues, Server,
    plan::{Planned, sources_of},
};

/// Returns the keys known after a change, by name, as far as its files are known. Refuses a change that would replace a key that
/// is, or once was, on the server, unless the new key was accepted: the server would trust whatever the new key signs as if the author had
/// signed it.
///
/// # Errors
/// If a key would be replaced, or the server cannot be read.
pub(crate) fn known_after(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    planned: &Planned,
) -> Result<BTreeMap<String, String>, AppError> {
    let mut known = server.control.lock.keys.clone();
    let Some(rule) = &server.game.signatures else { return Ok(known) };
    let accepted = &server.options.accept_keys;
    let brought = brought(rule, &planned.change);
    let is_met = |one: &&Brought<'_>| known.contains_key(one.name) || one.before.is_some();
    let met: BTreeSet<&TreePath> = brought.iter().filter(is_met).map(|one| one.path).collect();
    let sources = if met.is_empty() {
        Sources::default()
    } else {
        sources_of(server, catalogues, planned, |path| met.contains(path))?.0
    };
    for one in brought.iter().filter(|one| met.contains(one.path)) {
        let Brought { name, path, before, after } = *one;
        let new = digest_of(server, (name, path), sources.get(after))?;
        let there = match before {
            Some(before) if before != after => server.tree.read_file(path)?,
            _ => None,
        };
        let there = there.and_then(|bytes| KeyFile::of(name, path, &bytes).digest());
        let earlier = there.filter(|there| Some(there) != new.as_ref());
        let is_now = earlier.is_some();
        let earlier =
            earlier.or_else(|| known.get(name).filter(|known| Some(*known) != new.as_ref()).cloned());
        if let Some(earlier) = earlier.filter(|_| !accepted.iter().any(|accepted| accepted == name)) {
            let (earlier, new) = (short_form(&earlier), new.map_or("no key".into(), |new| short_form(&new)));
            let is = if is_now {
                format!("would be replaced by another key: it is {earlier} now")
            } else {
                format!("would not be the same key as before: it was {earlier}")
            };
            return Err(AppError::Refused {
                what: format!("{path} {is} and would be {new}; nothing was changed"),
                hint: Some(Advice::Amend(Amendment::AcceptKey(name.to_owned()))),
            });
        }
        known.extend(new.map(|new| (name.to_owned(), new)));
    }
    let is_left = |name: &String| brought.iter().all(|one| one.name != name);
    if accepted.iter().any(is_left) {
        let there = single_keys(&signatures::keys(&*server.tree, rule)?);
        known.extend(there.into_iter().filter(|(name, _)| accepted.contains(name) && is_left(name)));
    }
    Ok(known)
}

/// Adds the keys that a change installs and that are not remembered yet.
///
/// # Errors
/// Where one cannot be read.
pub(crate) fn add_new(server: &Server, planned: &mut Planned, sources: &Sources) -> Result<(), AppError> {
    let Some(rule) = &server.game.signatures else { return Ok(()) };
    for Brought { name, path, after, .. } in brought(rule, &planned.change) {
        if !planned.lock.keys.contains_key(name)
            && let Some(digest) = digest_of(server, (name, path), sources.get(after))?
        {
            planned.lock.keys.insert(name.to_owned(), digest);
        }
    }
    Ok(())
}

/// A key that a change installs.
struct Brought<'c> {
    name: &'c str,
    path: &'c TreePath,
    before: Option<&'c Digest>,
    after: &'c Digest,
}

fn brought<'c>(rule: &Signatures, change: &'c ChangeSet) -> Vec<Brought<'c>> {
    let key = |step: &'c Step| {
        let Step::Put { path, before, after, .. } = step else { return None };
        Some(Brought { name: rule.key_name(path.as_str())?, path, before: before.as_ref(), after })
    };
    change.steps.iter().filter_map(key).collect()
}

/// Returns the digest of the key in a file about to be installed, or nothing if it is not a key or was not downloaded yet.
fn digest_of(
    server: &Server,
    (name, path): (&str, &TreePath),
    source: Option<&ByteSource>,
) -> Result<Option<String>, AppError> {
    let bytes = source.map(|source| source.read(&*server.tree)).transpose()?.flatten();
    Ok(bytes.and_then(|bytes| KeyFile::of(name, path, &bytes).digest()))
}

/// Returns the keys on a server by name, to be remembered when it is adopted.
///
/// # Errors
/// Where the server cannot be read.
pub(crate) fn on_server(tree: &dyn Tree, game: &Game) -> Result<BTreeMap<String, String>, AppError> {
    match &game.signatures {
        Some(rule) => Ok(single_keys(&signatures::keys(tree, rule)?)),
        None => Ok(BTreeMap::new()),
    }
}

/// Returns the digests of keys by name, without names that several keys share.
fn single_keys(files: &[KeyFile]) -> BTreeMap<String, String> {
    let single = |file: &&KeyFile| files.iter().all(|other| other.name != file.name || other.key == file.key);
    files.iter().filter(single).filter_map(|file| Some((file.name.clone(), file.digest()?))).collect()
}
