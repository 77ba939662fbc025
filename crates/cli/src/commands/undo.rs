//! `undo`.

use std::{collections::BTreeMap, process::ExitCode};

use serde::Serialize;
use yalotheca_core::{
    change::{ChangeSet, Present, Receipt, Step, undo},
    control::{LOCK_FILE, LockFile},
    document::TextFile,
    id::TreePath,
};
use yalotheca_host::{
    catalogue::Sources,
    control::OpenControlError,
    settle::{self, ControlTexts, Order, Past},
    tree::{Found, Tree},
};

use super::apply::{origin, texts};
use crate::{
    args::Global,
    error::CommandError,
    plan::content_lines,
    session::Session,
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
                "yalotheca.toml was edited since; it stays as it is, and the next settle follows it.",
            );
        }
    }
}

pub(crate) fn run(global: &Global, ui: &Ui) -> Result<ExitCode, CommandError> {
    let session = Session::open(global, ui)?;
    let past = settle::history(&session.tree)?;
    let last = past.into_iter().rev().find(|past| past.origin.undoes.is_none() && !past.undone);
    let Some(takes_back) = last else {
        return Err(CommandError::Usage {
            what: "there is no change to take back".into(),
            hint: Some("yalotheca history lists what was settled".into()),
        });
    };
    let (steps, receipt, before, after) = settle::read_settle(&session.tree, takes_back.number)?;
    let present = look(&session, &steps, &receipt)?;
    let change = undo(takes_back.number, &steps, &receipt, &session.receipt, &present)?;
    let now = texts(&session.control);
    let wants_kept = now.wants != after.wants;
    let back =
        ControlTexts { wants: if wants_kept { now.wants.clone() } else { before.wants }, lock: before.lock };
    let mut view = UndoView { change: view_of(&session, &change, &back)?, takes_back, wants_kept };
    if !ui.is_json() && !ui.is_quiet() {
        ui.show(&view)?;
    }
    let _claim = session.claim_stopped()?;
    if !ui.confirm("Take this back?")? {
        ui.note("Nothing was changed.");
        return Ok(ExitCode::SUCCESS);
    }
    let summary = format!("change {} taken back", view.takes_back.number);
    let order = Order {
        change: &change,
        receipt_before: &session.receipt,
        before: now,
        after: back,
        control: session.control.folder.clone(),
        origin: origin(&summary, Some(view.takes_back.number)),
    };
    let number = settle::settle(&session.tree, &order, &Sources::default())?;
    view.change.settled = true;
    view.change.number = Some(number);
    if !ui.is_json() && !ui.is_quiet() {
        ui.print("\n")?;
    }
    ui.show(&view)?;
    Ok(ExitCode::SUCCESS)
}

fn view_of(session: &Session, change: &ChangeSet, back: &ControlTexts) -> Result<ChangeView, CommandError> {
    let read = |text: &String| LockFile::parse(LOCK_FILE, text).map_err(OpenControlError::from);
    let lock = back.lock.as_ref().map(read).transpose()?.unwrap_or_default();
    let mut contents =
        content_lines(&session.control.lock, &lock, &session.control.wants.wants, &BTreeMap::new());
    for line in &mut contents {
        line.why.clear();
    }
    Ok(ChangeView {
        server: session.shown(),
        settled: false,
        number: None,
        contents,
        files: change.files.iter().rev().cloned().collect(),
        config: change.config.clone(),
        companions: Vec::new(),
        order_notes: Vec::new(),
        left_out: Vec::new(),
        pending: Vec::new(),
        breaks: Vec::new(),
        notes: Vec::new(),
        waits: false,
        diffs: false,
    })
}

/// Looks at what the settle touched, as it is now.
fn look(session: &Session, steps: &[Step], before: &Receipt) -> Result<Present, CommandError> {
    let mut present = Present::default();
    let entries = session.receipt.entries.iter().chain(&before.entries);
    let configs: std::collections::BTreeSet<&TreePath> = entries.map(|entry| &entry.file).collect();
    for step in steps {
        match step {
            Step::Put { path, .. } | Step::SetAside { path, .. } => {
                if let Some(found) = session.tree.digest(path)? {
                    present.files.insert(path.clone(), found);
                }
                let is_text =
                    matches!(step, Step::Put { source: yalotheca_core::change::Source::Text(_), .. });
                if is_text || configs.contains(path) {
                    let text = session.tree.read(path)?.map(TextFile::read);
                    present.texts.extend(text.map(|text| (path.clone(), text)));
                }
            }
            Step::MakeFolder { path } | Step::RemoveFolder { path } => {
                if session.tree.find(path)? == Some(Found::Folder) {
                    present.folders.insert(path.clone());
                }
            }
        }
    }
    Ok(present)
}
