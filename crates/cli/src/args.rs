//! The command line.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};
use yalotheca_app::OpenOptions;

use crate::commands;

/// Tell it what a game server should run. It works out versions, dependencies and order, puts every file and every
/// configuration entry in place, starts the server to prove it, and can take any step back.
#[derive(Debug, Parser)]
#[command(
    name = "yalotheca",
    version,
    after_help = "Exit codes: 0 done, 1 problems found, 2 wrong use, 3 no versions that fit together, \
                  4 the network or a disk failed, 5 refused for safety."
)]
pub(crate) struct Cli {
    #[command(flatten)]
    pub(crate) global: Global,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// Options that every command takes.
#[derive(Debug, Clone, Default, Args)]
#[expect(clippy::struct_excessive_bools, reason = "each is an option of its own")]
pub(crate) struct Global {
    /// The folder with yalotheca.toml (or the server's folder, for adopt); else this folder or one above it
    #[arg(long, global = true, value_name = "FOLDER", help_heading = "Everywhere")]
    pub(crate) at: Option<PathBuf>,
    /// Print the result as JSON
    #[arg(long, global = true, help_heading = "Everywhere")]
    pub(crate) json: bool,
    /// Go ahead without asking (accepts no terms)
    #[arg(long, short, global = true, help_heading = "Everywhere")]
    pub(crate) yes: bool,
    /// Use no network, only what was fetched before
    #[arg(long, global = true, help_heading = "Everywhere")]
    pub(crate) offline: bool,
    /// A file with the password of an archive
    #[arg(long, global = true, value_name = "FILE", help_heading = "Everywhere")]
    pub(crate) password_file: Option<PathBuf>,
    /// Print the result and errors only
    #[arg(long, short, global = true, help_heading = "Everywhere")]
    pub(crate) quiet: bool,
    /// Print more of what happens
    #[arg(long, short, global = true, help_heading = "Everywhere")]
    pub(crate) verbose: bool,
}

impl Global {
    /// Returns how the server is opened.
    pub(crate) fn open(&self) -> OpenOptions {
        let words: Vec<String> =
            std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned()).collect();
        OpenOptions {
            at: self.at.clone(),
            offline: self.offline,
            password_file: self.password_file.clone(),
            command: format!("yalotheca {}", without_places(&words).join(" ")),
        }
    }
}

/// `--at FOLDER` and how the answer was given say nothing in a history.
fn without_places(words: &[String]) -> Vec<String> {
    const MANNERS: &[&str] = &["--yes", "-y", "--quiet", "-q", "--json", "--verbose", "-v", "--offline"];
    let mut kept = Vec::new();
    let mut words = words.iter();
    while let Some(word) = words.next() {
        if word == "--at" {
            words.next();
        } else if !word.starts_with("--at=") && !MANNERS.contains(&word.as_str()) {
            // As it was typed: a word with spaces in it is one.
            kept.push(if word.contains(char::is_whitespace) { format!("'{word}'") } else { word.clone() });
        }
    }
    kept
}

/// The commands.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Take charge of a server's folder, empty or years old; changes nothing on it
    Adopt(commands::adopt::AdoptArgs),
    /// List what is installed, in which version and state, and whether something newer fits
    List(commands::list::ListArgs),
    /// Look through the catalogues, and see what fits this server
    Find(commands::find::FindArgs),
    /// Tell all about one content and which of its releases fit
    About(commands::about::AboutArgs),
    /// Install contents
    Add(commands::add::AddArgs),
    /// Remove contents
    Drop(commands::drop::DropArgs),
    /// Switch contents off without removing their files
    Off(commands::off::OffArgs),
    /// Switch contents on again
    On(commands::off::OnArgs),
    /// Update contents
    Update(commands::update::UpdateArgs),
    /// Say why a content is here, and what keeps it from being newer
    Why(commands::why::WhyArgs),
    /// Show the load order with its reasons, or ask for another place in it
    Order(commands::order::OrderArgs),
    /// Show which maps are here and what is played; or change that
    Maps(commands::maps::MapsArgs),
    /// Show what can be set, and set it; what is set survives updates
    Settings(commands::settings::SettingsArgs),
    /// Make a modpack of what is here
    Modpack(commands::modpack::ModpackArgs),
    /// Show every link in the lineup, and whether it still gives the file
    Links(commands::links::LinksArgs),
    /// Show what settle would do
    Preview(commands::settle::PreviewArgs),
    /// Make the server match yalotheca.toml, all or nothing
    Settle(commands::settle::SettleArgs),
    /// Start the server, watch it, say how it went, and stop it
    Trial(commands::trial::TrialArgs),
    /// Stop the server that a trial has left running
    Stop(commands::stop::StopArgs),
    /// Verify everything that can be verified without starting
    Check,
    /// Do what check suggests, as one change
    Fix(commands::fix::FixArgs),
    /// Take back the last change, or all changes back to one of them
    Undo(commands::undo::UndoArgs),
    /// Do again what undo has taken back last
    Redo(commands::undo::RedoArgs),
    /// Rebuild a missing or broken lock or receipt; changes nothing else on the server
    Repair(commands::repair::RepairArgs),
    /// List what was settled, when and by whom
    History,
    /// List, add and drop catalogues; sweep the cache of what they gave
    Catalogue(commands::catalogue::CatalogueArgs),
    /// List, show and test game definitions
    Game(commands::game::GameArgs),
    /// Print what lets a shell complete commands and names
    Completions(commands::shell::CompletionsArgs),
    /// Write the manual pages
    Man(commands::shell::ManArgs),
    /// Walk through the whole story on a made-up server
    Demo(commands::demo::DemoArgs),
    /// Run a stand-in of the demo
    #[command(hide = true)]
    StandIn(commands::stand_in::StandInArgs),
}
