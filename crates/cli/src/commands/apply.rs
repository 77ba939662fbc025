//! What every changing command does at its end: show, ask, settle.

use std::{collections::BTreeSet, path::PathBuf, process::ExitCode, time::Duration};

use yalotheca_core::{
    change::{ChangeSet, KeptLine, Source, Step, diff},
    control::{ControlFile, HistorySection},
    id::{ContentId, TreePath},
    link::shown_in,
    route::LeftOut,
};
use yalotheca_host::{
    catalogue::Sources,
    control::Control,
    settle::{self, ControlTexts, Order, Origin, Retention},
    tree::Tree,
};

use super::clean;
use crate::{
    error::CommandError,
    plan::{Fresh, PlanOptions, Planned, newly_broken, plan_change, sources},
    session::{Session, Shelf, seal_key},
    ui::Ui,
    view::change::{ChangeView, ChangedFile},
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
    /// How the change is planned.
    pub(crate) plan: PlanOptions,
    /// The change, where it was planned already.
    pub(crate) planned: Option<Box<Planned>>,
    /// Set aside what is not part of the lineup, except for files that fit one of these patterns.
    pub(crate) clean: Option<Vec<String>>,
    /// What is left out of what was given.
    pub(crate) left_out: Vec<LeftOut>,
    /// What the change puts right.
    pub(crate) fixes: Vec<String>,
    /// What is worth knowing.
    pub(crate) notes: Vec<String>,
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
    let mut planned = match along.planned {
        Some(planned) => *planned,
        None => plan_change(session, shelf, wants, fresh, &along.plan)?,
    };
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
    view.kept = changed_files(session, &planned.change);
    view.fixes = along.fixes;
    view.left_out = along.left_out;
    view.diffs = along.diffs;
    view.notes.extend(along.notes);
    let skipped = planned.change.skipped.iter().map(|(path, line, expected)| {
        format!("{path} cannot be read (line {line}: {expected}); it is left as it is, and what belongs in it waits.")
    });
    view.notes.extend(skipped);
    view.hide(ui);
    view.breaks = newly_broken(session, &planned.change);
    if mode == Mode::Preview || (view.is_empty() && planned.change.is_empty()) {
        ui.show(&view)?;
        if mode == Mode::Settle {
            note(session, wants, (Some(&planned.lock.text()), &view.summary()))?;
        }
        return Ok(ExitCode::SUCCESS);
    }
    if !ui.is_json() && !ui.is_quiet() {
        ui.show(&view)?;
    }
    session.refuse_running()?;
    if !ui.confirm("Settle this?")? {
        ui.note("Nothing was changed.");
        return Ok(ExitCode::SUCCESS);
    }
    let (number, gone) = carry_out(session, shelf, wants, planned, (along.bytes, &view.summary()))?;
    for (id, error) in &gone {
        ui.warn(&format!("{id} is not complete: {error}"));
    }
    view.settled = true;
    view.number = Some(number);
    if !ui.is_json() && !ui.is_quiet() {
        ui.print("\n")?;
    }
    ui.show(&view)?;
    Ok(if gone.is_empty() { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

/// Returns the files that were edited since Yalotheca installed them, each with its diff if both texts are available.
pub(crate) fn changed_files(session: &Session, change: &ChangeSet) -> Vec<ChangedFile> {
    const LARGEST: usize = 256 << 10;
    let text = |bytes: Vec<u8>| {
        String::from_utf8(bytes).ok().filter(|text| text.len() <= LARGEST && !text.contains('\0'))
    };
    let lines = |kept: &KeptLine| {
        let was = std::fs::read(session.fetcher.store().file(&kept.put)?).ok().and_then(text)?;
        let now = session.tree.read(&kept.path).ok().flatten().and_then(text)?;
        Some(diff(&was, &now))
    };
    let told = |kept: &KeptLine| ChangedFile {
        path: kept.path.clone(),
        content: kept.content.clone(),
        beside: kept.beside.clone(),
        diff: lines(kept).unwrap_or_default(),
    };
    change.kept.iter().map(told).collect()
}

/// Carries a planned change out and returns its number. Where somebody has changed meanwhile what it was planned on, nothing is
/// done, and it is to be planned again.
pub(crate) fn carry_out(
    session: &Session,
    shelf: &Shelf<'_>,
    wants: &ControlFile,
    mut planned: Planned,
    (more, summary): (Sources, &str),
) -> Result<(u32, Vec<(ContentId, CommandError)>), CommandError> {
    let (mut bytes, mut gone) = sources(session, shelf, &planned)?;
    bytes.extend(more);
    if !gone.is_empty() {
        // Contents whose files are in no source are skipped; everything else goes ahead.
        planned.change.steps.retain(|step| match step {
            Step::Put { source: Source::Payload, after, .. } => bytes.contains_key(after),
            _ => true,
        });
        if !planned.change.steps.iter().any(|step| !matches!(step, Step::MakeFolder { .. })) {
            return Err(gone.remove(0).1);
        }
    }
    let after = ControlTexts { wants: Some(wants.text()), lock: Some(planned.lock.text()) };
    let number = settle_change(session, &planned.change, (after, &bytes), origin(summary, None))?;
    session.fetcher.store().date_anew();
    Ok((number, gone))
}

/// Settles a change of this server: claims it, makes sure that all is as it was planned on, and sweeps what is not kept longer.
pub(crate) fn settle_change(
    session: &Session,
    change: &ChangeSet,
    (after, bytes): (ControlTexts, &Sources),
    origin: Origin,
) -> Result<u32, CommandError> {
    let key = seal_key()?;
    let _claim = if change.steps.is_empty() { session.claim()? } else { session.claim_stopped()? };
    let order = Order {
        change,
        receipt_before: session.read_receipt(),
        receipt_digest: session.receipt_digest,
        before: texts(&session.control),
        after,
        control: session.control.folder.clone(),
        origin,
        key: &key,
    };
    let number = settle::settle(&session.tree, &order, bytes)?;
    // What cannot be swept now is swept by a later change.
    settle::sweep(&session.tree, retention(&session.control.wants.history)).ok();
    Ok(number)
}

fn retention(section: &HistorySection) -> Retention {
    let usual = Retention::default();
    Retention {
        changes: section.changes.unwrap_or(usual.changes),
        age: section.days.map_or(usual.age, |days| Duration::from_secs(days.saturating_mul(24 * 60 * 60))),
        bytes: section.megabytes.map_or(usual.bytes, |megabytes| megabytes.saturating_mul(1_000_000)),
    }
}

/// Writes wants, and the lock where one is given, as a change of its own that touches nothing else on the server.
pub(crate) fn note(
    session: &Session,
    wants: &ControlFile,
    (lock, summary): (Option<&str>, &str),
) -> Result<(), CommandError> {
    let now = texts(&session.control);
    let lock = lock.map(str::to_owned).or_else(|| now.lock.clone());
    let after = ControlTexts { wants: Some(wants.text()), lock };
    if after == now {
        return Ok(());
    }
    let change = ChangeSet { receipt: session.receipt.clone(), ..ChangeSet::default() };
    settle_change(session, &change, (after, &Sources::default()), origin(summary, None)).map(drop)
}

/// Returns the control files as they are on the disk.
pub(crate) fn texts(control: &Control) -> ControlTexts {
    ControlTexts { wants: Some(control.wants_text.clone()), lock: control.lock_text.clone() }
}

/// Returns who does what, when.
pub(crate) fn origin(summary: &str, undoes: Option<u32>) -> Origin {
    let words: Vec<String> =
        std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned()).collect();
    let user =
        std::env::var("USER").or_else(|_| std::env::var("LOGNAME")).unwrap_or_else(|_| "somebody".into());
    // The person, where root was borrowed; and from where, where it was over the network.
    let user = match std::env::var("SUDO_USER") {
        Ok(person) if !person.is_empty() && person != user => format!("{person} as {user}"),
        _ => user,
    };
    let from = std::env::var("SSH_CONNECTION").ok();
    let from = from.and_then(|text| text.split_whitespace().next().map(|address| format!(" from {address}")));
    let host =
        std::fs::read_to_string("/etc/hostname").map(|name| name.trim().to_owned()).unwrap_or_default();
    Origin {
        command: shown_in(&format!("yalotheca {}", without_places(&words).join(" "))),
        who: if host.is_empty() { user } else { format!("{user}@{host}") } + &from.unwrap_or_default(),
        when: jiff::Timestamp::now().round(jiff::Unit::Second).unwrap_or_default().to_string(),
        summary: shown_in(summary),
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
            // As it was typed: a word with spaces in it is one.
            kept.push(if word.contains(char::is_whitespace) { format!("'{word}'") } else { word.clone() });
        }
    }
    kept
}

/// Returns the folder that `--at` names, or this one.
pub(crate) fn folder(at: Option<&PathBuf>) -> PathBuf {
    at.cloned().unwrap_or_else(|| PathBuf::from("."))
}
