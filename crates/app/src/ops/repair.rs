//! Rebuilding the lock and the receipt, and going on with an interrupted change that another account recorded.

use std::collections::BTreeMap;

use serde::Serialize;
use yalotheca_core::{
    change::Receipt,
    control::{LOCK_FILE, LockFile},
    id::TreePath,
};
use yalotheca_host::{
    catalogue::{Catalogues, GivenInspector, PrefetchedCatalogues},
    control::Control,
    fetch::Fetcher,
    games,
    settle::{self, SealKey, SettleError},
    store::Store,
    survey::{self, Queries},
    tree::Tree,
};

use crate::{
    AppError, Event, Front, OpenOptions, pack,
    server::{open_folder, require_trust, seal_key, server_tree, trust},
    take_over,
};

/// What was rebuilt.
#[derive(Debug, Serialize)]
pub struct RepairReport {
    /// The server's folder.
    pub folder: String,
    /// What was rebuilt, and from what; nothing if all was there.
    pub rebuilt: Vec<String>,
    /// Whether nothing was done, since somebody said no.
    #[serde(skip)]
    pub is_declined: bool,
}

/// Rebuilds what is missing or cannot be read; asks first, and changes nothing else on the server. With `unlock` a lock whose owner
/// has not been heard of is taken away first.
///
/// # Errors
/// Where the folder cannot be read or written, or there is no one to ask.
pub fn repair(options: &OpenOptions, unlock: bool, front: &dyn Front) -> Result<RepairReport, AppError> {
    let trust = trust()?;
    let folder = open_folder(options, &trust, front)?;
    let mut control = Control::open_wants(&folder)?;
    let tree = server_tree(&control, options, front)?;
    let mut report = RepairReport { folder: tree.location(), rebuilt: Vec::new(), is_declined: false };
    if unlock && settle::break_lock(&*tree)? {
        report.rebuilt.push("Took the lock away.".into());
    }
    let key = seal_key()?;
    let _claim = settle::claim(&tree)?;
    if settle::interrupted(&*tree)?.is_some() {
        go_on(&*tree, &control, &key, front)?;
        control = Control::open_wants(&folder)?;
    }
    let shown = |name: &str| folder.join(name).display().to_string();
    let lock = control.lock_text.as_deref().map(|text| LockFile::parse(&shown(LOCK_FILE), text));
    let has_lock = matches!(lock, Some(Ok(_)));
    let has_receipt = matches!(settle::read_receipt(&*tree), Ok((_, Some(_))));
    if has_lock && has_receipt {
        return Ok(report);
    }
    let (new_lock, new_receipt, from) = if let Some((number, lock, receipt)) = last_settle(&*tree, &key)? {
        (lock, receipt, format!("from the record of change {number}"))
    } else {
        let (lock, receipt) = look_anew(&*tree, &control, options)?;
        (lock, receipt, "from what lies on the server".to_owned())
    };
    let which = match (has_lock, has_receipt) {
        (false, false) => "the lock and the receipt",
        (false, true) => "the lock",
        _ => "the receipt",
    };
    if !front.confirm(&format!("Rebuild {which} {from}?"))? {
        report.is_declined = true;
        return Ok(report);
    }
    if !has_receipt {
        set_aside(&*tree, "receipt.json")?;
        settle::write_receipt(&*tree, &new_receipt)?;
        report.rebuilt.push(format!("Rebuilt the receipt {from}."));
    }
    if !has_lock {
        if let Some(text) = &control.lock_text {
            let broken = format!("{LOCK_FILE}.broken");
            settle::write_control(&folder, &broken, text)?;
            report.rebuilt.push(format!("What was in {LOCK_FILE} is kept in {broken}."));
        }
        settle::write_control(&folder, LOCK_FILE, &new_lock.text())?;
        report.rebuilt.push(format!("Rebuilt {LOCK_FILE} {from}."));
    }
    Ok(report)
}

/// Goes on with an interrupted change. Of one that another account recorded it is shown what that would do, and asked about.
fn go_on(tree: &dyn Tree, control: &Control, key: &SealKey, front: &dyn Front) -> Result<(), AppError> {
    let outcome = match settle::recover(tree, &control.folder, key, false) {
        Err(SettleError::Foreign { number, origin }) => {
            let (steps, ..) = settle::read_settle(tree, number, None)?;
            front.event(Event::ForeignChange { number, origin: &origin, steps: &steps });
            if !front.confirm("Go on with it?")? {
                return Err(SettleError::Foreign { number, origin }.into());
            }
            settle::recover(tree, &control.folder, key, true)?
        }
        outcome => outcome?,
    };
    if let Some(outcome) = outcome {
        front.event(Event::Recovered(&outcome));
    }
    Ok(())
}

/// What the last settle that this account has recorded says that there is.
fn last_settle(tree: &dyn Tree, key: &SealKey) -> Result<Option<(u32, LockFile, Receipt)>, AppError> {
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
fn look_anew(
    tree: &dyn Tree,
    control: &Control,
    options: &OpenOptions,
) -> Result<(LockFile, Receipt), AppError> {
    let trust = trust()?;
    let given = &control.wants.server.values;
    let (game, origin, text) = games::find(Some(&control.folder), &control.wants.server.game)?;
    require_trust((&game, &origin, &text), (tree, given), &trust)?;
    let store = Store::of_user()?;
    let survey = survey::survey(tree, &game, given, (Queries::Remembered, &store))?;
    let inventory = survey::inventory(tree, &game, &survey.scope)?;
    let fetcher = Fetcher::new(store, options.offline);
    let inspector = GivenInspector::default();
    let known = (control.folder.as_path(), BTreeMap::new());
    let opened = Catalogues::open(
        &control.wants,
        known,
        &game,
        &fetcher,
        &inspector,
        &PrefetchedCatalogues::default(),
    )?;
    let told = pack::taken_over(&pack::as_told(tree, &game, &survey.scope)?);
    let locked = told.as_ref().map(|(_, locked)| locked);
    let pack = control.wants.pack.as_ref().zip(locked);
    let mut taken = take_over::take(tree, &game, &survey, &inventory, (&opened, &control.wants.maps, pack))?;
    taken.lock.keys = super::keys::on_server(tree, &game)?;
    Ok((taken.lock, taken.receipt))
}

/// Keeps a broken file of ours under another name.
fn set_aside(tree: &dyn Tree, name: &str) -> Result<(), AppError> {
    let path = TreePath::new(&format!("{}/{name}", settle::OWN))?;
    let broken = TreePath::new(&format!("{}/{name}.broken", settle::OWN))?;
    if tree.kind_of(&path)?.is_some() {
        tree.rename(&[(&path, &broken)])?;
    }
    Ok(())
}
