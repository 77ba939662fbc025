//! `update`.

use std::process::ExitCode;

use clap::Args;
use clap_complete::ArgValueCandidates;
use yalotheca_app::{
    AppError, Purpose, Server,
    apply::ChangeExtras,
    ops::update::{UpdateReport, ask_links, update},
};

use super::apply::{Mode, apply_with};
use crate::{complete, exit::NOT_REACHED, global::Global, ui::Ui};

/// Update contents.
#[derive(Debug, Args)]
pub(crate) struct UpdateArgs {
    /// Only these; everything if none is named
    #[arg(value_name = "NAME", add = ArgValueCandidates::new(complete::installed))]
    names: Vec<String>,
    /// Only show what would change
    #[arg(long)]
    preview: bool,
}

pub(crate) fn run(args: &UpdateArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let links = ask_links(&server, &args.names)?;
    let catalogues = server.catalogues_for(&links.wants);
    let UpdateReport { planned, held_back, absent, is_blind } = update(&server, &catalogues, &links)?;
    let asked = vec!["updates".to_owned()];
    let planned = Some(Box::new(planned));
    let extras = ChangeExtras { asked, planned, held_back, notes: absent, ..ChangeExtras::default() };
    let mode = Mode { is_preview: args.preview, ..Mode::default() };
    let done = apply_with(&server, &catalogues, &links.wants, &links.fresh, (mode, extras), ui)?;
    Ok(if is_blind { ExitCode::from(NOT_REACHED) } else { done })
}
