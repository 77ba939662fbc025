//! Whether the parts of contents are signed by keys that the server accepts: what the game will do with each player, done before.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::Path,
};

use base64::{Engine as _, engine::general_purpose::STANDARD};
use ring::signature::{ED25519, UnparsedPublicKey};
use serde::Serialize;
use yalotheca_core::{
    game::Signatures,
    id::{Digest, TreePath},
};

use crate::{
    cache_file::keep_in_cache,
    threads::{cores, spread},
    tree::{Tree, TreeError, files_below},
};

/// A key file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyFile {
    /// The key's name.
    pub name: String,
    /// Its path.
    pub path: TreePath,
    /// Its bytes; nothing where the file is no key.
    pub key: Option<Vec<u8>>,
}

impl KeyFile {
    /// Returns the key in a file with these bytes.
    pub fn of(name: &str, path: &TreePath, bytes: &[u8]) -> Self {
        Self { name: name.to_owned(), path: path.clone(), key: line(bytes) }
    }

    /// Returns a short form of the key that people can compare; nothing where the file is no key.
    pub fn fingerprint(&self) -> Option<String> {
        Some(short_form(&self.digest()?))
    }

    /// Returns the digest of the key, or nothing if the file is not a key.
    pub fn digest(&self) -> Option<String> {
        Some(blake3::hash(self.key.as_ref()?).to_hex().to_string())
    }
}

/// Returns the short form of a key's digest.
pub fn short_form(digest: &str) -> String {
    let start = digest.get(..16).unwrap_or(digest);
    let fours = start.as_bytes().chunks(4).map(|four| String::from_utf8_lossy(four).into_owned());
    fours.collect::<Vec<_>>().join(" ")
}

/// The state of a part's signature.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case", tag = "state", content = "key")]
pub enum SignatureState {
    /// A key that the server accepts has signed it.
    Accepted(String),
    /// Signed by a key on the server; the signature was not verified because the part was not read.
    NotVerified(String),
    /// It is signed by a key that the server does not have.
    KeyMissing(String),
    /// The signature by this key is not one of these bytes: it is wrong, or the part was changed since.
    Wrong(String),
    /// It has no signature.
    Unsigned,
}

/// Reads the keys that a server accepts, by their paths.
///
/// # Errors
/// Where the folder cannot be read.
pub fn keys(tree: &dyn Tree, rule: &Signatures) -> Result<Vec<KeyFile>, TreeError> {
    let paths = files_below(tree, &[rule.root()], |path| rule.key_name(path).is_some())?;
    let texts = tree.read(&paths)?;
    let read = paths.into_iter().zip(texts).filter_map(|(path, text)| {
        let name = rule.key_name(path.as_str())?.to_owned();
        Some(KeyFile { name, key: text.as_deref().and_then(line), path })
    });
    Ok(read.collect())
}

/// A line of Base64.
fn line(bytes: &[u8]) -> Option<Vec<u8>> {
    STANDARD.decode(std::str::from_utf8(bytes).ok()?.trim()).ok()
}

/// A part of a content.
#[derive(Debug, Clone)]
pub struct Part {
    /// Its path.
    pub path: TreePath,
    /// The digest of its bytes, if known.
    pub digest: Option<Digest>,
}

/// Verifies parts with the accepted keys, on all cores. Unchanged parts verified before are known from the cache; the
/// bytes of the others come from `read`, and a part without bytes is not verified.
///
/// # Errors
/// Where something cannot be read.
pub fn verify(
    tree: &dyn Tree,
    rule: &Signatures,
    (parts, keys): (&[Part], &[KeyFile]),
    cache: &Path,
    read: impl Fn(&Part) -> Option<Vec<u8>> + Sync,
) -> Result<Vec<SignatureState>, TreeError> {
    let folders: BTreeSet<TreePath> = parts.iter().filter_map(|part| part.path.parent()).collect();
    let folders = Vec::from_iter(folders);
    let mut names: BTreeMap<&TreePath, Vec<String>> = BTreeMap::new();
    for (folder, list) in folders.iter().zip(tree.list(&folders, false)?) {
        names.insert(folder, list.into_iter().map(|(name, _)| name).collect());
    }
    // Each signature of each part.
    let mut signatures: Vec<(usize, String, TreePath)> = Vec::new();
    for (at, part) in parts.iter().enumerate() {
        let Some(folder) = part.path.parent() else { continue };
        for name in names.get(&folder).into_iter().flatten() {
            if let (Some(key), Ok(path)) = (rule.signer(part.path.name(), name), folder.join(name)) {
                signatures.push((at, key.to_owned(), path));
            }
        }
    }
    let paths: Vec<TreePath> = signatures.iter().map(|(.., path)| path.clone()).collect();
    let texts = tree.read(&paths)?;
    let mut known = Known::read(cache);
    let mut states: Vec<Vec<SignatureState>> = vec![Vec::new(); parts.len()];
    let mut open = Vec::new();
    for ((at, name, _), text) in signatures.iter().zip(texts) {
        let key = keys.iter().find(|key| key.name == *name).and_then(|key| key.key.as_ref());
        let (Some(key), Some(signature)) = (key, text.as_deref().and_then(line)) else {
            let state = if key.is_some() { SignatureState::Wrong } else { SignatureState::KeyMissing };
            states[*at].push(state(name.clone()));
            continue;
        };
        let seal = parts[*at].digest.map(|digest| seal(&digest, key, &signature));
        if seal.is_some_and(|seal| known.seals.contains(&seal)) {
            states[*at].push(SignatureState::Accepted(name.clone()));
        } else {
            open.push((*at, name.clone(), key, signature, seal));
        }
    }
    // Only a good signature is noted: what was wrong once is looked at again.
    let is_good = spread(&open, (cores(), 1), |(at, _, key, signature, _)| {
        let bytes = read(&parts[*at])?;
        Some(UnparsedPublicKey::new(&ED25519, key).verify(&bytes, signature).is_ok())
    });
    for ((at, name, .., seal), is_good) in open.into_iter().zip(is_good) {
        states[at].push(match is_good {
            Some(true) => {
                known.fresh.extend(seal);
                SignatureState::Accepted(name)
            }
            Some(false) => SignatureState::Wrong(name),
            None => SignatureState::NotVerified(name),
        });
    }
    tree.check_reads()?;
    known.write(cache);
    // One that is accepted is enough.
    let best = states.into_iter().map(|states| states.into_iter().min().unwrap_or(SignatureState::Unsigned));
    Ok(best.collect())
}

/// What stands for a good signature of certain bytes by a certain key.
fn seal(part: &Digest, key: &[u8], signature: &[u8]) -> Digest {
    Digest::of(&[part.hex().as_bytes(), key, signature].concat())
}

/// Good signatures that were seen before.
struct Known {
    seals: BTreeSet<Digest>,
    fresh: Vec<Digest>,
}

impl Known {
    fn read(file: &Path) -> Self {
        let text = fs::read_to_string(file).unwrap_or_default();
        let seals = text.lines().filter_map(|line| line.parse().ok()).collect();
        Self { seals, fresh: Vec::new() }
    }

    /// Keeps it. That it cannot be kept costs time only.
    fn write(&self, file: &Path) {
        if self.fresh.is_empty() {
            return;
        }
        let lines = self.seals.iter().chain(&self.fresh).map(|seal| format!("{seal}\n"));
        keep_in_cache(file, lines.collect::<String>().as_bytes());
    }
}
