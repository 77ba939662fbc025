//! From wants to a planned change: solve, order, desired state, change set. Nothing is changed here.

mod choose;
pub mod clean;
mod ground;
mod reasons;
mod references;
pub mod reserved;
mod settings;
mod summary;
pub mod tools;

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    io::Seek,
};

use globset::GlobSet;
use yalotheca_core::{
    catalogue::{Release, Universe},
    change::{ChangeSet, Present, Settled, Source, Step, Update, paths_of_interest, plan},
    control::{AsFound, ControlFile, Given, LockFile, Locked, LockedPack, WANTS_FILE},
    desire::{Asked, Desired, LineupEntry, desire},
    document::TextFile,
    game::{Game, Kind, PACK_KIND, TWEAK_KIND},
    hint::Advice,
    id::{ContentId, Digest, TreePath},
    order::{AskedPlace, Leaning, LoadOrder, order},
    version::ReleaseVersion,
};
use yalotheca_host::{
    catalogue::{BY_HAND, payload_of_release},
    settle,
    sources::{ByteSource, Sources},
    tree::EntryKind,
};

pub use choose::{can_mend, newer, newest, why_not};
pub use references::{broken_references, newly_broken};
pub use settings::{OpenSettings, open_settings};
pub use summary::{summary_of, totals};

pub use reasons::{Companion, ContentAct, ContentLine, content_lines, reasons};

use crate::{AppError, Fresh, Mend, OpenCatalogues, Server, pack};

/// A change that could be settled.
#[derive(Debug)]
pub struct Planned {
    /// The lock afterwards.
    pub lock: LockFile,
    /// The change set.
    pub change: ChangeSet,
    /// What happens to each content.
    pub contents: Vec<ContentLine>,
    /// Optional companions of what is new.
    pub companions: Vec<Companion>,
    /// The load order, with its reasons.
    pub order: LoadOrder,
    /// The desired state.
    pub desired: Desired,
    /// What stays where it is, where the server's folder is cleaned.
    pub staying: Vec<TreePath>,
}

/// How a change is planned.
#[derive(Debug, Default)]
pub struct PlanOptions {
    /// What configuration files begin with that do not exist yet.
    pub heads: BTreeMap<TreePath, String>,
    /// Whether configuration files that cannot be read are left as they are.
    pub skip_broken: bool,
    /// Files that are replaced even where somebody has changed them.
    pub replace: Option<GlobSet>,
    /// What is mended.
    pub mend: Mend,
    /// Versions to choose for new contents, in the preferred load order; used where they fit.
    pub prefer: Vec<(ContentId, ReleaseVersion)>,
    /// The offered resource pack, if it was just downloaded.
    pub pack: Option<LockedPack>,
}

