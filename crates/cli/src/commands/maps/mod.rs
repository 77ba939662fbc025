//! `maps`: what is installed, what plays, what is in turn and for players to choose.

mod attempt;

use std::process::ExitCode;

use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates;
use yalotheca_app::{
    AppError, Purpose, Server,
    maps::MapSource,
    ops::maps::{MapList, MapsReport, maps, offer, play, rotate},
    words::count,
};

use super::apply::{Mode, apply};
use crate::{
    complete,
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, size},
};

/// Show the maps and what is played, or change it.
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
        #[arg(add = ArgValueCandidates::new(complete::maps))]
        name: String,
    },
    /// Play these in turn, and no others; or add some to the turn, or take some out of it
    Rotate(ListedMaps),
    /// Let players choose among these, and no others; or add some to the choice, or take some out of it
    Offer(ListedMaps),
    /// Try a map: start the server with the map that plays now, then with this one, and say whose fault it is
    Try(attempt::TryArgs),
}

/// Which maps are in a list.
#[derive(Debug, Args)]
struct ListedMaps {
    /// Their names, the first one first
    #[arg(required_unless_present_any = ["add", "remove"], conflicts_with_all = ["add", "remove"],
          add = ArgValueCandidates::new(complete::maps))]
    names: Vec<String>,
    /// Add these at the end
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(complete::maps))]
    add: Vec<String>,
    /// Take these out
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(complete::maps))]
    remove: Vec<String>,
}

impl From<&ListedMaps> for MapList {
    fn from(args: &ListedMaps) -> Self {
        if args.names.is_empty() {
            return Self::Changed { add: args.add.clone(), remove: args.remove.clone() };
        }
        Self::These(args.names.clone())
    }
}

impl View for MapsReport {
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
                Cell::plain(
                    map.saves
                        .as_ref()
                        .map_or_else(String::new, |saves| format!("saves {}", size(saves.bytes))),
                ),
                Cell::new(Role::Dim, origin),
            ]);
        }
        page.table(&rows);
        let told: Vec<(&str, &String)> = self
            .maps
            .iter()
            .flat_map(|map| map.problems.iter().map(|trouble| (map.name.as_str(), trouble)))
            .collect();
        if !told.is_empty() {
            page.head("What is wrong");
            for (name, trouble) in told {
                page.item(Role::Bad, &format!("{name}: {trouble}"));
            }
        }
        if !self.saves_of_none.is_empty() {
            page.head("Saves of maps that are not installed");
            for saves in &self.saves_of_none {
                let files = count(saves.files, "file");
                page.item(Role::Plain, &format!("{}/ ({files}, {})", saves.folder, size(saves.bytes)));
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

pub(crate) fn run(args: &MapsArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let purpose = if args.act.is_none() { Purpose::Look } else { Purpose::Change };
    let server = Server::open(purpose, &global.open(), ui)?;
    let change = match &args.act {
        None => {
            let report = maps(&server, args.all)?;
            let troubled = report.maps.iter().any(|map| !map.problems.is_empty());
            ui.show(&report)?;
            return Ok(if troubled { ExitCode::FAILURE } else { ExitCode::SUCCESS });
        }
        Some(MapsAct::Try(args)) => return attempt::run(args, &server, (global, ui)),
        Some(MapsAct::Play { name }) => play(&server, name)?,
        Some(MapsAct::Rotate(names)) => rotate(&server, &names.into())?,
        Some(MapsAct::Offer(names)) => offer(&server, &names.into())?,
    };
    apply(&server, change, Mode::default(), ui)
}
