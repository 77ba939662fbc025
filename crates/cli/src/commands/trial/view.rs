//! How a trial went, as text: the cause first, then what is new, what has changed, and the contents.

use serde::{Serialize, Serializer};
use yalotheca_app::ops::{
    since::SinceGood,
    trial::{TrialReport, TriedContent},
};
use yalotheca_core::{
    diagnose::{ContentState, FilePlace, Noise, Trouble, Verdict},
    id::{ContentId, TreePath},
};

use yalotheca_host::{trial::SLOW, trust::shell_word};

use crate::view::{Cell, Page, Role, View, count, visible};

/// How many different problems are shown.
const MOST_TOLD: usize = 8;

/// A report, and how much of it is shown.
pub(super) struct TrialView {
    pub(super) report: TrialReport,
    /// Whether also what is as always is shown.
    pub(super) all: bool,
}

impl Serialize for TrialView {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.report.serialize(serializer)
    }
}

impl View for TrialView {
    fn view(&self, page: &mut Page) {
        let report = &self.report;
        for line in &report.first {
            page.line(Role::Plain, line);
        }
        headline(page, report);
        if report.was_killed {
            page.line(Role::Warn, "It did not stop when it was told to, and was killed.");
        }
        let is_known = |trouble: &&Trouble| trouble.accepted && !trouble.fatal && !self.all;
        let (_, shown): (Vec<&Trouble>, Vec<&Trouble>) = report.troubles.iter().partition(is_known);
        match shown.as_slice() {
            [] => {}
            // The first sentence has said it.
            [cause] if report.verdict == Verdict::Failed => {
                details(page, cause, &report.contents);
                if let Some(advice) = &cause.advice {
                    page.label(Role::Head, "To do", advice);
                }
            }
            _ => {
                page.head("What is wrong");
                troubles(page, &shown, &report.contents, if self.all { usize::MAX } else { MOST_TOLD });
            }
        }
        if report.verdict == Verdict::ReadyWithTrouble && !report.is_good {
            page.gap();
            page.label(
                Role::Head,
                "To do",
                "put it right; or, if the server is well like this: yalotheca trial --accept",
            );
        }
        if !self.all {
            accepted(page, report);
        }
        if let Some(terms) = &report.terms {
            const MOST: usize = 30;
            page.head("The terms");
            for line in terms.lines().take(MOST) {
                page.raw(&format!("  {line}"));
            }
        }
        if let Some(noise) = report.noise.as_ref().filter(|noise| noise.starts > 0) {
            self.noise(page, noise);
        }
        if let Some(since) = &report.since {
            what_changed(page, since);
        }
        contents(page, &report.contents, &shown);
        if report.verdict == Verdict::Failed && !report.last_lines.is_empty() {
            page.head("The log's last lines");
            for line in &report.last_lines {
                page.cut(2, Role::Plain, line);
            }
        }
        if let Some(pid) = report.left_running {
            page.gap();
            let text = format!("The server was left running (process {pid}). yalotheca stop ends it.");
            page.line(Role::Plain, &text);
        } else if report.was_stopped {
            page.gap();
            page.line(Role::Plain, "It was stopped again.");
        }
    }
}

/// The problems that were accepted: where nothing else is wrong, the first ones by name.
fn accepted(page: &mut Page, report: &TrialReport) {
    const MOST: usize = 5;
    let all = report.accepted.len();
    if all == 0 {
        return;
    }
    if !report.is_good {
        page.gap();
        page.line(Role::Dim, &format!("{} besides (--all shows more).", count(all, "accepted problem")));
        return;
    }
    page.head("Accepted (trial --accept)");
    for says in report.accepted.iter().take(MOST) {
        page.item(Role::Dim, says);
    }
    if all > MOST {
        page.item(Role::Dim, &format!("and {} more (--all shows them)", all - MOST));
    }
}

