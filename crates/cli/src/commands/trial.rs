//! `trial`.

use std::{cell::RefCell, process::ExitCode};

use clap::Args;
use yalotheca_app::{
    AppError,
    ops::trial::{Heard, TrialReport, TrialRequest, TriedContent, trial},
};
use yalotheca_core::{
    diagnose::{ContentState, Trouble, Verdict},
    id::ContentId,
};

use crate::{
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, count},
};

/// Start the server, watch it, say how it went, and stop it.
#[derive(Debug, Args)]
pub(crate) struct TrialArgs {
    /// Leave the server running
    #[arg(long)]
    keep: bool,
    /// Do not start the server: follow its log while you start it yourself, in its panel say
    #[arg(long)]
    watch: bool,
    /// The log to follow, below the server's folder; else the one that the game definition names
    #[arg(long, value_name = "FILE")]
    log: Option<String>,
    /// How many seconds to wait for the server to be ready
    #[arg(long, value_name = "SECONDS", default_value_t = 60)]
    patience: u64,
}

impl View for TrialReport {
    fn view(&self, page: &mut Page) {
        for line in &self.first {
            page.line(Role::Plain, line);
        }
        let after = match self.ready_after_ms.unwrap_or_default() {
            // A log that is followed says so all at once.
            0 => String::new(),
            ms @ 1..1000 => format!(" after {ms} ms"),
            ms => format!(" after {}.{} s", ms / 1000, ms / 100 % 10),
        };
        match self.verdict {
            Verdict::Ready => {
                page.line(Role::Good, &format!("{}: ready{after}, no problems.", self.server));
            }
            Verdict::ReadyWithTrouble => {
                page.line(Role::Warn, &format!("{}: ready{after}, but something is wrong.", self.server));
            }
            Verdict::Failed => {
                let why = match (self.ended_with, self.ready_after_ms) {
                    (Some(code), _) => format!("it ended with exit code {code}"),
                    (None, Some(_)) => "it said that it was ready, but it was not".into(),
                    (None, None) => format!("it was not ready within {} s", self.patience),
                };
                page.line(Role::Bad, &format!("{}: the start failed; {why}.", self.server));
            }
        }
        if !self.troubles.is_empty() {
            page.head("What is wrong");
            troubles(page, &self.troubles);
        }
        if let Some(terms) = &self.terms {
            const MOST: usize = 30;
            page.head("The terms");
            for line in terms.lines().take(MOST) {
                page.raw(&format!("  {line}"));
            }
        }
        contents(page, &self.contents);
        if self.verdict == Verdict::Failed && !self.last_lines.is_empty() {
            page.head("The log's last lines");
            for line in &self.last_lines {
                page.cut(2, Role::Plain, line);
            }
        }
        if let Some(pid) = self.left_running {
            page.gap();
            page.line(
                Role::Plain,
                &format!("The server was left running (process {pid}). yalotheca stop ends it."),
            );
        }
    }
}

/// Troubles of one meaning stand together, and what can be done about them stands below them once.
fn troubles(page: &mut Page, troubles: &[Trouble]) {
    const MOST: usize = 4;
    let mut groups: Vec<Vec<&Trouble>> = Vec::new();
    for trouble in troubles {
        let alike = |group: &&mut Vec<&Trouble>| {
            trouble.means.is_some() && group[0].means == trouble.means && group[0].advice == trouble.advice
        };
        match groups.iter_mut().find(alike) {
            Some(group) => group.push(trouble),
            None => groups.push(vec![trouble]),
        }
    }
    for group in groups {
        for trouble in group.iter().take(MOST) {
            let times = if trouble.times > 1 { format!(" ({} times)", trouble.times) } else { String::new() };
            page.item(Role::Bad, &format!("{}{times}", trouble.says));
        }
        if group.len() > MOST {
            page.item(Role::Dim, &format!("and {} more like these (--json lists them)", group.len() - MOST));
        }
        if let Some(advice) = &group[0].advice {
            page.under(Role::Plain, advice);
        }
    }
}

fn contents(page: &mut Page, lines: &[TriedContent]) {
    let told: Vec<&TriedContent> = lines.iter().filter(|line| line.state != ContentState::Untold).collect();
    if told.is_empty() {
        return;
    }
    page.head("Contents");
    let rows: Vec<Vec<Cell>> = told
        .into_iter()
        .map(|line| {
            let (role, state) = match &line.state {
                ContentState::Untold => (Role::Dim, String::new()),
                ContentState::Loaded => (Role::Good, "loaded".to_owned()),
                ContentState::Failed { why } => (Role::Bad, format!("failed: {why}")),
                ContentState::NotSeen { members } if members.is_empty() => {
                    (Role::Warn, "not seen in the log".into())
                }
                ContentState::NotSeen { members } => {
                    let names: Vec<&str> = members.iter().take(4).map(ContentId::as_str).collect();
                    let more = members.len().saturating_sub(4);
                    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
                    let text =
                        format!("{} not seen: {}{more}", count(members.len(), "member"), names.join(", "));
                    (Role::Warn, text)
                }
            };
            vec![
                Cell::new(Role::Name, line.id.to_string()),
                Cell::plain(line.version.clone()),
                Cell::new(role, state),
            ]
        })
        .collect();
    page.table(&rows);
}

pub(crate) fn run(args: &TrialArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let request =
        TrialRequest { keep: args.keep, patience: args.patience, watches: args.watch, log: args.log.clone() };
    let waiting = RefCell::new(None);
    let hear = |heard: Heard<'_>| match heard {
        Heard::Starting { server, owner, again } => {
            if let Some(owner) = owner
                && !again
            {
                ui.warn(&format!(
                    "You are root, and this server's folder belongs to user {owner}: files that the server writes now will belong \
                     to root. To start it as its owner: sudo -u '#{owner}' yalotheca trial"
                ));
            }
            let again = if again { " again" } else { "" };
            drop(waiting.replace(Some(ui.wait(&format!("Starting {server}{again}")))));
        }
        Heard::Watching { server, log } => {
            ui.note(&format!("Start {server} now, the way you do it usually."));
            drop(waiting.replace(Some(ui.wait(&format!("Following {log}")))));
        }
        Heard::Line(line) => {
            if ui.is_verbose() {
                ui.note(&format!("  {line}"));
            }
            if let Some(waiting) = &*waiting.borrow() {
                waiting.heard(&ui.hide(line));
            }
        }
        Heard::Over => drop(waiting.replace(None)),
    };
    let mut report = trial(&global.open(), ui, &request, &hear)?;
    let texts = report.troubles.iter_mut().flat_map(|trouble| [&mut trouble.line, &mut trouble.says]);
    for text in report.last_lines.iter_mut().chain(texts) {
        *text = ui.hide(text);
    }
    ui.show(&report)?;
    Ok(if report.verdict == Verdict::Ready { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}
