//! `undo`.

use std::{collections::BTreeMap, process::ExitCode};

use clap::Args;
use serde::Serialize;
use yalotheca_app::{
    AppError, Prompt, Purpose, Server,
    apply::{changed_files, origin, settle_change, texts},
    plan::content_lines,
};
use yalotheca_core::{
    change::{ChangeSet, Present, Receipt, Step, undo},
    control::{LOCK_FILE, LockFile, without_edit},
    document::TextFile,
    id::TreePath,
};
use yalotheca_host::{
    catalogue::Sources,
    control::OpenControlError,
    settle::{self, ControlTexts, Past, PastKind, SealKey},
    tree::{Found, Tree},
};

use crate::{
    args::Global,
    ui::Ui,
    view::{Page, Role, View, change::ChangeView},
};

/// What an undo takes back.
#[derive(Debug, Serialize)]
struct UndoView {
    takes_back: Past,
    /// Whether yalotheca.toml was edited since, and so stays as it is.
    wants_kept: bool,
    #[serde(flatten)]
    change: ChangeView,
}

impl View for UndoView {
    fn view(&self, page: &mut Page) {
        if !self.change.settled {
            let Past { number, origin, .. } = &self.takes_back;
            let number = number.to_string();
            page.label(
                Role::Head,
                &format!("Change {number}"),
                &format!("{} ({})", origin.command, origin.summary),
            );
            page.gap();
        }
        self.change.view(page);
        if self.wants_kept {
            page.gap();
            page.line(
                Role::Warn,
                "The same lines of yalotheca.toml were edited since. That file stays as it is, and the next settle follows it.",
            );
        }
    }
}

/// Take changes back.
#[derive(Debug, Args)]
pub(crate) struct UndoArgs {
    /// The change to take back, with all after it; without a number, the last one
    #[arg(value_name = "NUMBER")]
    number: Option<u32>,
    /// Go ahead although another account, or another machine, recorded the change
    #[arg(long)]
    recorded_elsewhere: bool,
}

/// Do again what undo has taken back last.
#[derive(Debug, Args)]
pub(crate) struct RedoArgs {
    /// Go ahead although another account, or another machine, recorded the change
    #[arg(long)]
    recorded_elsewhere: bool,
}

pub(crate) fn run(args: &UndoArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let past = settle::history(&server.tree)?;
    let live = || past.iter().filter(|past| past.kind == PastKind::Change && !past.undone);
    let nothing =
        |what: String| AppError::Usage { what, hint: Some("yalotheca history lists all changes".into()) };
    let back: Vec<Past> = match args.number {
        None => live().next_back().into_iter().cloned().collect(),
        Some(number) if !live().any(|past| past.number == number) => {
            return Err(nothing(format!("there is no change {number} to take back")));
        }
        Some(number) => live().rev().filter(|past| past.number >= number).cloned().collect(),
    };
    let Some((first, rest)) = back.split_first() else {
        return Err(nothing("there is no change to take back".into()));
    };
    if !rest.is_empty() {
        let numbers: Vec<String> = back.iter().map(|past| past.number.to_string()).collect();
        ui.note(&format!("Takes back {}, the latest first.", numbers.join(", ")));
    }
    if !take_back(&server, first, ("Take this back?", args.recorded_elsewhere), ui)? {
        return Ok(ExitCode::SUCCESS);
    }
    for past in rest {
        let server = Server::open(Purpose::Look, &global.open(), ui)?;
        if !take_back(&server, past, ("Take this back as well?", args.recorded_elsewhere), ui)? {
            break;
        }
    }
    Ok(ExitCode::SUCCESS)
}

pub(crate) fn redo(args: &RedoArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let past = settle::history(&server.tree)?;
    let hint = Some("yalotheca history lists all changes".to_owned());
    let Some(undo) = past.iter().rfind(|past| past.kind == PastKind::Undo && !past.undone) else {
        return Err(AppError::Usage { what: "there is nothing to do again".into(), hint });
    };
    let since = past.iter().rfind(|past| past.kind == PastKind::Change);
    if let Some(since) = since.filter(|since| since.number > undo.number) {
        let what = format!("change {} ({}) was made since the last undo", since.number, since.origin.command);
        return Err(AppError::Usage { what, hint });
    }
    take_back(&server, undo, ("Do it again?", args.recorded_elsewhere), ui)?;
    Ok(ExitCode::SUCCESS)
}

