//! `order`.

use std::process::ExitCode;

use clap::Args;
use clap_complete::ArgValueCandidates;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::order::{OrderReport, OrderedContent, PlaceRequest, order, place},
};
use yalotheca_core::id::ContentId;

use super::apply::{Mode, apply};
use crate::{
    complete,
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, order as words},
};

/// Show the load order with its reasons, or ask for another place in it.
#[derive(Debug, Args)]
pub(crate) struct OrderArgs {
    /// The content to place; without it the order is shown
    #[arg(add = ArgValueCandidates::new(complete::installed))]
    name: Option<String>,
    /// Load it after these
    #[arg(long, value_name = "NAME", requires = "name", add = ArgValueCandidates::new(complete::installed))]
    after: Vec<String>,
    /// Load it before these
    #[arg(long, value_name = "NAME", requires = "name", add = ArgValueCandidates::new(complete::installed))]
    before: Vec<String>,
    /// Forget what was asked of its place
    #[arg(long, requires = "name", conflicts_with_all = ["after", "before"])]
    free: bool,
}

impl View for OrderReport {
    fn view(&self, page: &mut Page) {
        page.head(&format!("Load order of {}", self.server));
        let rows: Vec<Vec<Cell>> = self.order.iter().map(row).collect();
        page.table(&rows);
        if self.by_server {
            page.gap();
            page.line(
                Role::Dim,
                "The server orders contents by itself, by what they need; this order suits these needs.",
            );
        }
        for circle in &self.circles {
            let names: Vec<&str> = circle.iter().map(ContentId::as_str).collect();
            page.gap();
            page.label(Role::Warn, "Circle", &format!("each of these needs the next: {}", names.join(", ")));
        }
        words::gave_way(page, &self.gave_way);
    }
}

fn row(placed: &OrderedContent) -> Vec<Cell> {
    let reasons = placed.after.iter().map(|reason| reason.says.clone());
    let group = placed.group.iter().map(|patterns| format!("in the group {patterns}"));
    let reasons: Vec<String> = reasons.chain(group).collect();
    vec![
        Cell::new(Role::Dim, placed.place.to_string()),
        Cell::new(Role::Name, placed.version.named(&placed.id)),
        Cell::plain(reasons.join("; ")),
    ]
}

pub(crate) fn run(args: &OrderArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let purpose = if args.name.is_none() { Purpose::Look } else { Purpose::Change };
    let server = Server::open(purpose, &global.open(), ui)?;
    let Some(name) = &args.name else {
        ui.show(&order(&server))?;
        return Ok(ExitCode::SUCCESS);
    };
    let request = PlaceRequest {
        name: name.clone(),
        after: args.after.clone(),
        before: args.before.clone(),
        free: args.free,
    };
    apply(&server, place(&server, &request)?, Mode::default(), ui)
}
