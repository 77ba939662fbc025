//! `add`.

use std::{collections::BTreeSet, process::ExitCode};

use clap::Args;
use serde::Serialize;
use yalotheca_core::{control::WANTS_FILE, id::ContentId, version::VersionRange};
use yalotheca_host::settle;

use super::apply::{Mode, apply};
use crate::{
    args::Global,
    error::CommandError,
    plan::Fresh,
    session::Session,
    ui::Ui,
    view::{Page, Role, View},
};

/// Want contents, and settle.
#[derive(Debug, Args)]
pub(crate) struct AddArgs {
    /// Names, with a range after '@' where one is wanted: tidebell, 'tidebell@>=1.2, <2', tidebell@=1.4
    #[arg(required = true, value_name = "NAME[@RANGE]")]
    pub(crate) names: Vec<String>,
    /// Only note it; the next settle does it
    #[arg(long)]
    pub(crate) later: bool,
}

/// Wants that were noted for later.
#[derive(Debug, Serialize)]
pub(crate) struct Noted {
    pub(crate) noted: Vec<String>,
    pub(crate) file: String,
}

impl View for Noted {
    fn view(&self, page: &mut Page) {
        let text = format!("Noted in {}: {}. yalotheca settle does it.", self.file, self.noted.join(", "));
        page.line(Role::Good, &text);
    }
}

pub(crate) fn run(args: &AddArgs, global: &Global, ui: &Ui) -> Result<ExitCode, CommandError> {
    let session = Session::open(global, ui)?;
    let shelf = session.shelf();
    let mut wants = session.control.wants.clone();
    let mut named = BTreeSet::new();
    for text in &args.names {
        let (name, range) = text.split_once('@').map_or((text.as_str(), "*"), |(name, range)| (name, range));
        let id = ContentId::new(name.trim())?;
        let range = VersionRange::parse(range)?;
        let known = session.control.lock.get(&id).is_some() || shelf.get()?.content(&id)?.is_some();
        if !known {
            return Err(Session::unknown(&shelf, &id)?);
        }
        wants.want(&id, &range);
        named.insert(id);
    }
    if args.later {
        settle::write_control(&session.control.folder, WANTS_FILE, Some(&wants.text()))?;
        ui.show(&Noted { noted: args.names.clone(), file: WANTS_FILE.into() })?;
        return Ok(ExitCode::SUCCESS);
    }
    // What is named with a range may move to fit it; the rest stays.
    apply(&session, &shelf, &wants, &Fresh::None, (Mode::Settle, None), ui)
}
