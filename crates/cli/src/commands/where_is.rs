//! `where`.

use std::{
    io::{self, Read},
    process::ExitCode,
};

use clap::Args;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::find_files::{FileFound, FindFilesReport, find_files},
};
use yalotheca_host::tree::NameKind;

use crate::{
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, size},
};

/// Find files and folders anywhere in the server's folder by name
#[derive(Debug, Args)]
#[command(
    after_help = "A pattern is a part of a name, or with *, ? or [a-z] the whole name; with / it is about the path.\n\
                        The case of letters does not matter. - reads patterns from standard input, one a line."
)]
pub(crate) struct WhereArgs {
    /// What is looked for
    #[arg(required = true, value_name = "PATTERN")]
    patterns: Vec<String>,
    /// Show all that was found, however many
    #[arg(long)]
    all: bool,
}

/// So many are shown unless all are asked for.
const MANY: usize = 100;

/// A report, and how much of it is shown as text.
struct Shown<'a> {
    report: &'a FindFilesReport,
    all: bool,
}

impl serde::Serialize for Shown<'_> {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.report.serialize(serializer)
    }
}

impl View for Shown<'_> {
    fn view(&self, page: &mut Page) {
        let FindFilesReport { server, looked_through, found, not_found, unreadable } = self.report;
        let looked = format!("{} found among {looked_through} files and folders", found.len());
        page.line(Role::Head, &format!("{server}: {looked}"));
        let shown = if self.all { found } else { &found[..found.len().min(MANY)] };
        if !shown.is_empty() {
            page.gap();
            page.table(&shown.iter().map(row).collect::<Vec<_>>());
        }
        if shown.len() < found.len() {
            page.gap();
            let more = found.len() - shown.len();
            page.line(Role::Dim, &format!("… and {more} more; --all shows them."));
        }
        if !shown.is_empty() {
            page.gap();
            page.line(Role::Dim, "Dates are in UTC.");
        }
        if !not_found.is_empty() {
            page.gap();
            page.label(Role::Warn, "Not found", &not_found.join(", "));
        }
        if !unreadable.is_empty() {
            page.head("Could not be read");
            for one in unreadable {
                page.item(Role::Warn, one);
            }
        }
    }
}

fn row(found: &FileFound) -> Vec<Cell> {
    let path = match (found.kind, &found.target) {
        (NameKind::Folder, _) => format!("{}/", found.path),
        (_, Some(target)) => format!("{} -> {target}", found.path),
        _ => found.path.clone(),
    };
    let when = found
        .modified
        .as_ref()
        .map_or_else(String::new, |when| when.replace('T', " ").chars().take(16).collect::<String>());
    let owner = match (&found.content, &found.version) {
        (Some(content), Some(version)) => format!("{content} {}", version.shown()).trim_end().to_owned(),
        (Some(content), None) => content.to_string(),
        (None, _) => String::new(),
    };
    let (role, owner) =
        if found.is_edited { (Role::Warn, format!("{owner}, edited since")) } else { (Role::Plain, owner) };
    vec![
        Cell::new(Role::Name, path),
        Cell::plain(found.size.map_or_else(String::new, size)),
        Cell::new(Role::Dim, when),
        Cell::new(role, owner),
    ]
}

/// Returns the patterns, those of standard input in the place of `-`.
fn patterns(args: &WhereArgs) -> Result<Vec<String>, AppError> {
    let mut patterns = Vec::new();
    for pattern in &args.patterns {
        if pattern != "-" {
            patterns.push(pattern.clone());
            continue;
        }
        let mut text = String::new();
        let read = io::stdin().lock().take(16 << 20).read_to_string(&mut text);
        read.map_err(|source| AppError::Io { what: "standard input".into(), source })?;
        patterns.extend(text.lines().map(str::trim).filter(|line| !line.is_empty()).map(str::to_owned));
    }
    if patterns.is_empty() {
        let what = "standard input names nothing to look for".to_owned();
        return Err(AppError::Usage { what, hint: Some("give a name, or a part of one".into()) });
    }
    Ok(patterns)
}

pub(crate) fn run(args: &WhereArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let waiting = ui.wait_quietly(&format!("Looking through {}", server.shown()));
    let report = find_files(&server, &patterns(args)?)?;
    drop(waiting);
    ui.show(&Shown { report: &report, all: args.all })?;
    Ok(if report.found.is_empty() { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}
