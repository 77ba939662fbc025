//! Trying a new map against the one that is known to work, so that a fault is known to be the map's.

use crate::words::ServerName;
use std::collections::BTreeSet;

use serde::Serialize;
use yalotheca_core::{
    control::ControlFile,
    diagnose::Verdict,
    game::{MapForm, Maps},
    hint::Advice,
    id::ContentId,
};
use yalotheca_host::{survey, trial::Trial};

use super::{
    add::{AddRequest, wanted},
    maps::rule,
    trial::{is_started_elsewhere, start_once},
};
use crate::{
    AppError, Fresh, Front, OpenOptions, Purpose, Server,
    apply::{ChangeExtras, attempt_change, prepare},
    maps::{self, MapSource},
    plan::{PlanOptions, plan_change, sources, tools},
    process::Act,
};

/// Which map is tried.
#[derive(Debug, Clone, Default)]
pub struct TryMapRequest {
    /// A link, a file, a name of a catalogue, or a map that is here.
    pub what: String,
    /// Which one, where it holds several.
    pub only: Option<String>,
    /// Files of it that are left out, as patterns.
    pub leave: Vec<String>,
}

/// A map that was found and is ready to be tried.
#[derive(Debug)]
pub struct Attempt {
    /// The map that is tried, as the server calls it.
    pub map: String,
    /// The map that plays.
    pub known: String,
    wants: ControlFile,
}

/// Whose fault it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Fault {
    /// None: it works.
    None,
    /// The new map's.
    Map,
    /// The server's: it fails with the known map as well.
    Server,
}

/// How it went.
#[derive(Debug, Serialize)]
pub struct TryMapReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// The map that was tried.
    pub map: String,
    /// The map that plays.
    pub known: String,
    /// Whose fault it is.
    pub fault: Fault,
    /// What the failing start said.
    pub troubles: Vec<String>,
}

/// Finds the map that is to be tried, and the one that plays.
///
/// # Errors
/// Where it is nowhere, or plays already.
pub fn find_map(server: &Server, request: &TryMapRequest, front: &dyn Front) -> Result<Attempt, AppError> {
    let rule = rule(server)?;
    let here = maps::list(server, rule, true)?;
    let known_here = here.iter().filter(|map| map.origin != MapSource::Nowhere).find(|map| {
        map.name == request.what || map.id.as_ref().is_some_and(|id| id.as_str() == request.what)
    });
    let asked = AddRequest {
        names: vec![request.what.clone()],
        only: request.only.iter().cloned().collect(),
        leave: request.leave.clone(),
        ..AddRequest::default()
    };
    // What is here already is only played.
    let (wants, named) = match known_here {
        Some(_) => (server.control.wants.clone(), None),
        None => wanted(server, &asked, front)?,
    };
    let map = match (known_here, &named) {
        (Some(here), _) => here.name.clone(),
        (None, Some(id)) => name_when_installed(server, &wants, rule, id)?,
        (None, None) => return Err(AppError::Usage { what: "nothing was named".into(), hint: None }),
    };
    let played = here.iter().find(|map| map.plays).map(|map| map.name.clone());
    let known = wants.maps.play.clone().or(played).unwrap_or_default();
    if known == map {
        return Err(AppError::Usage {
            what: format!("{map} is the map that plays now; there is nothing to compare it with"),
            hint: Some(Advice::StartAsItIs),
        });
    }
    Ok(Attempt { map, known, wants })
}

