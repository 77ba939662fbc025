//! Assets that several contents have under one name, and decisions whose counts.

mod inside;

use crate::words::ServerName;
use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;
use yalotheca_core::{
    check::Finding,
    clash::{Asset, Clash, ClashContext, clashes as of_assets},
    control::ControlFile,
    game::Assets,
    hint::{Advice, Listing},
    id::{ContentId, TreePath},
    suggest,
};
use yalotheca_host::tree::{NameIndex, NameKind, NamePattern};

use super::change::Change;
use crate::{AppError, Server, reading::Reading};

/// The names that several contents have.
#[derive(Debug, Serialize)]
pub struct ClashesReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// How many files were looked at that have such names.
    pub assets: usize,
    /// The names, the worst first.
    pub clashes: Vec<ClashLine>,
    /// What was decided earlier: name and content.
    pub kept: BTreeMap<String, ContentId>,
}

/// A name that several contents have.
#[derive(Debug, Serialize)]
pub struct ClashLine {
    /// The name.
    pub name: String,
    /// Who has it, by the load order; a path stands for a file that no content owns.
    pub from: Vec<String>,
    /// Whose players see.
    pub shown: String,
    /// Whether all have the same bytes.
    pub same: bool,
    /// The author who says that it must come from theirs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub owner: Option<ContentId>,
    /// Whether it is inside archives, where only the load order decides which one is used.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub inside: bool,
}

/// The rule about the game's assets.
fn rule(server: &Server) -> Result<&Assets, AppError> {
    server.game.assets.as_ref().ok_or_else(|| AppError::Usage {
        what: format!(
            "a {} has no names that contents share, as far as its definition says",
            server.game.title
        ),
        hint: Some(Advice::List(Listing::Definition(server.game.name.clone()))),
    })
}

/// Finds the names that several contents have.
///
/// # Errors
/// Where the game has no such names, or the server cannot be read.
pub fn clashes(server: &Server) -> Result<ClashesReport, AppError> {
    let rule = rule(server)?;
    let (assets, found) = look(server, rule, Reading::Files)?;
    let clashes = found.iter().map(|clash| line(rule, clash)).collect();
    Ok(ClashesReport { server: server.shown(), assets, clashes, kept: server.control.wants.keep.clone() })
}

fn holder(asset: &Asset) -> String {
    asset.content.as_ref().map_or_else(|| asset.path.to_string(), ToString::to_string)
}

fn line(rule: &Assets, clash: &Clash) -> ClashLine {
    ClashLine {
        name: clash.name.clone(),
        from: clash.copies.iter().map(holder).collect(),
        shown: clash.copies.last().map_or_else(String::new, holder),
        same: clash.is_same,
        owner: clash.owner.clone(),
        inside: lies_inside(rule, clash),
    }
}

fn lies_inside(rule: &Assets, clash: &Clash) -> bool {
    clash.copies.iter().any(|copy| rule.is_archive(copy.path.as_str()))
}

/// How many files were looked at, and the names that several have. Only files of one name are compared by their bytes.
fn look(server: &Server, rule: &Assets, reading: Reading) -> Result<(usize, Vec<Clash>), AppError> {
    let (mut looked_at, mut assets, lists) = match reading {
        Reading::Files | Reading::Everything => assets_there(server, rule)?,
        Reading::Records => assets_placed(server, rule)?,
    };
    let inside = inside::assets_inside(server, rule, reading)?;
    looked_at += inside.len();
    assets.extend(inside);
    let mut owns: BTreeMap<ContentId, BTreeSet<String>> = BTreeMap::new();
    let paths: Vec<TreePath> = lists.iter().map(|(path, _)| path.clone()).collect();
    for ((_, content), bytes) in lists.iter().zip(server.tree.read(&paths)?) {
        let text = String::from_utf8_lossy(bytes.as_deref().unwrap_or_default()).into_owned();
        if let Some(content) = content {
            owns.entry(content.clone()).or_default().extend(names_in(&text));
        }
    }
    server.tree.check_reads()?;
    let order: Vec<ContentId> = server.control.lock.on().map(|locked| locked.id.clone()).collect();
    let context = ClashContext { order: &order, wins: rule.wins, owns: &owns };
    Ok((looked_at, of_assets(&assets, context)))
}

/// The number of files compared, the files that share a name, and the authors' lists with their contents.
type Looked = (usize, Vec<Asset>, Vec<(TreePath, Option<ContentId>)>);

