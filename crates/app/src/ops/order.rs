//! The load order, with its reasons.

use crate::words::ServerName;
use std::collections::BTreeMap;

use serde::Serialize;
use yalotheca_core::{
    catalogue::Release,
    hint::Advice,
    id::ContentId,
    order::{AskedPlace, Bond, GaveWay, LoadOrder, Relation},
    version::ReleaseVersion,
};

use super::change::Change;
use crate::{AppError, Mend, Server, plan::ordered, words::relations};

/// The load order.
#[derive(Debug, Serialize)]
pub struct OrderReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// The contents in load order.
    pub order: Vec<OrderedContent>,
    /// Whether the server orders contents by itself, by what they need: then it may use another order that suits these needs.
    pub by_server: bool,
    /// What was asked for and gave way.
    pub gave_way: Vec<GaveWay>,
    /// Contents that need one another in a circle.
    pub circles: Vec<Vec<ContentId>>,
}

/// One content in the load order.
#[derive(Debug, Serialize)]
pub struct OrderedContent {
    /// Its place, from 1.
    pub place: usize,
    /// The content.
    pub id: ContentId,
    /// Its version.
    pub version: ReleaseVersion,
    /// What it is loaded after, and why.
    pub after: Vec<OrderReason>,
    /// The patterns of its group.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub group: Option<String>,
}

/// Why it stands after another.
#[derive(Debug, Serialize)]
pub struct OrderReason {
    /// The content.
    pub id: ContentId,
    /// What binds the two.
    pub bond: Bond,
    /// The reason, in words.
    pub says: String,
}

/// Which place a content is to have.
#[derive(Debug, Clone, Default)]
pub struct PlaceRequest {
    /// The content.
    pub name: String,
    /// Load it after these.
    pub after: Vec<String>,
    /// Load it before these.
    pub before: Vec<String>,
    /// Forget what was asked of its place.
    pub free: bool,
}

/// Returns the load order with its reasons.
pub fn order(server: &Server) -> OrderReport {
    let releases = releases(server);
    let asked = &server.control.wants.order;
    let LoadOrder { ids, kept, gave_way, circles, .. } = ordered(server, &releases, asked, &Mend::None);
    let mut after: BTreeMap<ContentId, Vec<OrderReason>> = BTreeMap::new();
    for relation in &kept {
        let reason = OrderReason {
            id: relation.first.clone(),
            bond: relation.bond,
            says: relations::as_reason(relation),
        };
        after.entry(relation.later.clone()).or_default().push(reason);
    }
    let groups = &server.game.order;
    let order = (1..).zip(&ids).map(|(place, id)| {
        let patterns: Vec<&str> = groups.patterns(groups.group(id)).collect();
        let patterns = patterns.join(", ");
        OrderedContent {
            place,
            id: id.clone(),
            version: releases[id].version.clone(),
            after: after.remove(id).unwrap_or_default(),
            group: Some(patterns).filter(|patterns| !patterns.is_empty() && patterns != "*"),
        }
    });
    let order = order.collect();
    OrderReport { server: server.shown(), order, by_server: groups.by_needs, gave_way, circles }
}

/// Asks for another place of a content in the load order.
///
/// # Errors
/// Where it is not installed, nothing is asked, or something stands against it.
pub fn place(server: &Server, request: &PlaceRequest) -> Result<Change, AppError> {
    let id = known(server, &request.name)?;
    let mut wants = server.control.wants.clone();
    let mut place =
        if request.free { AskedPlace::default() } else { wants.order.get(&id).cloned().unwrap_or_default() };
    if request.after.is_empty() && request.before.is_empty() && !request.free {
        return Err(AppError::Usage {
            what: format!("nothing is asked of {id}"),
            hint: Some(Advice::AskForPlace(id.to_string())),
        });
    }
    if server.game.order.by_needs && !request.free {
        return Err(AppError::Refused {
            what: format!(
                "a {} orders contents by itself, by what they need; nothing can tell it another place for {id}",
                server.game.title
            ),
            hint: Some(
                "if it has to be loaded after another one, its descriptor must say that it needs it".into(),
            ),
        });
    }
    // What is asked now counts more than the opposite that was asked before.
    for other in request.after.iter().map(|name| known(server, name)) {
        note(&id, other?, &mut place.after, &mut place.before)?;
    }
    for other in request.before.iter().map(|name| known(server, name)) {
        note(&id, other?, &mut place.before, &mut place.after)?;
    }
    wants.ask_place(&id, place);
    refuse_what_cannot_be(server, &id, &wants.order)?;
    let mut asked: Vec<String> = request.after.iter().map(|other| format!("{id} after {other}")).collect();
    asked.extend(request.before.iter().map(|other| format!("{id} before {other}")));
    if asked.is_empty() {
        asked.push(format!("{id} where it fits"));
    }
    Ok(Change::to(wants, asked))
}

/// What was asked is not noted where needs, or something else that was asked, stand against it.
fn refuse_what_cannot_be(
    server: &Server,
    id: &ContentId,
    asked: &BTreeMap<ContentId, AskedPlace>,
) -> Result<(), AppError> {
    let LoadOrder { gave_way, .. } = ordered(server, &releases(server), asked, &Mend::None);
    // What was asked of others before, and does not hold any more, is no matter here.
    let is_ours = |relation: &Relation| relation.bond == Bond::Asked && relation.by == *id;
    let is_refused = |note: &&GaveWay| {
        note.relation.bond == Bond::Asked && (is_ours(&note.relation) || note.against.iter().any(&is_ours))
    };
    let Some(note) = gave_way.iter().find(is_refused) else { return Ok(()) };
    let against: Vec<String> = note.against.iter().map(relations::in_words).collect();
    let Relation { first, later, .. } = &note.relation;
    Err(AppError::Usage {
        what: format!("{first} cannot be loaded before {later}: {}", against.join(", and ")),
        hint: Some(match note.against.iter().find(|against| against.bond == Bond::Asked) {
            Some(other) => {
                let before = if other.by == *id { &note.relation.by } else { &other.by };
                Advice::ForgetPlace(before.to_string())
            }
            None => "what is needed is always loaded first; nothing was noted".into(),
        }),
    })
}

fn releases(server: &Server) -> BTreeMap<ContentId, &Release> {
    server.control.lock.on().map(|locked| (locked.id.clone(), &locked.release)).collect()
}

fn note(
    id: &ContentId,
    other: ContentId,
    side: &mut Vec<ContentId>,
    opposite: &mut Vec<ContentId>,
) -> Result<(), AppError> {
    if other == *id {
        return Err(AppError::Usage {
            what: format!("{id} cannot be loaded before or after itself"),
            hint: None,
        });
    }
    opposite.retain(|known| *known != other);
    if !side.contains(&other) {
        side.push(other);
    }
    Ok(())
}

/// Only what is on the server has a place.
fn known(server: &Server, name: &str) -> Result<ContentId, AppError> {
    let id = ContentId::new(name)?;
    if server.control.lock.get(&id).is_some() {
        return Ok(id);
    }
    Err(server.not_here(&id, Advice::Install(id.to_string())))
}
