//! `game`.

use std::{collections::BTreeMap, path::PathBuf, process::ExitCode};

use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates;
use yalotheca_app::{
    AppError, Prompt,
    ops::definitions::{
        GameList, GameReport, GameText, Tested, TrustReport, TweakReport, list_definitions, programs,
        show_definition, test_definition,
    },
};

use super::apply::folder;
use crate::{
    complete,
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, count},
};

/// List, show and test game definitions.
#[derive(Debug, Args)]
pub(crate) struct GameArgs {
    #[command(subcommand)]
    act: GameAct,
}

#[derive(Debug, Subcommand)]
enum GameAct {
    /// List the definitions that are known
    List,
    /// Print a definition
    Show {
        /// The definition's name
        #[arg(add = ArgValueCandidates::new(complete::games))]
        name: String,
    },
    /// Show what a definition would run for this server, word for word, and allow exactly that
    Trust {
        /// The definition's name
        #[arg(add = ArgValueCandidates::new(complete::games))]
        name: String,
    },
    /// Test a definition, or a tweak, without a server
    Check {
        /// The definition's file, or a tweak's
        file: PathBuf,
        /// A server's folder on which to try it; nothing there is changed
        #[arg(long, value_name = "FOLDER")]
        on: Option<PathBuf>,
    },
}

impl View for GameList {
    fn view(&self, page: &mut Page) {
        let rows: Vec<Vec<Cell>> = self
            .games
            .iter()
            .map(|game| {
                vec![
                    Cell::new(Role::Name, game.name.clone()),
                    Cell::plain(game.title.clone().unwrap_or_else(|| "(broken; see game check)".into())),
                    Cell::new(Role::Dim, game.from.clone()),
                ]
            })
            .collect();
        page.table(&rows);
    }
}

impl View for GameText {
    fn view(&self, page: &mut Page) {
        for line in self.text.lines() {
            page.raw(line);
        }
    }
}

impl View for TrustReport {
    fn view(&self, page: &mut Page) {
        let text = if self.trusted {
            format!("Allowed. If {}, a value or the program changes, you will be asked again.", self.name)
        } else {
            "Not allowed; nothing will be run.".into()
        };
        page.line(Role::Plain, &text);
    }
}

impl View for GameReport {
    fn view(&self, page: &mut Page) {
        let kinds = format!("{}: {}", count(self.kinds.len(), "content kind"), self.kinds.join(", "));
        page.line(Role::Good, &format!("{}: the definition {} is good; {kinds}.", self.file, self.name));
        let Some(on) = &self.on else { return };
        let word = if on.recognised { "recognised" } else { "not recognised" };
        page.head(&format!("The folder is {word}"));
        let pairs = |map: &BTreeMap<String, String>| -> Vec<Vec<Cell>> {
            map.iter()
                .map(|(name, text)| vec![Cell::new(Role::Name, name.clone()), Cell::plain(text.clone())])
                .collect()
        };
        page.head("Values");
        page.table(&pairs(&on.values));
        page.head("Platform");
        page.table(&pairs(&on.platform));
        page.head("Contents");
        for content in &on.contents {
            page.item(Role::Plain, content);
        }
        if on.contents.is_empty() {
            page.item(Role::Plain, "none");
        }
        if !on.unreadable.is_empty() || !on.strangers.is_empty() {
            page.head("Not recognised");
        }
        for unreadable in &on.unreadable {
            page.item(Role::Warn, unreadable);
        }
        for stranger in &on.strangers {
            page.item(Role::Plain, stranger);
        }
    }
}

pub(crate) fn run(args: &GameArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let at = folder(global.at.as_ref());
    match &args.act {
        GameAct::List => ui.show(&list_definitions(&at)?)?,
        GameAct::Show { name } => ui.show(&show_definition(&at, name)?)?,
        GameAct::Trust { name } => {
            let programs = programs(&at, name)?;
            let commands = programs.commands();
            ui.warn(&format!("The definition {name} would run this for the server:"));
            for command in &commands {
                ui.warn(&format!("  {command}"));
            }
            let trusted = ui.confirm("Allow exactly this?")?;
            if trusted {
                programs.allow()?;
            }
            ui.show(&TrustReport { name: name.clone(), commands, trusted })?;
        }
        GameAct::Check { file, on } => match test_definition(&at, file, on.as_ref())? {
            Tested::Game(report) => ui.show(&report)?,
            Tested::Tweak(report) => ui.show(&report)?,
        },
    }
    Ok(ExitCode::SUCCESS)
}

impl View for TweakReport {
    fn view(&self, page: &mut Page) {
        let many = count(self.fragments.len(), "fragment");
        page.line(Role::Good, &format!("{}: the tweak {} is good; {many}.", self.file, self.id));
        if !self.parameters.is_empty() {
            page.head("Parameters");
            let row = |(name, takes, help): &(String, String, String)| {
                vec![
                    Cell::new(Role::Name, name.clone()),
                    Cell::plain(takes.clone()),
                    Cell::new(Role::Dim, help.clone()),
                ]
            };
            page.table(&self.parameters.iter().map(row).collect::<Vec<_>>());
        }
        page.head("What it writes");
        let row = |(verb, place): &(String, String)| {
            vec![Cell::plain(verb.clone()), Cell::new(Role::Name, place.clone())]
        };
        page.table(&self.fragments.iter().map(row).collect::<Vec<_>>());
    }
}
