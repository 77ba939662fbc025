//! `repair`.

use std::{collections::BTreeMap, process::ExitCode};

use clap::Args;
use serde::Serialize;
use yalotheca_app::{
    AppError, Event, Progress, Prompt,
    server::{open_folder, require_trust, seal_key, server_tree, trust},
    take_over,
};
use yalotheca_core::{
    change::{Receipt, Step},
    control::{LOCK_FILE, LockFile, WANTS_FILE},
};
use yalotheca_host::{
    catalogue::{Ahead, Catalogues, Looks},
    control::Control,
    fetch::Fetcher,
    games,
    settle::{self, SealKey, SettleError},
    store::Store,
    survey::{self, Queries},
    tree::{LocalTree, Tree},
};

use crate::{
    global::Global,
    ui::Ui,
    view::{Page, Role, View},
};

/// Rebuild what Yalotheca knows of a server (the lock and the receipt) where it is missing or broken, and go on with an
/// interrupted change that another account recorded; asks first, and changes nothing else on the server.
#[derive(Debug, Args)]
pub(crate) struct RepairArgs {}

#[derive(Debug, Serialize)]
struct RepairView {
    folder: String,
    /// What was rebuilt, and from what.
    rebuilt: Vec<String>,
}

impl View for RepairView {
    fn view(&self, page: &mut Page) {
        if self.rebuilt.is_empty() {
            page.line(
                Role::Good,
                &format!("{}: lock and receipt are there and can be read; nothing to repair.", self.folder),
            );
            return;
        }
        for line in &self.rebuilt {
            page.line(Role::Good, line);
        }
        page.line(
            Role::Plain,
            "Nothing else on the server was changed. Next: yalotheca check shows what is wrong.",
        );
    }
}

pub(crate) fn run(_: &RepairArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let trust = trust()?;
    let folder = open_folder(&global.open(), &trust, ui)?;
    let mut control = Control::open_wants(&folder)?;
    let tree = server_tree(&control)?;
    let mut rebuilt = Vec::new();
    let key = seal_key()?;
    let _claim = settle::claim(&tree)?;
    if settle::interrupted(&tree)?.is_some() {
        go_on(&tree, &control, &key, ui)?;
        control = Control::open_wants(&folder)?;
    }
    let shown = |name: &str| folder.join(name).display().to_string();
    let lock = control.lock_text.as_deref().map(|text| LockFile::parse(&shown(LOCK_FILE), text));
    let receipt = settle::read_receipt(&tree);
    let has_lock = matches!(lock, Some(Ok(_)));
    let has_receipt = matches!(&receipt, Ok((_, Some(_))));
    if has_lock && has_receipt {
        ui.show(&RepairView { folder: tree.root().display().to_string(), rebuilt })?;
        return Ok(ExitCode::SUCCESS);
    }
    let last = last_settle(&tree, &key)?;
    let (new_lock, new_receipt, from) = if let Some((number, lock, receipt)) = last {
        (lock, receipt, format!("from the record of change {number}"))
    } else {
        let (lock, receipt) = look_anew(&tree, &control, global)?;
        (lock, receipt, "from what lies on the server".to_owned())
    };
    let which = match (has_lock, has_receipt) {
        (false, false) => "the lock and the receipt",
        (false, true) => "the lock",
        _ => "the receipt",
    };
    if !ui.confirm(&format!("Rebuild {which} {from}?"))? {
        ui.note("Nothing was changed.");
        return Ok(ExitCode::SUCCESS);
    }
    if !has_receipt {
        set_aside(&tree, "receipt.json")?;
        settle::write_receipt(&tree, &new_receipt)?;
        rebuilt.push(format!("Rebuilt the receipt {from}."));
    }
    if !has_lock {
        if control.lock_text.is_some() {
            let broken = format!("{LOCK_FILE}.broken");
            settle::write_control(&folder, &broken, control.lock_text.as_deref().unwrap_or_default())?;
            rebuilt.push(format!("What was in {LOCK_FILE} is kept in {broken}."));
        }
        settle::write_control(&folder, LOCK_FILE, &new_lock.text())?;
        rebuilt.push(format!("Rebuilt {LOCK_FILE} {from}."));
    }
    ui.show(&RepairView { folder: tree.root().display().to_string(), rebuilt })?;
    Ok(ExitCode::SUCCESS)
}

