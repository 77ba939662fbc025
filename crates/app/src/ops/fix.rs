//! Doing what a check suggests.

use std::collections::BTreeSet;

use yalotheca_core::{
    change::{ChangeSet, Receipt},
    check::{Finding, Remedy, Weight},
    control::{ControlFile, LockedPack},
    document::Value,
    game::Tool,
    hint::{Advice, Listing},
    id::{ContentId, TreePath},
    settings::SERVER,
    suggest,
    version::VersionRange,
};
use yalotheca_host::{
    sources::Sources,
    survey::{self, FoundContent, Inventory},
};

use super::change::Change;
use crate::{
    AppError, Fresh, Mend, Server,
    apply::ChangeExtras,
    findings::look_at_all,
    pack,
    plan::{PlanOptions, can_mend, open_settings, tools},
    reading::Reading,
    take_over::{place, place_files, take_over_one},
};

/// What to fix.
#[derive(Debug, Clone, Default)]
pub struct FixRequest {
    /// Codes, contents or paths; all problems where nothing is named.
    pub what: Vec<String>,
    /// Whether a second copy stays that differs from the one that is installed.
    pub keeps_what_differs: bool,
}

/// What is fixed.
#[derive(Debug)]
pub enum Fixed {
    /// These findings, by one change.
    Change(Box<Change>),
    /// Nothing of what could have been.
    Nothing,
    /// There is nothing to fix; these problems are left for people.
    NothingToFix(Vec<Finding>),
}

/// A finding that nothing is done about.
#[derive(Debug)]
pub enum LeftOut {
    /// No combination of versions puts it right.
    Hopeless {
        /// The content.
        about: ContentId,
        /// The finding.
        says: String,
    },
    /// A second copy is not the same as the one that is installed.
    Differs {
        /// Its path.
        path: TreePath,
        /// The content.
        of: ContentId,
    },
}

/// What `fix` does.
#[derive(Debug)]
pub struct FixReport {
    /// What is fixed.
    pub fixed: Fixed,
    /// What nothing is done about.
    pub left_out: Vec<LeftOut>,
}

/// Does what a check suggests, as one change.
///
/// # Errors
/// Where something is named that fix does nothing about, or the server cannot be looked at.
pub fn fix(server: &mut Server, request: &FixRequest) -> Result<FixReport, AppError> {
    let (findings, _) = look_at_all(server, Reading::usual(server))?;
    let mut left_out = Vec::new();
    let inventory = survey::inventory(&*server.tree, &server.game, &server.survey.scope)?;
    let chosen = choose(request, &findings, &inventory)?;
    if chosen.is_empty() {
        let left = findings.into_iter().filter(|finding| finding.weight == Weight::Trouble).collect();
        return Ok(FixReport { fixed: Fixed::NothingToFix(left), left_out });
    }
    let chosen =
        if request.what.is_empty() { without_hopeless(server, chosen, &mut left_out)? } else { chosen };
    let mut wants = server.control.wants.clone();
    let mut mended = BTreeSet::new();
    let mut receipt = server.receipt()?.clone();
    let mut notes = Vec::new();
    let mut refreshes_pack = false;
    let (mut rebuilt, mut bytes) = (ChangeSet::default(), Sources::default());
    for finding in chosen {
        match finding.remedy.as_ref() {
            None | Some(Remedy::Settle) => {}
            Some(Remedy::Play(map)) => wants.play(Some(map)),
            Some(Remedy::Set { file, at, value }) => {
                let open = open_settings(server)?;
                let of_file = open.iter().find(|one| one.owner == SERVER && one.short == *file);
                let there = of_file.and_then(|one| one.value_of(at, None));
                let text = Value::Text(value.clone());
                let value = there.map_or_else(|| text.clone(), |there| text.like(&there));
                wants.ask_setting(SERVER, file, at, Some(&value));
            }
            Some(Remedy::RefreshPack) => refreshes_pack = true,
            Some(Remedy::Mend(id)) => drop(mended.insert(id.clone())),
            Some(Remedy::TakeOut(entry)) => receipt.entries.push((**entry).clone()),
            Some(Remedy::SetAside(path)) => {
                let Some(found) = found_at(&inventory, path) else { continue };
                if request.keeps_what_differs && !is_the_same(server, &receipt, found) {
                    left_out.push(LeftOut::Differs { path: path.clone(), of: found.content.id.clone() });
                    continue;
                }
                place_files(&server.game, found, &mut receipt);
            }
            Some(Remedy::Rebuild(path)) => {
                let writes = |tool: &&Tool| tool.writes.iter().any(|name| name == path.as_str());
                let tool = server.game.tools.iter().find(writes);
                if let Some(tool) = tool {
                    tools::announce(server, &[tool])?;
                    tools::run(server, tool, (&mut rebuilt, &mut bytes))?;
                }
            }
            Some(Remedy::TakeOver(path)) => {
                let Some(found) = found_at(&inventory, path) else { continue };
                let id = &found.content.id;
                // Of two copies in wrong folders the first is taken over; the other is a finding of the next check.
                if server.control.lock.get(id).is_some() {
                    continue;
                }
                let locked = take_over_one(server, found)?;
                place(&server.game, found, &mut receipt);
                server.control.lock.contents.push(locked);
                wants.want(id, &VersionRange::any());
                mended.insert(id.clone());
            }
        }
        notes.push(finding.says.clone());
    }
    if notes.is_empty() {
        return Ok(FixReport { fixed: Fixed::Nothing, left_out });
    }
    server.plan_on(receipt);
    let pack = if refreshes_pack { refreshed_pack(server, &mut wants)? } else { None };
    let plan = PlanOptions { mend: Mend::These(mended), pack, ..PlanOptions::default() };
    let more = (!rebuilt.steps.is_empty()).then_some(rebuilt);
    let extras = ChangeExtras { plan, fixes: notes, more, bytes, ..ChangeExtras::default() };
    Ok(FixReport { fixed: Fixed::Change(Box::new(Change { wants, fresh: Fresh::None, extras })), left_out })
}

