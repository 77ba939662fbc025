//! From wants to a planned change: solve, order, desired state, change set. Nothing is changed here.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;
use yalotheca_core::{
    catalogue::{Release, Universe},
    change::{ChangeSet, Placed, Present, Settled, Source, Step, paths_of_interest, plan},
    control::{ControlFile, LockFile, Locked},
    desire::{Desired, LineupEntry, desire},
    id::{ContentId, Digest},
    order::{GaveWay, order},
    route::Payload,
    solve::{Answer, Explanation, Question, Selection, solve},
    version::{ReleaseVersion, VersionRange},
};
use yalotheca_host::{
    catalogue::{ByteSource, payload_of_release},
    tree::{Found, Tree},
};

use crate::{
    error::CommandError,
    session::{Session, Shelf},
};

/// Which contents may become newer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Fresh {
    /// None: what is locked stays where it can.
    None,
    /// These.
    These(BTreeSet<ContentId>),
    /// All.
    All,
}

impl Fresh {
    fn has(&self, id: &ContentId) -> bool {
        match self {
            Self::None => false,
            Self::These(ids) => ids.contains(id),
            Self::All => true,
        }
    }
}

/// What happens to one content.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum ContentAct {
    New,
    Newer,
    Older,
    Again,
    Gone,
}

/// One line about a content.
#[derive(Debug, Clone, Serialize)]
pub(crate) struct ContentLine {
    pub(crate) act: ContentAct,
    pub(crate) id: ContentId,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) from: Option<ReleaseVersion>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) to: Option<ReleaseVersion>,
    pub(crate) why: String,
}

/// A companion that could come along.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub(crate) struct Companion {
    pub(crate) id: ContentId,
    pub(crate) of: ContentId,
    pub(crate) available: bool,
}

/// A change that could be settled.
pub(crate) struct Planned {
    pub(crate) lock: LockFile,
    pub(crate) change: ChangeSet,
    pub(crate) contents: Vec<ContentLine>,
    pub(crate) companions: Vec<Companion>,
    pub(crate) gave_way: Vec<GaveWay>,
    pub(crate) circles: Vec<Vec<ContentId>>,
    pub(crate) desired: Desired,
}

/// Plans the change to what is wanted.
pub(crate) fn plan_change(
    session: &Session,
    shelf: &Shelf<'_>,
    wants: &ControlFile,
    fresh: &Fresh,
) -> Result<Planned, CommandError> {
    let (universe, selection) = choose(session, shelf, &wants.wants, fresh)?;
    let before = &session.control.lock;
    let releases: BTreeMap<ContentId, &Release> = selection
        .iter()
        .filter_map(|(id, version)| Some((id.clone(), universe.release(id, version)?)))
        .collect();
    let ordered = order(&releases, &before.order());
    let mut lineup = Vec::new();
    let mut payloads = Vec::new();
    for id in &ordered.ids {
        let mut locked = lock_one(&universe, before, id, releases[id]);
        payloads.push(payload(session, shelf, &mut locked, fresh)?);
        lineup.push(locked);
    }
    let entries: Vec<LineupEntry<'_>> =
        lineup.iter().zip(&payloads).map(|(locked, payload)| LineupEntry { locked, payload }).collect();
    let desired = desire(&session.game, &session.survey.scope, &entries)?;
    let settled = lineup
        .iter()
        .zip(payloads)
        .map(|(locked, payload)| (locked.id.clone(), Settled { payload }))
        .collect();
    let present = look(session, &desired)?;
    let change = plan(&desired, settled, &session.receipt, &present)?;
    let lock = LockFile { contents: lineup, ..LockFile::default() };
    let contents = content_lines(before, &lock, &wants.wants, &session.control.wants.wants);
    let companions = companions(shelf, before, &lock, session)?;
    Ok(Planned {
        lock,
        change,
        contents,
        companions,
        gave_way: ordered.gave_way,
        circles: ordered.circles,
        desired,
    })
}