/// Every asset on the server, including unmanaged files.
fn assets_there(server: &Server, rule: &Assets) -> Result<Looked, AppError> {
    let index = server.tree.names(&server.fetcher.store().names_of(&*server.tree));
    let endings = rule.endings();
    let may_be =
        |name: &[u8]| endings.as_ref().is_none_or(|all| all.iter().any(|end| name.ends_with(end.as_bytes())));
    let question = endings.as_ref().map_or_else(|| "*".into(), |all| all.join(" "));
    let (looked_at, repeated) = index.repeated(&question, may_be);
    let paths = repeated.iter().filter(|found| rule.name(&found.path).is_some());
    let paths: Vec<TreePath> = paths.filter_map(|found| TreePath::new(&found.path).ok()).collect();
    let lists = owner_lists(rule, &index);
    let owners = server.owners(&paths.iter().chain(&lists).cloned().collect())?;
    let owner = |path: &TreePath| owners.get(path).map(|(content, _)| content.clone());
    let mut assets = Vec::new();
    for (path, digest) in paths.iter().zip(server.tree.digest_found(&paths)?) {
        let (Some((digest, _)), Some(name)) = (digest, rule.name(path.as_str())) else { continue };
        assets.push(Asset { name: name.to_owned(), path: path.clone(), content: owner(path), digest });
    }
    let lists = lists.into_iter().map(|path| (path.clone(), owner(&path))).collect();
    Ok((looked_at, assets, lists))
}

/// The assets installed by enabled contents.
fn assets_placed(server: &Server, rule: &Assets) -> Result<Looked, AppError> {
    let on: BTreeSet<&ContentId> = server.control.lock.on().map(|locked| &locked.id).collect();
    let receipt = server.receipt()?;
    let placed = || receipt.placed.iter().filter(|(_, placed)| on.contains(&placed.content));
    let assets: Vec<Asset> = placed()
        .filter_map(|(path, placed)| {
            let name = rule.name(path.as_str())?.to_owned();
            let content = Some(placed.content.clone());
            Some(Asset { name, path: path.clone(), content, digest: placed.digest })
        })
        .collect();
    let is_list = |path: &TreePath| rule.owns.as_ref().is_some_and(|owns| owns.is_match(path.as_str()));
    let lists = placed().filter(|(path, _)| is_list(path));
    let lists = lists.map(|(path, placed)| (path.clone(), Some(placed.content.clone()))).collect();
    Ok((assets.len(), assets, lists))
}

/// Returns the authors' lists of names that must come from theirs.
fn owner_lists(rule: &Assets, index: &NameIndex) -> Vec<TreePath> {
    let Some(owns) = &rule.owns else { return Vec::new() };
    let last = owns.glob().glob().rsplit('/').next().unwrap_or_default();
    let found = NamePattern::parse(last).map(|pattern| index.find_known(&pattern)).unwrap_or_default();
    let lists = found.iter().filter(|found| found.kind == NameKind::File && owns.is_match(&found.path));
    lists.filter_map(|found| TreePath::new(&found.path).ok()).collect()
}

/// Reads a list of names as people write it: one a line, with or without a path or a bullet.
pub fn names_in(text: &str) -> Vec<String> {
    let line = |line: &str| {
        let bare =
            line.trim().trim_start_matches(['-', '*', '•', '·']).trim().trim_matches(['"', '\'', '`', ',']);
        let name = bare.rsplit(['/', '\\']).next().unwrap_or(bare).trim();
        (!name.is_empty() && !bare.starts_with('#')).then(|| name.to_owned())
    };
    text.lines().filter_map(line).collect()
}

/// From which content assets are to come.
#[derive(Debug, Clone, Default)]
pub struct KeepRequest {
    /// Their names.
    pub names: Vec<String>,
    /// All names that this content has and others as well.
    pub all: bool,
    /// A list of names as people write it; one that nothing clashes with yet is noted for later.
    pub list: Option<String>,
    /// The content.
    pub from: Option<String>,
    /// Forget earlier decisions about these names.
    pub forget: bool,
}

