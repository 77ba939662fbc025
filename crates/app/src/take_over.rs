//! From what lies in a server's folder to a lock and a receipt.

use std::{
    cell::RefCell,
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

use serde::Serialize;
use yalotheca_core::{
    catalogue::ReleaseFile,
    change::{OwnedEntry, Placed, Receipt, Settled},
    control::{AsFound, LockFile, Locked, LockedPack, MapsSection, PackSection},
    desire::{Asked, DesireError, Entry, LineupEntry, Registration, desire, usual_registrations},
    document::{Before, Document},
    game::{Game, Scope, Shape},
    id::{ContentId, TreePath},
    order::{Leaning, order},
    route::{Places, destination, scope_of},
    settings::Settings,
    version::ReleaseVersion,
};
use yalotheca_host::{
    catalogue::Catalogues,
    survey::{FoundContent, Inventory, Survey},
    tree::Tree,
};

use crate::{AppError, Mend, Server, plan::is_unlisted};

/// Returns how a content that lies on a server is locked. It stays where it is if the server loads it from there.
pub(crate) fn take_over_one(server: &Server, found: &FoundContent) -> Result<Locked, AppError> {
    let catalogues = server.catalogues();
    let locked = lock_one(&server.game, found, catalogues.get()?)?;
    let found = location_of(&server.game, &server.survey.scope, found).as_found();
    Ok(Locked { found, ..locked })
}

/// Has changes planned as if these contents were installed, and returns that they are to be brought to what is usual.
pub(crate) fn take_over_all(server: &mut Server, all: &[&FoundContent]) -> Result<Mend, AppError> {
    if all.is_empty() {
        return Ok(Mend::None);
    }
    let mut receipt = server.receipt()?.clone();
    let mut mended = BTreeSet::new();
    for found in all {
        let locked = take_over_one(server, found)?;
        place(&server.game, found, &mut receipt);
        server.control.lock.contents.push(locked);
        mended.insert(found.content.id.clone());
    }
    server.plan_on(receipt);
    Ok(Mend::These(mended))
}

/// What a content on a server is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// The server loads it.
    On,
    /// It is here, and the server's configuration does not enable it.
    Off,
}

/// One content that was taken over.
#[derive(Debug, Clone, Serialize)]
pub struct Adopted {
    /// The content.
    pub id: ContentId,
    /// Its version.
    pub version: ReleaseVersion,
    /// Whether it is on.
    pub state: State,
    /// Members of a pack that are switched off, while others are on.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub members_off: Vec<ContentId>,
    /// Where it lies.
    pub path: TreePath,
    /// Whether a catalogue has the very same files.
    pub known: bool,
}

/// A content that lies where the server does not load it.
#[derive(Debug, Clone, Serialize)]
pub struct Misplaced {
    /// The content.
    pub id: ContentId,
    /// Where it lies.
    pub path: TreePath,
    /// Where it belongs.
    pub belongs: TreePath,
}

/// What was taken over, and what was left alone.
pub struct Taken {
    /// What is locked.
    pub lock: LockFile,
    /// What belongs to Yalotheca from now on.
    pub receipt: Receipt,
    /// Each content that was taken over.
    pub contents: Vec<Adopted>,
    /// What is switched off, with the reasons.
    pub off: BTreeMap<ContentId, String>,
    /// What lies where the server does not look.
    pub misplaced: Vec<Misplaced>,
    /// A second copy of a content: its id and its path.
    pub seconds: Vec<(ContentId, TreePath)>,
    /// What is no content.
    pub strangers: Vec<TreePath>,
}

/// Where a content lies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FoundAt {
    /// Where it would be placed.
    Usual,
    /// In another folder from which the server loads it.
    Elsewhere {
        /// The folder that counts instead of the usual one.
        folder: TreePath,
        /// Whether it is loaded whatever the configuration says.
        always_on: bool,
    },
    /// Where the server does not look; it belongs there.
    Unseen(TreePath),
}

impl FoundAt {
    /// Returns what is noted of that in the lock.
    pub fn as_found(&self) -> AsFound {
        match self {
            Self::Elsewhere { folder, always_on } => {
                AsFound { folder: Some(folder.clone()), always_on: *always_on, ..AsFound::default() }
            }
            Self::Usual | Self::Unseen(_) => AsFound::default(),
        }
    }
}

