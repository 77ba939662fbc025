//! Another front end: prints what settling a server would do. `cargo run -p yalotheca-app --example plan -- FOLDER`

use std::{error::Error, io::Write, path::PathBuf};

use yalotheca_app::{
    Answer, AppError, Event, OpenOptions, Progress, Prompt, Purpose, Server,
    apply::prepare,
    ops::settle::{SettleRequest, settle},
};

/// Agrees to nothing and hears nothing.
struct Silent;

impl Prompt for Silent {
    fn confirm(&self, _: &str) -> Result<bool, AppError> {
        Ok(false)
    }
    fn text(&self, _: &str) -> Answer {
        Answer::Nobody
    }
}

impl Progress for Silent {
    fn event(&self, _: Event<'_>) {}
}

fn main() -> Result<(), Box<dyn Error>> {
    let at = std::env::args_os().nth(1).map(PathBuf::from);
    let options = OpenOptions { at, command: "the example plan".into(), ..OpenOptions::default() };
    let server = Server::open(Purpose::Look, &options, &Silent)?;
    let change = settle(&server, &SettleRequest::default())?;
    let catalogues = server.catalogues_for(&change.wants);
    let prepared = prepare(&server, &catalogues, &change.wants, &change.fresh, change.extras)?;
    let mut out = std::io::stdout();
    writeln!(out, "{}: {}", server.shown(), prepared.summary())?;
    for line in &prepared.planned.change.files {
        writeln!(out, "  {:?} {}", line.act, line.path)?;
    }
    Ok(())
}
