//! `undo`.

use std::process::ExitCode;

use clap::Args;
use serde::Serialize;
use yalotheca_app::{
    AppError, Prompt, Purpose, Server,
    apply::changed_files,
    ops::undo::{UndoPlan, changes_to_undo, plan_undo, undo_to_redo},
};
use yalotheca_host::settle::Past;

use super::apply::while_stopped;
use crate::{
    global::Global,
    ui::Ui,
    view::{Page, Role, View, change::ChangeView},
};

/// What an undo takes back.
#[derive(Debug, Serialize)]
struct UndoView {
    takes_back: Past,
    /// Whether yalotheca.toml was edited since, and so stays as it is.
    wants_kept: bool,
    #[serde(flatten)]
    change: ChangeView,
}

impl View for UndoView {
    fn view(&self, page: &mut Page) {
        if !self.change.settled {
            let Past { number, origin, .. } = &self.takes_back;
            let number = number.to_string();
            page.label(
                Role::Head,
                &format!("Change {number}"),
                &format!("{} ({})", origin.command, origin.summary),
            );
            page.gap();
        }
        self.change.view(page);
        if self.wants_kept {
            page.gap();
            page.line(
                Role::Warn,
                "The same lines of yalotheca.toml were edited since. That file stays as it is, and the next settle follows it.",
            );
        }
    }
}

/// Take changes back.
#[derive(Debug, Args)]
pub(crate) struct UndoArgs {
    /// The change to take back, with all after it; without a number, the last one
    #[arg(value_name = "NUMBER")]
    number: Option<u32>,
    /// Go ahead although another account, or another machine, recorded the change
    #[arg(long)]
    recorded_elsewhere: bool,
}

/// Redo what was undone last.
#[derive(Debug, Args)]
pub(crate) struct RedoArgs {
    /// Go ahead although another account, or another machine, recorded the change
    #[arg(long)]
    recorded_elsewhere: bool,
}

pub(crate) fn run(args: &UndoArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let back = changes_to_undo(&server, args.number)?;
    let Some((first, rest)) = back.split_first() else { return Ok(ExitCode::SUCCESS) };
    if !rest.is_empty() {
        let numbers: Vec<String> = back.iter().map(|past| past.number.to_string()).collect();
        ui.note(&format!("Takes back {}, the latest first.", numbers.join(", ")));
    }
    if !take_back(&server, first, ("Take this back?", args.recorded_elsewhere), ui)? {
        return Ok(ExitCode::SUCCESS);
    }
    for past in rest {
        let server = Server::open(Purpose::Look, &global.open(), ui)?;
        if !take_back(&server, past, ("Take this back as well?", args.recorded_elsewhere), ui)? {
            break;
        }
    }
    Ok(ExitCode::SUCCESS)
}

pub(crate) fn redo(args: &RedoArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let undo = undo_to_redo(&server)?;
    take_back(&server, &undo, ("Do it again?", args.recorded_elsewhere), ui)?;
    Ok(ExitCode::SUCCESS)
}

/// Takes one settle back, an undo as any other; returns whether it was done.
fn take_back(
    server: &Server,
    past: &Past,
    (question, recorded_elsewhere): (&str, bool),
    ui: &Ui,
) -> Result<bool, AppError> {
    let plan = plan_undo(server, past, recorded_elsewhere)?;
    let mut view =
        UndoView { change: view_of(server, &plan)?, takes_back: past.clone(), wants_kept: plan.wants_kept };
    view.change.hide(ui);
    if !ui.is_json() && !ui.is_quiet() {
        ui.show(&view)?;
    }
    let settled = if plan.change.steps.is_empty() {
        ui.confirm(question)?.then(|| plan.settle(server)).transpose()?
    } else {
        while_stopped(server, question, ui, || plan.settle(server))?
    };
    let Some(number) = settled else { return Ok(false) };
    view.change.settled = true;
    view.change.number = Some(number);
    if !ui.is_json() && !ui.is_quiet() {
        ui.print("\n")?;
    }
    ui.show(&view)?;
    Ok(true)
}

fn view_of(server: &Server, plan: &UndoPlan) -> Result<ChangeView, AppError> {
    let change = &plan.change;
    let mut contents = plan.contents(server)?;
    for line in &mut contents {
        line.why.clear();
    }
    Ok(ChangeView {
        server: server.shown(),
        contents,
        files: change.files.iter().rev().cloned().collect(),
        config: change.config.clone(),
        kept: changed_files(server, change),
        ..ChangeView::default()
    })
}
