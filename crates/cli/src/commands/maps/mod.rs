//! `maps`: what is installed, what plays, what is in turn and for players to choose.

mod attempt;

use std::process::ExitCode;

use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates;
use serde::Serialize;
use yalotheca_app::maps::{self, MapLine, MapSource};
use yalotheca_app::{AppError, Purpose, Server, apply::Along, plan::Fresh};
use yalotheca_core::{game::Maps, suggest};

use super::{
    apply::{Mode, apply},
    shell,
};
use crate::{
    args::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, size},
};

/// Show the maps that are here, or change what is played.
#[derive(Debug, Args)]
pub(crate) struct MapsArgs {
    #[command(subcommand)]
    act: Option<MapsAct>,
    /// Show the game's own maps as well
    #[arg(long)]
    all: bool,
}

#[derive(Debug, Subcommand)]
enum MapsAct {
    /// Play this map
    Play {
        /// Its name
        #[arg(add = ArgValueCandidates::new(shell::maps))]
        name: String,
    },
    /// Play these in turn, and no others
    Rotate {
        /// Their names, the first one first
        #[arg(required = true, add = ArgValueCandidates::new(shell::maps))]
        names: Vec<String>,
    },
    /// Let players choose among these, and no others
    Offer {
        /// Their names
        #[arg(required = true, add = ArgValueCandidates::new(shell::maps))]
        names: Vec<String>,
    },
    /// Try a map: start the server with the map that plays now, then with this one, and say whose fault it is
    Try(attempt::TryArgs),
}

#[derive(Debug, Serialize)]
struct MapsView {
    server: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    cap_mb: Option<u64>,
    maps: Vec<MapLine>,
}

impl View for MapsView {
    fn view(&self, page: &mut Page) {
        if self.maps.is_empty() {
            page.line(Role::Plain, &format!("{}: there is no map here.", self.server));
            return;
        }
        page.line(Role::Head, &format!("Maps on {}", self.server));
        let mut rows: Vec<Vec<Cell>> = Vec::new();
        for map in &self.maps {
            let turn = map.turn.map_or_else(String::new, |turn| format!("turn {turn}"));
            let origin = match map.origin {
                MapSource::Game => "the game's own".into(),
                MapSource::ByHand => "added by hand".into(),
                MapSource::Lineup | MapSource::Nowhere => String::new(),
            };
            rows.push(vec![
                Cell::new(Role::Good, if map.plays { "plays" } else { "" }),
                Cell::new(Role::Name, map.name.clone()),
                Cell::plain(turn),
                Cell::plain(if map.offered { "offered" } else { "" }),
                Cell::plain(map.bytes.map_or_else(String::new, size)),
                Cell::new(Role::Dim, origin),
            ]);
        }
        page.table(&rows);
        let told: Vec<(&str, &String)> = self
            .maps
            .iter()
            .flat_map(|map| map.troubles.iter().map(|trouble| (map.name.as_str(), trouble)))
            .collect();
        if !told.is_empty() {
            page.head("What is wrong");
            for (name, trouble) in told {
                page.item(Role::Bad, &format!("{name}: {trouble}"));
            }
        }
        let told: Vec<(&str, &String)> =
            self.maps.iter().flat_map(|map| map.notes.iter().map(|note| (map.name.as_str(), note))).collect();
        if !told.is_empty() {
            page.head("Worth knowing");
            for (name, note) in told {
                page.item(Role::Warn, &format!("{name}: {note}"));
            }
        }
    }
}

/// The game's rule about maps.
fn rule(server: &Server) -> Result<&Maps, AppError> {
    server.game.maps.as_ref().ok_or_else(|| AppError::Usage {
        what: format!("a {} has no maps to choose from, as far as its definition says", server.game.title),
        hint: Some(format!("see the definition: yalotheca game show {}", server.game.name)),
    })
}

pub(crate) fn run(args: &MapsArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let purpose = if args.act.is_none() { Purpose::Look } else { Purpose::Change };
    let server = Server::open(purpose, &global.open(), ui)?;
    let rule = rule(&server)?;
    let mut wants = server.control.wants.clone();
    match &args.act {
        None => {
            let maps = maps::list(&server, rule, args.all)?;
            let troubled = maps.iter().any(|map| !map.troubles.is_empty());
            ui.show(&MapsView { server: server.shown(), cap_mb: maps::cap(&server, rule), maps })?;
            return Ok(if troubled { ExitCode::FAILURE } else { ExitCode::SUCCESS });
        }
        Some(MapsAct::Try(args)) => return attempt::run(args, &server, rule, (global, ui)),
        Some(MapsAct::Play { name }) => {
            let known = known(&server, rule, std::slice::from_ref(name))?;
            wants.play(known.first().map(String::as_str));
        }
        Some(MapsAct::Rotate { names }) => {
            if rule.rotate.is_none() {
                return Err(no_list(&server, "that are played in turn"));
            }
            wants.rotate(Some(&known(&server, rule, names)?));
        }
        Some(MapsAct::Offer { names }) => {
            if rule.offer.is_none() {
                return Err(no_list(&server, "that players choose from"));
            }
            wants.offer(Some(&known(&server, rule, names)?));
        }
    }
    let catalogues = server.catalogues_for(&wants);
    apply(&server, &catalogues, &wants, &Fresh::None, (Mode::Settle, Along::default()), ui)
}

fn no_list(server: &Server, which: &str) -> AppError {
    AppError::Usage { what: format!("a {} has no list of maps {which}", server.game.title), hint: None }
}

/// Names as the server wants them: each must be here, and a file's suffix is taken off.
fn known(server: &Server, rule: &Maps, names: &[String]) -> Result<Vec<String>, AppError> {
    let suffix = server.game.kinds.get(&rule.kind).and_then(|kind| kind.suffix.clone()).unwrap_or_default();
    let here = maps::list(server, rule, true)?;
    let mut found: Vec<String> = Vec::new();
    for name in names {
        let bare = name.strip_suffix(suffix.as_str()).filter(|_| !suffix.is_empty()).unwrap_or(name);
        let is_here = |map: &&MapLine| map.origin != MapSource::Nowhere;
        let by_id = |map: &&MapLine| map.id.as_ref().is_some_and(|id| id.as_str() == bare);
        let map = here.iter().find(|map| map.name == bare).filter(is_here);
        let map = map.or_else(|| here.iter().filter(is_here).find(by_id));
        let Some(map) = map else {
            let names =
                here.iter().filter(|map| map.origin != MapSource::Nowhere).map(|map| map.name.as_str());
            return Err(AppError::Usage {
                what: format!("there is no map {bare} here"),
                hint: suggest::did_you_mean(bare, names).or(Some(
                    "yalotheca maps lists the maps here; yalotheca add installs another one".into(),
                )),
            });
        };
        if let Some(trouble) = map.troubles.first().filter(|_| map.bytes.is_some()) {
            return Err(AppError::Refused {
                what: format!("{bare} cannot be played: {trouble}"),
                hint: Some("fetch it again and add it; or take the file away".into()),
            });
        }
        if !found.contains(&map.name) {
            found.push(map.name.clone());
        }
    }
    Ok(found)
}
