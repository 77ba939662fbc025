//! `trial`.

mod view;

use std::{
    cell::RefCell,
    path::{Path, PathBuf},
    process::ExitCode,
};

use clap::Args;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::support::support_text,
    ops::trial::{Heard, TrialReport, TrialRequest, trial, trial_on_copy},
};
use yalotheca_host::trial::SLOW;

use self::view::TrialView;
use crate::{global::Global, ui::Ui};

/// Start the server, watch it, say how it went, and stop it.
#[derive(Debug, Args)]
#[expect(clippy::struct_excessive_bools, reason = "each is an option of its own")]
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
    /// Accept the problems that this start has: later starts with no others are good ones
    #[arg(long, conflicts_with = "on_copy")]
    accept: bool,
    /// Start a copy of the server with what settle would change, on other ports; the server itself is not touched
    #[arg(long, conflicts_with_all = ["keep", "watch", "log"])]
    on_copy: bool,
    /// Write what somebody who helps needs to know to a file: without passwords and without players' addresses
    #[arg(long, value_name = "FILE")]
    report: Option<PathBuf>,
    /// Show also what is as in the last good start, and new lines that look harmless
    #[arg(long)]
    all: bool,
}

pub(crate) fn run(args: &TrialArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let request =
        TrialRequest { keep: args.keep, accepts: args.accept, watches: args.watch, log: args.log.clone() };
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
        Heard::Copying { server } => drop(waiting.replace(Some(ui.wait(&format!("Copying {server}"))))),
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
    let mut report = if args.on_copy {
        trial_on_copy(&global.open(), ui, &hear)?
    } else {
        trial(&global.open(), ui, &request, &hear)?
    };
    hide(&mut report, ui);
    if let Some(path) = &args.report {
        write_report(path, &report, global, ui)?;
    }
    let is_good = report.is_good;
    ui.show(&TrialView { report, all: args.all })?;
    Ok(if is_good { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

/// Writes what somebody who helps needs to know.
fn write_report(path: &Path, report: &TrialReport, global: &Global, ui: &Ui) -> Result<(), AppError> {
    let mut server = Server::open(Purpose::Look, &global.open(), ui)?;
    let text = support_text(&mut server, report, (env!("CARGO_PKG_VERSION"), ui))?;
    let failed = |source| AppError::Io { what: format!("writing {}", path.display()), source };
    std::fs::write(path, text).map_err(failed)?;
    ui.note(&format!("Wrote {}. Read it before you pass it on.", path.display()));
    Ok(())
}

/// Shows how a trial went.
pub(super) fn show(report: TrialReport, ui: &Ui) -> Result<(), AppError> {
    ui.show(&TrialView { report: hidden(report, ui), all: false })
}

/// Returns a report without passwords.
pub(super) fn hidden(mut report: TrialReport, ui: &Ui) -> TrialReport {
    hide(&mut report, ui);
    report
}

/// Hides passwords in everything that comes from the log or from files, and says what can be done about a slow start.
pub(crate) fn hide(report: &mut TrialReport, ui: &Ui) {
    for slow in report.troubles.iter_mut().filter(|trouble| trouble.means.as_deref() == Some(SLOW)) {
        slow.advice = Some("if it is only slow, give it longer, five minutes say: --patience 300".into());
    }
    let of_troubles = report.troubles.iter_mut().flat_map(|trouble| {
        let place = trouble.place.iter_mut().filter_map(|place| place.text.as_mut());
        [&mut trouble.line, &mut trouble.says].into_iter().chain(&mut trouble.trace).chain(place)
    });
    let of_noise = report
        .noise
        .iter_mut()
        .flat_map(|noise| noise.new.iter_mut().map(|new| &mut new.line).chain(&mut noise.gone));
    for text in report.last_lines.iter_mut().chain(of_troubles).chain(of_noise) {
        *text = ui.hide(text);
    }
}
