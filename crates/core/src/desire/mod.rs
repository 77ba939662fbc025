//! The desired state: which file belongs where, and what the server is told. A pure function of the lineup, the game
//! definition and the payloads.

mod announced;
mod registration;

use std::collections::BTreeMap;

pub use announced::PACK_OWNER;
pub(crate) use registration::picked;
pub use registration::{Entry, Registration};

use crate::{
    catalogue::Side,
    control::{AsFound, Locked, LockedPack, MapsSection, PackSection},
    game::{
        Game, Kind, RegisterRule, RegisterVerb, RenderError, Scope, SettingsFile, TWEAK_KIND, TWEAK_SUFFIX,
        Template,
    },
    hint::{Advice, Hint},
    id::{ContentId, Digest, TreePath},
    route::{Payload, PlaceError, Places, scope_of},
    settings::{SERVER, Settings},
    tweak::{TWEAK_FACT, Tweak},
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

/// What `yalotheca.toml` asks for besides the contents themselves.
#[derive(Debug, Clone, Copy)]
pub struct Asked<'a> {
    /// What is played.
    pub maps: &'a MapsSection,
    /// The settings.
    pub settings: &'a Settings,
    /// Contents and members of packs that are switched off, with the reasons.
    pub off: &'a BTreeMap<ContentId, String>,
    /// From which content an asset comes that several have, by its name.
    pub keep: &'a BTreeMap<String, ContentId>,
    /// The resource pack that players are offered.
    pub pack: Option<(&'a PackSection, &'a LockedPack)>,
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
    ConfigPlace {
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
    /// A tweak's parameter has no value, or a wrong one.
    #[error("{content}: {why}")]
    Parameter {
        /// The content.
        content: ContentId,
        /// What is wrong.
        why: String,
    },
    /// A map's name is none.
    #[error("[maps] in yalotheca.toml: {name:?}: {why}")]
    Map {
        /// The name.
        name: String,
        /// What is wrong.
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
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::ConfigPlace { source, .. } => source.hint(),
            Self::Parameter { content, .. } => Some(Advice::ShowParameters(content.to_string())),
            Self::Register { .. } => Some(Advice::CorrectDefinition),
            Self::Map { .. } => Some("rename the map's file, then list it by its new name".into()),
            Self::SamePath { second, .. } => Some(Advice::RemoveOneOf(second.to_string())),
        }
    }
}