/// Plans the change to what is wanted.
pub fn plan_change(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    wants: &ControlFile,
    fresh: &Fresh,
    options: &PlanOptions,
) -> Result<Planned, AppError> {
    let not_settled = given_and_not_settled(server, wants);
    let pending = Fresh::Given(not_settled);
    // What was noted to be given by hand and is not here yet counts, whatever is locked.
    let fresh = match (fresh, &pending) {
        (Fresh::None, Fresh::Given(ids)) if !ids.is_empty() => &pending,
        _ => fresh,
    };
    catalogues.set_fresh(fresh);
    catalogues.mend(&options.mend);
    server.read_ahead();
    let chosen = choose::choose(server, catalogues, wants, (fresh, &options.prefer))?;
    // What the lock alone has answered is as it was.
    let fresh = if chosen.by_lock.is_some() { &Fresh::None } else { fresh };
    let read = catalogues.universe();
    let universe = chosen.by_lock.as_ref().unwrap_or(&read);
    let before = &server.control.lock;
    let known = before.by_id();
    let releases: BTreeMap<ContentId, &Release> = chosen
        .selection
        .iter()
        .filter_map(|(id, version)| Some((id.clone(), universe.release(id, version)?)))
        .collect();
    let further: Vec<ContentId> = options.prefer.iter().map(|(id, _)| id.clone()).collect();
    let ordered = ordered_with(server, &releases, &wants.order, (&options.mend, &further));
    let mut lineup = Vec::new();
    for id in &ordered.ids {
        let mut locked = lock_one((universe, catalogues), known.get(id).copied(), (id, releases[id]), fresh);
        if options.mend.has(id) {
            locked.found.unregistered.clear();
            locked.found.unplaced.clear();
            locked.found.in_place = false;
        }
        locked.off = false;
        if let Some(given) = wants.given.get(id) {
            BY_HAND.clone_into(&mut locked.catalogue);
            locked.given = Some(given.digits());
        } else {
            locked.given = None;
        }
        lineup.push(locked);
    }
    list_early_ones(server, &mut lineup);
    put_off(server, catalogues, (wants, &options.prefer), &mut lineup)?;
    let mut payloads = Vec::new();
    for locked in &mut lineup {
        payloads.push(payload(server, catalogues, locked)?);
    }
    let entries: Vec<LineupEntry<'_>> = lineup
        .iter()
        .zip(&payloads)
        .map(|(locked, settled)| LineupEntry { locked, payload: settled.payload() })
        .collect();
    let pack = match &options.pack {
        Some(pack) => Some(pack.clone()),
        None => pack::resolve(server, wants, false)?,
    };
    let mut desired = desire(&server.game, &server.survey.scope, &entries, asked(wants, pack.as_ref()))?;
    for registration in &mut desired.registrations {
        if let Some(head) = options.heads.get(&registration.file) {
            registration.create.clone_from(head);
        }
    }
    let merged = settings::updates(server, catalogues, wants, (&lineup, &payloads))?;
    let settled = lineup.iter().map(|locked| locked.id.clone()).zip(payloads).collect();
    let mut present = look(server, &desired)?;
    let beside: Vec<TreePath> = merged.keys().filter_map(Update::beside).collect();
    for path in merged.keys().chain(&beside) {
        if let Some(bytes) = server.tree.read_file(path)? {
            present.texts.insert(path.clone(), TextFile::read(bytes));
        }
    }
    present.merged = merged;
    present.skip_broken = options.skip_broken;
    present.replace.clone_from(&options.replace);
    let change = plan(&desired, settled, server.receipt()?, &present)?;
    let keys = server.control.lock.keys.clone();
    let lock = LockFile { contents: lineup, keys, pack, ..LockFile::default() };
    let contents = content_lines(before, &lock, &wants.wants, &server.control.wants.wants);
    let companions = reasons::companions(catalogues, before, &lock, server)?;
    reserved::check(server, (&desired, &lock), &change)?;
    Ok(Planned { lock, change, contents, companions, order: ordered, desired, staying: Vec::new() })
}

/// Returns what is given by hand in another way than what is locked of it was, with what packs bring along.
fn given_and_not_settled(server: &Server, wants: &ControlFile) -> BTreeSet<ContentId> {
    let lock = &server.control.lock;
    let is_other = |locked: &Locked, given: &Given| match &locked.given {
        Some(digits) => *digits != given.digits(),
        // Earlier programs did not note it.
        None => locked.catalogue != BY_HAND,
    };
    let given = wants.given.iter().filter(|(id, _)| !wants.off.contains_key(*id));
    let mut ids: BTreeSet<ContentId> = given
        .filter(|(id, given)| lock.get(id).is_some_and(|locked| is_other(locked, given)))
        .map(|(id, _)| id.clone())
        .collect();
    let is_pack = |id: &ContentId| lock.get(id).is_some_and(|locked| locked.release.kind == PACK_KIND);
    if ids.iter().any(is_pack) {
        let brought = lock.on().filter(|one| one.catalogue == BY_HAND && !wants.given.contains_key(&one.id));
        ids.extend(brought.map(|one| one.id.clone()));
    }
    ids
}