/// Chooses releases. Where the lock alone answers, no catalogue is opened.
fn choose(
    session: &Session,
    shelf: &Shelf<'_>,
    wants: &BTreeMap<ContentId, VersionRange>,
    fresh: &Fresh,
) -> Result<(Universe, Selection), CommandError> {
    let lock = &session.control.lock;
    let platform = &session.survey.platform;
    let mut locked = lock.selection();
    locked.retain(|id, _| !fresh.has(id));
    let universe = lock.universe();
    if *fresh == Fresh::None && wants.keys().all(|id| universe.get(id).is_some()) {
        let question = Question { universe: &universe, platform, wants, locked: &locked };
        if let Answer::Lineup(selection) = solve(&question) {
            return Ok((universe, selection));
        }
    }
    let mut universe = shelf.get()?.reach(wants.keys().cloned())?;
    lock.join(&mut universe);
    if let Some(id) = wants.keys().find(|id| universe.get(id).is_none()) {
        return Err(Session::unknown(shelf, id)?);
    }
    match solve(&Question { universe: &universe, platform, wants, locked: &locked }) {
        Answer::Lineup(selection) => Ok((universe, selection)),
        Answer::None(explanation) => Err(CommandError::NoLineup(Box::new(with_commands(
            explanation,
            wants,
            &session.control.wants.wants,
        )))),
    }
}

/// What was asked for just now is not noted yet, so that a way out is another `add`, not a `drop`.
fn with_commands(
    mut explanation: Explanation,
    wants: &BTreeMap<ContentId, VersionRange>,
    noted: &BTreeMap<ContentId, VersionRange>,
) -> Explanation {
    let asked: Vec<(&ContentId, &VersionRange)> =
        wants.iter().filter(|(id, range)| noted.get(*id) != Some(*range)).collect();
    for way in &mut explanation.ways_out {
        let Some((changed, version)) = &way.want else { continue };
        if asked.is_empty() {
            continue;
        }
        let others = asked
            .iter()
            .filter(|(id, _)| *id != changed)
            .map(|(id, range)| if range.is_any() { id.to_string() } else { format!("'{id}@{range}'") });
        let own = version.as_ref().map(|version| format!("{changed}@={version}"));
        let words: Vec<String> = others.chain(own).collect();
        let add = (!words.is_empty()).then(|| format!("yalotheca add {}", words.join(" ")));
        let drop =
            (version.is_none() && noted.contains_key(changed)).then(|| format!("yalotheca drop {changed}"));
        way.command = match (drop, add) {
            (Some(drop), Some(add)) => Some(format!("{drop}; {add}")),
            (drop, add) => drop.or(add),
        };
    }
    explanation
}

/// Returns why a content cannot be had in a version, everything else staying as wanted.
pub(crate) fn why_not(
    session: &Session,
    shelf: &Shelf<'_>,
    id: &ContentId,
    version: &ReleaseVersion,
) -> Result<Option<Explanation>, CommandError> {
    let lock = &session.control.lock;
    let mut wants = session.control.wants.wants.clone();
    wants.insert(id.clone(), VersionRange::exactly(version));
    let mut universe = shelf.get()?.reach(wants.keys().cloned())?;
    lock.join(&mut universe);
    let locked = Selection::new();
    let platform = &session.survey.platform;
    match solve(&Question { universe: &universe, platform, wants: &wants, locked: &locked }) {
        Answer::Lineup(_) => Ok(None),
        Answer::None(explanation) => Ok(Some(explanation)),
    }
}

