//! The keys that a server accepts, and whether the parts of contents are signed by them.

mod known;

use crate::words::ServerName;
use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
};

pub(crate) use known::{add_new, known_after, on_server};
use serde::Serialize;
use yalotheca_core::{
    change::Placed,
    check::Finding,
    hint::Advice,
    id::{ContentId, Digest, TreePath},
};
use yalotheca_host::signatures::{self, KeyFile, Part, SignatureState, short_form};

use crate::{AppError, Server, reading::Reading};

/// Keys and signatures of a server.
#[derive(Debug, Serialize)]
pub struct KeysReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// The parts of all enabled contents, each with the state of its signature.
    pub parts: Vec<PartLine>,
    /// Each key file.
    pub keys: Vec<KeyLine>,
}

/// A part of a content.
#[derive(Debug, Serialize)]
pub struct PartLine {
    /// The content.
    pub content: ContentId,
    /// Where the part lies.
    pub path: TreePath,
    /// The state of its signature.
    #[serde(flatten)]
    pub signature: SignatureState,
    /// Whether the part was edited since it was installed.
    pub edited: bool,
}

/// A key file.
#[derive(Debug, Serialize)]
pub struct KeyLine {
    /// The key's name.
    pub name: String,
    /// Where it lies.
    pub path: TreePath,
    /// A short form of the key that people can compare; nothing where the file is no key.
    pub fingerprint: Option<String>,
    /// Its digest, as the lock has it.
    #[serde(skip)]
    digest: Option<String>,
    /// What it is there for.
    pub role: KeyRole,
    /// The contents whose parts it signs.
    pub signs: BTreeSet<ContentId>,
}

/// What a key file is there for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum KeyRole {
    /// The game itself needs it.
    OfTheGame,
    /// It signs parts of contents that are on.
    Used,
    /// No content that is on is signed by it.
    Orphaned,
    /// Another file of the same name holds another key.
    Doubled,
    /// The file is no key.
    Broken,
}

/// Looks at keys and signatures. Nothing where the game has none.
///
/// # Errors
/// Where the server cannot be read.
pub fn keys(server: &Server, reading: Reading) -> Result<Option<KeysReport>, AppError> {
    let Some(rule) = &server.game.signatures else { return Ok(None) };
    let files = signatures::keys(&*server.tree, rule)?;
    let on: BTreeSet<&ContentId> = server.control.lock.on().map(|locked| &locked.id).collect();
    let placed = &server.receipt()?.placed;
    let signed: Vec<(&TreePath, &Placed)> = placed
        .iter()
        .filter(|(path, placed)| rule.parts.is_match(path.as_str()) && on.contains(&placed.content))
        .collect();
    let paths: Vec<TreePath> = signed.iter().map(|(path, _)| (*path).clone()).collect();
    let digests: Vec<Option<Digest>> = match reading {
        Reading::Files | Reading::Everything => {
            server.tree.digest(&paths)?.into_iter().map(|one| one.map(|(digest, _)| digest)).collect()
        }
        Reading::Records => signed.iter().map(|(_, placed)| Some(placed.digest)).collect(),
    };
    let parts: Vec<Part> =
        paths.into_iter().zip(digests).map(|(path, digest)| Part { path, digest }).collect();
    let store = server.fetcher.store();
    let bytes = |part: &Part| match reading {
        Reading::Files | Reading::Everything => server.tree.read_file(&part.path).ok().flatten(),
        Reading::Records => fs::read(store.file(&part.digest?)?).ok(),
    };
    let states = signatures::verify(&*server.tree, rule, (&parts, &files), &store.signatures(), bytes)?;
    let mut signs: BTreeMap<String, BTreeSet<ContentId>> = BTreeMap::new();
    let mut lines = Vec::new();
    for ((Part { path, digest }, (_, placed)), signature) in parts.into_iter().zip(signed).zip(states) {
        let content = placed.content.clone();
        if let SignatureState::Accepted(key) | SignatureState::NotVerified(key) | SignatureState::Wrong(key) =
            &signature
        {
            signs.entry(key.clone()).or_default().insert(content.clone());
        }
        let edited = digest.is_some_and(|digest| placed.digest != digest);
        lines.push(PartLine { content, path, signature, edited });
    }
    lines.sort_by(|a, b| (&a.content, &a.path).cmp(&(&b.content, &b.path)));
    let key = |file: &KeyFile| KeyLine {
        name: file.name.clone(),
        path: file.path.clone(),
        fingerprint: file.fingerprint(),
        digest: file.digest(),
        role: role(file, &files, (&rule.stay, &signs)),
        signs: signs.get(&file.name).cloned().unwrap_or_default(),
    };
    let keys = files.iter().map(key).collect();
    Ok(Some(KeysReport { server: server.shown(), parts: lines, keys }))
}