/// Starts the server with the map that plays now, then with the new one. Where that works, the new one is installed without being
/// played; else everything is as before.
///
/// # Errors
/// Where the server cannot be started at all, or the map cannot be installed.
pub fn try_map(
    server: &Server,
    Attempt { map, known, wants }: &Attempt,
    (options, front): (&OpenOptions, &dyn Front),
    hear: &dyn Fn(&str),
) -> Result<TryMapReport, AppError> {
    hear(known);
    // The commands run twice, so the user confirms them before anything else happens.
    if is_started_elsewhere(server, None) {
        for act in [Act::Start, Act::Stop] {
            if server.process_command(act, front)?.is_none() {
                return Err(AppError::Usage {
                    what: "trying a map starts and stops the server twice, and yalotheca.toml has no commands for that".into(),
                    hint: Some("name a start and a stop command in [server.process] of yalotheca.toml".into()),
                });
            }
        }
    }
    let loaded = server.control.lock.loaded(&server.control.wants.off);
    let with_known = start_once(server, &server.survey.scope, &loaded.contents, (front, server.patience()))?;
    let mut report = TryMapReport {
        server: server.shown(),
        map: map.clone(),
        known: known.clone(),
        fault: Fault::None,
        troubles: Vec::new(),
    };
    if with_known.verdict == Verdict::Failed {
        report.fault = Fault::Server;
        report.troubles = told(&with_known);
        return Ok(report);
    }
    // The map is installed and put on, tried, and all of that is taken back; where it works, it is installed without being put on.
    let mut played = wants.clone();
    played.play(Some(map));
    hear(map);
    let went = attempt(server, &played, front)??;
    let old: Vec<String> = told(&with_known);
    report.troubles = told(&went).into_iter().filter(|line| !old.contains(line)).collect();
    if went.verdict == Verdict::Failed || !report.troubles.is_empty() {
        report.fault = Fault::Map;
    } else {
        install(options, wants, front)?;
    }
    Ok(report)
}

/// Returns what the server will call a map once it is installed.
fn name_when_installed(
    server: &Server,
    wants: &ControlFile,
    rule: &Maps,
    id: &ContentId,
) -> Result<String, AppError> {
    let catalogues = server.catalogues_for(wants);
    let planned = plan_change(server, &catalogues, wants, &Fresh::None, &PlanOptions::default())?;
    let placed = planned.desired.placements.iter().filter(|(_, placement)| placement.content == *id);
    let placed = placed.map(|(path, _)| path);
    let folders = match &rule.form {
        MapForm::Kind(kind) => return Ok(maps::name_of(server.game.kinds.get(kind), id, placed)),
        MapForm::Folders(folders) => folders,
    };
    let names: BTreeSet<&str> = placed.filter_map(|path| folders.map_of(path.as_str())).collect();
    match names.iter().collect::<Vec<_>>()[..] {
        [only] => Ok((*only).to_owned()),
        [] => Err(AppError::Usage {
            what: format!("{id} contains no map: nothing in it matches {}", folders.pattern),
            hint: None,
        }),
        _ => Err(AppError::Usage {
            what: format!("{id} contains several maps: {}", names.into_iter().collect::<Vec<_>>().join(", ")),
            hint: Some("install it first, then try one of them by its name".into()),
        }),
    }
}

/// Tries other wants on the server, which is as before afterwards.
fn attempt(
    server: &Server,
    wants: &ControlFile,
    front: &dyn Front,
) -> Result<Result<Trial, AppError>, AppError> {
    let catalogues = server.catalogues_for(wants);
    let prepared = prepare(server, &catalogues, wants, &Fresh::None, ChangeExtras::default())?;
    let mut planned = prepared.planned;
    let (mut bytes, mut gone) = sources(server, &catalogues, &planned)?;
    if !gone.is_empty() {
        return Err(gone.remove(0).1);
    }
    for tool in tools::due(server, &planned.change, &[]) {
        tools::run(server, tool, (&mut planned.change, &mut bytes))?;
    }
    let given = &server.control.wants.server.values;
    attempt_change(server, (&planned.change, &bytes), "a map is tried", || {
        let scope = survey::values(&*server.tree, &server.game, given)?;
        let contents = planned.lock.loaded(&server.control.wants.off);
        start_once(server, &scope, &contents.contents, (front, server.patience()))
    })
}

/// Installs a map that works, as one change; the server has been started since the plan was made, so it is planned again.
fn install(options: &OpenOptions, wants: &ControlFile, front: &dyn Front) -> Result<(), AppError> {
    let server = Server::open(Purpose::Change, options, front)?;
    let catalogues = server.catalogues_for(wants);
    let prepared = prepare(&server, &catalogues, wants, &Fresh::None, ChangeExtras::default())?;
    if prepared.planned.change.is_empty() {
        return prepared.note(&server, wants);
    }
    prepared.settle(&server, &catalogues, wants).map(drop)
}

fn told(trial: &Trial) -> Vec<String> {
    let mut told: Vec<String> = Vec::new();
    for trouble in &trial.troubles {
        if !told.contains(&trouble.says) {
            told.push(trouble.says.clone());
        }
    }
    told
}
