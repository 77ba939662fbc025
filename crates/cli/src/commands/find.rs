//! `find`.

use std::process::ExitCode;

use clap::Args;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::find::{FindReport, find},
};

use crate::{
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, count},
};

/// Look through the catalogues, and see what fits this server.
#[derive(Debug, Args)]
pub(crate) struct FindArgs {
    /// Words that must be in the name, the title or the description; without words, all contents
    #[arg(value_name = "WORD")]
    words: Vec<String>,
}

impl View for FindReport {
    fn view(&self, page: &mut Page) {
        if self.found.is_empty() {
            page.line(Role::Plain, "No catalogue has such a content.");
        }
        let rows: Vec<Vec<Cell>> = self
            .found
            .iter()
            .map(|found| {
                let (role, state) = match (&found.here, &found.fits, &found.why_not) {
                    (Some(here), _, _) => {
                        (Role::Good, format!("{} is here", here.shown()).trim_start().to_owned())
                    }
                    (None, Some(fits), _) if fits.is_unversioned() => (Role::Plain, "fits".to_owned()),
                    (None, Some(fits), _) => (Role::Plain, fits.to_string()),
                    (None, None, _) => (Role::Bad, "does not fit".to_owned()),
                };
                let about = match &found.why_not {
                    Some(why) => format!("{} ({why})", found.about),
                    None => found.about.clone(),
                };
                vec![Cell::new(Role::Name, found.id.to_string()), Cell::new(role, state), Cell::plain(about)]
            })
            .collect();
        page.table(&rows);
        for unreadable in &self.unreadable {
            page.gap();
            page.label(Role::Warn, "Cannot be read", unreadable);
        }
        if !self.found.is_empty() {
            page.gap();
            page.line(
                Role::Dim,
                &format!("{}; the versions are for {}.", count(self.found.len(), "content"), self.server),
            );
        }
    }
}

pub(crate) fn run(args: &FindArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let report = find(&server, &args.words)?;
    for absent in &report.absent {
        ui.warn(&format!("{absent}. What it has is not shown."));
    }
    ui.show(&report)?;
    Ok(ExitCode::SUCCESS)
}
