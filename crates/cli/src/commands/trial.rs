//! `trial`.

use std::{process::ExitCode, time::Duration};

use clap::Args;
use serde::Serialize;
use yalotheca_app::{
    AppError, Purpose, Server,
    apply::{origin, settle_change, texts},
    findings::locked_state,
    plan::look,
    server::how_to_stop,
};
use yalotheca_core::{
    change::plan,
    diagnose::{ContentState, Trouble, Verdict},
    document::TextFile,
    game::Terms,
    id::{ContentId, TreePath},
};
use yalotheca_host::{
    catalogue::Sources,
    running,
    tree::Tree,
    trial::{Trial, TrialOptions, trial},
};

use crate::{
    args::Global,
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
    /// What the first start did, where there was another one after it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    first: Vec<String>,
    /// The terms' text, where the start failed for want of them.
    #[serde(skip_serializing_if = "Option::is_none")]
    terms: Option<String>,
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
        for line in &self.first {
            page.line(Role::Plain, line);
        }
        let after = match self.ready_after_ms.unwrap_or_default() {
            ms @ 0..1000 => format!("{ms} ms"),
            ms => format!("{}.{} s", ms / 1000, ms / 100 % 10),
        };
        match self.verdict {
            Verdict::Ready => {
                page.line(Role::Good, &format!("{}: ready after {after}, no problems.", self.server));
            }
            Verdict::ReadyWithTrouble => page
                .line(Role::Warn, &format!("{}: ready after {after}, but something is wrong.", self.server)),
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

pub(crate) fn run(args: &TrialArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let mut server = Server::open(Purpose::Change, &global.open(), ui)?;
    if let Some(running) = server.running() {
        return Err(AppError::Refused {
            what: format!("the server is running already (process {})", running.pid),
            hint: Some(how_to_stop(&running)),
        });
    }
    let mut first = Vec::new();
    let waits = waits(&server)?;
    // Where something waits for the first start, the server is not left running by it.
    let mut went = start(&server, args, args.keep && !waits, ui)?;
    if went.was_first {
        first.push("The first start made its files and ended by itself.".to_owned());
    }
    let lives = went.was_first || went.verdict != Verdict::Failed;
    if lives && waits {
        server = Server::open(Purpose::Change, &global.open(), ui)?;
        first.extend(set_pending(&server)?);
    }
    if lives && (went.was_first || waits) {
        server = Server::open(Purpose::Change, &global.open(), ui)?;
        went = start(&server, args, args.keep, ui)?;
    }
    for text in went.tail.iter_mut().chain(went.troubles.iter_mut().flat_map(|t| [&mut t.line, &mut t.says]))
    {
        *text = ui.hide(text);
    }
    let contents = server
        .control
        .lock
        .contents
        .iter()
        .filter_map(|locked| {
            let state = went.contents.remove(&locked.id)?;
            let version = locked.release.version.shown().to_owned();
            Some(ContentLine { id: locked.id.clone(), version, state })
        })
        .collect();
    ui.show(&TrialView {
        server: server.shown(),
        verdict: went.verdict,
        first,
        terms: server.game.terms.as_ref().and_then(|terms| shown_terms(&server, terms, &went.troubles)),
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

fn start(server: &Server, args: &TrialArgs, keep: bool, ui: &Ui) -> Result<Trial, AppError> {
    server.require_run_trust()?;
    if let Some(owner) = running::other_owner(&server.tree) {
        ui.warn(&format!(
            "You are root, and this server's folder belongs to user {owner}: files that the server writes now will belong to \
             root. To start it as its owner: sudo -u '#{owner}' yalotheca trial"
        ));
    }
    let waiting = ui.wait(&format!("Starting {}", server.shown()));
    let options = TrialOptions { keep, patience: Duration::from_secs(args.patience) };
    let mut on_line = |line: &str| {
        if ui.is_verbose() {
            ui.note(&format!("  {line}"));
        }
        waiting.heard(&ui.hide(line));
    };
    let scope = &server.survey.scope;
    let contents = server.control.lock.loaded(&server.control.wants.off);
    Ok(trial(&server.tree, &server.game, scope, &contents.contents, options, &mut on_line)?)
}

/// Returns whether settings wait for a file that only the server makes. No file is read for it.
fn waits(server: &Server) -> Result<bool, AppError> {
    let (desired, _) = locked_state(server)?;
    for registration in desired.registrations.iter().filter(|registration| registration.waits) {
        if server.tree.find(&registration.file)?.is_none() {
            return Ok(true);
        }
    }
    Ok(false)
}

/// Sets what waited for files that are there now. Where more than that is to be done, settle is left to do it.
fn set_pending(server: &Server) -> Result<Vec<String>, AppError> {
    let (desired, contents) = locked_state(server)?;
    let change = match plan(&desired, contents, &server.receipt, &look(server, &desired)?) {
        Ok(change) => change,
        Err(error) => return Ok(vec![format!("Nothing was set after the first start: {error}")]),
    };
    let mut says: Vec<String> = change
        .pending
        .iter()
        .map(|line| {
            format!("{} is still not there; {} wait for it.", line.path, count(line.settings, "setting"))
        })
        .collect();
    if change.steps.is_empty() {
        return Ok(says);
    }
    if !change.files.is_empty() {
        says.push("Settings wait for yalotheca settle, which has more to do here.".into());
        return Ok(says);
    }
    let set: usize = change.config.iter().map(|line| line.entries.len()).sum();
    let files: Vec<String> = change.config.iter().map(|line| line.path.to_string()).collect();
    let summary = format!("{} set after the first start", count(set, "setting"));
    let number = settle_change(
        server,
        &change,
        (texts(&server.control), &Sources::default()),
        origin(server, &summary, None),
    )?;
    says.push(format!(
        "{} could be set after the first start (change {number}), in {}; then it was started again.",
        count(set, "setting"),
        files.join(", ")
    ));
    Ok(says)
}

/// The terms' text, where the start failed for want of them.
fn shown_terms(server: &Server, terms: &Terms, troubles: &[Trouble]) -> Option<String> {
    let refused = |trouble: &Trouble| trouble.means.as_deref() == Some("terms not agreed");
    if !troubles.iter().any(refused) {
        return None;
    }
    let path = TreePath::new(&terms.place.file.render(&server.survey.scope).ok()?).ok()?;
    let bytes = server.tree.read(&path).ok()??;
    Some(TextFile::read(bytes).text().to_owned())
}