/// Computes the desired state of a lineup, given in load order.
///
/// # Errors
/// Where the definition's templates do not fit, or two contents want one path.
pub fn desire(
    game: &Game,
    server: &Scope,
    lineup: &[LineupEntry<'_>],
    Asked { maps, settings, off, keep, pack }: Asked<'_>,
) -> Result<Desired, DesireError> {
    let mut desired = Desired::default();
    // Most contents have an entry and a file or more.
    desired.registrations.reserve(lineup.len());
    let files = lineup.iter().map(|entry| entry.payload.files.len());
    let mut placements: Vec<Placing> = Vec::with_capacity(files.sum());
    for LineupEntry { locked, payload } in lineup {
        if locked.release.side == Side::Player {
            continue;
        }
        let content = &locked.id;
        let failed = |source: PlaceError| DesireError::ConfigPlace { content: content.clone(), source };
        let kind = game.kinds.get(&locked.release.kind).ok_or_else(|| {
            failed(PlaceError::NoKind { game: game.name.clone(), kind: locked.release.kind.clone() })
        })?;
        let scope = content_scope(kind, server, locked, payload);
        let wrong = |why| DesireError::Register { content: content.clone(), why };
        if locked.release.kind == TWEAK_KIND {
            let from = desired.registrations.len();
            if !off.contains_key(content) {
                tweak(game, &scope, locked, settings, &mut desired.registrations)?;
            }
            // A tweak does not know how its game's server reads comments.
            for registration in &mut desired.registrations[from..] {
                if game.comments_anywhere.contains(registration.file.as_str()) {
                    registration.format = registration.format.with_comments_anywhere();
                }
            }
            continue;
        }
        let mut places = Places::new(kind, &scope).map_err(failed)?;
        if let Some(folder) = &locked.found.folder {
            places.move_to(folder);
        }
        for file in &payload.files {
            let path = places.of(file).map_err(failed)?;
            if gives_way(game, content, &path, (keep, lineup)) {
                continue;
            }
            let placement = Placement { content: content.clone(), size: file.size, digest: file.digest };
            let copies = places.copies_of(file).map_err(failed)?.into_iter();
            let copies = copies.filter(|path| !locked.found.unplaced.contains(path));
            let copies = copies.map(|path| Placing { path, placement: placement.clone(), is_copy: true });
            placements.extend(copies);
            placements.push(Placing { path, placement, is_copy: false });
        }
        let from = desired.registrations.len();
        register(kind, &scope, (locked, off), &mut desired.registrations).map_err(wrong)?;
        keep_as_found(&locked.found, from, &mut desired.registrations);
        set(&kind.settings, &scope, (content, settings), &mut desired.registrations).map_err(wrong)?;
    }
    desired.placements = by_path(placements)?;
    if let Ok(owner) = ContentId::new(SERVER) {
        let wrong = |why| DesireError::Register { content: owner.clone(), why };
        set(&game.settings, server, (&owner, settings), &mut desired.registrations).map_err(wrong)?;
    }
    if let Some(rule) = &game.maps {
        announced::play(rule, server, maps, &mut desired.registrations)?;
    }
    if let Some((rule, pack)) = game.pack.as_ref().zip(pack) {
        announced::offer(rule, server, pack, &mut desired.registrations)?;
    }
    tell_apart(&mut desired.registrations);
    Ok(desired)
}

/// Whether a file is an asset that comes from another content by the administrator's decision. Where that content is not on, the others'
/// copies come back.
fn gives_way(
    game: &Game,
    content: &ContentId,
    path: &TreePath,
    (keep, lineup): (&BTreeMap<String, ContentId>, &[LineupEntry<'_>]),
) -> bool {
    if keep.is_empty() {
        return false;
    }
    let name = game.assets.as_ref().and_then(|assets| assets.name(path.as_str()));
    let keeper = name.and_then(|name| keep.get(name)).filter(|keeper| *keeper != content);
    keeper.is_some_and(|keeper| lineup.iter().any(|entry| entry.locked.id == *keeper && !entry.locked.off))
}

/// A file that is going to be placed.
struct Placing {
    path: TreePath,
    placement: Placement,
    /// Whether it is placed besides.
    is_copy: bool,
}

/// Sorts placements by their paths. Two contents must not place one path, unless both bring the same copy: a key of the one who made
/// both, say. It stays as long as one of them does.
fn by_path(mut placements: Vec<Placing>) -> Result<BTreeMap<TreePath, Placement>, DesireError> {
    placements.sort_by(|a, b| a.path.cmp(&b.path));
    let is_clash = |[one, other]: [&Placing; 2]| {
        let is_shared = one.is_copy && other.is_copy && one.placement.digest == other.placement.digest;
        one.path == other.path && one.placement.content != other.placement.content && !is_shared
    };
    if let Some([first, second]) = placements.windows(2).find(|two| is_clash([&two[0], &two[1]])) {
        return Err(DesireError::SamePath {
            path: first.path.clone(),
            first: first.placement.content.clone(),
            second: second.placement.content.clone(),
        });
    }
    Ok(placements.into_iter().map(|Placing { path, placement, .. }| (path, placement)).collect())
}

/// Several blocks of one content in one file get names of their own.
fn tell_apart(registrations: &mut [Registration]) {
    let mut seen: BTreeMap<(TreePath, String), usize> = BTreeMap::new();
    for registration in registrations {
        let Entry::Block { name, .. } = &mut registration.entry else { continue };
        let times = seen.entry((registration.file.clone(), name.clone())).or_default();
        *times += 1;
        if *times > 1 {
            *name = format!("{name} {times}");
        }
    }
}

/// Takes out the entries from a place on that are not made for a content, since it was found without them.
fn keep_as_found(found: &AsFound, from: usize, registrations: &mut Vec<Registration>) {
    if found.unregistered.is_empty() {
        return;
    }
    let made = registrations.split_off(from);
    registrations.extend(made.into_iter().filter(|made| !found.unregistered.contains(&made.key())));
}

/// Returns the entries that a content has where everything about it is usual; none for what is switched off.
///
/// # Errors
/// Where a template of the definition does not fit it.
pub fn usual_registrations(
    game: &Game,
    server: &Scope,
    locked: &Locked,
    payload: &Payload,
    off: &BTreeMap<ContentId, String>,
) -> Result<Vec<Registration>, DesireError> {
    let wrong = |why| DesireError::Register { content: locked.id.clone(), why };
    let mut registrations = Vec::new();
    if let Some(kind) = game.kinds.get(&locked.release.kind) {
        let scope = content_scope(kind, server, locked, payload);
        register(kind, &scope, (locked, off), &mut registrations).map_err(wrong)?;
    }
    Ok(registrations)
}

/// The scope of a content with its main file.
fn content_scope(kind: &Kind, server: &Scope, locked: &Locked, payload: &Payload) -> Scope {
    let mut scope = scope_of(server, &locked.id, &locked.title, &locked.release);
    let is_main = |path: &str| kind.suffix.as_ref().is_none_or(|suffix| path.ends_with(suffix.as_str()));
    let main = payload.files.iter().find(|file| is_main(&file.path));
    scope.content.insert("file".into(), main.map_or_else(String::new, |file| file.path.clone()));
    scope
}

fn register(
    kind: &Kind,
    scope: &Scope,
    (locked, off): (&Locked, &BTreeMap<ContentId, String>),
    into: &mut Vec<Registration>,
) -> Result<(), String> {
    if off.contains_key(&locked.id) || locked.found.always_on {
        return Ok(());
    }
    for rule in &kind.register {
        if let Some(name) = &rule.for_each {
            for line in scope.fact.get(name).into_iter().flat_map(|text| text.lines()) {
                let mut scope = scope.clone();
                scope.found.insert("it".into(), line.to_owned());
                into.push(registration(rule, &scope, &locked.id)?);
            }
            continue;
        }
        match &rule.each {
            None => into.push(registration(rule, scope, &locked.id)?),
            Some(of_kind) => {
                let members = locked.release.members.iter().filter(|member| member.kind == *of_kind);
                for member in members.filter(|member| !off.contains_key(&member.id)) {
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

/// Returns what a rule puts, for one content.
///
/// # Errors
/// Says why it cannot be put.
pub fn registration(rule: &RegisterRule, scope: &Scope, content: &ContentId) -> Result<Registration, String> {
    let text = |error: RenderError| error.to_string();
    let (file, pointer) = rule.place.spot(scope)?;
    Ok(Registration {
        content: content.clone(),
        file,
        format: rule.place.format,
        pointer,
        create: rule.create.render(scope).map_err(text)?,
        waits: false,
        exclusive: false,
        enables: match rule.verb {
            // One value for the whole server names the content that is used, and does not enable one of several.
            RegisterVerb::Set(_) => rule.place.pointer.as_str().contains("{{"),
            _ => !rule.loads_unlisted,
        },
        entry: match &rule.verb {
            RegisterVerb::Set(value) => Entry::Set(value.render(scope).map_err(text)?),
            RegisterVerb::Item { item, ordered, separator, last, seen_as } => Entry::Item {
                item: item.render(scope).map_err(text)?,
                ordered: *ordered,
                separator: separator.clone(),
                alone: false,
                last: last.clone(),
                seen_as: seen_as.clone(),
                anywhere: false,
            },
            RegisterVerb::Number { item, consecutive } => {
                Entry::Number { item: item.render(scope).map_err(text)?, consecutive: *consecutive }
            }
            RegisterVerb::Block { name, text: inner } => Entry::Block {
                name: name.render(scope).map_err(text)?,
                text: inner.render(scope).map_err(text)?,
            },
        },
    })
}

/// What a tweak writes.
fn tweak(
    game: &Game,
    scope: &Scope,
    locked: &Locked,
    settings: &Settings,
    into: &mut Vec<Registration>,
) -> Result<(), DesireError> {
    let content = || locked.id.clone();
    let wrong = |why| DesireError::Register { content: content(), why };
    let Some(text) = locked.release.facts.get(TWEAK_FACT) else { return Ok(()) };
    let values: Vec<String> = game.values.iter().map(|(name, _)| name.clone()).collect();
    let tweak = Tweak::parse(TWEAK_SUFFIX, text, &values).map_err(|error| wrong(error.why))?;
    let none = BTreeMap::new();
    let asked = settings.get(locked.id.as_str()).and_then(|files| files.get(TWEAK_SUFFIX)).unwrap_or(&none);
    let filled = tweak.fill(asked).map_err(|why| DesireError::Parameter { content: content(), why })?;
    let scope = tweak.scope(scope.clone(), &filled);
    for fragment in &tweak.fragments {
        into.push(Registration {
            exclusive: true,
            ..registration(fragment, &scope, &locked.id).map_err(wrong)?
        });
    }
    Ok(())
}

/// The settings that are asked for in one owner's files.
fn set(
    files: &[SettingsFile],
    scope: &Scope,
    (owner, settings): (&ContentId, &Settings),
    into: &mut Vec<Registration>,
) -> Result<(), String> {
    let Some(asked) = settings.get(owner.as_str()) else { return Ok(()) };
    for rule in files {
        let text = |template: &Template| template.render(scope).map_err(|error| error.to_string());
        let Some(values) = asked.get(&text(&rule.short)?) else { continue };
        let file = TreePath::new(&text(&rule.file)?).map_err(|error| error.to_string())?;
        for (pointer, value) in values {
            into.push(Registration {
                content: owner.clone(),
                file: file.clone(),
                format: rule.format,
                pointer: pointer.clone(),
                create: rule.format.head().into(),
                waits: rule.appears,
                exclusive: false,
                enables: false,
                entry: Entry::Set(value.clone()),
            });
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::document::{Format, Pointer};

    #[test]
    fn two_blocks_of_one_content_in_one_file_are_two() {
        let block = |file: &str| Registration {
            content: ContentId::new("fog").unwrap(),
            file: TreePath::new(file).unwrap(),
            format: Format::Yaml,
            pointer: Pointer::root(),
            create: String::new(),
            waits: false,
            exclusive: false,
            enables: true,
            entry: Entry::Block { name: "fog".into(), text: "a: 1".into() },
        };
        let mut all = [block("x.yml"), block("x.yml"), block("y.yml")];
        tell_apart(&mut all);
        let names: Vec<String> = all
            .iter()
            .map(|one| if let Entry::Block { name, .. } = &one.entry { name.clone() } else { String::new() })
            .collect();
        assert_eq!(names, ["fog", "fog 2", "fog"]);
    }
}