/// The verdict; of a failed start the cause is in the first sentence.
fn headline(page: &mut Page, report: &TrialReport) {
    let name = &report.server;
    let after = match report.ready_after_ms.unwrap_or_default() {
        // A log that is followed says so all at once.
        0 => String::new(),
        ms @ 1..1000 => format!(" after {ms} ms"),
        ms => format!(" after {}.{} s", ms / 1000, ms / 100 % 10),
    };
    match report.verdict {
        Verdict::Ready => return page.line(Role::Good, &format!("{name}: ready{after}, no problems.")),
        Verdict::ReadyWithTrouble => {
            if report.is_good {
                let problems = count(report.accepted.len(), "accepted problem");
                return page.line(Role::Good, &format!("{name}: ready{after}, with {problems}."));
            }
            return page.line(Role::Warn, &format!("{name}: ready{after}, but something is wrong."));
        }
        Verdict::Failed => {}
    }
    let how = match (report.ended_with, report.ended_by_signal, report.ready_after_ms) {
        (Some(code), ..) => format!("it ended with exit code {code}"),
        (None, Some(signal), _) => format!("it was ended by signal {signal}"),
        (None, None, Some(_)) => "it said that it was ready, but it was not".into(),
        (None, None, None)
            if report.troubles.iter().any(|trouble| trouble.means.as_deref() == Some(SLOW)) =>
        {
            String::new()
        }
        (None, None, None) => "it was not ready in time".into(),
    };
    match report.troubles.first() {
        Some(cause) => {
            let says = cause.says.trim_end_matches('.');
            page.line(Role::Bad, &format!("{name}: the start failed: {says}."));
            let mut how = how.chars();
            if let Some(first) = how.next() {
                page.line(Role::Dim, &format!("{}{}.", first.to_uppercase(), how.as_str()));
            }
        }
        None => page.line(Role::Bad, &format!("{name}: the start failed; {how}.")),
    }
}

/// Troubles of one meaning stand together, and what can be done about them stands below them once.
fn troubles(page: &mut Page, troubles: &[&Trouble], contents: &[TriedContent], most: usize) {
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
    let all_groups = groups.len();
    for group in groups.into_iter().take(most) {
        for trouble in group.iter().take(MOST) {
            let times = if trouble.times > 1 { format!(" ({} times)", trouble.times) } else { String::new() };
            let new = if trouble.is_new == Some(true) { " (new)" } else { "" };
            page.item(Role::Bad, &format!("{}{times}{new}", trouble.says));
            details(page, trouble, contents);
        }
        if group.len() > MOST {
            page.item(Role::Dim, &format!("and {} more like these (--json lists them)", group.len() - MOST));
        }
        if let Some(advice) = &group[0].advice {
            page.under(Role::Plain, advice);
        }
    }
    if all_groups > most {
        page.item(Role::Dim, &format!("and {} more (--all shows them)", all_groups - most));
    }
}

/// The place in a file that a trouble is about, and the contents.
fn details(page: &mut Page, trouble: &Trouble, contents: &[TriedContent]) {
    const MOST: usize = 4;
    if let Some(FilePlace { file, line, text: Some(text) }) = &trouble.place {
        let text = visible(text.trim_end()).into_owned();
        let number = line.to_string();
        page.under(Role::Dim, &format!("{file}, line {line}:"));
        page.raw(&format!("      {number} | {}", text.chars().take(80).collect::<String>()));
        let from = text.chars().take_while(|c| c.is_whitespace()).count();
        let length = text.trim().chars().count().clamp(1, 80);
        let pad = " ".repeat(number.len());
        page.raw(&format!("      {pad} | {}{}", " ".repeat(from), "^".repeat(length)));
    }
    // A name that the sentence already has says nothing new.
    let named = trouble.contents.iter().filter(|id| !trouble.says.contains(id.as_str()));
    let version = |id: &ContentId| {
        let own = contents.iter().find(|content| &content.id == id);
        own.map_or_else(|| id.to_string(), |content| format!("{id} {}", content.version))
    };
    let named: Vec<String> = named.take(MOST).map(|id| version(id).trim().to_owned()).collect();
    if !named.is_empty() {
        page.under(Role::Plain, &format!("This is about {}.", named.join(", ")));
    }
}

