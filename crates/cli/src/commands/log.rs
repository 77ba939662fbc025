//! `log`.

use std::process::ExitCode;

use clap::Args;
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::log::{LogLine, LogReport, LogRequest, follow, log},
};

use crate::{
    global::Global,
    ui::Ui,
    view::{Page, Role, View, count},
};

/// Show the end of the server's log, with what its lines mean.
#[derive(Debug, Args)]
pub(crate) struct LogArgs {
    /// How many lines
    #[arg(long, value_name = "NUMBER", default_value_t = 40)]
    lines: usize,
    /// Go on with what the server writes, until ctrl-C
    #[arg(long)]
    follow: bool,
    /// The log to read, below the server's folder; else the one that the game definition names
    #[arg(long, value_name = "FILE")]
    log: Option<String>,
}

impl View for LogReport {
    fn view(&self, page: &mut Page) {
        page.line(Role::Head, &format!("{} of {}", self.log, self.server));
        if self.left_out > 0 {
            page.line(
                Role::Dim,
                &format!("({} before these; --lines shows more)", count(self.left_out, "line")),
            );
        }
        for line in &self.lines {
            told(page, line);
        }
        if self.lines.is_empty() {
            page.line(Role::Plain, "Nothing has been written there.");
        }
    }
}

impl View for LogLine {
    fn view(&self, page: &mut Page) {
        told(page, self);
    }
}

fn told(page: &mut Page, line: &LogLine) {
    page.raw(&line.line);
    if let Some(means) = &line.means {
        page.under(Role::Warn, means);
    }
    if let Some(advice) = &line.advice {
        page.under(Role::Plain, advice);
    }
}

pub(crate) fn run(args: &LogArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let request = LogRequest { file: args.log.clone(), lines: args.lines };
    let hidden = |line: &LogLine| LogLine {
        line: ui.hide(&line.line),
        means: line.means.as_ref().map(|means| ui.hide(means)),
        advice: line.advice.clone(),
    };
    let mut report = log(&server, &request)?;
    report.lines = report.lines.iter().map(hidden).collect();
    ui.show(&report)?;
    if args.follow {
        follow(&server, &request, &mut |line| ui.show(&hidden(line)))?;
    }
    Ok(ExitCode::SUCCESS)
}
