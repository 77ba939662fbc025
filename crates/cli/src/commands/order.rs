//! `order`.

use std::{collections::BTreeMap, process::ExitCode};

use clap::Args;
use serde::Serialize;
use yalotheca_app::{
    AppError, Purpose, Server,
    apply::Along,
    plan::{Fresh, Mend, ordered},
};
use yalotheca_core::{
    catalogue::Release,
    id::ContentId,
    order::{Bond, GaveWay, Order, Place, Relation},
    version::ReleaseVersion,
};

use super::apply::{Mode, apply};
use crate::{
    args::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, order as words},
};

/// Show the load order with its reasons, or ask for another place in it.
#[derive(Debug, Args)]
pub(crate) struct OrderArgs {
    /// The content to place; without it the order is shown
    name: Option<String>,
    /// Load it after these
    #[arg(long, value_name = "NAME", requires = "name")]
    after: Vec<String>,
    /// Load it before these
    #[arg(long, value_name = "NAME", requires = "name")]
    before: Vec<String>,
    /// Forget what was asked of its place
    #[arg(long, requires = "name", conflicts_with_all = ["after", "before"])]
    free: bool,
}

#[derive(Debug, Serialize)]
struct OrderView {
    server: String,
    order: Vec<Placed>,
    gave_way: Vec<GaveWay>,
    circles: Vec<Vec<ContentId>>,
}

#[derive(Debug, Serialize)]
struct Placed {
    place: usize,
    id: ContentId,
    version: ReleaseVersion,
    after: Vec<Reason>,
    #[serde(skip_serializing_if = "Option::is_none")]
    group: Option<String>,
}

/// Why it stands after another.
#[derive(Debug, Serialize)]
struct Reason {
    id: ContentId,
    bond: Bond,
    says: String,
}

impl View for OrderView {
    fn view(&self, page: &mut Page) {
        page.head(&format!("Load order of {}", self.server));
        let rows: Vec<Vec<Cell>> = self.order.iter().map(row).collect();
        page.table(&rows);
        for circle in &self.circles {
            let names: Vec<&str> = circle.iter().map(ContentId::as_str).collect();
            page.gap();
            page.label(Role::Warn, "Circle", &format!("each of these needs the next: {}", names.join(", ")));
        }
        words::gave_way(page, &self.gave_way);
    }
}

fn row(placed: &Placed) -> Vec<Cell> {
    let reasons = placed.after.iter().map(|reason| reason.says.clone());
    let group = placed.group.iter().map(|patterns| format!("in the group {patterns}"));
    let reasons: Vec<String> = reasons.chain(group).collect();
    vec![
        Cell::new(Role::Dim, placed.place.to_string()),
        Cell::new(Role::Name, placed.version.named(&placed.id)),
        Cell::plain(reasons.join("; ")),
    ]
}

pub(crate) fn run(args: &OrderArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let purpose = if args.name.is_none() { Purpose::Look } else { Purpose::Change };
    let server = Server::open(purpose, &global.open(), ui)?;
    let Some(name) = &args.name else { return show(&server, ui) };
    let id = known(&server, name)?;
    let mut wants = server.control.wants.clone();
    let mut place =
        if args.free { Place::default() } else { wants.order.get(&id).cloned().unwrap_or_default() };
    if args.after.is_empty() && args.before.is_empty() && !args.free {
        return Err(AppError::Usage {
            what: format!("nothing is asked of {id}"),
            hint: Some(format!("yalotheca order {id} --after OTHER, --before OTHER, or --free")),
        });
    }
    // What is asked now counts more than the opposite that was asked before.
    for other in args.after.iter().map(|name| known(&server, name)) {
        note(&id, other?, &mut place.after, &mut place.before)?;
    }
    for other in args.before.iter().map(|name| known(&server, name)) {
        note(&id, other?, &mut place.before, &mut place.after)?;
    }
    wants.ask_place(&id, place);
    refuse_what_cannot_be(&server, &id, &wants.order)?;
    apply(&server, &server.catalogues(), &wants, &Fresh::None, (Mode::Settle, Along::default()), ui)
}

/// What was asked is not noted where needs, or something else that was asked, stand against it.
fn refuse_what_cannot_be(
    server: &Server,
    id: &ContentId,
    asked: &BTreeMap<ContentId, Place>,
) -> Result<(), AppError> {
    let Order { gave_way, .. } = ordered(server, &releases(server), asked, &Mend::None);
    // What was asked of others before, and does not hold any more, is no matter here.
    let is_ours = |relation: &Relation| relation.bond == Bond::Asked && relation.by == *id;
    let is_refused = |note: &&GaveWay| {
        note.relation.bond == Bond::Asked && (is_ours(&note.relation) || note.against.iter().any(&is_ours))
    };
    let Some(note) = gave_way.iter().find(is_refused) else { return Ok(()) };
    let against: Vec<String> = note.against.iter().map(words::in_words).collect();
    let Relation { first, later, .. } = &note.relation;
    Err(AppError::Usage {
        what: format!("{first} cannot be loaded before {later}: {}", against.join(", and ")),
        hint: Some(match note.against.iter().find(|against| against.bond == Bond::Asked) {
            Some(other) => {
                let before = if other.by == *id { &note.relation.by } else { &other.by };
                format!("yalotheca order {before} --free forgets what was asked before")
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
    Err(server.not_here(&id, format!("install it: yalotheca add {id}")))
}

fn show(server: &Server, ui: &Ui) -> Result<ExitCode, AppError> {
    let releases = releases(server);
    let asked = &server.control.wants.order;
    let Order { ids, kept, gave_way, circles, .. } = ordered(server, &releases, asked, &Mend::None);
    let mut after: BTreeMap<ContentId, Vec<Reason>> = BTreeMap::new();
    for relation in &kept {
        let reason =
            Reason { id: relation.first.clone(), bond: relation.bond, says: words::as_reason(relation) };
        after.entry(relation.later.clone()).or_default().push(reason);
    }
    let groups = &server.game.order;
    let order = (1..).zip(&ids).map(|(place, id)| {
        let patterns: Vec<&str> = groups.patterns(groups.group(id)).collect();
        let patterns = patterns.join(", ");
        Placed {
            place,
            id: id.clone(),
            version: releases[id].version.clone(),
            after: after.remove(id).unwrap_or_default(),
            group: Some(patterns).filter(|patterns| !patterns.is_empty() && patterns != "*"),
        }
    });
    let order = order.collect();
    ui.show(&OrderView { server: server.shown(), order, gave_way, circles })?;
    Ok(ExitCode::SUCCESS)
}
