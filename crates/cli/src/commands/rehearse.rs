//! `rehearse`: joins the server as a player.

use std::{path::PathBuf, process::ExitCode};

use clap::Args;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::rehearse::{RehearsalReport, RehearsalRequest, RehearsalStep, StepOutcome, rehearse},
};

use crate::{
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, advice::in_words},
};

/// Join the server as a player's game does, and say whether the player is admitted.
#[derive(Debug, Args)]
pub(crate) struct RehearseArgs {
    /// A player's folder; without it the player has what the handout lists, and downloads the rest
    #[arg(long = "as", value_name = "FOLDER")]
    player: Option<PathBuf>,
}

fn word(outcome: StepOutcome) -> (Role, &'static str) {
    match outcome {
        StepOutcome::Good => (Role::Good, "has"),
        StepOutcome::Without => (Role::Warn, "lacks"),
        StepOutcome::TurnedAway => (Role::Bad, "lacks"),
    }
}

impl View for RehearsalReport {
    fn view(&self, page: &mut Page) {
        /// How many steps that went well are listed; JSON has all of them.
        const MOST: usize = 20;
        let who = match &self.player {
            Some(folder) => format!("A player with {}", folder.display()),
            None => "A new player".into(),
        };
        page.line(Role::Head, &format!("{who} joins {} on port {}", self.server, self.port));
        let (good, wrong): (Vec<_>, Vec<_>) =
            self.steps.iter().partition(|step| step.outcome == StepOutcome::Good);
        let row = |step: &&RehearsalStep| {
            let (role, word) = word(step.outcome);
            vec![
                Cell::new(role, word),
                Cell::plain(step.what.as_str()),
                Cell::new(Role::Name, step.name.clone()),
                Cell::plain(step.says.as_str()),
            ]
        };
        let rows: Vec<Vec<Cell>> = wrong.iter().map(row).chain(good.iter().take(MOST).map(row)).collect();
        page.table(&rows);
        if good.len() > MOST {
            page.line(Role::Dim, &format!("  and {} more that the player has", good.len() - MOST));
        }
        page.gap();
        match &self.turned_away {
            Some(why) => page.line(Role::Bad, &format!("Turned away: {why}.")),
            None if wrong.is_empty() => page.line(Role::Good, "Admitted."),
            None => page.line(Role::Warn, "Admitted, but without something that the server offers."),
        }
        let mut said = Vec::new();
        for fix in wrong.iter().filter_map(|step| step.fix.as_ref()) {
            let text = in_words(fix);
            if !said.contains(&text) {
                page.line(Role::Dim, &format!("To do: {text}"));
                said.push(text);
            }
        }
    }
}

pub(crate) fn run(args: &RehearseArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let report = rehearse(&server, &RehearsalRequest { player: args.player.clone() })?;
    let is_admitted = report.turned_away.is_none();
    ui.show(&report)?;
    Ok(if is_admitted { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}
