//! Switching contents off and on.

use std::collections::BTreeSet;

use yalotheca_core::{
    control::{ControlFile, LockFile},
    hint::{Advice, Listing},
    id::ContentId,
    solve::{Breach, verify},
    suggest,
};

use super::{change::Change, remove::keep_played};
use crate::{AppError, Mend, Server, plan::can_be_off};

/// Switches contents, or members of packs, off: their files stay, and their entries go. `because` is noted.
///
/// # Errors
/// Where one is off already, cannot be off, or is needed by what stays on.
pub fn switch_off(server: &Server, names: &[String], because: &str) -> Result<Change, AppError> {
    let mut wants = server.control.wants.clone();
    let mut ids = Vec::new();
    for name in names {
        let id = ContentId::new(name)?;
        refuse_what_stays_on(server, &id)?;
        keep_played(server, &id, &wants)?;
        wants.switch_off(&id, because);
        ids.push(id);
    }
    refuse_what_is_needed(server, &wants, &ids)?;
    let asked = names.iter().map(|name| format!("{name} off")).collect();
    Ok(Change::to(wants, asked))
}

/// Switches contents, or members of packs, on again.
///
/// # Errors
/// Where one is not off.
pub fn switch_on(server: &Server, names: &[String]) -> Result<Change, AppError> {
    let mut wants = server.control.wants.clone();
    for name in names {
        let id = ContentId::new(name)?;
        if wants.switch_on(&id) {
            continue;
        }
        if server.control.lock.get(&id).is_some() {
            return Err(AppError::Usage { what: format!("{id} is on already"), hint: None });
        }
        return Err(AppError::Usage {
            what: format!("{id} is not among what is switched off"),
            hint: suggest::did_you_mean(id.as_str(), wants.off.keys().map(ContentId::as_str))
                .map(Advice::Say),
        });
    }
    // What a member needs that is on again is not passed over as something that was missing before.
    let ids: BTreeSet<ContentId> = names.iter().filter_map(|name| ContentId::new(name).ok()).collect();
    let packs =
        server.control.lock.on().filter(|pack| pack.release.members.iter().any(|m| ids.contains(&m.id)));
    let mut change = Change::to(wants, names.iter().map(|name| format!("{name} on")).collect());
    change.extras.plan.mend = Mend::These(packs.map(|pack| pack.id.clone()).collect());
    Ok(change)
}

/// Some contents are loaded as long as they are there.
fn refuse_what_stays_on(server: &Server, id: &ContentId) -> Result<(), AppError> {
    let lock = &server.control.lock;
    if server.control.wants.off.contains_key(id) {
        return Err(AppError::Usage {
            what: format!("{id} is off already"),
            hint: Some(Advice::SwitchOn(id.to_string())),
        });
    }
    let Some(locked) = lock.get(id) else {
        let is_member = lock.on().any(|pack| pack.release.members.iter().any(|member| member.id == *id));
        return if is_member { Ok(()) } else { Err(server.not_here(id, Advice::List(Listing::Installed))) };
    };
    if can_be_off(&server.game, locked) {
        return Ok(());
    }
    let kind = &locked.release.kind;
    let what = if locked.found.always_on {
        let folder = locked.found.folder.as_ref().map_or("", |folder| folder.as_str());
        format!("{id} lies in {folder}, and the server loads everything there")
    } else {
        format!("{id} is a {kind}, and a {} loads every {kind} that is there", server.game.title)
    };
    Err(AppError::Usage { what, hint: Some(Advice::Remove(id.to_string())) })
}

/// What others need stays on, unless they are switched off as well.
fn refuse_what_is_needed(server: &Server, wants: &ControlFile, ids: &[ContentId]) -> Result<(), AppError> {
    let unmet = |lock: &LockFile| -> BTreeSet<ContentId> {
        let breaches = verify(&lock.universe(), &server.survey.platform, &lock.selection());
        breaches
            .into_iter()
            .filter_map(|breach| if let Breach::Need { id, .. } = breach { Some(id) } else { None })
            .collect()
    };
    let lock = &server.control.lock;
    let mut after = lock.clone();
    after
        .contents
        .iter_mut()
        .filter(|locked| wants.off.contains_key(&locked.id))
        .for_each(|locked| locked.off = true);
    let mut in_need: BTreeSet<ContentId> = &unmet(&after) - &unmet(lock);
    // Members of packs have no release of their own.
    let members = ids.iter().filter(|id| lock.get(id).is_none());
    for member in members {
        let others = after.on().filter(|locked| locked.release.needed_ids().any(|need| need == member));
        in_need.extend(others.map(|locked| locked.id.clone()));
    }
    let names: Vec<&str> = in_need.iter().map(ContentId::as_str).collect();
    if names.is_empty() {
        return Ok(());
    }
    let off: Vec<&str> = ids.iter().map(ContentId::as_str).collect();
    let needs = if names.len() == 1 { "needs" } else { "need" };
    Err(AppError::Refused {
        what: format!(
            "{} {needs} {}, and would not be loaded without {}",
            names.join(" and "),
            off.join(" and "),
            if off.len() == 1 { "it" } else { "them" }
        ),
        hint: Some(Advice::SwitchAllOff(ids.iter().chain(&in_need).map(ToString::to_string).collect())),
    })
}
