//! `clashes`.

use std::{fs, io::Read, process::ExitCode};

use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::clashes::{ClashLine, ClashesReport, KeepRequest, clashes, keep},
};

use super::apply::{Mode, apply};
use crate::{
    complete,
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, count},
};

/// Show the assets that several contents have under one name, or decide whose counts.
#[derive(Debug, Args)]
pub(crate) struct ClashesArgs {
    #[command(subcommand)]
    act: Option<ClashesAct>,
    /// List every name, those with the same bytes as well
    #[arg(long)]
    all: bool,
}

#[derive(Debug, Subcommand)]
enum ClashesAct {
    /// Decide from which content assets come; the others' copies are set aside, also after updates
    Keep {
        /// The assets' names
        #[arg(value_name = "ASSET", required_unless_present_any = ["all", "list"])]
        names: Vec<String>,
        /// The content from which they come
        #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(complete::installed))]
        from: String,
        /// All that this content shares with others
        #[arg(long)]
        all: bool,
        /// A file with names, one a line, with or without path or bullet; - for standard input
        #[arg(long, value_name = "FILE")]
        list: Option<String>,
    },
    /// Note an author's list of names that must come from their content only
    Owns {
        /// The list: a file with one name a line, or - for standard input
        #[arg(value_name = "LIST")]
        list: String,
        /// The content
        #[arg(long = "for", value_name = "NAME", add = ArgValueCandidates::new(complete::installed))]
        name: String,
    },
    /// Forget what was decided; the load order counts again
    Free {
        /// The assets' names
        #[arg(value_name = "ASSET", required = true)]
        names: Vec<String>,
    },
}

struct Shown {
    report: ClashesReport,
    all: bool,
}

impl serde::Serialize for Shown {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.report.serialize(serializer)
    }
}

impl View for Shown {
    fn view(&self, page: &mut Page) {
        let ClashesReport { server, assets, clashes, kept } = &self.report;
        let differing: Vec<&ClashLine> = clashes.iter().filter(|clash| !clash.same).collect();
        let looked = count(*assets, "file");
        if differing.is_empty() {
            page.line(
                Role::Good,
                &format!("{server}: no two contents differ in an asset ({looked} looked at)."),
            );
        } else {
            let many = count(differing.len(), "asset");
            page.line(Role::Bad, &format!("{server}: {many} in different versions ({looked} looked at)"));
        }
        let mut pairs: Vec<(&[String], Vec<&ClashLine>)> = Vec::new();
        for clash in &differing {
            match pairs.iter_mut().find(|(from, _)| *from == clash.from.as_slice()) {
                Some((_, clashes)) => clashes.push(clash),
                None => pairs.push((&clash.from, vec![clash])),
            }
        }
        for (from, clashes) in pairs {
            let shown = clashes.first().map_or("", |clash| clash.shown.as_str());
            page.head(&format!("{}: players see those of {shown}", from.join(" and ")));
            let row = |clash: &&ClashLine| {
                let owner = clash.owner.as_ref().filter(|owner| owner.as_str() != clash.shown);
                let says = owner
                    .map_or_else(String::new, |owner| format!("{owner} says that it must come from there"));
                let place = if clash.inside { "inside archives" } else { "" };
                vec![
                    Cell::new(Role::Name, clash.name.clone()),
                    Cell::new(Role::Dim, place),
                    Cell::new(Role::Warn, says),
                ]
            };
            page.table(&clashes.iter().map(row).collect::<Vec<_>>());
        }
        let same: Vec<&ClashLine> = clashes.iter().filter(|clash| clash.same).collect();
        if self.all && !same.is_empty() {
            page.head("The same bytes in each");
            let row = |clash: &&ClashLine| {
                vec![Cell::new(Role::Name, clash.name.clone()), Cell::new(Role::Dim, clash.from.join(", "))]
            };
            page.table(&same.iter().map(row).collect::<Vec<_>>());
        } else if !same.is_empty() {
            page.gap();
            let them = if same.len() == 1 { "it" } else { "them" };
            let many = count(same.len(), "more asset");
            let more = format!("{many} with the same bytes in each; --all lists {them}.");
            page.line(Role::Dim, &more);
        }
        if !kept.is_empty() {
            page.head("Decided");
            let row = |(name, from): (&String, &yalotheca_core::id::ContentId)| {
                vec![Cell::new(Role::Name, name.clone()), Cell::plain(format!("from {from}"))]
            };
            page.table(&kept.iter().map(row).collect::<Vec<_>>());
        }
        if !differing.is_empty() {
            page.head("How to decide");
            if differing.iter().any(|clash| !clash.inside) {
                page.item(Role::Name, "yalotheca clashes keep ASSET --from NAME");
                page.item(Role::Name, "yalotheca clashes keep --all --from NAME");
            }
            if differing.iter().any(|clash| clash.inside) {
                page.item(Role::Name, "yalotheca order NAME --after OTHER");
            }
        }
    }
}

fn text_of(file: &str) -> Result<String, AppError> {
    let failed = |source| AppError::Io { what: file.to_owned(), source };
    if file == "-" {
        let mut text = String::new();
        std::io::stdin().read_to_string(&mut text).map_err(failed)?;
        return Ok(text);
    }
    fs::read_to_string(file).map_err(failed)
}

pub(crate) fn run(args: &ClashesArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let purpose = if args.act.is_none() { Purpose::Look } else { Purpose::Change };
    let server = Server::open(purpose, &global.open(), ui)?;
    let request = match &args.act {
        None => {
            let report = clashes(&server)?;
            let differs = report.clashes.iter().any(|clash| !clash.same);
            ui.show(&Shown { report, all: args.all })?;
            return Ok(if differs { ExitCode::FAILURE } else { ExitCode::SUCCESS });
        }
        Some(ClashesAct::Keep { names, from, all, list }) => KeepRequest {
            names: names.clone(),
            all: *all,
            list: list.as_deref().map(text_of).transpose()?,
            from: Some(from.clone()),
            forget: false,
        },
        Some(ClashesAct::Owns { list, name }) => {
            KeepRequest { list: Some(text_of(list)?), from: Some(name.clone()), ..KeepRequest::default() }
        }
        Some(ClashesAct::Free { names }) => {
            KeepRequest { names: names.clone(), forget: true, ..KeepRequest::default() }
        }
    };
    apply(&server, keep(&server, &request)?, Mode::default(), ui)
}