/// Notes from which content assets come; the others' copies are set aside.
///
/// # Errors
/// Where a name or the content is not there.
pub fn keep(server: &Server, request: &KeepRequest) -> Result<Change, AppError> {
    let rule = rule(server)?;
    let mut wants = server.control.wants.clone();
    if request.forget {
        return forget(&mut wants, &request.names).map(|asked| Change::to(wants, asked));
    }
    let Some(from) = &request.from else {
        return Err(AppError::Usage {
            what: "from which content is not said".into(),
            hint: Some(Advice::ShowClashes),
        });
    };
    let from = ContentId::new(from)?;
    if !server.control.lock.on().any(|locked| locked.id == from) {
        return Err(server.not_here(&from, Advice::List(Listing::Installed)));
    }
    let (_, found) = look(server, rule, Reading::Files)?;
    let has = |clash: &&Clash| clash.copies.iter().any(|copy| copy.content.as_ref() == Some(&from));
    let mut names = request.names.clone();
    if request.all {
        let loose = found.iter().filter(has).filter(|clash| !lies_inside(rule, clash));
        names.extend(loose.map(|clash| clash.name.clone()));
    }
    let listed = request.list.as_deref().map(names_in).unwrap_or_default();
    let unknown = note_list(server, rule, (&mut wants, &from), &listed)?;
    if names.is_empty() && listed.is_empty() {
        let what = format!("no other content has a name that {from} has");
        return Err(AppError::Usage { what, hint: Some(Advice::ShowClashes) });
    }
    for name in &names {
        let is_known = found.iter().filter(has).any(|clash| clash.name == *name);
        if !is_known && !wants.keep.contains_key(name) {
            let all = found.iter().filter(has).map(|clash| clash.name.as_str());
            return Err(AppError::Usage {
                what: format!("{from} shares no asset called {name} with another content"),
                hint: Some(suggest::did_you_mean(name, all).map_or(Advice::ShowClashes, Advice::Say)),
            });
        }
        if found.iter().any(|clash| clash.name == *name && lies_inside(rule, clash)) {
            return Err(AppError::Refused {
                what: format!("{name} is inside archives, where only the load order decides"),
                hint: Some(Advice::AskForPlace(from.to_string())),
            });
        }
        wants.keep_asset(name, Some(&from));
    }
    names.extend(listed.into_iter().filter(|name| !unknown.contains(name)));
    let asked = match names.as_slice() {
        [one] => format!("{one} from {from}"),
        several => format!("{} assets from {from}", several.len()),
    };
    let mut change = Change::to(wants, vec![asked]);
    let kept = match names.as_slice() {
        [one] => format!("{one} comes from {from} from now on; the other copies are set aside."),
        several => {
            format!("{} assets come from {from} from now on; the other copies are set aside.", several.len())
        }
    };
    change.extras.notes.push(kept);
    if !unknown.is_empty() {
        change.extras.notes.push(format!("{from} has none of these names: {}", unknown.join(", ")));
    }
    Ok(change)
}

/// Notes the names of a list that a content has, and returns those that it does not have.
fn note_list(
    server: &Server,
    rule: &Assets,
    (wants, from): (&mut ControlFile, &ContentId),
    listed: &[String],
) -> Result<Vec<String>, AppError> {
    if listed.is_empty() {
        return Ok(Vec::new());
    }
    let placed = server.receipt()?.placed.iter();
    let own = placed.filter(|(_, placed)| placed.content == *from);
    let own: BTreeSet<&str> = own.filter_map(|(path, _)| rule.name(path.as_str())).collect();
    let mut unknown = Vec::new();
    for name in listed {
        if own.contains(name.as_str()) || wants.keep.get(name) == Some(from) {
            wants.keep_asset(name, Some(from));
        } else {
            unknown.push(name.clone());
        }
    }
    Ok(unknown)
}

fn forget(wants: &mut ControlFile, names: &[String]) -> Result<Vec<String>, AppError> {
    for name in names {
        if !wants.keep.contains_key(name) {
            let all = wants.keep.keys().map(String::as_str);
            return Err(AppError::Usage {
                what: format!("nothing was decided about {name}"),
                hint: suggest::did_you_mean(name, all).map(Advice::Say),
            });
        }
        wants.keep_asset(name, None);
    }
    Ok(vec![format!("no decision about {} any more", names.join(", "))])
}

/// Returns what is undecided.
pub(crate) fn findings(server: &Server, reading: Reading) -> Result<Vec<Finding>, AppError> {
    /// How many names one finding lists.
    const NAMED: usize = 3;
    let Some(rule) = &server.game.assets else { return Ok(Vec::new()) };
    let (_, clashes) = look(server, rule, reading)?;
    let mut by_pair: BTreeMap<Vec<String>, Vec<&Clash>> = BTreeMap::new();
    for clash in clashes.iter().filter(|clash| !clash.is_same) {
        by_pair.entry(clash.copies.iter().map(holder).collect()).or_default().push(clash);
    }
    let mut found = Vec::new();
    for (holders, clashes) in by_pair {
        let names: Vec<&str> = clashes.iter().take(NAMED).map(|clash| clash.name.as_str()).collect();
        let more = match clashes.len() - names.len() {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        let shown = holders.last().cloned().unwrap_or_default();
        let says = format!(
            "{} each have {}{more}; players see those of {shown}",
            holders.join(" and "),
            names.join(", ")
        );
        let about = shown.clone();
        found.push(Finding::note("clash", &about, says, Some(Advice::ShowClashes)));
    }
    Ok(found)
}