/// Returns where a content lies, as the server sees it.
pub fn location_of(game: &Game, scope: &Scope, found: &FoundContent) -> FoundAt {
    let Some(belongs) = belongs(game, scope, found).filter(|path| *path != found.path) else {
        return FoundAt::Usual;
    };
    let kind = game.kinds.get(&found.content.release.kind);
    let above = found.path.parent().unwrap_or_else(TreePath::root);
    for rule in kind.iter().flat_map(|kind| &kind.loads_from) {
        let folder = rule.folder.render(scope).ok().and_then(|folder| TreePath::new(&folder).ok());
        let is_there = |folder: &TreePath| *folder == above || rule.sub_folders && above.is_within(folder);
        if folder.as_ref().is_some_and(is_there) {
            let is_folder = kind.is_some_and(|kind| kind.shape == Shape::Folder);
            let folder = if is_folder { found.path.clone() } else { above };
            return FoundAt::Elsewhere { folder, always_on: rule.always_on };
        }
    }
    FoundAt::Unseen(belongs)
}

/// Takes over what the server loads and what is switched off, as it is. Of two with one id the one in the usual place counts; of two equal
/// ones there, the one with the shorter name, since a copy's name is longer.
pub fn take(
    tree: &dyn Tree,
    game: &Game,
    survey: &Survey,
    inventory: &Inventory,
    (catalogues, maps, pack): (&Catalogues<'_>, &MapsSection, Option<(&PackSection, &LockedPack)>),
) -> Result<Taken, AppError> {
    let mut taken = Taken {
        lock: LockFile::default(),
        receipt: Receipt::empty(),
        contents: Vec::new(),
        off: BTreeMap::new(),
        misplaced: Vec::new(),
        seconds: Vec::new(),
        strangers: inventory.strangers.clone(),
    };
    let mut chosen: BTreeMap<ContentId, (&FoundContent, FoundAt)> = BTreeMap::new();
    for found in &inventory.contents {
        let id = &found.content.id;
        // A folder that is there twice by a link is one content: it is known by its real path.
        if let Some((other, at)) = chosen.get_mut(id)
            && inventory.are_one(&found.path, &other.path)
        {
            if inventory.links.iter().any(|(link, _)| other.path.is_within(link)) {
                (*other, *at) = (found, location_of(game, &survey.scope, found));
            }
            continue;
        }
        match (location_of(game, &survey.scope, found), chosen.get(id)) {
            (FoundAt::Unseen(belongs), _) => {
                taken.misplaced.push(Misplaced { id: id.clone(), path: found.path.clone(), belongs });
            }
            (FoundAt::Usual, Some((other, FoundAt::Elsewhere { .. }))) => {
                taken.seconds.push((id.clone(), other.path.clone()));
                chosen.insert(id.clone(), (found, FoundAt::Usual));
            }
            (at, Some((other, others)))
                if at == *others
                    && found.payload.is_same_as(&other.payload)
                    && found.path.name().len() < other.path.name().len() =>
            {
                taken.seconds.push((id.clone(), other.path.clone()));
                chosen.insert(id.clone(), (found, at));
            }
            (_, Some(_)) => taken.seconds.push((id.clone(), found.path.clone())),
            (at, None) => drop(chosen.insert(id.clone(), (found, at))),
        }
    }
    let texts = Texts::new(tree);
    let mut locked: BTreeMap<ContentId, Locked> = BTreeMap::new();
    for (id, (found, at)) in &chosen {
        let mut one = Locked { found: at.as_found(), ..lock_one(game, found, catalogues)? };
        let members_off = states(game, survey, (found, &texts), &mut one, &mut taken.off)?;
        taken.contents.push(Adopted {
            id: id.clone(),
            version: one.release.version.clone(),
            state: if one.off { State::Off } else { State::On },
            members_off,
            path: found.path.clone(),
            known: !one.catalogue.is_empty(),
        });
        place(game, found, &mut taken.receipt);
        own_copies(tree, (game, &survey.scope, found), &mut one, &mut taken.receipt)?;
        locked.insert(id.clone(), one);
    }
    let entries: Vec<LineupEntry<'_>> =
        locked.iter().map(|(id, locked)| LineupEntry { locked, payload: &chosen[id].0.payload }).collect();
    let settings = Settings::new();
    let desired = desire(
        game,
        &survey.scope,
        &entries,
        Asked { maps, settings: &settings, off: &taken.off, keep: &BTreeMap::new(), pack },
    )?;
    let listed = register(&texts, &desired.registrations, &mut taken.receipt);
    let order = order_as_found(game, &mut locked, &listed, |id| &chosen[id].0.path);
    let off = locked.values().filter(|one| one.off).map(|one| one.id.clone());
    let ids: Vec<ContentId> = order.into_iter().chain(off).collect();
    taken.lock.pack = pack.map(|(_, locked)| locked.clone());
    taken.lock.contents = ids.iter().filter_map(|id| locked.remove(id)).collect();
    let files: BTreeSet<&TreePath> =
        desired.registrations.iter().map(|registration| &registration.file).collect();
    taken.strangers.retain(|path| !files.contains(path));
    taken.strangers.sort();
    // A server that went away meanwhile is not one on which everything is off.
    tree.check_reads()?;
    Ok(taken)
}

/// The order in which the server loads what is on, as far as anything says so. What has no entry comes last, by its path. Where
/// relations say otherwise, it is noted that what is listed keeps its place.
fn order_as_found<'a>(
    game: &Game,
    locked: &mut BTreeMap<ContentId, Locked>,
    listed: &[ContentId],
    path: impl Fn(&ContentId) -> &'a TreePath,
) -> Vec<ContentId> {
    let unlisted: BTreeSet<ContentId> =
        locked.values().filter(|one| !one.off && is_unlisted(game, one)).map(|one| one.id.clone()).collect();
    let mut last: Vec<ContentId> = unlisted.iter().cloned().collect();
    last.sort_by_key(|id| path(id));
    let previous = [listed.to_vec(), last].concat();
    let (asked, group) = (BTreeMap::new(), |id: &ContentId| game.order.group(id));
    let ids = {
        let on = locked.values().filter(|one| !one.off);
        let releases = on.map(|one| (one.id.clone(), &one.release)).collect();
        let (stays, is_last) =
            (|id: &ContentId| previous.contains(id), |id: &ContentId| unlisted.contains(id));
        let strict = Leaning { is_last: &is_last, ..Leaning::strict(&previous, &asked, &group) };
        let ids = order(&releases, &Leaning { stays: &stays, ..strict }).ids;
        if ids == order(&releases, &strict).ids {
            return ids;
        }
        ids
    };
    for id in &previous {
        if let Some(one) = locked.get_mut(id) {
            one.found.in_place = true;
        }
    }
    ids
}

