//! `list`.

use std::{collections::BTreeMap, process::ExitCode};

use clap::Args;
use serde::Serialize;
use yalotheca_app::{
    AppError, Purpose, Server,
    plan::{Fresh, reasons},
};
use yalotheca_core::{
    control::Locked,
    id::ContentId,
    solve::{Answer, Selection},
    version::ReleaseVersion,
};

use crate::{
    args::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, count},
};

/// List what is installed, in which version and state, who wants it, and whether something newer fits.
#[derive(Debug, Args)]
pub(crate) struct ListArgs {
    /// Ask the catalogues now, instead of going by what was fetched last
    #[arg(long)]
    fresh: bool,
}

/// What a content does on the server.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
enum State {
    On,
    /// Some members of a pack are off.
    PartlyOn,
    Off,
    /// It is for players only.
    Player,
}

#[derive(Debug, Serialize)]
struct Line {
    id: ContentId,
    version: ReleaseVersion,
    kind: String,
    state: State,
    /// Why it is here, or why it is off.
    why: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    members_off: Vec<ContentId>,
    /// The newest version that fits everything else.
    #[serde(skip_serializing_if = "Option::is_none")]
    newer: Option<ReleaseVersion>,
}

#[derive(Debug, Serialize)]
struct ListView {
    server: String,
    contents: Vec<Line>,
    /// What is in yalotheca.toml and not installed yet.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    not_installed: Vec<ContentId>,
}

impl View for ListView {
    fn view(&self, page: &mut Page) {
        let off = self.contents.iter().filter(|line| line.state == State::Off).count();
        let off = if off == 0 { String::new() } else { format!(", {off} of them off") };
        page.line(Role::Head, &format!("{}: {}{off}", self.server, count(self.contents.len(), "content")));
        page.gap();
        let rows: Vec<Vec<Cell>> = self.contents.iter().map(row).collect();
        page.table(&rows);
        if !self.not_installed.is_empty() {
            page.gap();
            let names: Vec<&str> = self.not_installed.iter().map(ContentId::as_str).collect();
            page.label(Role::Warn, "Not installed yet", &names.join(", "));
        }
    }
}

fn row(line: &Line) -> Vec<Cell> {
    let state = match line.state {
        State::On => Cell::new(Role::Good, "on"),
        State::PartlyOn => Cell::new(Role::Warn, "partly on"),
        State::Off => Cell::new(Role::Dim, "off"),
        State::Player => Cell::new(Role::Dim, "players only"),
    };
    let mut why = line.why.clone();
    if !line.members_off.is_empty() {
        let names: Vec<&str> = line.members_off.iter().map(ContentId::as_str).collect();
        let semicolon = if why.is_empty() { "" } else { "; " };
        why = format!("{why}{semicolon}off: {}", names.join(", "));
    }
    let newer = line.newer.as_ref().map_or_else(String::new, |version| format!("{version} fits"));
    vec![
        Cell::new(Role::Name, line.id.to_string()),
        Cell::plain(line.version.shown()),
        Cell::plain(line.kind.clone()),
        state,
        Cell::new(Role::Good, newer),
        Cell::new(Role::Dim, why),
    ]
}

pub(crate) fn run(args: &ListArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    // Without being asked to, it waits for no network.
    let global = Global { offline: global.offline || !args.fresh, ..global.clone() };
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let control = &server.control;
    let newer = newer(&server, args.fresh, ui)?;
    let mut reasons = reasons(&control.lock, &control.wants.wants);
    let mut lines: Vec<Line> = control
        .lock
        .contents
        .iter()
        .map(|locked| {
            let why = reasons.remove(&locked.id).unwrap_or_default();
            line(&server, locked, why, newer.get(&locked.id))
        })
        .collect();
    lines.sort_by(|a, b| a.id.cmp(&b.id));
    let locked = control.lock.by_id();
    let not_installed = control.wants.wants.keys().filter(|id| !locked.contains_key(id)).cloned().collect();
    ui.show(&ListView { server: server.shown(), contents: lines, not_installed })?;
    Ok(ExitCode::SUCCESS)
}

fn line(server: &Server, locked: &Locked, why: String, newer: Option<&ReleaseVersion>) -> Line {
    let off = &server.control.wants.off;
    let release = &locked.release;
    let members = release.members.iter().filter(|member| off.contains_key(&member.id));
    let members_off: Vec<ContentId> = members.map(|member| member.id.clone()).collect();
    let state = if locked.off {
        State::Off
    } else if release.side == yalotheca_core::catalogue::Side::Player {
        State::Player
    } else if members_off.is_empty() {
        State::On
    } else {
        State::PartlyOn
    };
    let why = match off.get(&locked.id) {
        Some(reason) if locked.off && !reason.is_empty() => reason.clone(),
        _ => why,
    };
    Line {
        id: locked.id.clone(),
        version: release.version.clone(),
        kind: release.kind.clone(),
        state,
        why,
        members_off,
        newer: newer.filter(|newer| **newer > release.version).cloned(),
    }
}

/// What an update would choose; nothing where that is not known.
fn newer(server: &Server, is_asked: bool, ui: &Ui) -> Result<Selection, AppError> {
    let catalogues = server.catalogues();
    catalogues.set_fresh(&Fresh::All);
    let mut wants = server.control.wants.wants.clone();
    wants.retain(|id, _| !server.control.wants.off.contains_key(id));
    let chosen = match catalogues.solve(&server.survey.platform, &wants, &BTreeMap::new()) {
        Ok(Answer::Lineup(selection)) => return Ok(selection),
        Ok(_) => return Ok(Selection::new()),
        Err(error) => error,
    };
    if is_asked {
        return Err(chosen);
    }
    ui.note("What is newer is not known here; yalotheca list --fresh asks the catalogues.");
    Ok(Selection::new())
}
