//! `isolate`.

use std::{cell::RefCell, process::ExitCode};

use clap::Args;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::isolate::{IsolateReport, IsolateRequest, Isolating, isolate},
};
use yalotheca_core::{id::ContentId, isolate::Culprits};

use crate::{
    global::Global,
    ui::Ui,
    view::{Page, Role, View, count},
};

/// Find out which contents make the server fail, by starting copies of it with fewer of them. The server itself is not started and
/// not changed; its worlds are copied for each start. Interrupted, the same command goes on with it.
#[derive(Debug, Args)]
pub(crate) struct IsolateArgs {
    /// Look for a text in the log, rather than for a start that fails
    #[arg(long, value_name = "TEXT")]
    line: Option<String>,
    /// Forget what an interrupted search has learned
    #[arg(long)]
    again: bool,
}

/// What can be done about what was found.
trait WaysOut {
    fn ways_out(&self, page: &mut Page, culprit: Option<&ContentId>);
}

impl WaysOut for IsolateReport {
    fn ways_out(&self, page: &mut Page, culprit: Option<&ContentId>) {
        let name = culprit.map_or("", ContentId::as_str);
        if let Some(path) = culprit.and_then(|id| self.unmanaged.get(id)) {
            let text = format!(
                "move {path} out of the server's folder; Yalotheca does not manage it, so it leaves it alone"
            );
            return page.label(Role::Head, "To do", &text);
        }
        let leave_out = if self.can_be_off { "off" } else { "drop" };
        let leave_out = format!("yalotheca {leave_out} {name} leaves it out");
        let text = match &self.works_with {
            Some(version) => {
                page.item(Role::Good, &format!("with {name} {version} the server starts"));
                format!("yalotheca add '{name}@={version}' goes back to that release; {leave_out}")
            }
            None => format!("{leave_out}; yalotheca update {name} looks for another release"),
        };
        page.label(Role::Head, "To do", &text);
    }
}

impl View for IsolateReport {
    fn view(&self, page: &mut Page) {
        let starts = count(self.starts, "start");
        let name = &self.server;
        let names = |ids: &[ContentId]| ids.iter().map(ContentId::as_str).collect::<Vec<_>>().join(" and ");
        match &self.found {
            Culprits::Contents { ids, with } => {
                let text = match ids.as_slice() {
                    [one] => format!("{name}: it is {one} (found in {starts} among {}).", count(self.contents, "content")),
                    several => format!(
                        "{name}: it fails with {} together, and not with fewer of them (found in {starts} among {}).",
                        names(several),
                        count(self.contents, "content")
                    ),
                };
                page.line(Role::Bad, &text);
                if let Some(why) = &self.why {
                    page.item(Role::Plain, why);
                }
                if !with.is_empty() {
                    page.item(Role::Dim, &format!("what they need was there as well: {}", with.iter().map(ContentId::as_str).collect::<Vec<_>>().join(", ")));
                }
                if self.confirmed && ids.len() == 1 {
                    page.item(Role::Plain, "it fails with only this content, and works with all that loads before it");
                } else if self.confirmed {
                    page.item(Role::Plain, "a second start with only that failed as well");
                } else {
                    page.item(
                        Role::Warn,
                        "a second start with only that did not fail: it fails only sometimes; --again starts the search over",
                    );
                }
                if let [change] = self.changes.as_slice() {
                    page.item(Role::Plain, &format!("it came with change {change}"));
                }
                self.ways_out(page, ids.last());
            }
            Culprits::None => {
                page.line(Role::Warn, &format!("{name}: it fails without any content, so it is none of them ({starts})."));
                if let Some(why) = &self.why {
                    page.item(Role::Plain, why);
                }
                page.label(Role::Head, "To do", "yalotheca trial shows what the log says; look at the configuration, the engine and the world");
            }
            Culprits::NotReproduced => {
                page.line(
                    Role::Warn,
                    &format!("{name}: a copy with everything does not fail ({starts}), so there is nothing to look for."),
                );
                page.label(
                    Role::Head,
                    "To do",
                    "yalotheca trial shows whether the server itself fails; it may be its port, its world or the disk. For a problem \
                     that does not end the start: --line TEXT",
                );
            }
            Culprits::Unsteady => page.line(
                Role::Warn,
                &format!("{name}: starts with the same contents end differently ({starts}), so the result would be chance. --again starts the search over."),
            ),
        }
        if !self.other_faults.is_empty() {
            page.head("Other faults that showed on the way");
            for fault in &self.other_faults {
                page.item(Role::Warn, fault);
            }
            page.under(Role::Plain, "once the first is mended, the same command looks for them");
        }
    }
}

pub(crate) fn run(args: &IsolateArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Change, &global.open(), ui)?;
    let request = IsolateRequest { line: args.line.clone(), again: args.again };
    let waiting = RefCell::new(None);
    let last_why = RefCell::new(String::new());
    let hear = |what: Isolating<'_>| match what {
        Isolating::Plan { contents, suspects, starts, known } => {
            let first = match suspects {
                0 => String::new(),
                some => format!("; {} changed since the last good start come first", count(some, "content")),
            };
            let known = if known > 0 { format!(", {known} of them made already") } else { String::new() };
            ui.note(&format!(
                "{} to search{first}. One culprit takes about {}{known}; each further one that only fails with it, about as many again.",
                count(contents, "content"),
                count(starts, "start")
            ));
        }
        Isolating::Copying => drop(waiting.replace(Some(ui.wait("Copying the server")))),
        Isolating::Starting { number, contents } => {
            drop(waiting.replace(None));
            let text = format!("Start {number}, with {}", count(contents, "content"));
            drop(waiting.replace(Some(ui.wait_quietly(&text))));
        }
        Isolating::Line(line) => {
            if ui.is_verbose() {
                ui.note(&format!("  {line}"));
            }
            if let Some(waiting) = &*waiting.borrow() {
                waiting.heard(&ui.hide(line));
            }
        }
        Isolating::Older { id, version } => {
            drop(waiting.replace(None));
            drop(waiting.replace(Some(ui.wait_quietly(&format!("Trying {id} {version}")))));
        }
        Isolating::Went { number, contents, fails, is_other, why } => {
            drop(waiting.replace(None));
            let how = match fails {
                false if is_other => format!("fails otherwise: {}", ui.hide(why)),
                false => "works".to_owned(),
                true if *last_why.borrow() == why => "fails in the same way".to_owned(),
                true => {
                    why.clone_into(&mut last_why.borrow_mut());
                    format!("fails: {}", ui.hide(why))
                }
            };
            ui.note(&format!(
                "Start {number}, with {}: {}",
                count(contents, "content"),
                how.trim_end_matches(": ")
            ));
        }
    };
    let mut report = isolate(&server, &request, ui, &hear)?;
    drop(waiting.replace(None));
    report.why = report.why.map(|why| ui.hide(&why));
    ui.show(&report)?;
    Ok(ExitCode::FAILURE)
}
