//! The desired state: which file belongs where, and what the server is told. A pure function of the lineup, the game
//! definition and the payloads.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::{
    catalogue::Side,
    control::Locked,
    document::{Format, Pointer, PointerError, Value},
    game::{Game, Kind, RegisterRule, RegisterVerb, RenderError, Scope},
    hint::Hint,
    id::{ContentId, Digest, ParseIdError, TreePath},
    route::{Payload, PlaceError, destination, scope_of},
};

/// One content of a lineup with its files.
#[derive(Debug, Clone, Copy)]
pub struct LineupEntry<'a> {
    /// The content and its release.
    pub locked: &'a Locked,
    /// Its files.
    pub payload: &'a Payload,
}

/// One file at one path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Placement {
    /// Whose file it is.
    pub content: ContentId,
    /// Its size in bytes.
    pub size: u64,
    /// The digest of its bytes.
    pub digest: Digest,
}

/// What a registration puts into a configuration file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Entry {
    /// One value.
    Set(Value),
    /// An item of a list.
    Item {
        /// The item.
        item: String,
        /// Whether the list follows the lineup's order.
        ordered: bool,
    },
}

/// One configuration entry that tells the server about a content.
#[derive(Debug, Clone, PartialEq)]
pub struct Registration {
    /// Whose entry it is.
    pub content: ContentId,
    /// The configuration file.
    pub file: TreePath,
    /// Its format.
    pub format: Format,
    /// The place in it.
    pub pointer: Pointer,
    /// What the file begins with where it does not exist.
    pub create: String,
    /// What is put there.
    pub entry: Entry,
}

/// What should be.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Desired {
    /// Each file by its path.
    pub placements: BTreeMap<TreePath, Placement>,
    /// The configuration entries, in the lineup's order.
    pub registrations: Vec<Registration>,
}

/// What stands against a desired state.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DesireError {
    /// A file cannot be placed.
    #[error("{content}: {source}")]
    Place {
        /// The content.
        content: ContentId,
        /// Why.
        source: PlaceError,
    },
    /// An entry cannot be made.
    #[error("{content}: {why}")]
    Register {
        /// The content.
        content: ContentId,
        /// Why.
        why: String,
    },
    /// Two contents want one path.
    #[error("{first} and {second} both place {path}")]
    SamePath {
        /// The path.
        path: TreePath,
        /// The one.
        first: ContentId,
        /// The other.
        second: ContentId,
    },
}

impl Hint for DesireError {
    fn hint(&self) -> Option<String> {
        match self {
            Self::Place { source, .. } => source.hint(),
            Self::Register { .. } => {
                Some("the game definition is at fault; yalotheca game check tests it".into())
            }
            Self::SamePath { second, .. } => Some(format!("drop one of them: yalotheca drop {second}")),
        }
    }
}

/// Computes the desired state of a lineup, given in load order.
///
/// # Errors
/// Where the definition's templates do not fit, or two contents want one path.
pub fn desire(game: &Game, server: &Scope, lineup: &[LineupEntry<'_>]) -> Result<Desired, DesireError> {
    let mut desired = Desired::default();
    for LineupEntry { locked, payload } in lineup {
        if locked.release.side == Side::Player {
            continue;
        }
        let content = &locked.id;
        let failed = |source: PlaceError| DesireError::Place { content: content.clone(), source };
        let kind = game.kinds.get(&locked.release.kind).ok_or_else(|| {
            failed(PlaceError::NoKind { game: game.name.clone(), kind: locked.release.kind.clone() })
        })?;
        let scope = scope_of(server, content, &locked.title, &locked.release);
        for file in &payload.files {
            let path = destination(kind, &scope, file).map_err(failed)?;
            let placement = Placement { content: content.clone(), size: file.size, digest: file.digest };
            if let Some(other) = desired.placements.insert(path.clone(), placement)
                && other.content != *content
            {
                return Err(DesireError::SamePath { path, first: other.content, second: content.clone() });
            }
        }
        register(kind, &scope, locked, &mut desired.registrations)
            .map_err(|why| DesireError::Register { content: content.clone(), why })?;
    }
    Ok(desired)
}

fn register(kind: &Kind, scope: &Scope, locked: &Locked, into: &mut Vec<Registration>) -> Result<(), String> {
    for rule in &kind.register {
        match &rule.each {
            None => into.push(registration(rule, scope, &locked.id)?),
            Some(of_kind) => {
                for member in locked.release.members.iter().filter(|member| member.kind == *of_kind) {
                    let mut scope = scope.clone();
                    scope.member.insert("id".into(), member.id.to_string());
                    scope.member.insert("folder".into(), member.folder.clone());
                    into.push(registration(rule, &scope, &locked.id)?);
                }
            }
        }
    }
    Ok(())
}

fn registration(rule: &RegisterRule, scope: &Scope, content: &ContentId) -> Result<Registration, String> {
    let text = |error: RenderError| error.to_string();
    let pointer = rule.place.pointer.render(scope).map_err(text)?;
    Ok(Registration {
        content: content.clone(),
        file: TreePath::new(&rule.place.file.render(scope).map_err(text)?)
            .map_err(|error: ParseIdError| error.to_string())?,
        format: rule.place.format,
        pointer: Pointer::parse(&pointer).map_err(|error: PointerError| error.to_string())?,
        create: rule.create.clone(),
        entry: match &rule.verb {
            RegisterVerb::Item { item, ordered } => {
                Entry::Item { item: item.render(scope).map_err(text)?, ordered: *ordered }
            }
            RegisterVerb::Set { text: Some(template), .. } => {
                Entry::Set(Value::Text(template.render(scope).map_err(text)?))
            }
            RegisterVerb::Set { plain, .. } => Entry::Set(plain.clone().unwrap_or(Value::Flag(true))),
        },
    })
}
