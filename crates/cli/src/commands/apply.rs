//! What every changing command does at its end: show, ask, settle.

use std::{cell::RefCell, path::PathBuf, process::ExitCode};

use serde::Serialize;
use yalotheca_app::{
    AppError, Fresh, OpenCatalogues, Prompt, Server,
    apply::{ChangeExtras, prepare},
    live::{LiveOutcome, LivePlan},
    on_copy::PlannedChange,
    ops::{
        change::Change,
        trial::{Heard, TrialReport, prove},
        undo::take_back_unasked,
    },
    pause::Restart,
};
use yalotheca_core::control::{ControlFile, WANTS_FILE};

use super::trial;
use crate::{
    ui::Ui,
    view::{Page, Role, View, change::ChangeView},
};

/// How a change is shown, and whether that is all.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Mode {
    /// Whether it is only shown.
    pub(crate) is_preview: bool,
    /// Whether the lines of configuration files that change are shown as well.
    pub(crate) has_lines: bool,
}

/// Writes a change down for the next settle.
pub(crate) fn note_for_later(server: &Server, change: Change, ui: &Ui) -> Result<ExitCode, AppError> {
    change.note(server)?;
    ui.show(&Noted { noted: change.extras.asked, file: WANTS_FILE.into() })?;
    Ok(ExitCode::SUCCESS)
}

/// Plans a change, shows it, asks, and settles it.
pub(crate) fn apply(server: &Server, change: Change, mode: Mode, ui: &Ui) -> Result<ExitCode, AppError> {
    let Change { wants, fresh, extras, .. } = change;
    let catalogues = server.catalogues_for(&wants);
    apply_with(server, &catalogues, &wants, &fresh, (mode, extras), ui)
}

/// The same with catalogues that were opened before.
pub(crate) fn apply_with(
    server: &Server,
    catalogues: &OpenCatalogues<'_>,
    wants: &ControlFile,
    fresh: &Fresh,
    (mode, extras): (Mode, ChangeExtras),
    ui: &Ui,
) -> Result<ExitCode, AppError> {
    let prepared = prepare(server, catalogues, wants, fresh, extras)?;
    let mut view = ChangeView::of(server.shown(), &prepared);
    (view.diffs, view.is_preview) = (mode.has_lines, mode.is_preview);
    view.noted = prepared.noted(server, wants);
    view.hide(ui);
    if mode.is_preview || (view.is_empty() && prepared.planned.change.is_empty()) {
        ui.show(&view)?;
        if !mode.is_preview {
            prepared.note(server, wants)?;
        }
        // The program ends here. Freeing the names of 50,000 files would take a tenth of its time.
        std::mem::forget(prepared);
        return Ok(ExitCode::SUCCESS);
    }
    if !ui.is_json() && !ui.is_quiet() {
        ui.show(&view)?;
    }
    if ui.wants_proof()
        && !prepared.planned.change.is_empty()
        && let Some(report) =
            disproved(server, &PlannedChange { prepared: &prepared, wants, catalogues }, ui)?
    {
        const SAYS: &str = "Nothing was changed: a copy of the server with this change does not start well.";
        if ui.is_json() {
            view.notes.push(SAYS.into());
            view.proof = Some(trial::hidden(report, ui));
            ui.show(&view)?;
        } else {
            trial::show(report, ui)?;
            ui.warn(SAYS);
        }
        return Ok(ExitCode::FAILURE);
    }
    let live = LivePlan::if_running(server, &prepared, ui)?;
    let settle = || prepared.settle(server, catalogues, wants);
    let settled = match &live {
        Some(_) if !ui.confirm("The server runs. Settle this while it runs?")? => {
            ui.note("Nothing was changed.");
            None
        }
        Some(_) => Some((settle()?, None)),
        None => while_stopped(server, "Settle this?", ui, settle)?,
    };
    let Some(((number, gone), restart)) = settled else { return Ok(ExitCode::SUCCESS) };
    let is_up = restart.as_ref().is_none_or(|restart| restart.is_good != Some(false));
    view.restart = restart;
    if !is_up && ui.takes_back() {
        match take_back_unasked(server.options(), number, ui) {
            Ok(back) => view.taken_back = Some(back),
            Err(error) => view.not_taken_back = Some(error.to_string()),
        }
    }
    view.live = live.map(|live| live.tell(server)).unwrap_or_default();
    view.hide(ui);
    for (id, error) in &gone {
        ui.warn(&format!("{id} is not complete: {error}"));
    }
    view.settled = true;
    view.number = Some(number);
    if !ui.is_json() && !ui.is_quiet() {
        ui.print("\n")?;
    }
    ui.show(&view)?;
    let is_good = is_up && gone.is_empty() && view.live.iter().all(LiveOutcome::is_good);
    Ok(if is_good { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

/// Makes the change on a copy and starts that; returns how it went if the change should not be made.
fn disproved(
    server: &Server,
    change: &PlannedChange<'_, '_>,
    ui: &Ui,
) -> Result<Option<TrialReport>, AppError> {
    let waiting = RefCell::new(None);
    let hear = |heard: Heard<'_>| match heard {
        Heard::Copying { server } => drop(waiting.replace(Some(ui.wait(&format!("Copying {server}"))))),
        Heard::Starting { server, .. } => drop(waiting.replace(Some(ui.wait(&format!("Starting {server}"))))),
        Heard::Over => drop(waiting.replace(None)),
        Heard::Line(_) | Heard::Watching { .. } => {}
    };
    let report = prove(server, change, &hear)?;
    drop(waiting.replace(None));
    if report.is_good {
        ui.note("A copy of the server with this change starts well.");
        return Ok(None);
    }
    Ok(Some(report))
}

/// Makes a change once somebody has agreed to it, and returns how a server that was stopped for it came up again.
pub(crate) fn while_stopped<T>(
    server: &Server,
    question: &str,
    ui: &Ui,
    change: impl FnOnce() -> Result<T, AppError>,
) -> Result<Option<(T, Option<Restart>)>, AppError> {
    let done = server.while_stopped(question, ui, change)?;
    if done.is_none() {
        ui.note("Nothing was changed.");
    }
    Ok(done)
}

/// Wants that were noted for later.
#[derive(Debug, Serialize)]
pub(crate) struct Noted {
    pub(crate) noted: Vec<String>,
    pub(crate) file: String,
}

impl View for Noted {
    fn view(&self, page: &mut Page) {
        let text = format!("Noted in {}: {}. yalotheca settle does it.", self.file, self.noted.join(", "));
        page.line(Role::Good, &text);
    }
}

/// Returns the folder that `--at` names, or this one.
pub(crate) fn folder(at: Option<&PathBuf>) -> PathBuf {
    at.cloned().unwrap_or_else(|| PathBuf::from("."))
}
