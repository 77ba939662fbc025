//! `update`.

use std::process::ExitCode;

use clap::Args;
use clap_complete::ArgValueCandidates;
use yalotheca_app::{
    AppError, Purpose, Server,
    apply::ChangeExtras,
    ops::update::{UpdateReport, update},
};

use super::apply::{Mode, apply_with};
use crate::{complete, global::Global, ui::Ui};

/// Update contents.
#[derive(Debug, Args)]
pub(crate) struct UpdateArgs {
    /// Only these; everything if none is named
    #[arg(value_name = "NAME", add = ArgValueCandidates::new(complete::installed))]
    names: Vec<String>,
}

pub(crate) fn run(args: &UpdateArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let catalogues = server.catalogues();
    let update = update(&server, &catalogues, &args.names)?;
    for absent in &update.absent {
        ui.warn(&format!("{absent}. What is only in that catalogue stays as it is."));
    }
    let UpdateReport { planned, fresh, held_back, .. } = update;
    let extras = ChangeExtras { planned: Some(Box::new(planned)), held_back, ..ChangeExtras::default() };
    apply_with(&server, &catalogues, &server.control.wants, &fresh, (Mode::default(), extras), ui)
}
