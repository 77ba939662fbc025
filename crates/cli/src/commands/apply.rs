//! What every changing command does at its end: show, ask, settle.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::PathBuf,
    process::ExitCode,
};

use yalotheca_core::{
    change::{ChangeSet, Source, Step},
    control::ControlFile,
    id::TreePath,
    route::LeftOut,
};
use yalotheca_host::{
    catalogue::Sources,
    control::Control,
    settle::{self, ControlTexts, Order, Origin},
};

use super::clean;
use crate::{
    error::CommandError,
    plan::{Fresh, Planned, newly_broken, plan_change, secrets, sources},
    session::{Session, Shelf},
    ui::Ui,
    view::change::ChangeView,
};

/// How to go on once the change is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Mode {
    /// Only show it.
    Preview,
    /// Show it, ask, and carry it out.
    Settle,
}

/// What goes along with a change.
#[derive(Debug, Default)]
pub(crate) struct Along {
    /// Steps besides those that are planned.
    pub(crate) more: Option<ChangeSet>,
    /// Where the bytes of those lie.
    pub(crate) bytes: Sources,
    /// What configuration files begin with that do not exist yet.
    pub(crate) heads: BTreeMap<TreePath, String>,
    /// Set aside what is not part of the lineup, except for files that fit one of these patterns.
    pub(crate) clean: Option<Vec<String>>,
    /// What is left out of what was given.
    pub(crate) left_out: Vec<LeftOut>,
    /// What is worth knowing.
    pub(crate) notes: Vec<String>,
    /// Whether configuration files that cannot be read are left as they are.
    pub(crate) skip_broken: bool,
    /// Whether the lines of configuration files that change are shown.
    pub(crate) diffs: bool,
}

/// Plans the change to these wants, shows it, asks, and settles it.
pub(crate) fn apply(
    session: &Session,
    shelf: &Shelf<'_>,
    wants: &ControlFile,
    fresh: &Fresh,
    (mode, along): (Mode, Along),
    ui: &Ui,
) -> Result<ExitCode, CommandError> {
    let mut planned = plan_change(session, shelf, wants, fresh, (&along.heads, along.skip_broken))?;
    if let Some(mut more) = along.more {
        // What the lineup itself places or writes is not put besides.
        let registered = planned.desired.registrations.iter().map(|registration| &registration.file);
        let taken: BTreeSet<&TreePath> = planned.desired.placements.keys().chain(registered).collect();
        more.steps.retain(|step| match step {
            Step::Put { path, source: Source::Payload, .. } => !taken.contains(path),
            _ => true,
        });
        more.files.retain(|line| !taken.contains(&line.path));
        planned.change.steps.extend(more.steps);
        planned.change.config.extend(more.config);
        planned.change.files.extend(more.files);
    }
    if let Some(spare) = &along.clean {
        clean::set_aside(session, &mut planned, spare)?;
    }
    let mut view = ChangeView::of(session.shown(), &planned);
    view.left_out = along.left_out;
    view.diffs = along.diffs;
    view.notes.extend(along.notes);
    let skipped = planned.change.skipped.iter().map(|(path, line, expected)| {
        format!("{path} cannot be read (line {line}: {expected}); it is left as it is, and what belongs in it waits.")
    });
    view.notes.extend(skipped);
    view.hide(&secrets(session)?);
    view.breaks = newly_broken(session, &planned.change);
    if mode == Mode::Preview || (view.is_empty() && planned.change.is_empty()) {
        ui.show(&view)?;
        if mode == Mode::Settle {
            write_quietly(session, wants, &planned.lock.text())?;
        }
        return Ok(ExitCode::SUCCESS);
    }
    if !ui.is_json() && !ui.is_quiet() {
        ui.show(&view)?;
    }
    let _claim = session.claim_stopped()?;
    if !ui.confirm("Settle this?")? {
        ui.note("Nothing was changed.");
        return Ok(ExitCode::SUCCESS);
    }
    let number = carry_out(session, shelf, wants, &planned, (along.bytes, &view.summary()))?;
    view.settled = true;
    view.number = Some(number);
    if !ui.is_json() && !ui.is_quiet() {
        ui.print("\n")?;
    }
    ui.show(&view)?;
    Ok(ExitCode::SUCCESS)
}

/// Carries a planned change out and returns its number. The server must be claimed.
pub(crate) fn carry_out(
    session: &Session,
    shelf: &Shelf<'_>,
    wants: &ControlFile,
    planned: &Planned,
    (more, summary): (Sources, &str),
) -> Result<u32, CommandError> {
    let mut bytes = sources(session, shelf, planned)?;
    bytes.extend(more);
    let order = Order {
        change: &planned.change,
        receipt_before: &session.receipt,
        before: texts(&session.control),
        after: ControlTexts { wants: Some(wants.text()), lock: Some(planned.lock.text()) },
        control: session.control.folder.clone(),
        origin: origin(summary, None),
    };
    let number = settle::settle(&session.tree, &order, &bytes)?;
    session.fetcher.store().date_anew();
    Ok(number)
}

/// There is nothing to settle, but the wants or the lock may still read otherwise.
fn write_quietly(session: &Session, wants: &ControlFile, lock: &str) -> Result<(), CommandError> {
    let Control { folder, wants_text, lock_text, .. } = &session.control;
    let text = wants.text();
    if text != *wants_text {
        settle::write_control(folder, yalotheca_core::control::WANTS_FILE, Some(&text))?;
    }
    if lock != lock_text {
        settle::write_control(folder, yalotheca_core::control::LOCK_FILE, Some(lock))?;
    }
    Ok(())
}

/// Returns the control files as they are on the disk.
pub(crate) fn texts(control: &Control) -> ControlTexts {
    ControlTexts {
        wants: Some(control.wants_text.clone()),
        lock: Some(control.lock_text.clone()).filter(|text| !text.is_empty()),
    }
}

/// Returns who does what, when.
pub(crate) fn origin(summary: &str, undoes: Option<u32>) -> Origin {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let user =
        std::env::var("USER").or_else(|_| std::env::var("LOGNAME")).unwrap_or_else(|_| "somebody".into());
    let host =
        std::fs::read_to_string("/etc/hostname").map(|name| name.trim().to_owned()).unwrap_or_default();
    Origin {
        command: format!("yalotheca {}", without_places(&words).join(" ")),
        who: if host.is_empty() { user } else { format!("{user}@{host}") },
        when: jiff::Timestamp::now().round(jiff::Unit::Second).unwrap_or_default().to_string(),
        summary: summary.into(),
        undoes,
    }
}

/// `--at FOLDER` and how the answer was given say nothing in a history.
fn without_places(words: &[String]) -> Vec<String> {
    const MANNERS: &[&str] = &["--yes", "-y", "--quiet", "-q", "--json", "--verbose", "-v", "--offline"];
    let mut kept = Vec::new();
    let mut words = words.iter();
    while let Some(word) = words.next() {
        if word == "--at" {
            words.next();
        } else if !word.starts_with("--at=") && !MANNERS.contains(&word.as_str()) {
            kept.push(word.clone());
        }
    }
    kept
}

/// Returns the folder that `--at` names, or this one.
pub(crate) fn folder(at: Option<&PathBuf>) -> PathBuf {
    at.cloned().unwrap_or_else(|| PathBuf::from("."))
}
