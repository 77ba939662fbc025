//! The command line.

use clap::{Parser, Subcommand};

use crate::{commands, global::Global};

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

/// The commands.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Take charge of a server's folder, empty or years old; changes nothing on it
    Adopt(commands::adopt::AdoptArgs),
    /// List what is installed, in which version and state, and whether something newer fits
    List(commands::list::ListArgs),
    /// Look through the catalogues, and see what fits this server
    Find(commands::find::FindArgs),
    /// Show everything about one content, and which of its releases fit this server
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
    /// Show the maps and what is played, or change it
    Maps(commands::maps::MapsArgs),
    /// Show or change the resource pack that players download
    Players(commands::players::PlayersArgs),
    /// Merge resource packs into one
    Merge(commands::merge::MergeArgs),
    /// Join the server as a player, and say whether the player is admitted
    Rehearse(commands::rehearse::RehearseArgs),
    /// Tell players what they need, and from where
    Handout(commands::handout::HandoutArgs),
    /// Build and publish the web folder from which players download files
    Mirror(commands::mirror::MirrorArgs),
    /// Show and change settings; what you set survives updates
    Settings(commands::settings::SettingsArgs),
    /// Make a modpack of what is installed
    Modpack(commands::modpack::ModpackArgs),
    /// Show the keys that the server accepts, and whether the parts of contents are signed by them
    Keys,
    /// Show the assets that several contents have under one name, or decide whose counts
    Clashes(commands::clashes::ClashesArgs),
    /// List the download links of what is installed, and whether they still give the files
    Links(commands::links::LinksArgs),
    /// Find files and folders anywhere in the server's folder by name
    Where(commands::where_is::WhereArgs),
    /// Show what settle would do
    Preview(commands::settle::PreviewArgs),
    /// Make the server match yalotheca.toml, all or nothing
    Settle(commands::settle::SettleArgs),
    /// Start the server, watch it, say how it went, and stop it
    Trial(commands::trial::TrialArgs),
    /// Start the server, watch that, and leave it running
    Start,
    /// Stop the server: one that start or a trial left running, or by the stop command of [server.process]
    Stop(commands::stop::StopArgs),
    /// Stop the server, if it runs, and start it
    Restart,
    /// Show the end of the server's log, with what its lines mean
    Log(commands::log::LogArgs),
    /// Tell whether the server runs, and who plays
    Status,
    /// Send commands to the running server
    Console(commands::console::ConsoleArgs),
    /// Find out which contents make the server fail
    Isolate(commands::isolate::IsolateArgs),
    /// Find out what is wrong, without starting the server
    Check(commands::check::CheckArgs),
    /// Do what check suggests, as one change
    Fix(commands::fix::FixArgs),
    /// Take back the last change, or all changes back to one of them
    Undo(commands::undo::UndoArgs),
    /// Redo what was undone last
    Redo(commands::undo::RedoArgs),
    /// Rebuild a missing or broken lock or receipt; changes nothing else on the server
    Repair(commands::repair::RepairArgs),
    /// List what was changed, when and by whom
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
