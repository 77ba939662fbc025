//! Taking changes back, and doing again what was taken back.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;
use yalotheca_core::{
    change::{ChangeSet, FileLine, Present, Receipt, Source, Step, undo},
    control::{LOCK_FILE, LockFile, without_edit},
    document::TextFile,
    hint::{Advice, Listing},
    id::{ContentId, TreePath},
};
use yalotheca_host::{
    control::OpenControlError,
    settle::{self, ControlTexts, Past, PastKind, SealKey},
    sources::Sources,
    tree::EntryKind,
};

use crate::{
    AppError, Front, OpenOptions, Purpose, Server,
    apply::{origin, settle_change, texts},
    pause::Restart,
    plan::{ContentLine, content_lines},
};

/// A change that is taken back.
#[derive(Debug)]
pub struct UndoPlan {
    /// What is done for that.
    pub change: ChangeSet,
    /// Whether `yalotheca.toml` was edited since, and so stays as it is.
    pub wants_kept: bool,
    past: Past,
    back: ControlTexts,
}

impl UndoPlan {
    /// Returns what happens to contents.
    ///
    /// # Errors
    /// Where the lock of that time cannot be read.
    pub fn contents(&self, server: &Server) -> Result<Vec<ContentLine>, AppError> {
        let read = |text: &String| LockFile::parse(LOCK_FILE, text).map_err(OpenControlError::from);
        let lock = self.back.lock.as_ref().map(read).transpose()?.unwrap_or_default();
        Ok(content_lines(&server.control.lock, &lock, &server.control.wants.wants, &BTreeMap::new()))
    }

    /// Takes the change back, and returns the number of that.
    ///
    /// # Errors
    /// Where it cannot be taken back; then nothing was changed.
    pub fn settle(self, server: &Server) -> Result<u32, AppError> {
        let word = if self.past.kind == PastKind::Undo { "done again" } else { "taken back" };
        let number =
            self.past.origin.undoes.filter(|_| self.past.kind == PastKind::Undo).unwrap_or(self.past.number);
        let origin = origin(server, &format!("change {number} {word}"), Some(self.past.number));
        settle_change(server, &self.change, (self.back, &Sources::default()), origin)
    }
}

/// Returns the changes that an undo takes back, the latest first: the last one, or all back to a number.
///
/// # Errors
/// Where there is none.
pub fn changes_to_undo(server: &Server, number: Option<u32>) -> Result<Vec<Past>, AppError> {
    let past = settle::history(&*server.tree)?;
    let live = || past.iter().filter(|past| past.kind == PastKind::Change && !past.undone);
    let nothing = |what: String| AppError::Usage { what, hint: Some(Advice::List(Listing::History)) };
    let back: Vec<Past> = match number {
        None => live().next_back().into_iter().cloned().collect(),
        Some(number) if !live().any(|past| past.number == number) => {
            return Err(nothing(format!("there is no change {number} to take back")));
        }
        Some(number) => live().rev().filter(|past| past.number >= number).cloned().collect(),
    };
    if back.is_empty() {
        return Err(nothing("there is no change to take back".into()));
    }
    Ok(back)
}

/// Returns the undo that is to be taken back itself.
///
/// # Errors
/// Where there is none, or something was changed since.
pub fn undo_to_redo(server: &Server) -> Result<Past, AppError> {
    let past = settle::history(&*server.tree)?;
    let hint = Some(Advice::List(Listing::History));
    let Some(undo) = past.iter().rfind(|past| past.kind == PastKind::Undo && !past.undone) else {
        return Err(AppError::Usage { what: "there is nothing to do again".into(), hint });
    };
    let since = past.iter().rfind(|past| past.kind == PastKind::Change);
    if let Some(since) = since.filter(|since| since.number > undo.number) {
        let what = format!("change {} ({}) was made since the last undo", since.number, since.origin.command);
        return Err(AppError::Usage { what, hint });
    }
    Ok(undo.clone())
}

/// A change that was taken back, since the server did not start well with it.
#[derive(Debug, Serialize)]
pub struct TakenBack {
    /// The number of the change that takes it back.
    pub number: u32,
    /// How the server came up after that.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub restart: Option<Restart>,
}