impl TrialView {
    fn noise(&self, page: &mut Page, noise: &Noise) {
        const MOST: usize = 8;
        let most = if self.all { usize::MAX } else { MOST };
        let troubles = self.report.troubles.iter();
        let told: Vec<&str> = troubles
            .flat_map(|trouble| std::iter::once(&trouble.line).chain(&trouble.trace))
            .map(|line| line.trim())
            .collect();
        let news: Vec<_> = noise.new.iter().filter(|new| !told.contains(&new.line.trim())).collect();
        let shown: Vec<_> = news.iter().filter(|new| new.suspicious || self.all).collect();
        if !shown.is_empty() {
            page.head("New in the log");
            for new in shown.iter().take(most) {
                let times = if new.times > 1 { format!("{} × ", new.times) } else { String::new() };
                page.cut(
                    2,
                    if new.suspicious { Role::Warn } else { Role::Plain },
                    &format!("{times}{}", new.line),
                );
            }
            if shown.len() > most {
                page.item(Role::Dim, &format!("and {} more (--all lists them)", shown.len() - most));
            }
        }
        if !noise.gone.is_empty() && self.report.verdict != Verdict::Failed {
            page.head("No longer in the log");
            for form in noise.gone.iter().take(most.min(4)) {
                page.cut(2, Role::Dim, form);
            }
            if noise.gone.len() > most.min(4) {
                page.item(Role::Dim, &format!("and {} more", noise.gone.len() - most.min(4)));
            }
        }
        let harmless = news.len() - shown.len();
        let harmless = match harmless {
            0 => String::new(),
            1 => "; one new line looks harmless (--all shows it)".into(),
            many => format!("; {many} new lines look harmless (--all shows them)"),
        };
        page.gap();
        let starts = if noise.starts == 1 { "the last good start" } else { "good starts" };
        let lines = count(noise.as_always, "line");
        page.line(Role::Dim, &format!("{lines} of the log as in {starts}{harmless}."));
    }
}

fn what_changed(page: &mut Page, since: &SinceGood) {
    const MOST: usize = 5;
    let when: String = since.when.replace('T', " ").chars().take(16).collect();
    page.head(&format!("Since the last good start ({when} UTC)"));
    if since.changes.is_empty() && since.files.is_empty() && since.edited.is_empty() {
        page.item(Role::Plain, "no change, and no file of a content and no configuration file is different");
        return;
    }
    for change in since.changes.iter().take(MOST) {
        page.item(Role::Plain, &format!("change {}, by {}: {}", change.number, change.who, change.summary));
    }
    if since.changes.len() > MOST {
        page.item(Role::Dim, &format!("and {} earlier ones (yalotheca history)", since.changes.len() - MOST));
    }
    if !since.files.is_empty() {
        let names: Vec<&str> = since.files.iter().take(MOST).map(TreePath::as_str).collect();
        let more = since.files.len().saturating_sub(MOST);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        page.item(Role::Plain, &format!("different now: {}{more}", names.join(", ")));
    }
    for path in since.edited.iter().take(MOST) {
        page.item(Role::Plain, &format!("edited by somebody: {path}"));
        let word = shell_word(path.as_str());
        page.under(Role::Plain, &format!("yalotheca settle --replace {word} puts the original back"));
    }
    if since.edited.len() > MOST {
        page.item(
            Role::Dim,
            &format!("and {} more edited files (yalotheca check)", since.edited.len() - MOST),
        );
    }
    if let Some(last) = since.changes.first() {
        page.under(Role::Plain, &format!("yalotheca undo takes change {} back", last.number));
    }
}

/// What became of each content; what was shown of it above is not repeated.
fn contents(page: &mut Page, lines: &[TriedContent], shown: &[&Trouble]) {
    let is_shown = |why: &str| shown.iter().any(|trouble| trouble.says == why);
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
                ContentState::Failed { why } if is_shown(why) => {
                    (Role::Bad, "failed, as told above".to_owned())
                }
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