/// Adds to a lineup what is switched off. It stays as it is, and keeps its place for when it comes back; what another server has
/// switched off comes along so.
fn put_off(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    (wants, prefer): (&ControlFile, &[(ContentId, ReleaseVersion)]),
    lineup: &mut Vec<Locked>,
) -> Result<(), AppError> {
    let before = &server.control.lock;
    let is_off = |id: &ContentId| wants.off.contains_key(id) && wants.wants.contains_key(id);
    // Behind the last of those that came before it there.
    let behind = |lineup: &[Locked], earlier: &[&ContentId]| {
        let place = |id: &&ContentId| lineup.iter().position(|one| one.id == **id);
        earlier.iter().rev().find_map(place).map_or(0, |at| at + 1)
    };
    let (known, others): (Vec<&ContentId>, Vec<&ContentId>) =
        (before.contents.iter().map(|one| &one.id).collect(), prefer.iter().map(|(id, _)| id).collect());
    for (at, locked) in before.contents.iter().enumerate().filter(|(_, locked)| is_off(&locked.id)) {
        refuse_off(server, locked)?;
        let at = behind(lineup, &known[..at]);
        lineup.insert(at, Locked { off: true, ..locked.clone() });
    }
    for (at, (id, version)) in prefer.iter().enumerate() {
        if !is_off(id) || before.get(id).is_some() {
            continue;
        }
        let Some(content) = catalogues.get()?.content(id)? else { continue };
        let Some(release) = content.release(version).cloned() else { continue };
        let at = behind(lineup, &others[..at]);
        let (title, catalogue, found) = (content.title, content.catalogue, AsFound::default());
        lineup
            .insert(at, Locked { id: id.clone(), title, catalogue, off: true, given: None, release, found });
    }
    Ok(())
}

/// Returns whether an installed content can be switched off; some are loaded as long as they are there.
pub fn can_be_off(game: &Game, locked: &Locked) -> bool {
    let kind = &locked.release.kind;
    let has_switch = kind == TWEAK_KIND || game.kinds.get(kind).is_some_and(Kind::can_be_off);
    has_switch && !locked.found.always_on
}

fn refuse_off(server: &Server, locked: &Locked) -> Result<(), AppError> {
    if can_be_off(&server.game, locked) {
        return Ok(());
    }
    let (id, kind) = (&locked.id, &locked.release.kind);
    Err(AppError::Usage {
        what: format!(
            "[off] in {WANTS_FILE} names {id}, and the server loads a {kind} as long as it is there"
        ),
        hint: Some(Advice::Remove(id.to_string())),
    })
}

/// What the wants ask for besides the contents themselves.
pub fn asked<'a>(wants: &'a ControlFile, pack: Option<&'a LockedPack>) -> Asked<'a> {
    let pack = wants.pack.as_ref().zip(pack);
    Asked { maps: &wants.maps, settings: &wants.settings, off: &wants.off, keep: &wants.keep, pack }
}

/// Orders a lineup as this server has it. An order that was found stays, but for what is mended.
pub fn ordered(
    server: &Server,
    releases: &BTreeMap<ContentId, &Release>,
    asked: &BTreeMap<ContentId, AskedPlace>,
    mend: &Mend,
) -> LoadOrder {
    ordered_with(server, releases, asked, (mend, &[]))
}

/// The same; what is new comes in the order of `further`, as far as nothing says otherwise.
fn ordered_with(
    server: &Server,
    releases: &BTreeMap<ContentId, &Release>,
    asked: &BTreeMap<ContentId, AskedPlace>,
    (mend, further): (&Mend, &[ContentId]),
) -> LoadOrder {
    let locked = server.control.lock.by_id();
    let group = |id: &ContentId| server.game.order.group(id);
    let stays = |id: &ContentId| {
        let is_same = |locked: &&Locked| releases[id].version == locked.release.version;
        !mend.has(id) && locked.get(id).is_some_and(|locked| locked.found.in_place && is_same(locked))
    };
    let is_last = |id: &ContentId| {
        !mend.has(id) && locked.get(id).is_some_and(|locked| is_unlisted(&server.game, locked))
    };
    let mut previous = server.control.lock.order();
    previous.extend(further.iter().filter(|id| !locked.contains_key(id)).cloned());
    order(
        releases,
        &Leaning { stays: &stays, is_last: &is_last, ..Leaning::strict(&previous, asked, &group) },
    )
}

/// Whether a content has no entry in the list of the order, and is loaded after those that have one.
pub fn is_unlisted(game: &Game, locked: &Locked) -> bool {
    let has_list = |kind: &Kind| kind.register.iter().any(|rule| rule.loads_unlisted);
    !locked.found.unregistered.is_empty() && game.kinds.get(&locked.release.kind).is_some_and(has_list)
}

