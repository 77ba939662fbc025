//! `catalogue`: where contents come from, and the cache of what came.

use std::process::ExitCode;

use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates;
use serde::Serialize;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::catalogues::{
        CataloguesReport, SweepReport, add_catalogue, drop_catalogue, list_catalogues, sweep_cache,
    },
};

use crate::{
    complete,
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, count, size},
};

/// List, add and drop catalogues; sweep the cache of what they gave.
#[derive(Debug, Args)]
pub(crate) struct CatalogueArgs {
    #[command(subcommand)]
    act: CatalogueAct,
}

#[derive(Debug, Subcommand)]
enum CatalogueAct {
    /// List this server's catalogues, and how much each has
    List,
    /// Add a catalogue after the existing ones
    Add {
        /// What to call it
        name: String,
        /// Its address, or a folder
        #[arg(value_name = "WHERE")]
        location: String,
        /// The publisher's public key: everything from it must be signed then
        #[arg(long)]
        key: Option<String>,
    },
    /// Drop a catalogue; what came from it stays installed
    Drop {
        /// Its name
        #[arg(add = ArgValueCandidates::new(complete::catalogues))]
        name: String,
    },
    /// Remove from the cache what has not been used for a while; servers keep what they have
    Sweep {
        /// How many days something may lie unused
        #[arg(long, value_name = "DAYS", default_value_t = 30)]
        days: u64,
        /// How large the cache may stay, in megabytes; the longest unused goes first
        #[arg(long, value_name = "MB")]
        most: Option<u64>,
    },
}

impl View for CataloguesReport {
    fn view(&self, page: &mut Page) {
        if self.catalogues.is_empty() {
            page.line(Role::Plain, &format!("{} has no catalogue.", self.server));
            page.line(Role::Plain, "yalotheca catalogue add NAME WHERE adds one: an address, or a folder.");
            return;
        }
        page.line(Role::Head, &format!("Catalogues of {}", self.server));
        page.gap();
        let rows: Vec<Vec<Cell>> = self
            .catalogues
            .iter()
            .map(|line| {
                let many = match line.contents {
                    None => Cell::new(Role::Warn, "cannot be read now"),
                    Some(contents) => Cell::plain(count(contents, "content")),
                };
                let signed = if line.signed { "signed" } else { "" };
                vec![
                    Cell::new(Role::Name, line.name.clone()),
                    Cell::plain(line.at.clone()),
                    many,
                    Cell::new(Role::Dim, signed),
                ]
            })
            .collect();
        page.table(&rows);
    }
}

#[derive(Debug, Serialize)]
struct CatalogueDone {
    catalogue: String,
    says: String,
}

impl View for CatalogueDone {
    fn view(&self, page: &mut Page) {
        page.line(Role::Good, &self.says);
    }
}

impl View for SweepReport {
    fn view(&self, page: &mut Page) {
        let text = match self.files {
            0 => "The cache holds nothing that could go.".to_owned(),
            files => format!("Swept {} ({}) out of the cache.", count(files, "file"), size(self.bytes)),
        };
        page.line(Role::Good, &text);
    }
}

pub(crate) fn run(args: &CatalogueArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    match &args.act {
        CatalogueAct::Sweep { days, most } => {
            ui.show(&sweep_cache(*days, *most)?)?;
        }
        CatalogueAct::List => {
            ui.show(&list_catalogues(&Server::open(Purpose::Look, &global.open(), ui)?)?)?;
        }
        CatalogueAct::Add { name, location, key } => {
            let server = Server::open(Purpose::Change, &global.open(), ui)?;
            let contents = add_catalogue(&server, name, (location, key.as_deref()))?;
            let says = format!("Added the catalogue {name}: {} to choose from.", count(contents, "content"));
            ui.show(&CatalogueDone { catalogue: name.clone(), says })?;
        }
        CatalogueAct::Drop { name } => {
            let came = drop_catalogue(&Server::open(Purpose::Change, &global.open(), ui)?, name)?;
            let mut says = format!("Dropped the catalogue {name}.");
            if came > 0 {
                let many = count(came, "content");
                says = format!("{says} {many} from it stay installed, and are not updated any more.");
            }
            ui.show(&CatalogueDone { catalogue: name.clone(), says })?;
        }
    }
    Ok(ExitCode::SUCCESS)
}
