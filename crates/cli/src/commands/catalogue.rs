//! `catalogue`: where contents come from, and the cache of what came.

use std::{path::Path, process::ExitCode, time::Duration};

use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates;
use serde::Serialize;
use yalotheca_app::{AppError, Purpose, Server, apply::note};
use yalotheca_core::{control::CatalogueSource, link::without_user, suggest};
use yalotheca_host::store::Store;

use super::shell;
use crate::{
    args::Global,
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
    /// Add a catalogue, after those that there are
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
        #[arg(add = ArgValueCandidates::new(shell::catalogues))]
        name: String,
    },
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
struct CatalogueLine {
    name: String,
    at: String,
    signed: bool,
    /// How many contents it has, where it can be read now.
    contents: Option<usize>,
}

#[derive(Debug, Serialize)]
struct CatalogueList {
    server: String,
    catalogues: Vec<CatalogueLine>,
}

impl View for CatalogueList {
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

pub(crate) fn run(args: &CatalogueArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    match &args.act {
        CatalogueAct::Sweep { days, most } => {
            let unused = Duration::from_secs(days.saturating_mul(24 * 60 * 60));
            let most = most.map(|most| most.saturating_mul(1_000_000));
            let (files, bytes) = Store::of_user()?.sweep(unused, most)?;
            ui.show(&SweepView { files, bytes })?;
        }
        CatalogueAct::List => list(&Server::open(Purpose::Look, &global.open(), ui)?, ui)?,
        CatalogueAct::Add { name, location, key } => {
            let server = Server::open(Purpose::Change, &global.open(), ui)?;
            add(&server, name, (location, key.as_deref()), ui)?;
        }
        CatalogueAct::Drop { name } => {
            drop_one(&Server::open(Purpose::Change, &global.open(), ui)?, name, ui)?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn list(server: &Server, ui: &Ui) -> Result<(), AppError> {
    let catalogues = server.catalogues();
    let sizes = catalogues.get()?.sizes();
    let catalogues = server.control.wants.catalogues.iter().map(|catalogue| CatalogueLine {
        name: catalogue.name.clone(),
        at: without_user(&catalogue.at),
        signed: catalogue.key.is_some(),
        contents: sizes.get(&catalogue.name).copied().flatten(),
    });
    ui.show(&CatalogueList { server: server.shown(), catalogues: catalogues.collect() })
}

fn add(server: &Server, name: &str, (at, key): (&str, Option<&str>), ui: &Ui) -> Result<(), AppError> {
    let mut wants = server.control.wants.clone();
    if wants.catalogues.iter().any(|known| known.name == name) {
        return Err(AppError::Usage {
            what: format!("there is a catalogue called {name} already"),
            hint: Some(format!("yalotheca catalogue drop {name} removes it; or choose another name")),
        });
    }
    // A folder is noted as it is seen from yalotheca.toml, wherever the command is typed.
    let here = std::env::current_dir().ok().and_then(|here| here.canonicalize().ok());
    let is_elsewhere = here.is_none_or(|here| server.control.folder.canonicalize().ok() != Some(here));
    let at = match Path::new(at).canonicalize() {
        Ok(folder) if !at.contains("://") && is_elsewhere => folder.display().to_string(),
        _ => at.to_owned(),
    };
    let source = CatalogueSource { name: name.into(), at, key: key.map(str::to_owned), older: false };
    wants.add_catalogue(&source);
    // A catalogue that cannot be read is an error now, not when something is installed from it.
    let catalogues = server.catalogues_for(&wants);
    let Some(contents) = catalogues.get()?.sizes().get(name).copied().flatten() else {
        let absent = catalogues.get()?.unreachable().into_iter().next_back();
        return Err(absent.map_or_else(
            || AppError::Usage { what: format!("the catalogue {name} cannot be read"), hint: None },
            AppError::from,
        ));
    };
    note(server, &wants, (None, &format!("catalogue {name} added")))?;
    let what = format!("Added the catalogue {name}: {} to choose from.", count(contents, "content"));
    ui.show(&CatalogueDone { catalogue: name.into(), says: what })
}

fn drop_one(server: &Server, name: &str, ui: &Ui) -> Result<(), AppError> {
    let mut wants = server.control.wants.clone();
    if !wants.drop_catalogue(name) {
        let names = wants.catalogues.iter().map(|catalogue| catalogue.name.as_str());
        return Err(AppError::Usage {
            what: format!("there is no catalogue called {name}"),
            hint: suggest::did_you_mean(name, names)
                .or_else(|| Some("yalotheca catalogue list shows them".into())),
        });
    }
    note(server, &wants, (None, &format!("catalogue {name} dropped")))?;
    let came = server.control.lock.contents.iter().filter(|locked| locked.catalogue == name).count();
    let mut says = format!("Dropped the catalogue {name}.");
    if came > 0 {
        says = format!(
            "{says} {} from it stay installed, and are not updated any more.",
            count(came, "content")
        );
    }
    ui.show(&CatalogueDone { catalogue: name.into(), says })
}
