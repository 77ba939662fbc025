//! `completions` and `man`: what a shell and its reader need of us.

use std::{collections::BTreeSet, fs, path::PathBuf, process::ExitCode};

use clap::{Args, CommandFactory, ValueEnum};
use clap_complete::{CompletionCandidate, env::Shells};
use serde::Serialize;
use yalotheca_host::control::Control;

use crate::{
    args::{Cli, Global},
    ui::Ui,
    view::{Page, Role, View, count},
};
use yalotheca_app::{AppError, Purpose, Server, plan::open_settings};

/// Print what lets a shell complete commands, options and names; the shell asks this program as you type.
#[derive(Debug, Args)]
pub(crate) struct CompletionsArgs {
    /// The shell
    shell: ShellName,
}

/// Write the manual pages.
#[derive(Debug, Args)]
pub(crate) struct ManArgs {
    /// The folder for them: man1 below a folder in MANPATH
    #[arg(long, value_name = "FOLDER")]
    into: PathBuf,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum ShellName {
    Bash,
    Zsh,
    Fish,
    Powershell,
    Elvish,
}

#[derive(Debug, Serialize)]
struct ManView {
    folder: PathBuf,
    pages: usize,
}

impl View for ManView {
    fn view(&self, page: &mut Page) {
        let pages = count(self.pages, "manual page");
        page.line(Role::Good, &format!("Wrote {pages} into {}.", self.folder.display()));
    }
}

pub(crate) fn completions(args: &CompletionsArgs, ui: &Ui) -> Result<ExitCode, AppError> {
    let failed = |source| AppError::Io { what: "writing the completions".into(), source };
    let name = match args.shell {
        ShellName::Bash => "bash",
        ShellName::Zsh => "zsh",
        ShellName::Fish => "fish",
        ShellName::Powershell => "powershell",
        ShellName::Elvish => "elvish",
    };
    let mut text = Vec::new();
    if let Some(shell) = Shells::builtins().completer(name) {
        let own = "yalotheca";
        shell.write_registration(VARIABLE, own, own, own, &mut text).map_err(failed)?;
    }
    ui.print(&String::from_utf8_lossy(&text))?;
    Ok(ExitCode::SUCCESS)
}

/// The environment variable by which a shell asks for completions.
pub(crate) const VARIABLE: &str = "YALOTHECA_COMPLETE";

pub(crate) fn man(args: &ManArgs, ui: &Ui) -> Result<ExitCode, AppError> {
    let failed = |source| AppError::Io { what: format!("writing into {}", args.into.display()), source };
    fs::create_dir_all(&args.into).map_err(failed)?;
    let mut pages = 0;
    let command = Cli::command();
    let shown = command.get_subcommands().filter(|command| !command.is_hide_set());
    for one in shown.cloned().chain([command.clone().disable_help_subcommand(true)]) {
        let is_whole = one.get_name() == "yalotheca";
        let name = if is_whole { "yalotheca".to_owned() } else { format!("yalotheca-{}", one.get_name()) };
        let mut text = Vec::new();
        clap_mangen::Man::new(one.name(name.clone())).render(&mut text).map_err(failed)?;
        fs::write(args.into.join(format!("{name}.1")), text).map_err(failed)?;
        pages += 1;
    }
    ui.show(&ManView { folder: args.into.clone(), pages })?;
    Ok(ExitCode::SUCCESS)
}

/// Contents that are installed, and members of packs.
pub(crate) fn installed() -> Vec<CompletionCandidate> {
    names(|control| {
        let contents = control.lock.contents.iter();
        contents
            .flat_map(|locked| {
                let members = locked.release.members.iter().map(|member| member.id.to_string());
                std::iter::once(locked.id.to_string()).chain(members)
            })
            .collect()
    })
}

/// What is switched off.
pub(crate) fn switched_off() -> Vec<CompletionCandidate> {
    names(|control| control.wants.off.keys().map(ToString::to_string).collect())
}

/// Catalogues of this server.
pub(crate) fn catalogues() -> Vec<CompletionCandidate> {
    names(|control| control.wants.catalogues.iter().map(|catalogue| catalogue.name.clone()).collect())
}

/// The server in whose folder the shell is; nothing is said to the person who types.
fn server() -> Option<Server> {
    let global = Global { quiet: true, offline: true, ..Global::default() };
    Server::open(Purpose::Look, &global.open(), &Ui::new(&global)).ok()
}

/// Maps of this server.
pub(crate) fn maps() -> Vec<CompletionCandidate> {
    let names = server().and_then(|server| {
        let rule = server.game.maps.as_ref()?;
        let maps = yalotheca_app::maps::list(&server, rule, true).ok()?;
        Some(maps.into_iter().map(|map| map.name).collect::<Vec<_>>())
    });
    names.unwrap_or_default().into_iter().map(CompletionCandidate::new).collect()
}

/// Who has settings on this server.
pub(crate) fn owners() -> Vec<CompletionCandidate> {
    let all = server().and_then(|server| open_settings(&server).ok()).unwrap_or_default();
    let names: BTreeSet<String> = all.into_iter().map(|one| one.owner).collect();
    names.into_iter().map(CompletionCandidate::new).collect()
}

/// The places of the settings of whoever was typed before.
pub(crate) fn places() -> Vec<CompletionCandidate> {
    let typed: Vec<String> = std::env::args().collect();
    let owner = typed.iter().skip_while(|word| *word != "settings").nth(1);
    let Some((owner, server)) = owner.zip(server()) else { return Vec::new() };
    let all = open_settings(&server).unwrap_or_default();
    let own = all.iter().filter(|one| one.owner == *owner);
    own.flat_map(|one| one.known().places()).map(|at| CompletionCandidate::new(format!("{at}="))).collect()
}

/// Names out of the control folder in which the shell is. Nothing is run and nothing is asked for that.
fn names(of: impl FnOnce(&Control) -> Vec<String>) -> Vec<CompletionCandidate> {
    let found = Control::find(std::path::Path::new("."), true).ok();
    let control = found.and_then(|(folder, _)| Control::open(&folder, false).ok());
    control.as_ref().map(of).unwrap_or_default().into_iter().map(CompletionCandidate::new).collect()
}