/// What was locked keeps what is known of it.
fn lock_one(universe: &Universe, before: &LockFile, id: &ContentId, release: &Release) -> Locked {
    if let Some(locked) = before.get(id).filter(|locked| locked.release.version == release.version) {
        let known =
            universe.get(id).filter(|content| content.release(&release.version) == Some(&locked.release));
        // A catalogue may have learned of what was only found on the server.
        if locked.catalogue.is_empty() && known.is_none() && release.files == locked.release.files {
            let catalogue = universe.get(id).map_or_else(String::new, |content| content.catalogue.clone());
            return Locked { catalogue, release: release.clone(), ..locked.clone() };
        }
        return locked.clone();
    }
    let content = universe.get(id);
    Locked {
        id: id.clone(),
        title: content.map_or_else(|| id.to_string(), |content| content.title.clone()),
        catalogue: content.map_or_else(String::new, |content| content.catalogue.clone()),
        release: release.clone(),
    }
}

fn payload(
    session: &Session,
    shelf: &Shelf<'_>,
    locked: &mut Locked,
    fresh: &Fresh,
) -> Result<Payload, CommandError> {
    if let Some(payload) = payload_of_release(&locked.release) {
        return Ok(payload);
    }
    if let (Some(digest), Some(settled), false) =
        (locked.release.payload, session.receipt.contents.get(&locked.id), fresh.has(&locked.id))
        && settled.payload.digest() == digest
    {
        return Ok(settled.payload.clone());
    }
    let payload = shelf.get()?.payload(locked)?;
    locked.release.payload = Some(payload.digest());
    Ok(payload)
}

/// Looks at everything on the server that the change may touch.
pub(crate) fn look(session: &Session, desired: &Desired) -> Result<Present, CommandError> {
    let (files, texts, folders) = paths_of_interest(desired, &session.receipt);
    let tree = &session.tree;
    let mut present = Present::default();
    for path in files {
        if let Some(found) = tree.digest(&path)? {
            present.files.insert(path, found);
        }
    }
    for path in texts {
        if let Some(bytes) = tree.read(&path)? {
            let text = String::from_utf8(bytes).map_err(|_| CommandError::Refused {
                what: format!("{path} is not UTF-8 text"),
                hint: Some("convert it, or take the contents that are registered in it out by hand".into()),
            })?;
            present.texts.insert(path, text);
        }
    }
    for path in folders {
        if tree.find(&path)? == Some(Found::Folder) {
            present.folders.insert(path);
        }
    }
    Ok(present)
}

/// Says for each content in a lineup why it is there.
pub(crate) fn reasons(
    lock: &LockFile,
    wants: &BTreeMap<ContentId, VersionRange>,
) -> BTreeMap<ContentId, String> {
    let mut needed: BTreeMap<ContentId, Vec<String>> = BTreeMap::new();
    for locked in &lock.contents {
        for need in locked.release.needed_ids() {
            let bearers = lock
                .contents
                .iter()
                .filter(|other| other.id != locked.id && other.release.stands_for(&other.id, need).is_some());
            for bearer in bearers {
                let list = needed.entry(bearer.id.clone()).or_default();
                if !list.contains(&locked.id.to_string()) {
                    list.push(locked.id.to_string());
                }
            }
        }
    }
    lock.contents
        .iter()
        .map(|locked| {
            let why = match (wants.get(&locked.id), needed.get(&locked.id)) {
                (Some(range), _) if range.is_any() => "you want it".to_owned(),
                (Some(range), _) if range.is_exact() => format!("you hold it at {}", range.in_words()),
                (Some(range), _) => format!("you want {}", range.in_words()),
                (None, Some(by)) if by.len() > 3 => {
                    format!("{} and {} more need it", by[..3].join(", "), by.len() - 3)
                }
                (None, Some(by)) => {
                    format!("{} {} it", by.join(" and "), if by.len() == 1 { "needs" } else { "need" })
                }
                (None, None) => String::new(),
            };
            (locked.id.clone(), why)
        })
        .collect()
}

