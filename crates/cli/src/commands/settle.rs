//! `settle` and `preview`.

use std::process::ExitCode;

use clap::Args;
use yalotheca_app::{
    AppError, OpenOptions, Purpose, Server,
    ops::settle::{SettleRequest, settle},
};

use super::apply::{Mode, apply};
use crate::{global::Global, ui::Ui};

/// Make the server match yalotheca.toml, all or nothing.
#[derive(Debug, Args)]
pub(crate) struct SettleArgs {
    /// Accept the server's terms: your own explicit act, kept in the history
    #[arg(long)]
    accept_terms: bool,
    /// First set aside contents and leftovers of contents that yalotheca.toml does not ask for; everything else stays, and
    /// undo brings them back
    #[arg(long)]
    clean_first: bool,
    /// Leave configuration files that cannot be read as they are, and do the rest
    #[arg(long)]
    skip_broken: bool,
    /// Put the original of these files back, although they were edited (a path, or a pattern as in 'mods/**')
    #[arg(long, value_name = "PATH")]
    replace: Vec<String>,
    /// With --clean-first: leave these files where they are
    #[arg(long, value_name = "PATTERN", requires = "clean_first")]
    spare: Vec<String>,
}

/// Show what settle would do.
#[derive(Debug, Args)]
pub(crate) struct PreviewArgs {
    /// Show the lines of configuration files that would change
    #[arg(long)]
    diff: bool,
}

pub(crate) fn preview(args: &PreviewArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &OpenOptions { compares: true, ..global.open() }, ui)?;
    let change = settle(&server, &SettleRequest::default())?;
    let mode = Mode { is_preview: true, has_lines: args.diff };
    apply(&server, change, mode, ui)
}

pub(crate) fn run(args: &SettleArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &OpenOptions { compares: true, ..global.open() }, ui)?;
    let request = SettleRequest {
        accept_terms: args.accept_terms,
        clean: args.clean_first.then(|| args.spare.clone()),
        skip_broken: args.skip_broken,
        replace: args.replace.clone(),
    };
    apply(&server, settle(&server, &request)?, Mode::default(), ui)
}
