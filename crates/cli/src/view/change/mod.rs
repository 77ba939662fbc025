//! A planned or settled change, as a result and as text.

mod config;
pub(crate) mod restart;

use serde::Serialize;
use yalotheca_app::words::ServerName;
use yalotheca_app::{
    apply::{ChangedFile, Prepared},
    live::{LiveOutcome, LiveState},
    ops::{trial::TrialReport, undo::TakenBack, update::HeldBackContent},
    pause::Restart,
    plan::{Companion, ContentAct, ContentLine, totals},
};
use yalotheca_core::{
    change::{ConfigLine, FileAct, FileLine, PendingLine},
    id::{ContentId, TreePath},
    order::GaveWay,
    reference::Break,
    route::LeftOut,
};

use super::{Cell, Page, Role, View, count, size};
use crate::ui::Ui;

/// What a change does, or did.
#[derive(Debug, Default, Serialize)]
#[expect(clippy::struct_excessive_bools, reason = "each says something else of it")]
pub(crate) struct ChangeView {
    /// The server.
    pub(crate) server: ServerName,
    /// Whether it was done.
    pub(crate) settled: bool,
    /// What is written into yalotheca.toml.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) noted: Vec<String>,
    /// The settle's number, where it was done.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) number: Option<u32>,
    /// What it puts right.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) fixes: Vec<String>,
    /// The contents.
    pub(crate) contents: Vec<ContentLine>,
    /// The files.
    pub(crate) files: Vec<FileLine>,
    /// The configuration files.
    pub(crate) config: Vec<ConfigLine>,
    /// Files that somebody has changed since they were put there, and that stay.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) kept: Vec<ChangedFile>,
    /// Files that stay where the server's folder is cleaned.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) staying: Vec<TreePath>,
    /// Contents that are not updated to a newer release, and why.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) held_back: Vec<HeldBackContent>,
    /// Companions that could come along.
    pub(crate) companions: Vec<Companion>,
    /// Wishes about the order that could not be granted.
    pub(crate) order_notes: Vec<GaveWay>,
    /// What is left out of what was given, and why.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) left_out: Vec<LeftOut>,
    /// Settings that wait for a file that only the server makes.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) pending: Vec<PendingLine>,
    /// References that would no longer hold.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) breaks: Vec<Break>,
    /// What the running server says of the change.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) live: Vec<LiveOutcome>,
    /// How the server came up again that was stopped for the change.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) restart: Option<Restart>,
    /// How a copy of the server started with the change, if that was a reason not to make it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) proof: Option<TrialReport>,
    /// What has taken the change back, since the server did not start well with it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) taken_back: Option<TakenBack>,
    /// Why it could not be taken back.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) not_taken_back: Option<String>,
    /// Other things worth knowing.
    pub(crate) notes: Vec<String>,
    /// Whether something waits: for a first start, or for a file to be mended.
    #[serde(skip)]
    pub(crate) waits: bool,
    /// Whether it is only shown.
    #[serde(skip)]
    pub(crate) is_preview: bool,
    /// Whether the text shows the lines that change.
    #[serde(skip)]
    pub(crate) diffs: bool,
}

impl ChangeView {
    /// Returns the view of a change that is ready to be carried out.
    pub(crate) fn of(server: ServerName, prepared: &Prepared) -> Self {
        let planned = &prepared.planned;
        let circles = planned.order.circles.iter().map(|circle| {
            let names: Vec<&str> = circle.iter().map(ContentId::as_str).collect();
            format!("{} need one another in a circle; no order suits them all", names.join(", "))
        });
        let is_told = |note: &&GaveWay| {
            let mut contents = planned.contents.iter().filter(|line| line.act != ContentAct::Gone);
            contents.any(|line| note.circle().contains(&&line.id))
        };
        Self {
            server,
            fixes: prepared.fixes.clone(),
            contents: planned.contents.clone(),
            files: planned.change.files.clone(),
            config: planned.change.config.clone(),
            kept: prepared.kept.clone(),
            staying: planned.staying.clone(),
            held_back: prepared.held_back.clone(),
            companions: planned.companions.clone(),
            order_notes: planned.order.gave_way.iter().filter(is_told).cloned().collect(),
            left_out: prepared.left_out.clone(),
            pending: planned.change.pending.clone(),
            breaks: prepared.breaks.clone(),
            notes: circles.chain(prepared.notes.iter().cloned()).collect(),
            waits: !planned.change.pending.is_empty() || !planned.change.skipped.is_empty(),
            ..Self::default()
        }
    }

