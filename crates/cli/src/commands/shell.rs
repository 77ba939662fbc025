//! `completions` and `man`: what a shell and its reader need of us.

use std::{
    fs, io,
    path::{Path, PathBuf},
    process::ExitCode,
};

use clap::{Args, ValueEnum};
use clap_complete::env::Shells;
use serde::Serialize;

use crate::{
    ui::Ui,
    view::{Page, Role, View, count},
};
use yalotheca_app::AppError;

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

pub(crate) fn man(args: &ManArgs, command: &clap::Command, ui: &Ui) -> Result<ExitCode, AppError> {
    let failed = |source| AppError::Io { what: format!("writing into {}", args.into.display()), source };
    fs::create_dir_all(&args.into).map_err(failed)?;
    let mut whole = command.clone().disable_help_subcommand(true);
    // Each page has the options that every command takes.
    whole.build();
    let pages = write_pages(whole, "yalotheca", &args.into).map_err(failed)?;
    ui.show(&ManView { folder: args.into.clone(), pages })?;
    Ok(ExitCode::SUCCESS)
}

/// Writes the page of a command and those of its own commands; returns how many there are.
fn write_pages(command: clap::Command, name: &str, into: &Path) -> io::Result<usize> {
    let mut pages = 1;
    let shown = command.get_subcommands().filter(|own| !own.is_hide_set() && own.get_name() != "help");
    for own in shown.cloned() {
        let page = format!("{name}-{}", own.get_name());
        pages += write_pages(own, &page, into)?;
    }
    let command = command.disable_help_subcommand(true).display_name(name.to_owned());
    let mut text = Vec::new();
    clap_mangen::Man::new(command.name(name.to_owned())).render(&mut text)?;
    fs::write(into.join(format!("{name}.1")), text)?;
    Ok(pages)
}
