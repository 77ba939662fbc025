//! What is wrong with a server, as far as it can be seen without starting it.

mod first_start;
mod mirror;
mod missing_maps;
mod needs;
mod pack;
pub(crate) mod runtime;
pub(crate) mod strangers;

use std::{
    borrow::Cow,
    collections::{BTreeMap, BTreeSet},
    io::Read,
    thread,
    time::Duration,
};

use yalotheca_core::{
    change::{OwnedEntry, PlanChangeError, Settled, plan},
    check::{Finding, Remedy, Weight, meaning, of_breaches, of_change},
    control::{LOCK_FILE, Locked},
    desire::{Desired, LineupEntry, desire},
    document::{Document, Format},
    game::{Agree, Kind, RegisterRule, Shape, TWEAK_KIND},
    hint::{Advice, Hint},
    id::{ContentId, TreePath},
    order::{Bond, LoadOrder, Relation},
    reference::Break,
    route::Payload,
    solve::{Breach, verify},
};
use yalotheca_host::{
    archive::ZipBundle,
    catalogue::payload_of_release,
    survey::{self, SurveyError, value_at, value_inside},
    tree::EntryKind,
};

use crate::{
    AppError, Mend, Server, limits, ops,
    plan::{asked, broken_references, is_unlisted, look, open_settings, ordered, tools},
    reading::Reading,
    words::listed,
};

