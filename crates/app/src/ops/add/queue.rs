//! Items that the server downloads itself: queues them in its configuration, starts it once, and adopts what it downloaded.

use std::time::Duration;

use yalotheca_core::{
    change::{ChangeSet, Source, Step, plan},
    desire::registration,
    game::LinkWay,
    id::ContentId,
};
use yalotheca_host::{
    sources::Sources,
    survey::{self, FoundContent},
    trial::Patience,
};

use super::{
    AddRequest,
    typed::{Facts, Typed, rule_for},
};
use crate::{
    AppError, Front, Server, apply::attempt_change, findings::locked_state, ops::trial::start_once,
    plan::look,
};

/// Returns the requested items that only the server can download and that it does not have yet.
///
/// # Errors
/// Where the server cannot be read.
pub fn to_be_fetched(server: &Server, request: &AddRequest) -> Result<Vec<String>, AppError> {
    let mut all = Vec::new();
    for text in &request.names {
        let Some((rule, facts, _)) = rule_for(server, text) else { continue };
        let is_known = || server.control.lock.contents.iter().any(|locked| is_it(&locked.release, &facts));
        if matches!(rule.way, LinkWay::Queue(_)) && !is_known() && found(server, &facts)?.is_none() {
            all.push(text.clone());
        }
    }
    Ok(all)
}

/// Queues the items, starts the server once and stops it. The entries are removed again; the downloaded files stay.
///
/// # Errors
/// If the server cannot be started, or did not download one of the items.
pub fn fetch(server: &Server, names: &[String], front: &dyn Front) -> Result<(), AppError> {
    /// How long the server may take before it is stopped.
    const PATIENCE: Duration = Duration::from_secs(600);
    let (mut desired, contents) = locked_state(server)?;
    let mut files = Vec::new();
    for name in names {
        let Some((rule, _, scope)) = rule_for(server, name) else { continue };
        let LinkWay::Queue(queue) = &rule.way else { continue };
        let wrong = |why: String| AppError::Usage { what: format!("{name}: {why}"), hint: None };
        let owner = ContentId::new("queue")?;
        let entry = registration(queue, &scope, &owner).map_err(wrong)?;
        files.push(entry.file.clone());
        desired.registrations.push(entry);
    }
    let mut change = plan(&desired, contents, server.receipt()?, &look(server, &desired)?)?;
    // Any other pending change is left to `settle`.
    change.steps.retain(|step| match step {
        Step::Put { path, source: Source::Text(_), .. } => files.contains(path),
        Step::MakeFolder { path } => files.iter().any(|file| file.is_within(path)),
        _ => false,
    });
    let went = attempt(server, &change, (front, PATIENCE))?;
    for name in names {
        let Some((_, facts, _)) = rule_for(server, name) else { continue };
        if found(server, &facts)?.is_none() {
            let says = went.first().map_or_else(|| "it said nothing about it".to_owned(), Clone::clone);
            return Err(AppError::Refused {
                what: format!("the server was started but did not download {name}: {says}"),
                hint: Some(
                    "check the number and the host in the server's settings; the queue is as it was before"
                        .into(),
                ),
            });
        }
    }
    Ok(())
}

/// Starts the server with the entries in place; returns its complaints.
fn attempt(
    server: &Server,
    change: &ChangeSet,
    (front, least): (&dyn Front, Duration),
) -> Result<Vec<String>, AppError> {
    let loaded = server.control.lock.loaded(&server.control.wants.off);
    let usual = server.patience();
    let patience = Patience { ready: usual.ready.max(least), ..usual };
    let went = attempt_change(server, (change, &Sources::default()), "the server fetches items", || {
        start_once(server, &server.survey.scope, &loaded.contents, (front, patience))
    })??;
    server.tree.forget_seen();
    Ok(went.troubles.into_iter().map(|trouble| trouble.says).collect())
}

/// Returns the item that the server downloaded.
///
/// # Errors
/// If it was not downloaded, or the server cannot be read.
pub(super) fn fetched(server: &Server, text: &str, facts: &Facts) -> Result<Typed, AppError> {
    let is_known = |locked: &&yalotheca_core::control::Locked| is_it(&locked.release, facts);
    if let Some(locked) = server.control.lock.contents.iter().find(is_known) {
        return Ok(Typed::Numbered(locked.id.clone()));
    }
    match found(server, facts)? {
        Some(here) => Ok(Typed::Here(Box::new(here))),
        None => Err(AppError::Usage {
            what: format!("the server downloads {text} itself at its next start, which has not happened yet"),
            hint: Some("add it without noting it for later".into()),
        }),
    }
}

fn is_it(release: &yalotheca_core::catalogue::Release, facts: &Facts) -> bool {
    facts.iter().any(|(_, fact)| release.is_known_as(fact))
}

/// Finds a content by its number among those on the server but not in the lock.
fn found(server: &Server, facts: &Facts) -> Result<Option<FoundContent>, AppError> {
    let inventory = survey::inventory(&*server.tree, &server.game, &server.survey.scope)?;
    let is_new = |found: &FoundContent| server.control.lock.get(&found.content.id).is_none();
    Ok(inventory.contents.into_iter().find(|found| is_new(found) && is_it(&found.content.release, facts)))
}