/// Takes a change back after which the server did not start well, and starts the server again.
///
/// # Errors
/// Where it cannot be taken back.
pub fn take_back_unasked(
    options: &OpenOptions,
    number: u32,
    front: &dyn Front,
) -> Result<TakenBack, AppError> {
    let server = Server::open(Purpose::Change, options, front)?;
    let past = changes_to_undo(&server, Some(number))?;
    let [past] = past.as_slice() else {
        return Err(AppError::Refused {
            what: format!("change {number} is not the last one by now"),
            hint: Some(Advice::List(Listing::History)),
        });
    };
    let plan = plan_undo(&server, past, false)?;
    let (number, restart) = server.while_stopped_unasked(front, || plan.settle(&server))?;
    Ok(TakenBack { number, restart })
}

/// Plans to take one settle back, an undo as any other.
///
/// # Errors
/// Where its record is somebody else's and that is not agreed to, or what it touched cannot be put back.
pub fn plan_undo(server: &Server, past: &Past, recorded_elsewhere: bool) -> Result<UndoPlan, AppError> {
    let key = SealKey::known();
    if !settle::is_sealed(&*server.tree, past.number, key.as_ref())? && !recorded_elsewhere {
        return Err(AppError::Refused {
            what: format!(
                "change {} ({}) was recorded by {}, not by this account, so what its record says cannot be verified",
                past.number, past.origin.command, past.origin.who
            ),
            hint: Some(Advice::UndoRecordedElsewhere),
        });
    }
    let (steps, receipt, before, after) = settle::read_settle(&*server.tree, past.number, key.as_ref())?;
    let present = look(server, &steps, &receipt)?;
    let game = ContentId::new(&server.game.name)?;
    let mut change = undo((past.number, &game), &steps, (&receipt, server.receipt()?), &present)?;
    tell_sizes(server, &mut change)?;
    let now = texts(&server.control);
    // What was edited in yalotheca.toml since stays, and the rest goes back.
    let wants = match (&after.wants, &now.wants, &before.wants) {
        (Some(after), Some(now), Some(before)) => without_edit(after, now, before),
        _ => before.wants.clone(),
    };
    let wants_kept = wants.is_none() && now.wants.is_some();
    let back = ControlTexts { wants: wants.or_else(|| now.wants.clone()), lock: before.lock };
    Ok(UndoPlan { change, wants_kept, past: past.clone(), back })
}

/// Adds the sizes of files that come back from the attic and are in no receipt.
fn tell_sizes(server: &Server, change: &mut ChangeSet) -> Result<(), AppError> {
    let unknown: BTreeMap<&TreePath, TreePath> = change
        .steps
        .iter()
        .filter_map(|step| match step {
            Step::Put { path, source: Source::Attic { settle, step }, .. } => {
                Some(settle::in_attic(*settle, *step).map(|kept| (path, kept)))
            }
            _ => None,
        })
        .collect::<Result<_, _>>()?;
    let lacks = |line: &&mut FileLine| line.size == 0 && unknown.contains_key(&line.path);
    let lines: Vec<&mut FileLine> = change.files.iter_mut().filter(lacks).collect();
    let kept: Vec<TreePath> = lines.iter().map(|line| unknown[&line.path].clone()).collect();
    for (line, kind) in lines.into_iter().zip(server.tree.metadata(&kept)?) {
        if let Some(EntryKind::File(size)) = kind {
            line.size = size;
        }
    }
    Ok(())
}

/// Looks at what the settle touched, as it is now.
fn look(server: &Server, steps: &[Step], before: &Receipt) -> Result<Present, AppError> {
    let mut present = Present::default();
    let entries = server.receipt()?.entries.iter().chain(&before.entries);
    let configs: BTreeSet<&TreePath> = entries.map(|entry| &entry.file).collect();
    for step in steps {
        match step {
            Step::Put { path, .. } | Step::SetAside { path, .. } => {
                let other = [step.after().or(step.before())];
                let found = server.tree.digest_as(std::slice::from_ref(path), &other)?.pop();
                if let Some(found) = found.flatten() {
                    present.files.insert(path.clone(), found);
                }
                let is_text = matches!(step, Step::Put { source: Source::Text(_), .. });
                if is_text || configs.contains(path) {
                    let text = server.tree.read_file(path)?.map(TextFile::read);
                    present.texts.extend(text.map(|text| (path.clone(), text)));
                }
            }
            Step::MakeFolder { path } | Step::RemoveFolder { path } => {
                if server.tree.kind_of(path)? == Some(EntryKind::Folder) {
                    present.folders.insert(path.clone());
                }
            }
        }
    }
    Ok(present)
}