/// Looks at everything that can be seen without starting the server; returns what is wrong, and how many files were looked at.
pub fn look_at_all(server: &Server, reading: Reading) -> Result<(Vec<Finding>, usize), AppError> {
    // Everything else would only follow from that.
    if let Some(finding) = record_missing(server)? {
        return Ok((vec![finding], server.receipt()?.placed.len()));
    }
    let platform = &server.survey.platform;
    let mut findings = agreements(server)?;
    findings.extend(runtime::runtimes(server)?);
    findings.extend(terms(server)?);
    server.read_ahead();
    let loaded = server.control.lock.loaded(&server.control.wants.off);
    let mut breaches = verify(&loaded.universe(), platform, &loaded.selection());
    let (desired, contents) = locked_state(server)?;
    let owned = strangers::owned(server, &desired)?;
    // What lies beside it is looked through meanwhile.
    let (compared, inventory) = thread::scope(|scope| {
        let walk = || survey::inventory_beside(&*server.tree, &server.game, &server.survey.scope, &owned);
        let walk = scope.spawn(walk);
        let compared = compare(server, &desired, contents);
        (compared, walk.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
    });
    let inventory = inventory?;
    // A need may be met by what lies behind a link out of the folder.
    breaches.retain(|breach| match breach {
        Breach::Need { group, has: None, .. } => {
            !group.iter().any(|(id, _)| inventory.link_named(id.as_str()).is_some())
        }
        _ => true,
    });
    findings.extend(of_breaches(&breaches));
    findings.extend(needs::stated_by_hosts(server));
    findings.extend(wants(server));
    findings.extend(names(server));
    findings.extend(compared?);
    tell_closer(server, &mut findings)?;
    tell_halves(server, &mut findings)?;
    let first_start = first_start::FirstStart::of(server)?;
    findings.extend(first_start.note());
    let mut broken = broken_references(server);
    broken.retain(|one| !first_start.will_make(&one.value));
    // A reference names the line and the likely spelling.
    let is_told =
        |map: &Finding| first_start.will_make(&map.about) || broken.iter().any(|one| one.value == map.about);
    findings.extend(missing_maps::missing_maps(server)?.into_iter().filter(|map| !is_told(map)));
    // A missing file of ours has a finding of its own.
    let ours =
        |one: &&Break| TreePath::new(&one.value).is_ok_and(|path| desired.placements.contains_key(&path));
    findings.extend(broken.iter().filter(|one| !ours(one)).map(of_break));
    findings.extend(strangers::look(server, &desired, (&inventory, &owned))?);
    findings.extend(as_found(server));
    findings.extend(compiled_old(server)?);
    findings.extend(pack::look(server, reading)?);
    findings.extend(mirror::look(server, reading)?);
    findings.extend(limits::findings(server)?);
    findings.extend(ops::keys::findings(server, reading)?);
    findings.extend(ops::clashes::findings(server, reading)?);
    findings.sort_by_key(|finding| finding.weight);
    Ok((findings, desired.placements.len()))
}

/// Compares what is on the server with what should be.
fn compare(
    server: &Server,
    desired: &Desired,
    contents: BTreeMap<ContentId, Settled>,
) -> Result<Vec<Finding>, AppError> {
    let (mut findings, usable) = broken_files(server, desired)?;
    let present = look(server, &usable)?;
    let mut receipt = Cow::Borrowed(server.receipt()?);
    if usable.registrations.len() < desired.registrations.len() {
        let usable_files: BTreeSet<&TreePath> = usable.registrations.iter().map(|r| &r.file).collect();
        let all_files: BTreeSet<&TreePath> = desired.registrations.iter().map(|r| &r.file).collect();
        let is_usable =
            |entry: &OwnedEntry| usable_files.contains(&entry.file) || !all_files.contains(&entry.file);
        receipt.to_mut().entries.retain(is_usable);
    }
    match plan(&usable, contents, &receipt, &present) {
        Ok(change) => findings.extend(of_change(&change)),
        Err(PlanChangeError::Edit { path, source }) => {
            findings.push(Finding::trouble("broken-file", path.as_str(), format!("{path}: {source}"), None));
        }
        Err(error) => return Err(error.into()),
    }
    Ok(findings)
}

/// The lock or the receipt, where one is there without the other, or the lock is older than what somebody else has changed.
fn record_missing(server: &Server) -> Result<Option<Finding>, AppError> {
    const FIX: Option<Advice> = Some(Advice::Repair);
    let (lock, receipt) = (&server.control.lock_text, server.receipt_digest);
    if lock.is_none() && server.has_receipt_of_something() {
        let says = "yalotheca.lock is missing: it says which releases are installed".to_owned();
        return Ok(Some(Finding::trouble("lock-missing", LOCK_FILE, says, FIX)));
    }
    if let Some(error) = server.change_since()? {
        return Ok(Some(Finding::trouble("lock-outdated", LOCK_FILE, error.to_string(), error.hint())));
    }
    if receipt.is_none() && !server.control.lock.contents.is_empty() {
        let says =
            "the receipt in .yalotheca is missing: it says which files and entries Yalotheca placed here"
                .to_owned();
        return Ok(Some(Finding::trouble("receipt-missing", ".yalotheca/receipt.json", says, FIX)));
    }
    Ok(None)
}

/// The order in which what is on is loaded.
fn order_of(server: &Server) -> LoadOrder {
    let releases = server.control.lock.on().map(|locked| (locked.id.clone(), &locked.release)).collect();
    ordered(server, &releases, &server.control.wants.order, &Mend::None)
}

/// So many missing entries of a content are named.
const NAMED: usize = 3;

/// What was found in a state that the server may not like, and was left so.
fn as_found(server: &Server) -> Vec<Finding> {
    let lock = server.control.lock.by_id();
    let lists = |id: &ContentId| {
        let kind = lock.get(id).and_then(|locked| server.game.kinds.get(&locked.release.kind));
        kind.is_some_and(|kind| kind.register.iter().any(RegisterRule::is_ordered))
    };
    let mut findings = Vec::new();
    let order = order_of(server);
    for circle in &order.circles {
        let Some(first) = circle.first() else { continue };
        // The list begins and ends with the same content.
        let links: Vec<String> =
            circle.windows(2).map(|two| format!("{} needs {}", two[0], two[1])).collect();
        let says = format!(
            "{} need one another in a circle: {}",
            listed(&circle[1..].iter().map(ContentId::as_str).collect::<Vec<_>>()),
            listed(&links)
        );
        let advice = Advice::RemoveOneOf(first.to_string());
        findings.push(Finding::trouble("circle", first.as_str(), says, Some(advice)));
    }
    for relation in order.out_of_order.iter().filter(|one| lists(&one.first) && lists(&one.later)) {
        let Relation { first, later, bond, .. } = relation;
        let why = match bond {
            Bond::Needs => format!("{later} needs {first}, which is loaded after it"),
            Bond::Welcomes => format!("{later} goes with {first}, which is loaded after it"),
            Bond::Asked | Bond::Wishes => format!("{first} should be loaded before {later}"),
        };
        let finding = if *bond == Bond::Wishes {
            Finding::note("order", later.as_str(), why, Some(Advice::FixThis(later.to_string())))
        } else {
            Finding::trouble("order", later.as_str(), why, Some(Advice::Fix))
        };
        findings.push(finding.with_remedy(Remedy::Mend(later.clone())));
    }
    for locked in server.control.lock.on().filter(|locked| !locked.found.unregistered.is_empty()) {
        let id = &locked.id;
        let remedy = Remedy::Mend(id.clone());
        if is_unlisted(&server.game, locked) {
            let says = format!("{id} is in no list of the load order; the server loads it after the others");
            let finding = Finding::note("unlisted", id.as_str(), says, Some(Advice::FixThis(id.to_string())));
            findings.push(finding.with_remedy(remedy));
            continue;
        }
        let keys = &locked.found.unregistered;
        let named: Vec<&str> = keys.iter().take(NAMED).map(String::as_str).collect();
        let missing = match keys.len() {
            1 => format!("{} is missing", named[0]),
            all if all <= NAMED => format!("{} are missing", named.join(", ")),
            all => format!("{} and {} more are missing", named.join(", "), all - NAMED),
        };
        let says = format!("{id} is only partly enabled: {missing}");
        let finding = Finding::trouble("not-registered", id.as_str(), says, Some(Advice::Fix));
        findings.push(finding.with_remedy(remedy));
    }
    for locked in server.control.lock.on().filter(|locked| !locked.found.unplaced.is_empty()) {
        let paths: Vec<&str> = locked.found.unplaced.iter().take(NAMED).map(TreePath::as_str).collect();
        let more = match locked.found.unplaced.len() - paths.len() {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        let says =
            format!("{} brings {}{more}, which is not there as it brings it", locked.id, paths.join(", "));
        let finding = Finding::trouble("copy-missing", locked.id.as_str(), says, Some(Advice::Fix));
        findings.push(finding.with_remedy(Remedy::Mend(locked.id.clone())));
    }
    findings
}

/// Files that are older than what the game's own tool compiles them from.
fn compiled_old(server: &Server) -> Result<Vec<Finding>, AppError> {
    /// One change writes all of them within so long, in any order.
    const AT_ONCE: Duration = Duration::from_secs(5);
    let mut findings = Vec::new();
    for tool in &server.game.tools {
        let sources = tools::inputs(server, tool)?;
        let mut newest = None;
        for path in sources.iter().filter(|path| tool.is_after(path.as_str())) {
            let modified = server.tree.modified(path)?.map(|time| (time, path));
            newest = newest.max(modified);
        }
        for name in &tool.writes {
            let made = TreePath::new(name)?;
            let Some((newest, from)) = newest else { continue };
            let built = server.tree.modified(&made)?;
            if built.is_none_or(|built| built + AT_ONCE < newest) {
                let says = match built {
                    Some(_) => format!("{made} is older than {from}, from which it is compiled"),
                    None => format!("{made} is not there; it is compiled from {from}"),
                };
                let finding = Finding::trouble("compiled-old", name, says, Some(Advice::Fix));
                findings.push(finding.with_remedy(Remedy::Rebuild(made)));
            }
        }
    }
    Ok(findings)
}

/// The desired state of what is locked; nothing is fetched for it.
pub fn locked_state(server: &Server) -> Result<(Desired, BTreeMap<ContentId, Settled>), AppError> {
    let lock = &server.control.lock;
    let ids = order_of(server).ids;
    let known = lock.by_id();
    let on = ids.iter().filter_map(|id| known.get(id).copied());
    let receipt = server.receipt()?;
    let lineup: Vec<(&Locked, Settled)> = on
        .chain(lock.contents.iter().filter(|locked| locked.off))
        .map(|locked| {
            let known = || receipt.contents.get(&locked.id).cloned();
            let settled = payload_of_release(&server.game, &locked.release).map(Settled::new).or_else(known);
            (locked, settled.unwrap_or_else(|| Settled::new(Payload::default())))
        })
        .collect();
    let entries: Vec<LineupEntry<'_>> =
        lineup.iter().map(|(locked, settled)| LineupEntry { locked, payload: settled.payload() }).collect();
    let desired = desire(
        &server.game,
        &server.survey.scope,
        &entries,
        asked(&server.control.wants, lock.pack.as_ref()),
    )?;
    let contents = lineup.into_iter().map(|(locked, settled)| (locked.id.clone(), settled));
    Ok((desired, contents.collect()))
}

/// Returns the configuration files in which contents are registered, and those with settings.
///
/// # Errors
/// If the server cannot be read.
pub(crate) fn configuration_files(server: &Server) -> Result<BTreeSet<TreePath>, AppError> {
    let (desired, _) = locked_state(server)?;
    let settings = open_settings(server)?.into_iter().filter_map(|settings| settings.path);
    Ok(desired.registrations.into_iter().map(|registration| registration.file).chain(settings).collect())
}

/// Configuration files that cannot be read, and the desired state without them.
fn broken_files<'d>(
    server: &Server,
    desired: &'d Desired,
) -> Result<(Vec<Finding>, Cow<'d, Desired>), AppError> {
    let mut findings = Vec::new();
    let mut usable = Cow::Borrowed(desired);
    let mut seen = BTreeSet::new();
    for registration in &desired.registrations {
        if !seen.insert(&registration.file) {
            continue;
        }
        let Some(bytes) = server.tree.read_file(&registration.file)? else { continue };
        let path = &registration.file;
        if registration.format == Format::PropertiesLoose
            && let Err(error) = Document::read(Format::Properties, bytes.clone())
        {
            let says = format!("{path}, line {} is no entry; the server skips it", error.line);
            let fix = format!("remove line {} of {path}, or correct it", error.line);
            findings.push(Finding::note("stray-line", path.as_str(), says, Some(fix.into())));
        }
        if let Err(error) = Document::read(registration.format, bytes) {
            let says = format!("{path}, line {}, column {}: {}", error.line, error.column, error.expected);
            let fix = format!("correct line {} of {path}", error.line);
            findings.push(Finding::trouble("broken-file", path.as_str(), says, Some(fix.into())));
            usable.to_mut().registrations.retain(|other| other.file != *path);
        }
    }
    Ok((findings, usable))
}

/// Things in different files that must say the same.
fn agreements(server: &Server) -> Result<Vec<Finding>, AppError> {
    let scope = &server.survey.scope;
    let tree = &*server.tree;
    let render = |error| AppError::Survey(SurveyError::Render(error));
    let mut findings = Vec::new();
    for agree in &server.game.agree {
        match agree {
            Agree::File { file, named, near, say } => {
                let name = file.render(scope).map_err(render)?;
                let path = TreePath::new(&name)?;
                if !name.is_empty() && matches!(tree.kind_of(&path)?, Some(EntryKind::File(_))) {
                    continue;
                }
                let names = tree.list_folder(&TreePath::root())?.into_iter().map(|(name, _)| name);
                let there: Vec<String> =
                    names.filter(|name| near.as_ref().is_some_and(|glob| glob.is_match(name))).collect();
                let place = named.file.render(scope).map_err(render)?;
                let files = near.as_ref().map_or("the file", |glob| glob.glob().glob());
                let fix = match (there.is_empty(), name.is_empty()) {
                    (false, _) => format!("name {} in {place}", there.join(" or ")),
                    (true, false) => format!("put {name} into the server's folder"),
                    (true, true) => format!("put {files} into the server's folder, and name it in {place}"),
                };
                let says = if name.is_empty() {
                    let key = named.pointer.as_str().trim_start_matches('/');
                    format!("{place} has no value for {key}, which must name a file of the server")
                } else {
                    say.render(scope).map_err(render)?
                };
                findings.push(Finding::trouble("named-file", &place, says, Some(fix.into())));
            }
            Agree::Present { value, say } => {
                let place = value.file.render(scope).map_err(render)?;
                let is_there = tree.kind_of(&TreePath::new(&place)?)?.is_some();
                if is_there && value_at(tree, value, scope)?.is_none_or(|value| value.is_empty()) {
                    let key = value.pointer.as_str().trim_start_matches('/');
                    let fix = format!("set {key} in {place}");
                    let says = say.render(scope).map_err(render)?;
                    findings.push(Finding::trouble("missing-value", &place, says, Some(fix.into())));
                }
            }
            Agree::Value { value, is, inside, say } => {
                let found = value_at(tree, value, scope)?;
                let expected = match inside {
                    Some(archive) => value_inside(tree, archive, is, scope)?,
                    None => value_at(tree, is, scope)?,
                };
                let Some(expected) = expected else { continue };
                let found = found.unwrap_or_default();
                if found == expected {
                    continue;
                }
                let mut scope = scope.clone();
                scope.found.insert("found".into(), found);
                scope.found.insert("expected".into(), expected.clone());
                let place = value.file.render(&scope).map_err(render)?;
                let key = value.pointer.as_str().trim_start_matches('/');
                let fix = format!("set {key} to {expected} in {place}");
                let says = say.render(&scope).map_err(render)?;
                let plain = Finding::trouble("disagree", &place, says, Some(fix.into()));
                findings.push(match runtime::remedy(server, value, expected) {
                    Some(remedy) => {
                        Finding { fix: Some(Advice::FixThis(place)), ..plain }.with_remedy(remedy)
                    }
                    None => plain,
                });
            }
        }
    }
    Ok(findings)
}

fn terms(server: &Server) -> Result<Option<Finding>, AppError> {
    let Some(terms) = &server.game.terms else { return Ok(None) };
    let now = value_at(&*server.tree, &terms.place, &server.survey.scope)?;
    Ok((now.as_deref() != Some(terms.agreed.as_str())).then(|| {
        let says =
            "the server's terms have not been accepted, and it will not start until they are".to_owned();
        let fix = Advice::AcceptTerms(terms.place.file.as_str().to_owned());
        Finding::trouble("terms", terms.place.file.as_str(), says, Some(fix))
    }))
}

/// Names that the server does not take.
fn names(server: &Server) -> Vec<Finding> {
    let mut findings = Vec::new();
    let loaded = server.control.lock.loaded(&server.control.wants.off);
    for locked in &loaded.contents {
        let members = locked.release.members.iter().map(|member| (&member.id, &member.kind));
        let own = std::iter::once((&locked.id, &locked.release.kind));
        for (id, kind) in own.chain(members) {
            let rule = server.game.kinds.get(kind).filter(|rule| !rule.takes_id(id.as_str()));
            let Some(pattern) = rule.and_then(|rule| rule.id_pattern.as_ref()) else { continue };
            let says = format!(
                "{id} is not a name that the server takes for a {kind}: it must fit {}",
                pattern.as_str()
            );
            let fix = Advice::RenameOrSwitchOff(id.to_string());
            findings.push(Finding::trouble("bad-name", id.as_str(), says, Some(fix)));
        }
    }
    findings
}

/// Wants that are not in the lineup, or in another version.
fn wants(server: &Server) -> Vec<Finding> {
    let lock = server.control.lock.by_id();
    let unmet = server.control.wants.wants.iter().filter_map(|(id, range)| match lock.get(id) {
        None => {
            let says = format!("{id} is in yalotheca.toml and not installed yet");
            let finding = Finding::trouble("not-settled", id.as_str(), says, Some(Advice::Settle));
            Some(finding.with_remedy(Remedy::Settle))
        }
        Some(locked)
            if !range.matches(&locked.release.version) && !locked.release.version.is_unversioned() =>
        {
            let says = format!(
                "{id} {} is installed, and yalotheca.toml asks for {}",
                locked.release.version,
                range.in_words()
            );
            let finding = Finding::trouble("not-settled", id.as_str(), says, Some(Advice::Settle));
            Some(finding.with_remedy(Remedy::Settle))
        }
        Some(locked) if locked.off != server.control.wants.off.contains_key(id) => {
            let should = if locked.off { "on" } else { "off" };
            let says = format!("yalotheca.toml says that {id} is {should}, and that is not settled yet");
            let finding = Finding::trouble("not-settled", id.as_str(), says, Some(Advice::Settle));
            Some(finding.with_remedy(Remedy::Settle))
        }
        Some(_) => None,
    });
    unmet.collect()
}

/// A file that was changed may be no such file any more: that keeps the server from loading it.
fn tell_closer(server: &Server, findings: &mut [Finding]) -> Result<(), AppError> {
    let lock = server.control.lock.by_id();
    for finding in findings.iter_mut().filter(|finding| finding.code == "altered-file") {
        let Ok(path) = TreePath::new(&finding.about) else { continue };
        let Some(placed) = server.receipt()?.placed.get(&path) else { continue };
        let kind = lock.get(&placed.content).and_then(|locked| server.game.kinds.get(&locked.release.kind));
        let Some(kind) = kind else { continue };
        let Some(EntryKind::File(size)) = server.tree.kind_of(&path)? else { continue };
        let why = match kind.shape {
            Shape::File if kind.stem(path.name()) != path.name() => {
                let mut head = Vec::new();
                if let Some(file) = server.tree.open(&path)? {
                    file.take(Kind::HEAD as u64).read_to_end(&mut head).ok();
                }
                kind.looks_right(&head, size).err()
            }
            Shape::Archive => match server.tree.open(&path)?.map(ZipBundle::of_file) {
                Some(Ok(None)) => Some("it is no zip archive any more".to_owned()),
                Some(Err(error)) => Some(format!("it is damaged ({error})")),
                _ => None,
            },
            Shape::File | Shape::Folder => None,
        };
        if let Some(why) = why {
            finding.weight = Weight::Trouble;
            finding.says = format!("{path} was edited since Yalotheca installed it: {why}");
        }
    }
    Ok(())
}

/// Marks tweaks of which only a part is left, which can be worse than none.
fn tell_halves(server: &Server, findings: &mut [Finding]) -> Result<(), AppError> {
    for locked in server.control.lock.contents.iter().filter(|locked| locked.release.kind == TWEAK_KIND) {
        let id = locked.id.as_str();
        let gone = |finding: &&mut Finding| finding.about == id && finding.code == "not-registered";
        let all = server.receipt()?.entries.iter().filter(|entry| entry.content == locked.id).count();
        let missing = findings.iter_mut().filter(|finding| gone(finding)).count();
        if missing == 0 || missing >= all {
            continue;
        }
        for finding in findings.iter_mut().filter(gone) {
            finding.code = "half-a-tweak";
            finding.means = meaning(finding.code);
            finding.says = format!("{id} is only partly there: {}", finding.says);
        }
    }
    Ok(())
}

fn of_break(one: &Break) -> Finding {
    let fix = match (&one.also, &one.near) {
        (Some(_), _) => format!("take one of the two out of {}", one.at.file),
        (None, Some(near)) => format!("{} line {}: {near}", one.at.file, one.at.line),
        (None, None) if one.value.is_empty() => format!("add it to {}", one.at.file),
        (None, None) => {
            format!("correct {} in {}, line {}, or take it out", one.value, one.at.file, one.at.line)
        }
    };
    Finding::trouble("reference", one.at.file.as_str(), one.says(), Some(fix.into()))
}
