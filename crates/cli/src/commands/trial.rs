//! `trial`.

use std::{process::ExitCode, time::Duration};

use clap::Args;
use serde::Serialize;
use yalotheca_core::{
    diagnose::{ContentState, Trouble, Verdict},
    id::ContentId,
};
use yalotheca_host::trial::{TrialOptions, trial};

use crate::{
    args::Global,
    error::CommandError,
    session::Session,
    ui::Ui,
    view::{Cell, Page, Role, View, count},
};

/// Start the server, watch it, say how it went, and stop it.
#[derive(Debug, Args)]
pub(crate) struct TrialArgs {
    /// Leave the server running
    #[arg(long)]
    keep: bool,
    /// How many seconds to wait for the server to be ready
    #[arg(long, value_name = "SECONDS", default_value_t = 60)]
    patience: u64,
}

#[derive(Debug, Serialize)]
struct TrialView {
    server: String,
    verdict: Verdict,
    ready_after_ms: Option<u128>,
    port_answers: Option<bool>,
    troubles: Vec<Trouble>,
    contents: Vec<ContentLine>,
    ended_with: Option<i32>,
    left_running: Option<u32>,
    last_lines: Vec<String>,
    patience: u64,
}

#[derive(Debug, Serialize)]
struct ContentLine {
    id: ContentId,
    version: String,
    #[serde(flatten)]
    state: ContentState,
}

impl View for TrialView {
    fn view(&self, page: &mut Page) {
        let after = match self.ready_after_ms.unwrap_or_default() {
            ms @ 0..1000 => format!("{ms} ms"),
            ms => format!("{}.{} s", ms / 1000, ms / 100 % 10),
        };
        match self.verdict {
            Verdict::Ready => {
                page.line(Role::Good, &format!("{}: ready after {after}, nothing troubling.", self.server));
            }
            Verdict::ReadyWithTrouble => page
                .line(Role::Warn, &format!("{}: ready after {after}, but something is wrong.", self.server)),
            Verdict::Failed => {
                let why = match (self.ended_with, self.ready_after_ms) {
                    (Some(code), _) => format!("it ended with exit code {code}"),
                    (None, Some(_)) => "it said ready and is not".into(),
                    (None, None) => format!("it was not ready within {} s", self.patience),
                };
                page.line(Role::Bad, &format!("{}: the start failed; {why}.", self.server));
            }
        }
        if !self.troubles.is_empty() {
            page.head("What is wrong");
            troubles(page, &self.troubles);
        }
        contents(page, &self.contents);
        if self.verdict == Verdict::Failed && !self.last_lines.is_empty() {
            page.head("The log's last lines");
            for line in &self.last_lines {
                page.raw(&format!("  {line}"));
            }
        }
        if let Some(pid) = self.left_running {
            page.gap();
            page.line(Role::Plain, &format!("The server was left running (process {pid})."));
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
            page.item(Role::Bad, &trouble.says);
        }
        if group.len() > MOST {
            page.item(Role::Dim, &format!("and {} more like these (--json lists them)", group.len() - MOST));
        }
        if let Some(advice) = &group[0].advice {
            page.under(Role::Plain, advice);
        }
    }
}

fn contents(page: &mut Page, lines: &[ContentLine]) {
    let told: Vec<&ContentLine> = lines.iter().filter(|line| line.state != ContentState::Untold).collect();
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

pub(crate) fn run(args: &TrialArgs, global: &Global, ui: &Ui) -> Result<ExitCode, CommandError> {
    let session = Session::open(global, ui)?;
    if let Some(running) = session.running() {
        return Err(CommandError::Refused {
            what: format!("the server is running already (process {})", running.pid),
            hint: Some("stop it first; a trial starts it anew".into()),
        });
    }
    ui.note(&format!("Starting {} …", session.shown()));
    let lock = &session.control.lock;
    let options = TrialOptions { keep: args.keep, patience: Duration::from_secs(args.patience) };
    let mut on_line = |line: &str| {
        if ui.is_verbose() {
            ui.note(&format!("  {line}"));
        }
    };
    let scope = &session.survey.scope;
    let mut went = trial(session.tree.root(), &session.game, scope, &lock.contents, options, &mut on_line)?;
    let contents = lock
        .contents
        .iter()
        .filter_map(|locked| {
            let state = went.contents.remove(&locked.id)?;
            Some(ContentLine {
                id: locked.id.clone(),
                version: locked.release.version.shown().to_owned(),
                state,
            })
        })
        .collect();
    ui.show(&TrialView {
        server: session.shown(),
        verdict: went.verdict,
        ready_after_ms: went.ready_after.map(|after| after.as_millis()),
        port_answers: went.answers,
        troubles: went.troubles,
        contents,
        ended_with: went.ended,
        left_running: went.kept,
        last_lines: went.tail,
        patience: args.patience,
    })?;
    Ok(if went.verdict == Verdict::Ready { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}