    /// Hides passwords in everything that is shown.
    pub(crate) fn hide(&mut self, ui: &Ui) {
        let config = self.config.iter_mut().flat_map(|line| {
            let entries = line.entries.iter_mut().map(|entry| &mut entry.what);
            let kept =
                line.merged.iter_mut().flat_map(|merged| merged.kept.iter_mut().map(|kept| &mut kept.value));
            line.diff.iter_mut().chain(entries).chain(kept)
        });
        let kept = self.kept.iter_mut().flat_map(|file| &mut file.diff);
        let live =
            self.live.iter_mut().flat_map(|outcome| outcome.answer.iter_mut().chain(&mut outcome.wanted));
        let restarts = self
            .restart
            .iter_mut()
            .chain(self.taken_back.iter_mut().filter_map(|back| back.restart.as_mut()));
        for trial in restarts.filter_map(|restart| restart.trial.as_mut()) {
            crate::commands::trial::hide(trial, ui);
        }
        for text in config.chain(kept).chain(&mut self.notes).chain(live) {
            *text = ui.hide(text);
        }
    }

    /// Whether there is anything to do.
    pub(crate) fn is_empty(&self) -> bool {
        self.contents.is_empty() && self.files.is_empty() && self.config.is_empty()
    }
}

/// What the running server says.
fn live(page: &mut Page, outcomes: &[LiveOutcome]) {
    for LiveOutcome { what, wanted, state, answer } in outcomes {
        let said = || match answer.last() {
            Some(line) if !line.is_empty() => format!("; it answered: {line}"),
            _ => String::new(),
        };
        let (role, text) = match (state, wanted) {
            (LiveState::Taken, Some(value)) => {
                (Role::Good, format!("{what} is {value}, as the server says."))
            }
            (LiveState::Reread, _) => (Role::Plain, format!("{what}: the server reads it again by itself.")),
            (LiveState::Taken | LiveState::Accepted, _) => {
                (Role::Good, format!("{what}: the server took the change."))
            }
            (LiveState::Told, _) => {
                (Role::Plain, format!("{what}: the server was told, and cannot be asked{}.", said()))
            }
            (LiveState::Differs { value }, Some(wanted)) => (
                Role::Bad,
                format!("{what} is not {wanted}: the server says {value}. It may take it at its next start."),
            ),
            (LiveState::Differs { .. } | LiveState::NotTaken, _) => {
                (Role::Bad, format!("{what}: the server did not take the change{}.", said()))
            }
            (LiveState::Failed { why }, _) => {
                (Role::Bad, format!("{what}: the file is changed, but the server could not be told: {why}."))
            }
        };
        page.line(role, &text);
    }
}

impl ChangeView {
    /// What was done, and how the server came up after it.
    fn done(&self, page: &mut Page) {
        let number = self.number.map_or_else(String::new, |number| format!(" as change {number}"));
        let all = totals(self.contents.len(), self.files.len(), self.config.len());
        page.line(Role::Good, &format!("Settled{number}: {all}."));
        live(page, &self.live);
        if let Some(restart) = &self.restart {
            let undoes = self.number.filter(|_| self.taken_back.is_none());
            restart::tell(page, restart, restart::Told { is_again: true, undoes });
        }
        if let Some(why) = &self.not_taken_back {
            page.line(Role::Bad, &format!("The change could not be taken back: {why}."));
        }
        if let Some(back) = &self.taken_back {
            let number = self.number.map_or_else(String::new, |number| format!("change {number} "));
            page.line(Role::Warn, &format!("So {number}was taken back, as change {}.", back.number));
            if let Some(restart) = &back.restart {
                restart::tell(page, restart, restart::Told { is_again: true, undoes: None });
            }
        }
    }