/// Downloads the offered pack again. A pack named only in the server's own files is adopted first.
fn refreshed_pack(server: &Server, wants: &mut ControlFile) -> Result<Option<LockedPack>, AppError> {
    let told = pack::as_told(&*server.tree, &server.game, &server.survey.scope)?;
    let found = pack::taken_over(&told).filter(|_| wants.pack.is_none());
    if let Some((section, _)) = found {
        wants.offer_pack(Some(&section));
    }
    pack::resolve(server, wants, true)
}

/// Leaves out what no combination of versions puts right, so that everything else can be.
fn without_hopeless<'f>(
    server: &Server,
    chosen: Vec<&'f Finding>,
    left_out: &mut Vec<LeftOut>,
) -> Result<Vec<&'f Finding>, AppError> {
    let mut left = Vec::new();
    for finding in chosen {
        if let Some(Remedy::Mend(id)) = &finding.remedy
            && !can_mend(server, id)?
        {
            left_out.push(LeftOut::Hopeless { about: id.clone(), says: finding.says.clone() });
            continue;
        }
        left.push(finding);
    }
    Ok(left)
}

/// Chooses the findings that something is done about.
fn choose<'f>(
    request: &FixRequest,
    findings: &'f [Finding],
    inventory: &Inventory,
) -> Result<Vec<&'f Finding>, AppError> {
    let fixable = || findings.iter().filter(|finding| finding.remedy.is_some());
    if request.what.is_empty() {
        return Ok(fixable().filter(|finding| finding.weight == Weight::Trouble).collect());
    }
    let is_named = |finding: &Finding, what: &str| finding.code == what || finding.about == what;
    // What is known by its path may also be called by its name, or by that of its folder.
    let is_called = |finding: &Finding, what: &str| {
        let Some(Remedy::TakeOver(path) | Remedy::SetAside(path)) = &finding.remedy else { return false };
        let found = found_at(inventory, path);
        path.name().eq_ignore_ascii_case(what)
            || found.is_some_and(|found| found.content.id.as_str().eq_ignore_ascii_case(what))
    };
    let is_about = |finding: &Finding, what: &str| {
        is_named(finding, what)
            || is_called(finding, what) && !findings.iter().any(|other| is_named(other, what))
    };
    for what in &request.what {
        if fixable().any(|finding| is_about(finding, what)) {
            continue;
        }
        if let Some(finding) = findings.iter().find(|finding| is_about(finding, what)) {
            return Err(AppError::ByHand {
                says: finding.says.clone(),
                fix: finding.fix.clone().map(Box::new),
            });
        }
        let names = fixable().flat_map(|finding| [finding.code, finding.about.as_str()]);
        return Err(AppError::Usage {
            what: format!("check has found nothing called {what}"),
            hint: suggest::did_you_mean(what, names)
                .map_or(Some(Advice::List(Listing::Findings)), |near| Some(near.into())),
        });
    }
    Ok(fixable().filter(|finding| request.what.iter().any(|what| is_about(finding, what))).collect())
}

fn found_at<'i>(inventory: &'i Inventory, path: &TreePath) -> Option<&'i FoundContent> {
    inventory.contents.iter().find(|found| found.path == *path)
}

/// Whether a second copy has the same files as the one that is installed.
fn is_the_same(server: &Server, receipt: &Receipt, found: &FoundContent) -> bool {
    let Some(settled) = receipt.contents.get(&found.content.id) else { return false };
    match (settled.payload().files.as_slice(), found.payload.files.as_slice()) {
        // One of them is known by its fingerprint only.
        ([own], [other]) if own.digest.is_fingerprint() != other.digest.is_fingerprint() => {
            let now = server.tree.digest_file_as(&found.path, own.digest).ok().flatten();
            now.is_some_and(|(digest, _)| digest == own.digest)
        }
        _ => settled.payload().is_same_as(&found.payload),
    }
}
