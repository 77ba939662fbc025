//! `stand-in`: the demo's server and catalogue host, run by the demo and by tests.

use std::{path::PathBuf, process::ExitCode};

use clap::{Args, Subcommand};
use yalotheca_standin::{
    catalogue_host::CatalogueHost, file_host::FileHost, kitehollow, kites, moor, mossgarrow, quayside,
    saltwick,
};

use crate::ui::Ui;
use yalotheca_app::AppError;

/// Run a stand-in of the demo.
#[derive(Debug, Args)]
pub(crate) struct StandInArgs {
    #[command(subcommand)]
    which: StandIn,
}

#[derive(Debug, Subcommand)]
enum StandIn {
    /// The Saltwick server
    Saltwick {
        /// The server's folder
        folder: PathBuf,
    },
    /// The Kitehollow server
    Kitehollow {
        /// The server's folder
        folder: PathBuf,
    },
    /// The Mossgarrow server
    Mossgarrow {
        /// The server's folder
        folder: PathBuf,
    },
    /// The Mossgarrow server's tool that compiles regions
    MossgarrowIndex {
        /// The server's folder
        folder: PathBuf,
    },
    /// A moor before its first start: a Mossgarrow server, its program, and tweaks for it
    Moor {
        /// A new folder
        folder: PathBuf,
    },
    /// A crew's world: a Kitehollow server, its program, and a folder of downloads
    Kites {
        /// A new folder
        folder: PathBuf,
    },
    /// A file host with all that goes wrong at such hosts; prints its address and runs until it is ended
    Files {
        /// The folder with the files
        folder: PathBuf,
    },
    /// The demo's world, before its story begins: a server left behind, a catalogue, the server's program
    World {
        /// A new folder
        folder: PathBuf,
    },
    /// A catalogue host; prints its address and runs until it is ended
    Catalogue {
        /// The catalogue's folder; the demo's catalogue is written there first
        folder: PathBuf,
    },
}

pub(crate) fn run(args: &StandInArgs, ui: &Ui) -> Result<ExitCode, AppError> {
    match &args.which {
        StandIn::Saltwick { folder } => Ok(ExitCode::from(saltwick::run(folder))),
        StandIn::Kitehollow { folder } => Ok(ExitCode::from(kitehollow::run(folder))),
        StandIn::Mossgarrow { folder } => Ok(ExitCode::from(mossgarrow::run(folder))),
        StandIn::MossgarrowIndex { folder } => {
            let failed = |source| AppError::Io { what: folder.display().to_string(), source };
            mossgarrow::regions::compile(folder).map_err(failed)?;
            Ok(ExitCode::SUCCESS)
        }
        StandIn::Moor { folder } => {
            let failed = |source| AppError::Io { what: folder.display().to_string(), source };
            let port = super::demo::free_port().map_err(failed)?;
            moor::write_server(&folder.join("moor"), port).map_err(failed)?;
            moor::write_tweaks(&folder.join("tweaks")).map_err(failed)?;
            moor::write_item_host(&folder.join("item-host")).map_err(failed)?;
            super::demo::write_program(&folder.join("bin"), "mossgarrow").map_err(failed)?;
            super::demo::write_tool(&folder.join("bin"), "mossgarrow-index").map_err(failed)?;
            Ok(ExitCode::SUCCESS)
        }
        StandIn::Kites { folder } => {
            let failed = |source| AppError::Io { what: folder.display().to_string(), source };
            let ports =
                [super::demo::free_port().map_err(failed)?, super::demo::free_port().map_err(failed)?];
            kites::write_server(&folder.join("kites"), ports[0], ports[1]).map_err(failed)?;
            kites::write_downloads(&folder.join("files")).map_err(failed)?;
            super::demo::write_program(&folder.join("bin"), "kitehollow").map_err(failed)?;
            Ok(ExitCode::SUCCESS)
        }
        StandIn::Files { folder } => {
            let failed = |source| AppError::Io { what: folder.display().to_string(), source };
            let host = FileHost::start(folder.clone()).map_err(failed)?;
            ui.print(&format!("{}\n", host.at("")))?;
            loop {
                std::thread::park();
            }
        }
        StandIn::World { folder } => {
            let failed = |source| AppError::Io { what: folder.display().to_string(), source };
            std::fs::create_dir_all(folder).map_err(failed)?;
            let root = folder.canonicalize().map_err(failed)?;
            super::demo::build(&root).map_err(failed)?;
            Ok(ExitCode::SUCCESS)
        }
        StandIn::Catalogue { folder } => {
            let failed = |source| AppError::Io { what: folder.display().to_string(), source };
            quayside::write_catalogue(folder).map_err(failed)?;
            let host = CatalogueHost::start(folder.clone()).map_err(failed)?;
            ui.print(&format!("{}\n", host.address()))?;
            loop {
                std::thread::park();
            }
        }
    }
}
