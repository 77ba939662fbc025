//! `add`.

use std::process::ExitCode;

use clap::{Args, ValueHint};
use clap_complete::ArgValueCandidates;
use yalotheca_app::{
    AppError, Prompt, Purpose, Server,
    ops::add::{AddRequest, add, fetch, to_be_fetched},
};
use yalotheca_core::game::PACK_KIND;

use super::apply::{Mode, apply, note_for_later};
use crate::{complete, global::Global, ui::Ui};

/// Install contents.
#[derive(Debug, Args)]
pub(crate) struct AddArgs {
    /// Names, with a range after '@' if you need one (tidebell, 'tidebell@>=1.2, <2'); or links, item numbers,
    /// files, folders
    #[arg(required = true, value_name = "WHAT", value_hint = ValueHint::AnyPath,
          add = ArgValueCandidates::new(complete::available))]
    names: Vec<String>,
    /// Take every content that is in it
    #[arg(long)]
    all: bool,
    /// Take these of the contents that are in it
    #[arg(long, value_name = "ID", value_delimiter = ',')]
    only: Vec<String>,
    /// What to call it, where it does not say
    #[arg(long, value_name = "ID")]
    id: Option<String>,
    /// Its version, where it does not say
    #[arg(long, value_name = "VERSION")]
    version: Option<String>,
    /// Its kind, where that cannot be seen
    #[arg(long, value_name = "KIND", conflicts_with = "as_pack")]
    kind: Option<String>,
    /// Take all contents that are in it as one pack: updated and dropped together
    #[arg(long, conflicts_with_all = ["all", "only"])]
    as_pack: bool,
    /// Where to put files that have no known place
    #[arg(long, value_name = "PATTERN=FOLDER")]
    place: Vec<String>,
    /// Leave out these files
    #[arg(long, value_name = "PATTERN")]
    leave: Vec<String>,
    /// A parameter of a tweak
    #[arg(long, value_name = "NAME=VALUE")]
    set: Vec<String>,
    /// Only write it to yalotheca.toml; the next settle does it
    #[arg(long)]
    later: bool,
}

pub(crate) fn run(args: &AddArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let mut server = Server::open(Purpose::Change, &global.open(), ui)?;
    let request = AddRequest {
        names: args.names.clone(),
        all: args.all,
        only: args.only.clone(),
        id: args.id.clone(),
        version: args.version.clone(),
        kind: if args.as_pack { Some(PACK_KIND.to_owned()) } else { args.kind.clone() },
        place: args.place.clone(),
        leave: args.leave.clone(),
        set: args.set.clone(),
        later: args.later,
    };
    let queued = to_be_fetched(&server, &request)?;
    if !queued.is_empty() {
        let them = if queued.len() == 1 { "it" } else { "them" };
        let names = queued.join(", ");
        if !ui
            .confirm(&format!("The server downloads {names} itself. Start it once now to download {them}?"))?
        {
            ui.note("Nothing was changed.");
            return Ok(ExitCode::SUCCESS);
        }
        let waiting = ui.wait(&format!("Starting the server to download {names}"));
        let fetched = fetch(&server, &queued, ui);
        drop(waiting);
        fetched?;
        server = Server::open(Purpose::Change, &global.open(), ui)?;
    }
    let change = add(&mut server, &request, ui)?;
    if args.later {
        return note_for_later(&server, change, ui);
    }
    apply(&server, change, Mode { has_lines: !args.set.is_empty(), ..Mode::default() }, ui)
}
