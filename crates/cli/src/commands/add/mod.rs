//! `add`.

mod once;
mod parameters;
pub(crate) mod ways;

use std::{collections::BTreeSet, process::ExitCode};

use clap::Args;
use serde::Serialize;
use yalotheca_app::{
    AppError, OpenCatalogues, Purpose, Server,
    apply::{Along, note},
    plan::Fresh,
};
use yalotheca_core::{control::WANTS_FILE, tweak::TWEAK_SUFFIX};

use super::apply::{Mode, apply};
use crate::{
    args::Global,
    ui::Ui,
    view::{Page, Role, View},
};
use ways::Way;

/// Install contents.
#[derive(Debug, Default, Args)]
pub(crate) struct AddArgs {
    /// Names, with a range after '@' if you need one (tidebell, 'tidebell@>=1.2, <2'); or links, item numbers,
    /// files, folders
    #[arg(required = true, value_name = "WHAT")]
    pub(crate) names: Vec<String>,
    /// Take every content that is in it
    #[arg(long)]
    pub(crate) all: bool,
    /// Take these of the contents that are in it
    #[arg(long, value_name = "ID", value_delimiter = ',')]
    pub(crate) only: Vec<String>,
    /// What to call it, where it does not say
    #[arg(long, value_name = "ID")]
    pub(crate) id: Option<String>,
    /// Its version, where it does not say
    #[arg(long, value_name = "VERSION")]
    pub(crate) version: Option<String>,
    /// Its kind, where that cannot be seen
    #[arg(long, value_name = "KIND")]
    pub(crate) kind: Option<String>,
    /// Where files go that nobody knows a place for
    #[arg(long, value_name = "PATTERN=FOLDER")]
    pub(crate) place: Vec<String>,
    /// Leave these files of it out
    #[arg(long, value_name = "PATTERN")]
    pub(crate) leave: Vec<String>,
    /// A parameter of a tweak
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
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

pub(crate) fn run(args: &AddArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let noted = server.catalogues();
    let found = ways::find_out(&server, &noted, args, ui)?;
    let mut wants = server.control.wants.clone();
    let mut given_anew = BTreeSet::new();
    let mut names = Vec::new();
    for way in &found.ways {
        match way {
            Way::Name(id, _) if wants.off.contains_key(id) => {
                return Err(AppError::Usage {
                    what: format!("{id} is installed and switched off"),
                    hint: Some(format!("yalotheca on {id} switches it on")),
                });
            }
            Way::Name(id, range) => {
                names.push(if range.is_any() { id.to_string() } else { format!("{id}@{range}") });
                wants.want(id, range);
            }
            Way::Given(id, given) => {
                names.push(id.to_string());
                wants.give(id, given);
                given_anew.insert(id.clone());
            }
        }
    }
    let ids: Vec<_> = found.ways.iter().map(Way::id).cloned().collect();
    let asked = parameters::ask(&server, &server.catalogues_for(&wants), &ids, &args.set, ui)?;
    for (id, at, value) in &asked {
        wants.ask_setting(id.as_str(), TWEAK_SUFFIX, at, Some(value));
    }
    if args.later {
        refuse_what_nobody_has(&server.catalogues_for(&wants), &found.ways)?;
        note(&server, &wants, (None, &format!("noted: {}", names.join(", "))))?;
        ui.show(&Noted { noted: names, file: WANTS_FILE.into() })?;
        return Ok(ExitCode::SUCCESS);
    }
    // What is named with a range may move to fit it, and what is given again is taken anew; the rest stays.
    let fresh = if given_anew.is_empty() { Fresh::None } else { Fresh::These(given_anew) };
    let catalogues = server.catalogues_for(&wants);
    let mode = if asked.is_empty() { Mode::Settle } else { Mode::SettleWithLines };
    let mut along = Along { left_out: found.left_out, notes: found.notes, ..Along::default() };
    once::put(&server, &found.once, &mut along)?;
    apply(&server, &catalogues, &wants, &fresh, (mode, along), ui)
}

/// What no catalogue has is not noted: nothing could ever install it.
fn refuse_what_nobody_has(catalogues: &OpenCatalogues<'_>, ways: &[Way]) -> Result<(), AppError> {
    const MOST: usize = 6;
    for way in ways {
        let Way::Name(id, range) = way else { continue };
        if !catalogues.get()?.unreachable().is_empty() {
            return Ok(());
        }
        let Some(content) = catalogues.get()?.content(id)? else {
            return Err(Server::unknown(catalogues, id)?);
        };
        if content.releases.iter().any(|release| range.matches(&release.version)) {
            continue;
        }
        let mut releases: Vec<_> = content.releases.iter().map(|release| &release.version).collect();
        releases.sort_by(|a, b| b.cmp(a));
        let mut versions: Vec<String> = releases.iter().take(MOST).map(ToString::to_string).collect();
        if content.releases.len() > MOST {
            versions.push("…".into());
        }
        return Err(AppError::Usage {
            what: format!("no release of {id} is {}", range.in_words()),
            hint: Some(format!("there are: {}", versions.join(", "))),
        });
    }
    Ok(())
}
