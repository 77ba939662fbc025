//! `check`.

use std::{collections::BTreeSet, process::ExitCode};

use serde::Serialize;
use yalotheca_core::check::{Finding, Weight};

use crate::{
    args::Global,
    error::CommandError,
    findings::look_at_all,
    session::{Purpose, Session},
    ui::Ui,
    view::{Cell, Page, Role, View, count},
};

#[derive(Debug, Serialize)]
struct CheckView {
    server: String,
    contents: usize,
    files: usize,
    running: bool,
    findings: Vec<Finding>,
}

impl View for CheckView {
    fn view(&self, page: &mut Page) {
        let troubles = self.findings.iter().filter(|finding| finding.weight == Weight::Trouble).count();
        let looked = format!("{}, {}", count(self.contents, "content"), count(self.files, "file"));
        if troubles == 0 {
            page.line(Role::Good, &format!("{}: {looked}, all as it should be.", self.server));
        } else {
            page.line(Role::Bad, &format!("{}: {} ({looked})", self.server, count(troubles, "trouble")));
        }
        for (weight, head) in [(Weight::Trouble, "Troubles"), (Weight::Note, "Notes")] {
            let found: Vec<&Finding> =
                self.findings.iter().filter(|finding| finding.weight == weight).collect();
            if found.is_empty() {
                continue;
            }
            page.head(head);
            let rows: Vec<Vec<Cell>> = found
                .iter()
                .map(|finding| {
                    let role = if weight == Weight::Trouble { Role::Bad } else { Role::Warn };
                    vec![Cell::new(role, finding.sort), Cell::plain(finding.says.clone())]
                })
                .collect();
            page.table(&rows);
        }
        let fixes: BTreeSet<&String> =
            self.findings.iter().filter_map(|finding| finding.fix.as_ref()).collect();
        if !fixes.is_empty() {
            page.head("What helps");
            for fix in fixes {
                page.item(Role::Name, fix);
            }
        }
        if self.running {
            page.gap();
            page.line(Role::Dim, "The server is running; stop it before you settle.");
        }
    }
}

pub(crate) fn run(global: &Global, ui: &Ui) -> Result<ExitCode, CommandError> {
    let session = Session::open(Purpose::Look, global, ui)?;
    let (findings, files) = look_at_all(&session)?;
    let troubled = findings.iter().any(|finding| finding.weight == Weight::Trouble);
    ui.show(&CheckView {
        server: session.shown(),
        contents: session.control.lock.contents.len(),
        files,
        running: session.running().is_some(),
        findings,
    })?;
    Ok(if troubled { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}