/// Something that has no entry is loaded after all that have one. Where it must be loaded before one of them, it gets its entry.
fn list_early_ones(server: &Server, lineup: &mut [Locked]) {
    let mut later: BTreeSet<String> = BTreeSet::new();
    for locked in lineup.iter_mut().rev() {
        if !is_unlisted(&server.game, locked) {
            later.insert(locked.release.kind.clone());
        } else if later.contains(&locked.release.kind) {
            locked.found.unregistered.clear();
        }
    }
}

/// What was locked keeps what is known of it.
fn lock_one(
    (universe, catalogues): (&Universe, &OpenCatalogues<'_>),
    before: Option<&Locked>,
    (id, release): (&ContentId, &Release),
    fresh: &Fresh,
) -> Locked {
    // Of one version there may be another edition: what is placed and what is said of it belong together. In the release of the search,
    // what is wrong with what is installed is left out.
    let is_other = |locked: &Locked| {
        fresh.has(id)
            && release.is_other_edition(&locked.release)
            && release.is_other_edition(catalogues.staying(locked))
    };
    if let Some(locked) =
        before.filter(|locked| locked.release.version == release.version && !is_other(locked))
    {
        return locked.clone();
    }
    let content = universe.get(id);
    let found = before.map_or_else(AsFound::default, |before| before.found.clone());
    Locked {
        off: false,
        given: None,
        found,
        id: id.clone(),
        title: content.map_or_else(|| id.to_string(), |content| content.title.clone()),
        catalogue: content.map_or_else(String::new, |content| content.catalogue.clone()),
        release: release.clone(),
    }
}

/// Returns the files of a locked content, and notes their digest in the lock.
fn payload(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    locked: &mut Locked,
) -> Result<Settled, AppError> {
    if let Some(payload) = payload_of_release(&server.game, &locked.release) {
        return Ok(Settled::new(payload));
    }
    let installed = server.receipt()?.contents.get(&locked.id);
    if let (Some(digest), Some(settled)) = (locked.release.payload, installed)
        && settled.digest() == digest
    {
        return Ok(settled.clone());
    }
    let settled = match catalogues.get()?.payload(locked) {
        Ok(payload) => Settled::new(payload),
        // What it was given in may be gone; what is placed is known all the same.
        Err(error) => {
            let is_same =
                |settled: &&Settled| locked.release.payload.is_none_or(|digest| digest == settled.digest());
            installed.filter(is_same).cloned().ok_or(error)?
        }
    };
    locked.release.payload = Some(settled.digest());
    locked.release.know_by_bytes();
    Ok(settled)
}

/// Looks at everything on the server that the change may touch.
pub fn look(server: &Server, desired: &Desired) -> Result<Present, AppError> {
    let (files, texts, folders) = paths_of_interest(desired, server.receipt()?);
    let tree = &*server.tree;
    let receipt = server.receipt()?;
    let compared = |path: &TreePath| {
        let placed = receipt.placed.get(path).map(|placed| placed.digest);
        placed.or_else(|| Some(desired.placements.get(path)?.digest))
    };
    let digests = tree.digest_as(&files, &files.iter().map(compared).collect::<Vec<_>>())?;
    let there = files.into_iter().zip(digests).filter_map(|(path, found)| Some((path, found?)));
    let mut present = Present { files: there.collect(), ..Present::default() };
    for path in texts {
        if let Some(bytes) = tree.read_file(&path)? {
            present.texts.insert(path, TextFile::read(bytes));
        }
    }
    for path in folders {
        if tree.kind_of(&path)? == Some(EntryKind::Folder) {
            present.folders.insert(path);
        }
    }
    Ok(present)
}

/// Finds bytes that only the attic still has and copies them to the cache: a server may write to its files, and the
/// attic must not change with them. Returns whether all were found.
fn take_from_attic(
    server: &Server,
    wanted: &BTreeSet<Digest>,
    found: &mut Sources,
) -> Result<bool, AppError> {
    let store = server.fetcher.store();
    for (digest, path) in settle::find_in_attic(&*server.tree, wanted)? {
        let failed = |source| AppError::Io { what: format!("copying {path}"), source };
        let mut copy = tempfile::tempfile().map_err(failed)?;
        server.tree.copy_to(&path, &mut copy)?;
        copy.rewind().map_err(failed)?;
        let (now, _) = store.insert_from(&mut copy)?.map_err(failed)?;
        // A file edited in the attic no longer has these bytes.
        if now == digest {
            found.extend(store.file(&digest).map(|file| (digest, ByteSource::Cached(file))));
        }
    }
    Ok(wanted.iter().all(|digest| found.contains_key(digest)))
}

/// Finds where the bytes of every file to be put lie: on the server already, in the cache, or in a catalogue. Installed
/// contents with a missing file that no source has are returned with the reason; they do not keep other contents from being installed.
pub fn sources(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    planned: &Planned,
) -> Result<(Sources, Vec<(ContentId, AppError)>), AppError> {
    sources_of(server, catalogues, planned, |_| true)
}

/// Locates the bytes of the files with the given paths.
pub(crate) fn sources_of(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    planned: &Planned,
    is_asked_for: impl Fn(&TreePath) -> bool,
) -> Result<(Sources, Vec<(ContentId, AppError)>), AppError> {
    let mut gone = Vec::new();
    let mut placed: HashMap<&Digest, Vec<&TreePath>> = HashMap::new();
    for (path, file) in server.receipt()?.placed.iter() {
        placed.entry(&file.digest).or_default().push(path);
    }
    let lineup = planned.lock.by_id();
    let owners: HashMap<&Digest, &ContentId> = planned
        .desired
        .placements
        .values()
        .map(|placement| (&placement.digest, &placement.content))
        .collect();
    let mut found = Sources::default();
    // The missing bytes, their content, and whether the file was installed before and is only restored.
    let mut lacking: Vec<(Digest, &ContentId, bool)> = Vec::new();
    for step in &planned.change.steps {
        let Step::Put { path, source: Source::Payload, after, .. } = step else { continue };
        if found.contains_key(after) || !is_asked_for(path) {
            continue;
        }
        let mut intact = placed.get(after).into_iter().flatten().filter(|path| {
            let now = server.tree.digest_file_as(path, *after).ok().flatten();
            now.is_some_and(|(digest, _)| digest == *after)
        });
        let there = intact.next().map(|path| ByteSource::Server((*path).clone()));
        // The cache may have it though what it came in is gone.
        let cached = || server.fetcher.store().file(after).map(ByteSource::Cached);
        if let Some(source) = there.or_else(cached) {
            found.insert(*after, source);
            continue;
        }
        let owner = planned.desired.placements.get(path).map(|placement| &placement.content);
        let was_installed = server.receipt()?.placed.get(path).is_some_and(|placed| placed.digest == *after);
        if let Some(id) = owner.or_else(|| owners.get(after).copied()) {
            lacking.push((*after, id, was_installed));
        }
    }
    let mut missing: BTreeMap<&ContentId, bool> = BTreeMap::new();
    for (_, id, was_installed) in &lacking {
        *missing.entry(id).or_insert(true) &= was_installed;
    }
    let contents: Vec<&Locked> = missing.keys().filter_map(|id| lineup.get(id).copied()).collect();
    if contents.len() > 1 {
        catalogues.get()?.prefetch(&contents);
    }
    for (id, was_installed) in missing {
        if let Some(locked) = lineup.get(id) {
            let of_it = || lacking.iter().filter(|(_, owner, _)| *owner == id).map(|(digest, ..)| *digest);
            let fetched = match catalogues.get()?.fetch(locked) {
                // If the attic cannot supply them either, the source's own error is reported.
                Err(_) if take_from_attic(server, &of_it().collect(), &mut found).unwrap_or(false) => {
                    continue;
                }
                Err(error) if was_installed => {
                    gone.push((id.clone(), error.into()));
                    continue;
                }
                fetched => fetched?,
            };
            if found.is_empty() {
                found = fetched;
            } else {
                found.extend(fetched);
            }
        }
    }
    Ok((found, gone))
}
