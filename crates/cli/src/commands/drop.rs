//! `drop`.

use std::process::ExitCode;

use clap::Args;
use clap_complete::ArgValueCandidates;
use yalotheca_app::{AppError, Purpose, Server, ops::remove::remove};

use super::apply::{Mode, apply, note_for_later};
use crate::{complete, global::Global, ui::Ui};

/// Remove contents.
#[derive(Debug, Args)]
pub(crate) struct DropArgs {
    /// The contents' names
    #[arg(required = true, value_name = "NAME", add = ArgValueCandidates::new(complete::installed))]
    names: Vec<String>,
    /// Only write it to yalotheca.toml; the next settle does it
    #[arg(long)]
    later: bool,
}

pub(crate) fn run(args: &DropArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let change = remove(&server, &args.names)?;
    if args.later {
        return note_for_later(&server, change, ui);
    }
    apply(&server, change, Mode::default(), ui)
}