/// Says what happens to each content; `wanted` is what was wanted before.
pub(crate) fn content_lines(
    before: &LockFile,
    after: &LockFile,
    wants: &BTreeMap<ContentId, VersionRange>,
    wanted: &BTreeMap<ContentId, VersionRange>,
) -> Vec<ContentLine> {
    let why = reasons(after, wants);
    let mut lines = Vec::new();
    for locked in &after.contents {
        let to = &locked.release.version;
        let old = before.get(&locked.id);
        let from = old.map(|old| &old.release.version);
        let act = match from {
            None => ContentAct::New,
            Some(from) if from < to => ContentAct::Newer,
            Some(from) if from > to => ContentAct::Older,
            Some(_) if old.is_some_and(|old| old.release.payload != locked.release.payload) => {
                ContentAct::Again
            }
            Some(_) => continue,
        };
        let why = why.get(&locked.id).cloned().unwrap_or_default();
        lines.push(ContentLine {
            act,
            id: locked.id.clone(),
            from: from.cloned(),
            to: Some(to.clone()),
            why,
        });
    }
    for locked in before.contents.iter().filter(|locked| after.get(&locked.id).is_none()) {
        let from = Some(locked.release.version.clone());
        let dropped = wanted.contains_key(&locked.id) && !wants.contains_key(&locked.id);
        let why = if dropped { "you dropped it" } else { "nothing needs it any more" }.to_owned();
        lines.push(ContentLine { act: ContentAct::Gone, id: locked.id.clone(), from, to: None, why });
    }
    lines
}

/// Companions that what is new would welcome and that are not there.
fn companions(
    shelf: &Shelf<'_>,
    before: &LockFile,
    after: &LockFile,
    session: &Session,
) -> Result<Vec<Companion>, CommandError> {
    let mut found: Vec<Companion> = Vec::new();
    for locked in after.contents.iter().filter(|locked| before.get(&locked.id).is_none()) {
        for id in locked.release.welcomes.keys() {
            let there = after.contents.iter().any(|other| other.release.stands_for(&other.id, id).is_some());
            let told = found.iter().any(|companion| companion.id == *id);
            if there || told || session.survey.platform.provides.contains_key(id) {
                continue;
            }
            let catalogues = shelf.get()?;
            // An offer is no need: a catalogue that cannot be asked about it stands in nobody's way.
            let bearer = match catalogues.content(id) {
                Ok(Some(content)) => Some(content.id),
                Ok(None) => catalogues.providers(id).into_iter().next(),
                Err(_) => continue,
            };
            let available = bearer.is_some();
            let id = bearer.unwrap_or_else(|| id.clone());
            if !found.iter().any(|companion| companion.id == id) {
                found.push(Companion { id, of: locked.id.clone(), available });
            }
        }
    }
    found.sort_by_key(|companion| !companion.available);
    Ok(found)
}

/// Finds where the bytes of every file to be put lie: on the server already, in the cache, or in a catalogue.
pub(crate) fn sources(
    session: &Session,
    shelf: &Shelf<'_>,
    planned: &Planned,
) -> Result<BTreeMap<Digest, ByteSource>, CommandError> {
    let mut found: BTreeMap<Digest, ByteSource> = BTreeMap::new();
    let mut missing: BTreeSet<&ContentId> = BTreeSet::new();
    for step in &planned.change.steps {
        let Step::Put { path, source: Source::Payload, after, .. } = step else { continue };
        if found.contains_key(after) {
            continue;
        }
        let here = session.receipt.placed.iter().filter(|(_, placed): &(_, &Placed)| placed.digest == *after);
        let mut intact = here.filter(|(path, _)| {
            session.tree.digest(path).ok().flatten().is_some_and(|(digest, _)| digest == *after)
        });
        match intact.next() {
            Some((path, _)) => {
                found.insert(*after, ByteSource::File(session.tree.at(path)));
            }
            None => {
                if let Some(placement) = planned.desired.placements.get(path) {
                    missing.insert(&placement.content);
                }
            }
        }
    }
    for id in missing {
        if let Some(locked) = planned.lock.get(id) {
            found.extend(shelf.get()?.fetch(locked)?);
        }
    }
    Ok(found)
}
