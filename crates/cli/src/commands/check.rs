//! `check`.

use std::{cmp::Reverse, collections::BTreeSet, process::ExitCode};
use yalotheca_app::words::ServerName;

use clap::Args;
use serde::Serialize;
use yalotheca_app::{
    AppError, OpenOptions, Purpose, Server,
    ops::check::{CheckReport, Depth, check},
};
use yalotheca_core::check::{Weight, meaning};

use crate::{
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, count, finding::FindingView},
};

/// What a check found, in words.
#[derive(Debug, Serialize)]
struct CheckView {
    server: ServerName,
    contents: usize,
    files: usize,
    running: bool,
    findings: Vec<FindingView>,
}

impl From<CheckReport> for CheckView {
    fn from(report: CheckReport) -> Self {
        let CheckReport { server, contents, files, running, findings } = report;
        Self { server, contents, files, running, findings: FindingView::all(&findings) }
    }
}

impl View for CheckView {
    fn view(&self, page: &mut Page) {
        let of = |weight: Weight| {
            let found: Vec<&FindingView> =
                self.findings.iter().filter(|finding| finding.weight == weight).collect();
            found
        };
        let (problems, notes) = (of(Weight::Trouble), of(Weight::Note));
        let looked = format!("{}, {} checked", count(self.contents, "content"), count(self.files, "file"));
        if problems.is_empty() {
            page.line(Role::Good, &format!("{}: no problems ({looked}).", self.server));
        } else {
            let many = count(problems.len(), "problem");
            page.line(Role::Bad, &format!("{}: {many} ({looked})", self.server));
        }
        group(page, (Role::Bad, "Problems"), &problems);
        group(page, (Role::Warn, "Notes"), &notes);
        meanings(page, &problems);
        // What a command puts right stands before what is left to the hand.
        let is_by_hand = |fix: &str| !fix.starts_with("yalotheca ");
        let fixes = self.findings.iter().filter_map(|finding| finding.fix.as_deref());
        let fixes: BTreeSet<(bool, &str)> = fixes.map(|fix| (is_by_hand(fix), fix)).collect();
        if !fixes.is_empty() {
            page.head("How to fix it");
            for (_, fix) in fixes {
                page.item(Role::Name, fix);
            }
        }
        if self.running {
            page.gap();
            page.line(Role::Dim, "The server is running; stop it before you change anything.");
        }
    }
}

/// Prints findings; those about one content stand together, most first.
fn group(page: &mut Page, (role, head): (Role, &str), findings: &[&FindingView]) {
    if findings.is_empty() {
        return;
    }
    page.head(head);
    let many = |about: &str| findings.iter().filter(|finding| finding.about == about).count();
    let first = |about: &str| findings.iter().position(|finding| finding.about == about);
    let mut sorted = findings.to_vec();
    sorted.sort_by_key(|finding| (Reverse(many(&finding.about)), first(&finding.about)));
    let row = |finding: &&FindingView| vec![Cell::new(role, finding.code), Cell::plain(finding.says.clone())];
    page.table(&sorted.iter().map(row).collect::<Vec<_>>());
}

/// Says once for each code what it means for the server.
fn meanings(page: &mut Page, problems: &[&FindingView]) {
    let codes: BTreeSet<&str> = problems.iter().map(|finding| finding.code).collect();
    if codes.is_empty() {
        return;
    }
    page.head("Why it matters");
    let row = |code: &&str| vec![Cell::plain(*code), Cell::plain(meaning(code))];
    page.table(&codes.iter().map(row).collect::<Vec<_>>());
}

/// Verify everything that can be verified without starting the server
///
/// A file whose size and dates are as they were when it was read last is not read again, unless --deep is given.
#[derive(Debug, Args)]
pub(crate) struct CheckArgs {
    /// Read every file again, whatever its size and dates say
    #[arg(long)]
    deep: bool,
}

pub(crate) fn run(args: &CheckArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let options = OpenOptions { compares: !args.deep, ..global.open() };
    let mut server = Server::open(Purpose::Look, &options, ui)?;
    let depth = if args.deep { Depth::Everything } else { Depth::Changed };
    let waiting = ui.wait_quietly(&format!("Checking {}", server.shown()));
    let report = check(&mut server, depth, ui)?;
    drop(waiting);
    let troubled = report.findings.iter().any(|finding| finding.weight == Weight::Trouble);
    ui.show(&CheckView::from(report))?;
    Ok(if troubled { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}
