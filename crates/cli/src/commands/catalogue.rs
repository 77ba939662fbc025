//! `catalogue`: the cache of what catalogues, links and archives gave.

use std::{process::ExitCode, time::Duration};

use clap::{Args, Subcommand};
use serde::Serialize;
use yalotheca_host::store::Store;

use crate::{
    error::CommandError,
    ui::Ui,
    view::{Page, Role, View, count, size},
};

/// Sweep the cache of what catalogues, links and archives gave.
#[derive(Debug, Args)]
pub(crate) struct CatalogueArgs {
    #[command(subcommand)]
    act: CatalogueAct,
}

#[derive(Debug, Subcommand)]
enum CatalogueAct {
    /// Take out of the cache what nobody has used for a while; servers keep what they have
    Sweep {
        /// How many days something may lie unused
        #[arg(long, value_name = "DAYS", default_value_t = 30)]
        days: u64,
        /// How large the cache may stay, in megabytes; the longest unused goes first
        #[arg(long, value_name = "MB")]
        most: Option<u64>,
    },
}

#[derive(Debug, Serialize)]
struct SweepView {
    files: usize,
    bytes: u64,
}

impl View for SweepView {
    fn view(&self, page: &mut Page) {
        let text = match self.files {
            0 => "The cache holds nothing that could go.".to_owned(),
            files => format!("Swept {} ({}) out of the cache.", count(files, "file"), size(self.bytes)),
        };
        page.line(Role::Good, &text);
    }
}

pub(crate) fn run(args: &CatalogueArgs, ui: &Ui) -> Result<ExitCode, CommandError> {
    let CatalogueAct::Sweep { days, most } = args.act;
    let unused = Duration::from_secs(days.saturating_mul(24 * 60 * 60));
    let most = most.map(|most| most.saturating_mul(1_000_000));
    let (files, bytes) = Store::of_user()?.sweep(unused, most)?;
    ui.show(&SweepView { files, bytes })?;
    Ok(ExitCode::SUCCESS)
}