fn role(
    file: &KeyFile,
    all: &[KeyFile],
    (stay, signs): (&[String], &BTreeMap<String, BTreeSet<ContentId>>),
) -> KeyRole {
    if file.key.is_none() {
        KeyRole::Broken
    } else if all.iter().any(|other| other.name == file.name && other.key != file.key) {
        KeyRole::Doubled
    } else if stay.iter().any(|path| path == file.path.as_str()) {
        KeyRole::OfTheGame
    } else if signs.contains_key(&file.name) {
        KeyRole::Used
    } else {
        KeyRole::Orphaned
    }
}

/// Returns what is wrong with keys and signatures.
pub(crate) fn findings(server: &Server, reading: Reading) -> Result<Vec<Finding>, AppError> {
    let Some(report) = keys(server, reading)? else { return Ok(Vec::new()) };
    let mut found = Vec::new();
    let placed = &server.receipt()?.placed;
    let unplaced: Vec<&TreePath> =
        server.control.lock.on().flat_map(|locked| &locked.found.unplaced).collect();
    for PartLine { content, path, signature, edited } in &report.parts {
        let name = path.name();
        let (code, says) = match signature {
            SignatureState::Accepted(_) | SignatureState::NotVerified(_) => continue,
            SignatureState::KeyMissing(key) => (
                "key-missing",
                format!("{content}: {name} is signed by {key}, and the server has no key of that name"),
            ),
            SignatureState::Wrong(key) if *edited => (
                "signature",
                format!(
                    "{content}: {name} was edited since {key} signed it, so its signature is no longer good"
                ),
            ),
            SignatureState::Wrong(key) => (
                "signature",
                format!("{content}: the signature of {name} by {key} is not one of these bytes"),
            ),
            SignatureState::Unsigned => ("signature", format!("{content}: {name} is not signed")),
        };
        let is_key = |path: &TreePath, key: &str| {
            server.game.signatures.as_ref().and_then(|rule| rule.key_name(path.as_str())) == Some(key)
        };
        let fix = match signature {
            // A content that is here brings it.
            SignatureState::KeyMissing(key) if placed.keys().any(|path| is_key(path, key)) => Advice::Settle,
            SignatureState::KeyMissing(key) if unplaced.iter().any(|path| is_key(path, key)) => Advice::Fix,
            SignatureState::KeyMissing(key) => {
                Advice::Say(format!("put {key}'s key file into the folder of keys; its author publishes it"))
            }
            _ if *edited => Advice::ReplaceEdited(path.to_string()),
            _ => Advice::Say("get it again, or ask its author; players are turned away because of it".into()),
        };
        found.push(Finding::trouble(code, content.as_str(), says, Some(fix)));
    }
    for KeyLine { name, path, role, digest, .. } in &report.keys {
        let earlier = server.control.lock.keys.get(name);
        if let (Some(earlier), Some(now)) = (earlier, digest)
            && earlier != now
            && *role != KeyRole::Doubled
        {
            let says = format!(
                "{path} is not the same key as before: it was {} and is now {}",
                short_form(earlier),
                short_form(now)
            );
            found.push(Finding::trouble("key-changed", name, says, Some(Advice::CompareKey(name.clone()))));
        }
        match role {
            KeyRole::OfTheGame | KeyRole::Used => {}
            KeyRole::Orphaned => {
                let says = format!("{path} is a key that signs nothing that is on");
                let fix = Advice::Say("remove it if nothing else needs it; anyone who holds the private half can sign contents that the server accepts".into());
                found.push(Finding::note("key-orphaned", name, says, Some(fix)));
            }
            KeyRole::Doubled => {
                let says = format!("{path} is one of several files called {name} that hold different keys");
                let fix = Advice::Say("find out which is the author's, and take the others away".into());
                found.push(Finding::trouble("key-doubled", name, says, Some(fix)));
            }
            KeyRole::Broken => {
                let says = format!("{path} holds no key");
                found.push(Finding::trouble("key-broken", name, says, Some("get it again".into())));
            }
        }
    }
    Ok(found)
}
