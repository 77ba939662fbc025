//! `off` and `on`.

use std::process::ExitCode;

use clap::Args;
use clap_complete::ArgValueCandidates;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::switch::{switch_off, switch_on},
};

use super::apply::{Mode, apply, note_for_later};
use crate::{complete, global::Global, ui::Ui};

/// Switch contents off without removing their files.
#[derive(Debug, Args)]
pub(crate) struct OffArgs {
    /// The contents' names, or those of members of packs
    #[arg(required = true, value_name = "NAME", add = ArgValueCandidates::new(complete::installed))]
    names: Vec<String>,
    /// The reason, noted in yalotheca.toml
    #[arg(long, value_name = "TEXT", default_value = "")]
    because: String,
    /// Only write it to yalotheca.toml; the next settle does it
    #[arg(long)]
    later: bool,
}

/// Switch contents on again.
#[derive(Debug, Args)]
pub(crate) struct OnArgs {
    /// The contents' names, or those of members of packs
    #[arg(required = true, value_name = "NAME", add = ArgValueCandidates::new(complete::switched_off))]
    names: Vec<String>,
    /// Only write it to yalotheca.toml; the next settle does it
    #[arg(long)]
    later: bool,
}

pub(crate) fn off(args: &OffArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let change = switch_off(&server, &args.names, &args.because)?;
    if args.later {
        return note_for_later(&server, change, ui);
    }
    apply(&server, change, Mode::default(), ui)
}

pub(crate) fn on(args: &OnArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let change = switch_on(&server, &args.names)?;
    if args.later {
        return note_for_later(&server, change, ui);
    }
    apply(&server, change, Mode::default(), ui)
}
