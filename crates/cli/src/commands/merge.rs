//! `merge`: merges resource packs into one.

use std::{path::PathBuf, process::ExitCode};

use clap::Args;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::merge::{ConflictLine, MergeReport, MergeRequest, MergedFile, MergedPack, merge, refuse_to_replace},
};
use yalotheca_core::merge::MergeHow;

use crate::{
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, count, size},
};

/// Merge resource packs into one.
#[derive(Debug, Args)]
pub(crate) struct MergeArgs {
    /// The packs, highest priority first
    #[arg(value_name = "PACK", required = true, num_args = 2..)]
    packs: Vec<PathBuf>,
    /// Where to put the merged pack
    #[arg(long, value_name = "FILE", required_unless_present = "preview")]
    into: Option<PathBuf>,
    /// Only show the result; write nothing
    #[arg(long)]
    preview: bool,
    /// Take a file that several packs have from this pack; saved in yalotheca.toml
    #[arg(long, value_name = "PATH=PACK")]
    keep: Vec<String>,
    /// Replace an existing file
    #[arg(long)]
    force: bool,
}

fn how_in_words(how: MergeHow) -> &'static str {
    match how {
        MergeHow::Map => "all keys",
        MergeHow::MapOfLists => "all items of each list",
        MergeHow::Lines => "all lines",
        MergeHow::First => "the first",
    }
}

impl View for MergeReport {
    fn view(&self, page: &mut Page) {
        /// How many files of a sort are listed; JSON has all of them.
        const MOST: usize = 40;
        page.line(Role::Head, "Packs, highest priority first");
        let row = |pack: &MergedPack| {
            let mut notes = Vec::new();
            notes.extend(pack.wrapper.as_ref().map(|wrapper| format!("without the folder {wrapper}")));
            let left_out = pack.left_out.len();
            notes.extend((left_out > 0).then(|| format!("{} left out", count(left_out, "file"))));
            vec![
                Cell::new(Role::Name, pack.name.clone()),
                Cell::plain(count(pack.files, "file")),
                Cell::plain(
                    self.formats
                        .get(&pack.name)
                        .map_or_else(String::new, |format| format!("format {format}")),
                ),
                Cell::new(Role::Dim, notes.join(", ")),
            ]
        };
        page.table(&self.packs.iter().map(row).collect::<Vec<_>>());
        if !self.formats.is_empty() {
            page.gap();
            page.line(
                Role::Warn,
                "The packs have different formats; the game may not understand some of the files.",
            );
        }
        if !self.merged.is_empty() {
            page.head("Merged from several packs");
            let row = |file: &MergedFile| {
                vec![
                    Cell::new(Role::Name, file.path.clone()),
                    Cell::plain(file.packs.join(", ")),
                    Cell::new(Role::Dim, how_in_words(file.how)),
                ]
            };
            page.table(&self.merged.iter().take(MOST).map(row).collect::<Vec<_>>());
            more(page, self.merged.len(), MOST);
            let keys = self.merged.iter().flat_map(|file| file.conflicts.iter().map(move |key| (file, key)));
            let rows: Vec<Vec<Cell>> = keys
                .map(|(file, key)| {
                    vec![
                        Cell::new(Role::Name, format!("{} {}", file.path, key.key)),
                        Cell::plain(format!("from {}, not from {}", key.winner, key.loser)),
                    ]
                })
                .collect();
            if !rows.is_empty() {
                page.head("Keys with different values");
                page.table(&rows[..rows.len().min(MOST)]);
                more(page, rows.len(), MOST);
            }
        }
        view_conflicts(page, &self.conflicts, MOST);
        page.gap();
        let alike = match self.alike {
            0 => String::new(),
            alike => format!(", {alike} of them identical in several packs"),
        };
        page.line(Role::Plain, &format!("In all: {}{alike}.", count(self.files, "file")));
        if let Some(written) = &self.written {
            let same = if written.is_same { "; identical to the file that was there" } else { "" };
            page.line(Role::Good, &format!("Written: {} ({}){same}.", written.path, size(written.bytes)));
            page.line(Role::Plain, &format!("Its digest is {}.", written.digest));
        }
    }
}

fn more(page: &mut Page, all: usize, shown: usize) {
    if all > shown {
        page.line(Role::Dim, &format!("  and {} more", all - shown));
    }
}

/// Lists files that differ between packs.
fn view_conflicts(page: &mut Page, conflicts: &[ConflictLine], most: usize) {
    let (decided, open): (Vec<_>, Vec<_>) = conflicts.iter().partition(|conflict| conflict.decided);
    let row = |conflict: &&ConflictLine| {
        let others: Vec<&str> =
            conflict.packs.iter().filter(|name| **name != conflict.winner).map(String::as_str).collect();
        vec![
            Cell::new(Role::Name, conflict.path.clone()),
            Cell::plain(format!("from {}, not from {}", conflict.winner, others.join(", "))),
            Cell::new(Role::Warn, conflict.why.clone().unwrap_or_default()),
        ]
    };
    if !open.is_empty() {
        page.head("In several packs, with different bytes");
        page.table(&open.iter().take(most).map(row).collect::<Vec<_>>());
        more(page, open.len(), most);
        page.gap();
        page.line(
            Role::Dim,
            "The first pack's file is used. To use another one's, now and later: --keep PATH=PACK.",
        );
    }
    if !decided.is_empty() {
        page.head("Decided");
        page.table(&decided.iter().take(most).map(row).collect::<Vec<_>>());
        more(page, decided.len(), most);
    }
}

pub(crate) fn run(args: &MergeArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let purpose = if args.keep.is_empty() || args.preview { Purpose::Look } else { Purpose::Change };
    let server = Server::open(purpose, &global.open(), ui)?;
    let into = args.into.clone().filter(|_| !args.preview);
    if let Some(into) = into.as_ref().filter(|_| !args.force) {
        refuse_to_replace(into)?;
    }
    let request = MergeRequest { packs: args.packs.clone(), into, keep: args.keep.clone() };
    ui.show(&merge(&server, &request)?)?;
    Ok(ExitCode::SUCCESS)
}