/// Takes one settle back, an undo as any other; returns whether it was done.
fn take_back(
    server: &Server,
    past: &Past,
    (question, recorded_elsewhere): (&str, bool),
    ui: &Ui,
) -> Result<bool, AppError> {
    let key = SealKey::known();
    if !settle::is_sealed(&server.tree, past.number, key.as_ref())? && !recorded_elsewhere {
        return Err(AppError::Refused {
            what: format!(
                "change {} ({}) was recorded by {}, not by this account, so what its record says cannot be verified",
                past.number, past.origin.command, past.origin.who
            ),
            hint: Some("ask them to take it back; or look closely at the preview of: yalotheca undo --recorded-elsewhere".into()),
        });
    }
    let (steps, receipt, before, after) = settle::read_settle(&server.tree, past.number, key.as_ref())?;
    let present = look(server, &steps, &receipt)?;
    let change = undo(past.number, &steps, &receipt, &server.receipt, &present)?;
    let now = texts(&server.control);
    // What was edited in yalotheca.toml since stays, and the rest goes back.
    let wants = match (&after.wants, &now.wants, &before.wants) {
        (Some(after), Some(now), Some(before)) => without_edit(after, now, before),
        _ => before.wants.clone(),
    };
    let wants_kept = wants.is_none() && now.wants.is_some();
    let back = ControlTexts { wants: wants.or_else(|| now.wants.clone()), lock: before.lock };
    let mut view =
        UndoView { change: view_of(server, &change, &back)?, takes_back: past.clone(), wants_kept };
    view.change.hide(ui);
    if !ui.is_json() && !ui.is_quiet() {
        ui.show(&view)?;
    }
    if !change.steps.is_empty() {
        server.refuse_running()?;
    }
    if !ui.confirm(question)? {
        ui.note("Nothing was changed.");
        return Ok(false);
    }
    let word = if past.kind == PastKind::Undo { "done again" } else { "taken back" };
    let number = past.origin.undoes.filter(|_| past.kind == PastKind::Undo).unwrap_or(past.number);
    let origin = origin(server, &format!("change {number} {word}"), Some(past.number));
    let number = settle_change(server, &change, (back, &Sources::default()), origin)?;
    view.change.settled = true;
    view.change.number = Some(number);
    if !ui.is_json() && !ui.is_quiet() {
        ui.print("\n")?;
    }
    ui.show(&view)?;
    Ok(true)
}

fn view_of(server: &Server, change: &ChangeSet, back: &ControlTexts) -> Result<ChangeView, AppError> {
    let read = |text: &String| LockFile::parse(LOCK_FILE, text).map_err(OpenControlError::from);
    let lock = back.lock.as_ref().map(read).transpose()?.unwrap_or_default();
    let mut contents =
        content_lines(&server.control.lock, &lock, &server.control.wants.wants, &BTreeMap::new());
    for line in &mut contents {
        line.why.clear();
    }
    Ok(ChangeView {
        server: server.shown(),
        settled: false,
        number: None,
        contents,
        files: change.files.iter().rev().cloned().collect(),
        config: change.config.clone(),
        kept: changed_files(server, change),
        staying: Vec::new(),
        companions: Vec::new(),
        order_notes: Vec::new(),
        fixes: Vec::new(),
        left_out: Vec::new(),
        pending: Vec::new(),
        breaks: Vec::new(),
        notes: Vec::new(),
        waits: false,
        diffs: false,
    })
}

/// Looks at what the settle touched, as it is now.
fn look(server: &Server, steps: &[Step], before: &Receipt) -> Result<Present, AppError> {
    let mut present = Present::default();
    let entries = server.receipt.entries.iter().chain(&before.entries);
    let configs: std::collections::BTreeSet<&TreePath> = entries.map(|entry| &entry.file).collect();
    for step in steps {
        match step {
            Step::Put { path, .. } | Step::SetAside { path, .. } => {
                if let Some(found) = server.tree.digest(path)? {
                    present.files.insert(path.clone(), found);
                }
                let is_text =
                    matches!(step, Step::Put { source: yalotheca_core::change::Source::Text(_), .. });
                if is_text || configs.contains(path) {
                    let text = server.tree.read(path)?.map(TextFile::read);
                    present.texts.extend(text.map(|text| (path.clone(), text)));
                }
            }
            Step::MakeFolder { path } | Step::RemoveFolder { path } => {
                if server.tree.find(path)? == Some(Found::Folder) {
                    present.folders.insert(path.clone());
                }
            }
        }
    }
    Ok(present)
}
