//! What lies on a server and is not in its lock, and entries for what is not there.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use yalotheca_core::{
    check::{Finding, Listed, Listing, Remedy},
    desire::{Desired, usual_registrations},
    document::Document,
    game::Kind,
    hint::Advice,
    id::{ContentId, TreePath},
};
use yalotheca_host::survey::{self, FoundContent, Inventory, LinkOut, bears_name};

use crate::{
    AppError, Server,
    take_over::{FoundAt, Texts, location_of},
};

/// Returns all files that are placed or should be, and the folders in which they lie: these are ours as well.
pub(crate) fn owned(server: &Server, desired: &Desired) -> Result<HashSet<TreePath>, AppError> {
    let mut owned: HashSet<TreePath> = HashSet::with_capacity(desired.placements.len());
    let mut last = "";
    for path in desired.placements.keys().chain(server.receipt()?.placed.keys()) {
        if !owned.insert(path.clone()) {
            continue;
        }
        let folder = path.as_str().rsplit_once('/').map_or("", |(folder, _)| folder);
        // Many files lie in one folder.
        if folder == last {
            continue;
        }
        last = folder;
        let mut next = path.parent();
        while let Some(folder) = next.filter(|folder| !folder.is_root()) {
            next = folder.parent();
            if !owned.insert(folder) {
                break;
            }
        }
    }
    Ok(owned)
}

/// Looks at what lies on the server beside what is in the lock.
pub(super) fn look(
    server: &Server,
    desired: &Desired,
    (inventory, owned): (&Inventory, &HashSet<TreePath>),
) -> Result<Vec<Finding>, AppError> {
    let registered: BTreeSet<&TreePath> = desired.registrations.iter().map(|r| &r.file).collect();
    let ours = |path: &TreePath| registered.contains(path) || owned.contains(path);
    let mut findings = Vec::new();
    for (path, error) in inventory.unreadable.iter().filter(|(path, _)| !ours(path)) {
        let what = if error.file == path.name() { error.why.clone() } else { error.to_string() };
        let says = format!("{path} cannot be read: {what}");
        findings.push(Finding::trouble("unreadable", path.as_str(), says, None));
    }
    for name in server.tree.odd_names() {
        let says = format!(
            "{name} has a name that is not UTF-8; Yalotheca leaves it alone, and the server may load it"
        );
        findings.push(Finding::note("odd-name", &name, says, None));
    }
    let listed = listed_and_missing(server, inventory)?;
    let mut found_elsewhere: BTreeSet<&ContentId> = BTreeSet::new();
    let texts = Texts::new(&*server.tree);
    for found in inventory.contents.iter().filter(|found| !ours(&found.path)) {
        let id = &found.content.id;
        let own = server
            .control
            .lock
            .get(id)
            .and_then(|_| desired.placements.iter().find(|(_, placement)| placement.content == *id));
        let own = own.map(|(path, _)| top(path, id, desired));
        if let Some(own) = own.filter(|own| inventory.are_one(own, &found.path)) {
            let link = if inventory.links.iter().any(|(link, _)| found.path.is_within(link)) {
                &found.path
            } else {
                &own
            };
            let says = format!(
                "{own} and {} are one folder, {link} by a symbolic link; the server finds {id} twice",
                found.path
            );
            let advice = format!("remove the link {link}, not the folder that it leads to");
            findings.push(Finding::trouble("second", link.as_str(), says, Some(Advice::Say(advice))));
            continue;
        }
        let finding = of_content(server, found, desired, (&listed, &texts))?;
        if matches!(finding.remedy, Some(Remedy::TakeOver(_))) {
            found_elsewhere.insert(id);
        }
        findings.push(finding);
    }
    // What cannot be read may be what is named.
    let is_unreadable =
        |name: &str| inventory.unreadable.iter().any(|(path, _)| bears_name(path.name(), name));
    let is_found = |name: &str| found_elsewhere.iter().any(|id| id.as_str() == name);
    let explains = |link: &LinkOut, listed: &Listed| bears_name(link.path.name(), &listed.name);
    // Behind a link that no entry explains may lie anything that is named.
    let has_unexplained =
        inventory.links_out.iter().any(|link| !listed.iter().any(|listed| explains(link, listed)));
    for listed in listed.iter().filter(|listed| !is_found(&listed.name) && !is_unreadable(&listed.name)) {
        let Listed { name, line, entry } = listed;
        if inventory.link_named(name).is_some() {
            continue;
        }
        let file = &entry.file;
        let says = format!("{file}, line {line} enables {name}, and there is no such content on this server");
        let finding = if has_unexplained {
            let says = format!("{says}, unless it lies behind a link that leads out of the server's folder");
            Finding::note("listed-missing", name, says, Some(Advice::FixThis(name.to_owned())))
        } else {
            Finding::trouble("listed-missing", name, says, Some(Advice::Fix))
        };
        findings.push(finding.with_remedy(Remedy::TakeOut(Box::new(entry.clone()))));
    }
    for link in &inventory.links_out {
        let says = format!("{link}; it was not looked at, though the server may load it");
        findings.push(Finding::note("link-out", link.path.as_str(), says, None));
    }
    for path in inventory.strangers.iter().filter(|path| !ours(path)) {
        let says = format!("{path} is not something the server loads");
        findings.push(Finding::note("unowned", path.as_str(), says, None));
    }
    Ok(findings)
}

