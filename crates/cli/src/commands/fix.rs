//! `fix`.

use std::{collections::BTreeSet, process::ExitCode};

use clap::Args;
use serde::Serialize;
use yalotheca_app::{
    AppError, Purpose, Server,
    apply::Along,
    findings::look_at_all,
    plan::{Fresh, Mend, PlanOptions, can_mend},
    take_over::{lies, lock_one, place, place_files},
};
use yalotheca_core::{
    check::{Finding, Remedy, Weight},
    control::Locked,
    id::TreePath,
    suggest,
    version::VersionRange,
};
use yalotheca_host::survey::{self, FoundContent, Inventory};

use super::apply::{Mode, apply};
use crate::{
    args::Global,
    ui::Ui,
    view::{Page, Role, View, count},
};

/// Do what check suggests, as one change: install what is needed, move what lies in the wrong folder, put the order right, take out
/// entries for what is not there.
#[derive(Debug, Args)]
pub(crate) struct FixArgs {
    /// Only findings with this code, or about this content or file; notes are fixed only if they are named
    #[arg(value_name = "WHAT")]
    what: Vec<String>,
}

/// What is left where there is nothing to fix.
#[derive(Debug, Serialize)]
struct NothingToFix {
    server: String,
    /// Problems that fix does nothing about.
    left: Vec<Finding>,
}

impl View for NothingToFix {
    fn view(&self, page: &mut Page) {
        if self.left.is_empty() {
            page.line(Role::Good, &format!("{}: nothing to fix.", self.server));
            return;
        }
        let many = count(self.left.len(), "problem");
        page.line(Role::Bad, &format!("{}: {many} that fix cannot put right by itself.", self.server));
        page.gap();
        for finding in &self.left {
            page.item(Role::Bad, &finding.says);
            if let Some(fix) = &finding.fix {
                page.item(Role::Name, fix);
            }
        }
    }
}

pub(crate) fn run(args: &FixArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let mut server = Server::open(Purpose::Change, &global.open(), ui)?;
    let (findings, _) = look_at_all(&server)?;
    let chosen = choose(args, &findings)?;
    if chosen.is_empty() {
        let left: Vec<Finding> =
            findings.into_iter().filter(|finding| finding.weight == Weight::Trouble).collect();
        let code = if left.is_empty() { ExitCode::SUCCESS } else { ExitCode::FAILURE };
        ui.show(&NothingToFix { server: server.shown(), left })?;
        return Ok(code);
    }
    let chosen = if args.what.is_empty() { without_hopeless(&server, chosen, ui)? } else { chosen };
    let inventory = survey::inventory(&server.tree, &server.game, &server.survey.scope)?;
    let mut wants = server.control.wants.clone();
    let mut mended = BTreeSet::new();
    let mut notes = Vec::new();
    server.keep_receipt();
    for finding in chosen {
        match finding.remedy.as_ref() {
            None | Some(Remedy::Settle) => {}
            Some(Remedy::Mend(id)) => drop(mended.insert(id.clone())),
            Some(Remedy::TakeOut(entry)) => server.receipt.entries.push((**entry).clone()),
            Some(Remedy::SetAside(path)) => {
                let Some(found) = found_at(&inventory, path) else { continue };
                if ui.is_unasked() && !is_the_same(&server, found) {
                    ui.warn(&format!(
                        "{path} differs from the {} that is installed; fix without --yes asks about it.",
                        found.content.id
                    ));
                    continue;
                }
                place_files(&server.game, found, &mut server.receipt);
            }
            Some(Remedy::TakeOver(path)) => {
                let Some(found) = found_at(&inventory, path) else { continue };
                let id = &found.content.id;
                // Of two copies in wrong folders the first is taken over; the other is a finding of the next check.
                if server.control.lock.get(id).is_some() {
                    continue;
                }
                let locked = take_over(&server, found)?;
                place(&server.game, found, &mut server.receipt);
                server.control.lock.contents.push(locked);
                wants.want(id, &VersionRange::any());
                mended.insert(id.clone());
            }
        }
        notes.push(finding.says.clone());
    }
    if notes.is_empty() {
        return Ok(ExitCode::FAILURE);
    }
    let catalogues = server.catalogues_for(&wants);
    let plan = PlanOptions { mend: Mend::These(mended), ..PlanOptions::default() };
    let along = Along { plan, fixes: notes, ..Along::default() };
    apply(&server, &catalogues, &wants, &Fresh::None, (Mode::Settle, along), ui)
}

/// Leaves out what no combination of versions puts right, so that everything else can be.
fn without_hopeless<'f>(
    server: &Server,
    chosen: Vec<&'f Finding>,
    ui: &Ui,
) -> Result<Vec<&'f Finding>, AppError> {
    let mut left = Vec::new();
    for finding in chosen {
        if let Some(Remedy::Mend(id)) = &finding.remedy
            && !can_mend(server, id)?
        {
            ui.warn(&format!(
                "{}. No combination of versions puts that right; yalotheca fix {id} says why.",
                finding.says
            ));
            continue;
        }
        left.push(finding);
    }
    Ok(left)
}

/// Chooses the findings that something is done about.
fn choose<'f>(args: &FixArgs, findings: &'f [Finding]) -> Result<Vec<&'f Finding>, AppError> {
    let fixable = || findings.iter().filter(|finding| finding.remedy.is_some());
    if args.what.is_empty() {
        return Ok(fixable().filter(|finding| finding.weight == Weight::Trouble).collect());
    }
    let is_about = |finding: &Finding, what: &str| finding.code == what || finding.about == what;
    for what in &args.what {
        if fixable().any(|finding| is_about(finding, what)) {
            continue;
        }
        let by_hand = findings.iter().find(|finding| is_about(finding, what));
        let names = fixable().flat_map(|finding| [finding.code, finding.about.as_str()]);
        return Err(AppError::Usage {
            what: match by_hand {
                Some(finding) => format!("fix does nothing about this: {}", finding.says),
                None => format!("check has found nothing called {what}"),
            },
            hint: by_hand
                .and_then(|finding| finding.fix.clone())
                .or_else(|| suggest::did_you_mean(what, names))
                .or_else(|| Some("yalotheca check lists the findings, each with its code".into())),
        });
    }
    Ok(fixable().filter(|finding| args.what.iter().any(|what| is_about(finding, what))).collect())
}

fn found_at<'i>(inventory: &'i Inventory, path: &TreePath) -> Option<&'i FoundContent> {
    inventory.contents.iter().find(|found| found.path == *path)
}

/// Whether a second copy has the same files as the one that is installed.
fn is_the_same(server: &Server, found: &FoundContent) -> bool {
    let settled = server.receipt.contents.get(&found.content.id);
    settled.is_some_and(|settled| settled.payload.digest() == found.payload.digest())
}

/// What is taken over stays where it is if the server loads it from there.
fn take_over(server: &Server, found: &FoundContent) -> Result<Locked, AppError> {
    let catalogues = server.catalogues();
    let locked = lock_one(&server.game, found, catalogues.get()?)?;
    let found = lies(&server.game, &server.survey.scope, found).as_found();
    Ok(Locked { found, ..locked })
}