/// Shows what going on with an interrupted change would do, and does it once somebody has agreed.
fn go_on(tree: &LocalTree, control: &Control, key: &SealKey, ui: &Ui) -> Result<(), AppError> {
    match settle::recover(tree, &control.folder, key, false) {
        Err(SettleError::Foreign { number, origin }) => {
            ui.warn(&format!(
                "Change {number} ({}, by {}) was interrupted, and this account has no record of it. \
                 Going on with it would do this:",
                origin.command, origin.who
            ));
            let (steps, ..) = settle::read_settle(tree, number, None)?;
            for step in &steps {
                ui.warn(&format!("  {}", shown(step)));
            }
            ui.warn(&format!("  and {WANTS_FILE} and {LOCK_FILE} would be as its record says."));
            if !ui.confirm("Go on with it?")? {
                return Err(SettleError::Foreign { number, origin }.into());
            }
            if let Some(outcome) = settle::recover(tree, &control.folder, key, true)? {
                ui.event(Event::Recovered(&outcome));
            }
        }
        outcome => {
            if let Some(outcome) = outcome? {
                ui.event(Event::Recovered(&outcome));
            }
        }
    }
    Ok(())
}

fn shown(step: &Step) -> String {
    match step {
        Step::MakeFolder { path } => format!("make the folder {path}"),
        Step::RemoveFolder { path } => format!("remove the folder {path} where it is empty"),
        Step::Put { path, before: None, .. } => format!("put {path}"),
        Step::Put { path, .. } => format!("replace {path}"),
        Step::SetAside { path, .. } => format!("set {path} aside"),
    }
}

/// What the last settle that this account has recorded says that there is.
fn last_settle(tree: &LocalTree, key: &SealKey) -> Result<Option<(u32, LockFile, Receipt)>, AppError> {
    let past = settle::history(tree)?;
    let Some(last) = past.last() else { return Ok(None) };
    if !settle::is_sealed(tree, last.number, Some(key))? {
        return Ok(None);
    }
    // A record that is damaged too is no help.
    let Ok(after) = settle::read_after(tree, last.number) else { return Ok(None) };
    let lock = after.1.lock.as_deref().and_then(|text| LockFile::parse(LOCK_FILE, text).ok());
    Ok(lock.map(|lock| (last.number, lock, after.0)))
}

/// Takes over what lies on the server, as adopt does.
fn look_anew(tree: &LocalTree, control: &Control, global: &Global) -> Result<(LockFile, Receipt), AppError> {
    let trust = trust()?;
    let given = &control.wants.server.values;
    let (game, origin, text) = games::find(Some(&control.folder), &control.wants.server.game)?;
    require_trust((&game, &origin, &text), (tree, given), &trust)?;
    let store = Store::of_user()?;
    let survey = survey::survey(tree, &game, given, (Queries::Remembered, &store))?;
    let inventory = survey::inventory(tree, &game, &survey.scope)?;
    let fetcher = Fetcher::new(store, global.offline);
    let looks = Looks::default();
    let known = (control.folder.as_path(), BTreeMap::new());
    let opened = Catalogues::open(&control.wants, known, &game, &fetcher, &looks, &Ahead::default())?;
    let taken = take_over::take(tree, &game, &survey, &inventory, (&opened, &control.wants.maps))?;
    Ok((taken.lock, taken.receipt))
}

/// Keeps a broken file of ours under another name.
fn set_aside(tree: &LocalTree, name: &str) -> Result<(), AppError> {
    let path = yalotheca_core::id::TreePath::new(&format!("{}/{name}", settle::OWN))?;
    let broken = yalotheca_core::id::TreePath::new(&format!("{}/{name}.broken", settle::OWN))?;
    if tree.find(&path)?.is_some() {
        tree.rename(&path, &broken)?;
    }
    Ok(())
}
