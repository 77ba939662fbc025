//! `history`.

use std::process::ExitCode;

use yalotheca_app::{
    AppError, Purpose, Server,
    ops::history::{HistoryReport, history},
};

use crate::{
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View},
};

impl View for HistoryReport {
    fn view(&self, page: &mut Page) {
        if self.history.is_empty() {
            page.line(Role::Plain, &format!("{}: nothing has been changed yet.", self.server));
            return;
        }
        page.line(Role::Head, &format!("Changes on {}", self.server));
        page.gap();
        let rows: Vec<Vec<Cell>> = self
            .history
            .iter()
            .rev()
            .map(|past| {
                let when = past.origin.when.replace('T', " ").replace(":00Z", "Z");
                let when = when.trim_end_matches('Z').chars().take(16).collect::<String>();
                let undone = if past.undone { "taken back: " } else { "" };
                vec![
                    Cell::new(Role::Name, past.number.to_string()),
                    Cell::new(Role::Dim, format!("{when} UTC")),
                    Cell::plain(past.origin.who.clone()),
                    Cell::plain(past.origin.command.clone()),
                    Cell::new(Role::Dim, format!("{undone}{}", past.origin.summary)),
                ]
            })
            .collect();
        page.table(&rows);
    }
}

pub(crate) fn run(global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    ui.show(&history(&server)?)?;
    Ok(ExitCode::SUCCESS)
}
