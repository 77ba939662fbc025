//! `undo`.

use std::process::ExitCode;

use clap::Args;
use clap_complete::ArgValueCandidates;
use serde::Serialize;
use yalotheca_app::{
    AppError, Prompt, Purpose, Server,
    apply::changed_files,
    ops::undo::{UndoPlan, changes_to_undo, plan_undo, undo_to_redo},
};
use yalotheca_host::settle::Past;

use super::apply::while_stopped;
use crate::{
    complete,
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
    #[arg(value_name = "NUMBER", add = ArgValueCandidates::new(complete::changes))]
    number: Option<u32>,
    /// Go ahead although another account, or another machine, recorded the change
    #[arg(long)]
    recorded_elsewhere: bool,
}

/// Redo what was undone last.
#[derive(Debug, Args)]
pub(crate) struct RedoArgs {
    /// Redo everything that was undone since the last other change
    #[arg(long)]
    all: bool,
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
    let mut done = take_back(&server, first, ("Take this back?", args.recorded_elsewhere), ui)?;
    for past in rest {
        if done == TookBack::No {
            break;
        }
        let server = Server::open(Purpose::Look, &global.open(), ui)?;
        done = take_back(&server, past, ("Take this back as well?", args.recorded_elsewhere), ui)?;
    }
    Ok(done.into())
}

pub(crate) fn redo(args: &RedoArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let mut server = Server::open(Purpose::Look, &global.open(), ui)?;
    let mut undo = undo_to_redo(&server)?;
    loop {
        let done = take_back(&server, &undo, ("Do it again?", args.recorded_elsewhere), ui)?;
        if !args.all || done != TookBack::Yes {
            return Ok(done.into());
        }
        server = Server::open(Purpose::Look, &global.open(), ui)?;
        // That nothing is left to do again is no fault then.
        match undo_to_redo(&server) {
            Ok(next) => undo = next,
            Err(_) => return Ok(ExitCode::SUCCESS),
        }
    }
}

/// Takes one settle back, an undo as any other.
fn take_back(
    server: &Server,
    past: &Past,
    (question, recorded_elsewhere): (&str, bool),
    ui: &Ui,
) -> Result<TookBack, AppError> {
    let plan = plan_undo(server, past, recorded_elsewhere)?;
    let mut view =
        UndoView { change: view_of(server, &plan)?, takes_back: past.clone(), wants_kept: plan.wants_kept };
    view.change.hide(ui);
    if !ui.is_json() && !ui.is_quiet() {
        ui.show(&view)?;
    }
    let settled = if plan.change.steps.is_empty() && !server.options().restarts() {
        ui.confirm(question)?.then(|| plan.settle(server)).transpose()?.map(|number| (number, None))
    } else {
        while_stopped(server, question, ui, || plan.settle(server))?
    };
    let Some((number, restart)) = settled else { return Ok(TookBack::No) };
    let is_up = restart.as_ref().is_none_or(|restart| restart.is_good != Some(false));
    view.change.restart = restart;
    view.change.settled = true;
    view.change.number = Some(number);
    view.change.hide(ui);
    if !ui.is_json() && !ui.is_quiet() {
        ui.print("\n")?;
    }
    ui.show(&view)?;
    Ok(if is_up { TookBack::Yes } else { TookBack::NotUp })
}

/// Whether a change was taken back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum TookBack {
    No,
    Yes,
    /// It was, and the server did not start well after that.
    NotUp,
}

impl From<TookBack> for ExitCode {
    fn from(done: TookBack) -> Self {
        if done == TookBack::NotUp { Self::FAILURE } else { Self::SUCCESS }
    }
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