    /// That nothing is to be done on the server, and what waits or is noted.
    fn nothing(&self, page: &mut Page) {
        let (role, what) = if self.waits && self.pending.is_empty() {
            (Role::Plain, "nothing more to do.".to_owned())
        } else if self.waits {
            (Role::Plain, "nothing more to do before the server's first start.".to_owned())
        } else if self.noted.is_empty() {
            (Role::Good, "nothing to do; the server matches yalotheca.toml.".to_owned())
        } else {
            let noted = if self.is_preview { "would be noted" } else { "noted" };
            let all = self.noted.join(", ");
            (Role::Plain, format!("nothing changes on the server; {noted} in yalotheca.toml: {all}."))
        };
        page.line(role, &format!("{}: {what}", self.server));
        config::pending(page, &self.pending);
        config::kept(page, &self.kept);
        for note in &self.notes {
            page.line(Role::Warn, note);
        }
    }
}

impl View for ChangeView {
    fn view(&self, page: &mut Page) {
        if self.settled {
            return self.done(page);
        }
        held_back(page, &self.held_back);
        if self.is_empty() {
            return self.nothing(page);
        }
        page.line(Role::Head, &format!("What would change on {}", self.server));
        if !self.fixes.is_empty() {
            page.head("What this fixes");
            for fix in &self.fixes {
                page.item(Role::Plain, fix);
            }
        }
        contents(page, &self.contents);
        files(page, &self.files, &self.contents);
        config::config(page, &self.config, self.diffs);
        config::kept(page, &self.kept);
        staying(page, &self.staying);
        config::merged(page, &self.config);
        config::pending(page, &self.pending);
        if !self.breaks.is_empty() {
            page.head("This would break");
            for one in &self.breaks {
                page.item(Role::Bad, &one.says());
                if let Some(near) = &one.near {
                    page.under(Role::Plain, near);
                }
            }
        }
        left_out(page, &self.left_out);
        companions(page, &self.companions);
        super::order::gave_way(page, &self.order_notes);
        for note in &self.notes {
            page.gap();
            page.line(Role::Warn, note);
        }
        page.gap();
        page.line(
            Role::Plain,
            &format!("In all: {}.", totals(self.contents.len(), self.files.len(), self.config.len())),
        );
    }
}

fn contents(page: &mut Page, lines: &[ContentLine]) {
    if lines.is_empty() {
        return;
    }
    page.head("Contents");
    let rows: Vec<Vec<Cell>> = lines
        .iter()
        .map(|line| {
            let (role, word) = match line.act {
                ContentAct::New => (Role::Good, "new"),
                ContentAct::Newer => (Role::Good, "newer"),
                ContentAct::Older => (Role::Warn, "older"),
                ContentAct::Changed => (Role::Warn, "changed"),
                ContentAct::Off => (Role::Warn, "off"),
                ContentAct::On => (Role::Good, "on"),
                ContentAct::Gone => (Role::Bad, "gone"),
            };
            let version = match (&line.from, &line.to) {
                (Some(from), Some(to)) if from != to => format!("{to} (was {from})"),
                (_, Some(version)) | (Some(version), None) => version.shown().to_owned(),
                (None, None) => String::new(),
            };
            vec![
                Cell::new(role, word),
                Cell::new(Role::Name, line.id.to_string()),
                Cell::plain(version),
                Cell::new(Role::Dim, line.why.clone()),
            ]
        })
        .collect();
    page.table(&rows);
}

fn files(page: &mut Page, lines: &[FileLine], contents: &[ContentLine]) {
    const MOST: usize = 4;
    const MOST_NAMED: usize = 100;
    if lines.is_empty() {
        return;
    }
    page.head("Files");
    let mut groups: Vec<(&FileLine, Vec<&FileLine>)> = Vec::new();
    for line in lines {
        let outermost = |line: &FileLine| line.path.as_str().split_once('/').map(|(name, _)| name.to_owned());
        let is_alike = |first: &FileLine| {
            first.act == line.act && first.content == line.content && outermost(first) == outermost(line)
        };
        match groups.iter_mut().find(|(first, _)| is_alike(first)) {
            Some((_, group)) => group.push(line),
            None => groups.push((line, vec![line])),
        }
    }
    let mut rows = Vec::new();
    for (first, group) in groups {
        let (role, word) = match first.act {
            FileAct::Put => (Role::Good, "put"),
            FileAct::Replace => (Role::Good, "replace"),
            FileAct::Restore => (Role::Warn, "put back"),
            FileAct::Move => (Role::Warn, "move"),
            FileAct::Displace => (Role::Warn, "replace"),
            FileAct::Aside => (Role::Dim, "set aside"),
        };
        // Files removed or restored that belong to none of these contents are each named.
        let is_others = matches!(first.act, FileAct::Aside | FileAct::Restore)
            && !contents.iter().any(|line| line.id == first.content);
        if group.len() > if is_others { MOST_NAMED } else { MOST } {
            let bytes = group.iter().map(|line| line.size).sum();
            let what = format!("{} of {} in {}", count(group.len(), "file"), first.content, common(&group));
            rows.push(vec![Cell::new(role, word), Cell::plain(size(bytes)), Cell::plain(what)]);
            continue;
        }
        for line in group {
            let mut what = line.path.to_string();
            if let Some(from) = &line.from {
                what = format!("{from} to {what}");
            }
            if line.act == FileAct::Displace {
                what.push_str(" (another file is there; it goes to the attic)");
            }
            rows.push(vec![Cell::new(role, word), Cell::plain(size(line.size)), Cell::plain(what)]);
        }
    }
    page.table(&rows);
}