/// A content that is on the server and not in the lock, or there for a second time.
fn of_content(
    server: &Server,
    found: &FoundContent,
    desired: &Desired,
    (listed, texts): (&[Listed], &Texts<'_>),
) -> Result<Finding, AppError> {
    let (id, path) = (&found.content.id, &found.path);
    let is_known = server.control.lock.get(id).is_some();
    let kind = &found.content.release.kind;
    let fix = || Some(Advice::FixThis(id.to_string()));
    let finding = match location_of(&server.game, &server.survey.scope, found) {
        // The server does not see it, so it does no harm.
        FoundAt::Unseen(_) if is_known => {
            let says = format!("{path} is a second copy of {id}, where the server does not look");
            let remedy = Remedy::SetAside(path.clone());
            Finding::note("second", path.as_str(), says, Some(Advice::FixThis(path.to_string())))
                .with_remedy(remedy)
        }
        FoundAt::Unseen(belongs) => {
            let says =
                format!("{id} lies at {path}, where the server does not look; it belongs at {belongs}");
            let remedy = Remedy::TakeOver(path.clone());
            if listed.iter().any(|listed| listed.name == id.as_str()) {
                Finding::trouble("wrong-folder", id.as_str(), says, Some(Advice::Fix)).with_remedy(remedy)
            } else {
                Finding::note("wrong-folder", id.as_str(), says, fix()).with_remedy(remedy)
            }
        }
        FoundAt::Usual | FoundAt::Elsewhere { .. } if is_known => {
            let first = desired.placements.iter().find(|(_, placement)| placement.content == *id);
            let first = first.map(|(path, _)| top(path, id, desired));
            let beside = first.map_or_else(String::new, |first| format!(", beside {first}"));
            let says = format!(
                "{path} is a second {id}{beside}; the server refuses one of them or takes the wrong one"
            );
            let remedy = Remedy::SetAside(path.clone());
            Finding::trouble("second", path.as_str(), says, Some(Advice::Fix)).with_remedy(remedy)
        }
        FoundAt::Usual | FoundAt::Elsewhere { .. } => {
            let says = if is_loaded(server, found, texts)? {
                format!("{path} is the {kind} {id}, which is not in yalotheca.toml; the server loads it")
            } else {
                format!("{path} is the {kind} {id}, which is not in yalotheca.toml and not enabled")
            };
            Finding::note("unowned", path.as_str(), says, fix()).with_remedy(Remedy::TakeOver(path.clone()))
        }
    };
    Ok(finding)
}

/// The folder of a content of many files, or its file.
fn top(path: &TreePath, id: &ContentId, desired: &Desired) -> TreePath {
    let all =
        || desired.placements.iter().filter(|(_, placement)| placement.content == *id).map(|(path, _)| path);
    if all().count() < 2 {
        return path.clone();
    }
    let mut folder = path.parent();
    while let Some(one) = folder {
        if all().all(|path| path.is_within(&one)) {
            return one;
        }
        folder = one.parent();
    }
    path.clone()
}

/// Returns whether the server loads a content that is not in the lock, from where it lies.
pub(crate) fn is_loaded_as_it_lies(server: &Server, found: &FoundContent) -> Result<bool, AppError> {
    let is_seen = !matches!(location_of(&server.game, &server.survey.scope, found), FoundAt::Unseen(_));
    Ok(is_seen && is_loaded(server, found, &Texts::new(&*server.tree))?)
}

/// Whether the server loads a content that is not in the lock.
fn is_loaded(server: &Server, found: &FoundContent, texts: &Texts<'_>) -> Result<bool, AppError> {
    let is_always_on = matches!(
        location_of(&server.game, &server.survey.scope, found),
        FoundAt::Elsewhere { always_on: true, .. }
    );
    let locked = crate::take_over::as_locked(found);
    let entries =
        usual_registrations(&server.game, &server.survey.scope, &locked, &found.payload, &BTreeMap::new())?;
    let mut enabling = entries.iter().filter(|entry| entry.enables).peekable();
    Ok(is_always_on || enabling.peek().is_none() || enabling.any(|entry| texts.has(entry)))
}

/// Entries that enable what is not on the server.
fn listed_and_missing(server: &Server, inventory: &Inventory) -> Result<Vec<Listed>, AppError> {
    let (game, scope) = (&server.game, &server.survey.scope);
    let wants = &server.control.wants.wants;
    let mut known: BTreeMap<&String, BTreeSet<String>> = BTreeMap::new();
    let seen = inventory
        .contents
        .iter()
        .filter(|found| !matches!(location_of(game, scope, found), FoundAt::Unseen(_)));
    let releases = seen
        .map(|found| (&found.content.id, &found.content.release))
        .chain(server.control.lock.contents.iter().map(|locked| (&locked.id, &locked.release)));
    for (id, release) in releases {
        known.entry(&release.kind).or_default().insert(id.to_string());
        for member in &release.members {
            known.entry(&member.kind).or_default().insert(member.id.to_string());
        }
    }
    // What is wanted and not installed yet is missing for now only.
    let not_here_yet = wants.keys().filter(|id| server.control.lock.get(id).is_none());
    let expected: BTreeSet<String> =
        server.survey.platform.provides.keys().chain(not_here_yet).map(ToString::to_string).collect();
    // Several kinds may write one list.
    let mut listings: Vec<(Listing, BTreeSet<String>)> = Vec::new();
    for (name, kind) in &game.kinds {
        for (rule, listing) in listings_of(kind, scope) {
            let ids = known.get(rule.unwrap_or(name)).cloned().unwrap_or_default();
            match listings.iter_mut().find(|(known, _)| *known == listing) {
                Some((_, all)) => all.extend(ids),
                None => listings.push((listing, ids)),
            }
        }
    }
    let mut missing = Vec::new();
    for (listing, known) in &listings {
        let Some(bytes) = server.tree.read_file(&listing.file)? else { continue };
        let Ok(document) = Document::read(listing.format, bytes) else { continue };
        let is_missing = |one: &Listed| !known.contains(&one.name) && !expected.contains(&one.name);
        missing.extend(listing.read(&document).into_iter().filter(is_missing));
    }
    if !missing.is_empty() {
        // The system's folders are large, and seldom asked about.
        let available = survey::available(&*server.tree, game, scope)?;
        missing.retain(|one: &Listed| !available.iter().any(|id| id.as_str() == one.name));
    }
    Ok(missing)
}

/// The lists that a kind's rules write, each with the kind of the members that it names, if it names members.
fn listings_of<'k>(
    kind: &'k Kind,
    scope: &'k yalotheca_core::game::Scope,
) -> impl Iterator<Item = (Option<&'k String>, Listing)> {
    kind.register.iter().filter_map(|rule| Some((rule.each.as_ref(), Listing::of(rule, scope)?)))
}