/// Configuration files, each read once.
pub struct Texts<'a> {
    tree: &'a dyn Tree,
    read: RefCell<BTreeMap<TreePath, Option<Document>>>,
}

impl<'a> Texts<'a> {
    /// Returns the files of a server's folder, none of them read yet.
    pub fn new(tree: &'a dyn Tree) -> Self {
        Self { tree, read: RefCell::default() }
    }

    /// Looks at a document; a broken file is for check to tell, and nothing in it is taken over.
    fn with<T>(&self, registration: &Registration, look: impl FnOnce(&Document) -> T) -> Option<T> {
        let mut read = self.read.borrow_mut();
        let document = read.entry(registration.file.clone()).or_insert_with(|| {
            let bytes = self.tree.read_file(&registration.file).ok().flatten()?;
            Document::read(registration.format, bytes).ok()
        });
        document.as_ref().map(look)
    }

    /// Returns whether an entry is there.
    pub fn has(&self, registration: &Registration) -> bool {
        self.with(registration, |document| registration.is_in(document)).unwrap_or(false)
    }

    /// Returns what the comment above an entry says.
    fn comment(&self, registration: &Registration) -> Option<String> {
        let line = self.with(registration, |document| document.line_of(&registration.pointer))??;
        let bytes = self.tree.read_file(&registration.file).ok()??;
        let text = String::from_utf8(bytes).ok()?;
        let above = text.lines().nth(line.checked_sub(2)?)?.trim();
        let comment = above.strip_prefix('#')?.trim_start_matches('#').trim();
        Some(comment.to_owned()).filter(|comment| !comment.is_empty() && comment.len() <= 120)
    }
}

