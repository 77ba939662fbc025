//! `repair`.

use std::process::ExitCode;

use clap::Args;
use yalotheca_app::{
    AppError,
    ops::repair::{RepairReport, repair},
};

use crate::{
    global::Global,
    ui::Ui,
    view::{Page, Role, View},
};

/// Rebuild what Yalotheca knows of a server (the lock and the receipt) where it is missing or broken, and go on with an
/// interrupted change that another account recorded; asks first, and changes nothing else on the server.
#[derive(Debug, Args)]
pub(crate) struct RepairArgs {
    /// Take the server's lock away from somebody who has not been heard of for ten minutes
    #[arg(long)]
    unlock: bool,
}

impl View for RepairReport {
    fn view(&self, page: &mut Page) {
        if self.rebuilt.is_empty() {
            page.line(
                Role::Good,
                &format!("{}: lock and receipt are there and can be read; nothing to repair.", self.folder),
            );
            return;
        }
        for line in &self.rebuilt {
            page.line(Role::Good, line);
        }
        page.line(
            Role::Plain,
            "Nothing else on the server was changed. Next: yalotheca check shows what is wrong.",
        );
    }
}

pub(crate) fn run(args: &RepairArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let report = repair(&global.open(), args.unlock, ui)?;
    if report.is_declined {
        ui.note("Nothing was changed.");
    } else {
        ui.show(&report)?;
    }
    Ok(ExitCode::SUCCESS)
}
