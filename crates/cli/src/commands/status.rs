//! `status`.

use std::process::ExitCode;

use yalotheca_app::{
    AppError, Purpose, Server,
    ops::status::{RunState, StatusReport, status},
};

use crate::{
    global::Global,
    ui::Ui,
    view::{Page, Role, View, count},
};

impl View for StatusReport {
    fn view(&self, page: &mut Page) {
        let name = &self.server;
        match self.state {
            RunState::Stopped => return page.line(Role::Plain, &format!("{name}: not running.")),
            RunState::Unknown => {
                let because = self.because.as_ref().map(|because| format!("; {because}")).unwrap_or_default();
                let text = format!("{name}: nothing here can tell whether it runs{because}.");
                return page.line(Role::Warn, &text);
            }
            RunState::Running => {}
        }
        let how = match self.process {
            Some(pid) if self.left_by_trial => format!("process {pid}, left by a trial"),
            Some(pid) => format!("process {pid}"),
            None => self.because.clone().unwrap_or_default(),
        };
        let since = self
            .running_for_s
            .filter(|age| *age > 0)
            .map(|age| format!(", for {}", long(age)))
            .unwrap_or_default();
        page.line(Role::Good, &format!("{name}: running ({how}){since}."));
        match self.port_answers {
            Some(true) => page.item(Role::Plain, "it answers at its port"),
            Some(false) => page.item(Role::Bad, "it does not answer at its port"),
            None => {}
        }
        match self.players.as_deref() {
            None => {}
            Some([]) => page.item(Role::Plain, "no players"),
            Some(names) => {
                page.item(Role::Plain, &format!("{}: {}", count(names.len(), "player"), names.join(", ")));
            }
        }
    }
}

fn long(seconds: u64) -> String {
    match seconds {
        ..120 => format!("{seconds} s"),
        120..7_200 => format!("{} min", seconds / 60),
        7_200..172_800 => format!("{} h", seconds / 3_600),
        _ => format!("{} days", seconds / 86_400),
    }
}

pub(crate) fn run(global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let report = status(&server, ui)?;
    ui.show(&report)?;
    let is_well = report.state == RunState::Running && report.port_answers != Some(false);
    Ok(if is_well { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}