/// Notes what a content's entries say of it: whether it or members of it are off, and which entries it lacks. Returns the members that
/// are off while others are on.
fn states(
    game: &Game,
    survey: &Survey,
    (found, texts): (&FoundContent, &Texts<'_>),
    one: &mut Locked,
    off: &mut BTreeMap<ContentId, String>,
) -> Result<Vec<ContentId>, AppError> {
    let Some(kind) = game.kinds.get(&one.release.kind) else { return Ok(Vec::new()) };
    let entries = |off: &BTreeMap<ContentId, String>| {
        usual_registrations(game, &survey.scope, one, &found.payload, off)
    };
    let usual = entries(&BTreeMap::new())?;
    let why =
        |entries: &[Registration]| entries.iter().find_map(|entry| texts.comment(entry)).unwrap_or_default();
    let is_off = |entries: &[Registration]| {
        let mut enabling = entries.iter().filter(|entry| entry.enables).peekable();
        enabling.peek().is_some() && !enabling.any(|entry| texts.has(entry))
    };
    if kind.can_be_off() && is_off(&usual) {
        off.insert(one.id.clone(), why(&usual));
        one.off = true;
        return Ok(Vec::new());
    }
    let mut members_off = Vec::new();
    let members: BTreeSet<&ContentId> = one.release.members.iter().map(|member| &member.id).collect();
    // Without a member that is called as the pack is: by that name, the whole pack is switched off.
    let without = |kept: &ContentId| {
        let others = members.iter().filter(|other| ***other != *kept && ***other != one.id);
        entries(&others.map(|other| ((*other).clone(), String::new())).collect())
    };
    let of_namesake = if members.contains(&one.id) { without(&one.id)? } else { Vec::new() };
    for member in members.iter().filter(|member| ***member != one.id) {
        let mut own = without(member)?;
        own.retain(|entry| !of_namesake.iter().any(|other| other.key() == entry.key()));
        if is_off(&own) {
            off.insert((*member).clone(), why(&own));
            members_off.push((*member).clone());
        }
    }
    let on = entries(off)?;
    one.found.unregistered = on.iter().filter(|entry| !texts.has(entry)).map(Registration::key).collect();
    Ok(members_off)
}

/// Where a content belongs, as one path: its file, or its folder.
fn belongs(game: &Game, scope: &Scope, found: &FoundContent) -> Option<TreePath> {
    let content = &found.content;
    let kind = game.kinds.get(&content.release.kind)?;
    let scope = scope_of(scope, &content.id, &content.title, &content.release);
    match kind.shape {
        Shape::Archive => destination(kind, &scope, found.payload.files.first()?).ok(),
        Shape::File => {
            let main = found.payload.files.iter().find(|file| file.path == found.path.name())?;
            destination(kind, &scope, main).ok()
        }
        Shape::Folder => TreePath::new(&kind.place.first()?.into.render(&scope).ok()?).ok(),
    }
}

/// What is found as it would be locked, with nothing known of it but itself.
pub fn as_locked(found: &FoundContent) -> Locked {
    let content = &found.content;
    Locked {
        id: content.id.clone(),
        title: content.title.clone(),
        catalogue: String::new(),
        off: false,
        release: content.release.clone(),
        given: None,
        found: AsFound::default(),
    }
}

/// A catalogue that has the very same file knows more than the file itself does.
pub fn lock_one(game: &Game, found: &FoundContent, catalogues: &Catalogues<'_>) -> Result<Locked, AppError> {
    let content = &found.content;
    let mut release = content.release.clone();
    let is_folder = game.kinds.get(&release.kind).is_some_and(|kind| kind.shape == Shape::Folder)
        || found.payload.files.len() > 1;
    if is_folder {
        release.payload = Some(found.payload.digest());
    } else {
        release.files = found
            .payload
            .files
            .iter()
            .map(|file| ReleaseFile {
                name: file.path.clone(),
                size: file.size,
                blake3: file.digest,
                at: None,
            })
            .collect();
    }
    release.know_by_bytes();
    let mut locked = Locked { release, ..as_locked(found) };
    if let Some(known) = catalogues.content(&content.id)? {
        let same = known.releases.iter().find(|known| {
            let digests = |files: &[ReleaseFile]| files.iter().map(|file| file.blake3).collect::<Vec<_>>();
            !is_folder && digests(&known.files) == digests(&locked.release.files)
        });
        if let Some(same) = same {
            locked.title = known.title.clone();
            locked.catalogue = known.catalogue.clone();
            let names = std::mem::take(&mut locked.release.files);
            locked.release = same.clone();
            // The file keeps the name that it has on the server.
            for (file, here) in locked.release.files.iter_mut().zip(names) {
                let at = file.at.clone().unwrap_or_else(|| format!("files/{}", file.name));
                if file.name != here.name {
                    file.at = Some(at);
                    file.name = here.name;
                }
            }
        } else if is_folder {
            let mut there = Locked { catalogue: known.catalogue.clone(), ..locked.clone() };
            there.release.payload = None;
            if catalogues
                .payload(&there)
                .is_ok_and(|payload| Some(payload.digest()) == locked.release.payload)
            {
                locked.catalogue = known.catalogue;
            }
        }
    }
    Ok(locked)
}

/// What lies there is ours from now on, where it lies.
pub fn place(game: &Game, found: &FoundContent, receipt: &mut Receipt) {
    let settled = Settled::new(found.payload.clone());
    receipt.contents.insert(found.content.id.clone(), settled);
    place_files(game, found, receipt);
}

/// Its files are ours from now on.
pub fn place_files(game: &Game, found: &FoundContent, receipt: &mut Receipt) {
    let id = &found.content.id;
    let shape = game.kinds.get(&found.content.release.kind).map(|kind| kind.shape);
    let is_folder = shape == Some(Shape::Folder);
    for file in &found.payload.files {
        let path = match shape {
            Some(Shape::Folder) => found.path.join(&file.path).ok(),
            Some(Shape::File) => found.path.parent().and_then(|folder| folder.join(&file.path).ok()),
            _ => Some(found.path.clone()),
        };
        if let Some(path) = path {
            // The folder of a content is the content's own; what it lies in is not.
            let mut above = path.parent().filter(|_| is_folder);
            while let Some(folder) = above.filter(|folder| folder.is_within(&found.path)) {
                above = folder.parent();
                receipt.folders.insert(folder);
            }
            Arc::make_mut(&mut receipt.placed)
                .insert(path, Placed { content: id.clone(), size: file.size, digest: file.digest });
        }
    }
}

/// Takes over the copies of its files that belong elsewhere as well, those that are there as they should be, and notes the others.
fn own_copies(
    tree: &dyn Tree,
    (game, scope, found): (&Game, &Scope, &FoundContent),
    one: &mut Locked,
    receipt: &mut Receipt,
) -> Result<(), AppError> {
    let Some(kind) = game.kinds.get(&one.release.kind).filter(|kind| kind.place.iter().any(|rule| rule.also))
    else {
        return Ok(());
    };
    let scope = scope_of(scope, &one.id, &one.title, &one.release);
    let failed = |source| DesireError::ConfigPlace { content: one.id.clone(), source };
    let places = Places::new(kind, &scope).map_err(failed)?;
    let mut copies = Vec::new();
    for file in &found.payload.files {
        copies.extend(places.copies_of(file).map_err(failed)?.into_iter().map(|path| (path, file)));
    }
    let paths: Vec<TreePath> = copies.iter().map(|(path, _)| path.clone()).collect();
    for ((path, file), there) in copies.into_iter().zip(tree.digest(&paths)?) {
        if there.is_some_and(|(digest, _)| digest == file.digest) {
            let copy = Placed { content: one.id.clone(), size: file.size, digest: file.digest };
            Arc::make_mut(&mut receipt.placed).insert(path, copy);
        } else {
            one.found.unplaced.insert(path);
        }
    }
    Ok(())
}

/// Takes over the entries that are there, and returns the order in which the ordered lists name contents.
fn register(texts: &Texts<'_>, registrations: &[Registration], receipt: &mut Receipt) -> Vec<ContentId> {
    let mut previous: Vec<(usize, ContentId)> = Vec::new();
    for registration in registrations.iter().filter(|registration| texts.has(registration)) {
        if let Entry::Item { ordered: true, alone: false, .. } = registration.entry
            && let Some(Some(at)) = texts.with(registration, |document| registration.place_in_list(document))
        {
            previous.push((at, registration.content.clone()));
        }
        receipt.entries.push(OwnedEntry {
            content: registration.content.clone(),
            file: registration.file.clone(),
            format: registration.format,
            pointer: registration.pointer.clone(),
            entry: registration.entry.clone(),
            before: Before::Absent { made: 0 },
        });
    }
    previous.sort();
    previous.into_iter().map(|(_, id)| id).collect()
}