/// The innermost folder that holds all of them.
fn common(lines: &[&FileLine]) -> String {
    let mut folder = lines[0].path.parent();
    while let Some(path) = &folder {
        if lines.iter().all(|line| line.path.is_within(path)) {
            return format!("{path}/");
        }
        folder = path.parent();
    }
    "./".into()
}

/// What cleaning leaves where it is.
fn staying(page: &mut Page, paths: &[TreePath]) {
    const MOST: usize = 12;
    if paths.is_empty() {
        return;
    }
    page.head("Stays where it is");
    for path in paths.iter().take(MOST) {
        page.item(Role::Plain, path.as_str());
    }
    if paths.len() > MOST {
        page.item(Role::Dim, &format!("and {} more (--json lists them)", paths.len() - MOST));
    }
}

/// Equal reasons stand together.
fn left_out(page: &mut Page, lines: &[LeftOut]) {
    const MOST: usize = 4;
    if lines.is_empty() {
        return;
    }
    page.head("Left out");
    let mut groups: Vec<(&str, Vec<&str>)> = Vec::new();
    for line in lines {
        match groups.iter_mut().find(|(why, _)| *why == line.why) {
            Some((_, paths)) => paths.push(&line.path),
            None => groups.push((&line.why, vec![&line.path])),
        }
    }
    let rows: Vec<Vec<Cell>> = groups
        .into_iter()
        .map(|(why, paths)| {
            let more = paths.len().saturating_sub(MOST);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let some: Vec<&str> = paths.into_iter().take(MOST).collect();
            vec![Cell::new(Role::Dim, why), Cell::plain(format!("{}{more}", some.join(", ")))]
        })
        .collect();
    page.table(&rows);
}

fn companions(page: &mut Page, companions: &[Companion]) {
    let (there, gone): (Vec<&Companion>, Vec<&Companion>) =
        companions.iter().partition(|companion| companion.available);
    if !there.is_empty() {
        page.head("Could come along");
        let rows: Vec<Vec<Cell>> = there
            .iter()
            .map(|companion| {
                vec![
                    Cell::new(Role::Name, companion.id.to_string()),
                    Cell::plain(format!("{} welcomes it: yalotheca add {}", companion.of, companion.id)),
                ]
            })
            .collect();
        page.table(&rows);
    }
    if !gone.is_empty() {
        let names: Vec<&str> = gone.iter().map(|companion| companion.id.as_str()).collect();
        page.gap();
        page.line(
            Role::Dim,
            &format!("Optional dependencies not found in any catalogue: {}", names.join(", ")),
        );
    }
}

/// Contents that are not updated to a newer release, and why.
fn held_back(page: &mut Page, contents: &[HeldBackContent]) {
    const MOST: usize = 4;
    if contents.is_empty() {
        return;
    }
    page.head("Held back");
    for held in contents {
        page.item(Role::Name, &format!("{} {} is out; {} stays", held.id, held.newest, held.has));
        if let Some(range) = &held.by_you {
            let text = format!("you want {range}: yalotheca add '{}@*' lets it go on", held.id);
            page.under(Role::Plain, &text);
        }
        let reasons = held.because.iter().flat_map(|why| &why.because).filter(|reason| reason.sort != "want");
        for reason in reasons.take(MOST) {
            page.under(Role::Plain, &reason.text);
        }
    }
    page.gap();
}
