//! From what lies in a server's folder to a lock and a receipt.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;
use yalotheca_core::{
    catalogue::ReleaseFile,
    change::{OwnedEntry, Placed, Receipt, Settled},
    control::{LockFile, Locked, MapsSection},
    desire::{Entry, LineupEntry, Registration, desire},
    document::{Before, Document, Value},
    game::{Game, Shape},
    id::{ContentId, TreePath},
    order::{Leaning, order},
    route::{destination, scope_of},
    settings::Settings,
    version::ReleaseVersion,
};
use yalotheca_host::{
    catalogue::Catalogues,
    survey::{FoundContent, Inventory, Survey},
    tree::{LocalTree, Tree},
};

use crate::error::CommandError;

/// One content that was taken over.
#[derive(Debug, Clone, Serialize)]
pub(crate) struct Adopted {
    pub(crate) id: ContentId,
    pub(crate) version: ReleaseVersion,
    /// Where it lies.
    pub(crate) path: TreePath,
    /// Where it belongs, if it lies elsewhere.
    pub(crate) belongs: Option<TreePath>,
    /// Whether a catalogue has the very same files.
    pub(crate) known: bool,
}

/// What was taken over.
pub(crate) struct Taken {
    pub(crate) lock: LockFile,
    pub(crate) receipt: Receipt,
    pub(crate) contents: Vec<Adopted>,
    pub(crate) strangers: Vec<TreePath>,
}

/// Takes over what lies there. Of two with one id, the one in its right place counts.
pub(crate) fn take(
    tree: &LocalTree,
    game: &Game,
    survey: &Survey,
    inventory: &Inventory,
    (catalogues, maps): (&Catalogues<'_>, &MapsSection),
) -> Result<Taken, CommandError> {
    let mut chosen: BTreeMap<ContentId, (FoundContent, Option<TreePath>)> = BTreeMap::new();
    let mut strangers = inventory.strangers.clone();
    for found in &inventory.contents {
        let belongs = belongs(game, survey, found);
        let elsewhere = belongs.filter(|path| *path != found.path);
        match chosen.get(&found.content.id) {
            Some((_, None)) => strangers.push(found.path.clone()),
            Some((other, Some(_))) if elsewhere.is_some() => strangers.push(other.path.clone()),
            _ => drop(chosen.insert(found.content.id.clone(), (found.clone(), elsewhere))),
        }
    }
    let mut locked: BTreeMap<ContentId, Locked> = BTreeMap::new();
    let mut contents = Vec::new();
    let mut receipt = Receipt::empty();
    for (id, (found, belongs)) in &chosen {
        let one = lock_one(game, found, catalogues)?;
        contents.push(Adopted {
            id: id.clone(),
            version: one.release.version.clone(),
            path: found.path.clone(),
            belongs: belongs.clone(),
            known: !one.catalogue.is_empty(),
        });
        place(game, found, &mut receipt);
        locked.insert(id.clone(), one);
    }
    let releases = locked.iter().map(|(id, locked)| (id.clone(), &locked.release)).collect();
    let payloads: BTreeMap<&ContentId, _> =
        chosen.iter().map(|(id, (found, _))| (id, &found.payload)).collect();
    let asked = BTreeMap::new();
    let group = |id: &ContentId| game.order.group(id);
    let by_name = order(&releases, &Leaning { previous: &[], asked: &asked, group: &group });
    let entries: Vec<LineupEntry<'_>> =
        by_name.ids.iter().map(|id| LineupEntry { locked: &locked[id], payload: payloads[id] }).collect();
    let desired = desire(game, &survey.scope, &entries, (maps, &Settings::new()))?;
    let previous = register(tree, &desired.registrations, &mut receipt)?;
    let ordered = order(&releases, &Leaning { previous: &previous, asked: &asked, group: &group });
    let files: BTreeSet<&TreePath> =
        desired.registrations.iter().map(|registration| &registration.file).collect();
    strangers.retain(|path| !files.contains(path));
    strangers.sort();
    let lock = LockFile {
        contents: ordered.ids.iter().map(|id| locked[id].clone()).collect(),
        ..LockFile::default()
    };
    Ok(Taken { lock, receipt, contents, strangers })
}

/// Where a content belongs, as one path: its file, or its folder.
fn belongs(game: &Game, survey: &Survey, found: &FoundContent) -> Option<TreePath> {
    let content = &found.content;
    let kind = game.kinds.get(&content.release.kind)?;
    let scope = scope_of(&survey.scope, &content.id, &content.title, &content.release);
    match kind.shape {
        Shape::Archive => destination(kind, &scope, found.payload.files.first()?).ok(),
        Shape::File => {
            let main = found.payload.files.iter().find(|file| file.path == found.path.name())?;
            destination(kind, &scope, main).ok()
        }
        Shape::Folder => TreePath::new(&kind.place.first()?.into.render(&scope).ok()?).ok(),
    }
}

/// A catalogue that has the very same file knows more than the file itself does.
fn lock_one(game: &Game, found: &FoundContent, catalogues: &Catalogues<'_>) -> Result<Locked, CommandError> {
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
    let mut locked =
        Locked { id: content.id.clone(), title: content.title.clone(), catalogue: String::new(), release };
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
fn place(game: &Game, found: &FoundContent, receipt: &mut Receipt) {
    let id = &found.content.id;
    receipt.contents.insert(id.clone(), Settled { payload: found.payload.clone() });
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
            receipt.placed.insert(path, Placed { content: id.clone(), size: file.size, digest: file.digest });
        }
    }
}

/// Takes over the entries that are there, and returns the order in which the ordered lists name contents.
fn register(
    tree: &LocalTree,
    registrations: &[Registration],
    receipt: &mut Receipt,
) -> Result<Vec<ContentId>, CommandError> {
    let mut previous: Vec<(usize, ContentId)> = Vec::new();
    for registration in registrations {
        let Some(bytes) = tree.read(&registration.file)? else { continue };
        // A broken file is for check to tell; here nothing in it is taken over.
        let Ok(document) = Document::read(registration.format, bytes) else { continue };
        let there = match &registration.entry {
            Entry::Set(value) => document.get(&registration.pointer).is_some_and(|now| now.means(value)),
            Entry::Number { item, .. } => {
                document.numbered(&registration.pointer).iter().any(|(_, name)| name == item)
            }
            Entry::Block { name, .. } => document.fragment(name).is_ok_and(|there| there.is_some()),
            Entry::Item { item, ordered, separator, alone, .. } => {
                let items = if let Some(separator) = separator {
                    document.parts(&registration.pointer, separator)
                } else {
                    let items = document.items(&registration.pointer).unwrap_or_default();
                    items.iter().map(Value::meaning).collect()
                };
                let at = items.iter().position(|there| *there == item.meaning());
                if let (Some(at), true, false) = (at, ordered, alone) {
                    previous.push((at, registration.content.clone()));
                }
                at.is_some()
            }
        };
        if there {
            receipt.entries.push(OwnedEntry {
                content: registration.content.clone(),
                file: registration.file.clone(),
                format: registration.format,
                pointer: registration.pointer.clone(),
                entry: registration.entry.clone(),
                before: Before::Absent { made: 0 },
            });
        }
    }
    previous.sort();
    Ok(previous.into_iter().map(|(_, id)| id).collect())
}
