//! `update`.

use std::process::ExitCode;

use clap::Args;
use clap_complete::ArgValueCandidates;
use serde::Serialize;
use yalotheca_app::{
    AppError, Purpose, Server,
    apply::Along,
    ops::update::{HeldBackContent, update},
};

use super::apply::{Mode, apply_with};
use crate::{
    complete,
    global::Global,
    ui::Ui,
    view::{Page, Role, View},
};

/// Update contents.
#[derive(Debug, Args)]
pub(crate) struct UpdateArgs {
    /// Only these; everything if none is named
    #[arg(value_name = "NAME", add = ArgValueCandidates::new(complete::installed))]
    names: Vec<String>,
}

/// What cannot be newer, and why.
#[derive(Debug, Serialize)]
struct HeldBack {
    held_back: Vec<HeldBackContent>,
}

impl View for HeldBack {
    fn view(&self, page: &mut Page) {
        page.head("HeldBackContent back");
        for held in &self.held_back {
            page.item(Role::Name, &format!("{} {} is out; {} stays", held.id, held.newest, held.has));
            if let Some(range) = &held.by_you {
                page.under(
                    Role::Plain,
                    &format!("you want {range}: yalotheca add '{}@*' lets it go on", held.id),
                );
            }
            for statement in
                held.because.iter().flat_map(|why| &why.because).filter(|s| s.sort != "want").take(4)
            {
                page.under(Role::Plain, &statement.text);
            }
        }
        page.gap();
    }
}

pub(crate) fn run(args: &UpdateArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let catalogues = server.catalogues();
    let update = update(&server, &catalogues, &args.names)?;
    for absent in &update.absent {
        ui.warn(&format!("{absent}. What is only in that catalogue stays as it is."));
    }
    if !update.held_back.is_empty() && !ui.is_json() {
        ui.show(&HeldBack { held_back: update.held_back })?;
    }
    let along = Along { planned: Some(Box::new(update.planned)), ..Along::default() };
    apply_with(&server, &catalogues, &server.control.wants, &update.fresh, (Mode::Settle, along), ui)
}
