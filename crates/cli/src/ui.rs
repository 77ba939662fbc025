//! The only place that writes to the person: results on standard output, the rest on standard error.

use std::{
    cell::RefCell,
    io::{self, BufRead, BufWriter, IsTerminal, Write},
    sync::Arc,
};

use anstream::{AutoStream, ColorChoice, adapter::strip_str};
use serde::Serialize;
use yalotheca_app::{
    Answer, AppError, Event, Progress, Prompt,
    secrets::Secrets,
    words::{count, size},
};
use yalotheca_core::{
    control::{LOCK_FILE, WANTS_FILE},
    hint::Hint,
    link::shown_in,
};
use yalotheca_host::fetch::{Nobody, Watch};

use crate::{
    global::Global,
    view::{
        Page, Role, View,
        advice::in_words,
        bars::Bars,
        lineup,
        recovered::{recovered, step_in_words},
        visible,
        waiting::Waiting,
    },
};

/// Speaks with the person.
#[derive(Debug)]
#[expect(clippy::struct_excessive_bools, reason = "each is an option of its own")]
pub(crate) struct Ui {
    json: bool,
    quiet: bool,
    verbose: bool,
    yes: bool,
    proved: bool,
    else_undo: bool,
    width: usize,
    secrets: RefCell<Secrets>,
}

const WIDEST: usize = 100;

impl Prompt for Ui {
    fn text(&self, question: &str) -> Answer {
        if !io::stdin().is_terminal() || !io::stderr().is_terminal() || self.is_json() {
            return Answer::Nobody;
        }
        let mut err = anstream::stderr().lock();
        let asked =
            err.write_all(format!("{} ", visible(&shown_in(question))).as_bytes()).and_then(|()| err.flush());
        let mut line = String::new();
        match asked.and_then(|()| io::stdin().read_line(&mut line)) {
            Ok(0) | Err(_) => Answer::Nobody,
            Ok(_) if line.trim().is_empty() => Answer::Nothing,
            Ok(_) => Answer::Text(line.trim().to_owned()),
        }
    }

    fn secret(&self, question: &str) -> Answer {
        if !io::stdin().is_terminal() || !io::stderr().is_terminal() || self.is_json() {
            return Answer::Nobody;
        }
        // What is typed is not shown.
        let before = rustix::termios::tcgetattr(io::stdin()).ok();
        if let Some(mut quiet) = before.clone() {
            quiet.local_modes.remove(rustix::termios::LocalModes::ECHO);
            rustix::termios::tcsetattr(io::stdin(), rustix::termios::OptionalActions::Now, &quiet).ok();
        }
        let mut err = anstream::stderr().lock();
        let asked =
            err.write_all(format!("{} ", visible(&shown_in(question))).as_bytes()).and_then(|()| err.flush());
        let mut line = String::new();
        let read = asked.and_then(|()| io::stdin().read_line(&mut line));
        if let Some(before) = before {
            rustix::termios::tcsetattr(io::stdin(), rustix::termios::OptionalActions::Now, &before).ok();
            err.write_all(b"\n").ok();
        }
        match read {
            Ok(0) | Err(_) => Answer::Nobody,
            Ok(_) => match line.trim_end_matches(['\r', '\n']) {
                "" => Answer::Nothing,
                // Spaces may belong to it.
                text => Answer::Text(text.to_owned()),
            },
        }
    }

    fn confirm(&self, question: &str) -> Result<bool, AppError> {
        if self.yes {
            return Ok(true);
        }
        if !io::stdin().is_terminal() || self.json {
            return Err(AppError::Refused {
                what: "this needs confirmation".into(),
                hint: Some("run it in a terminal, or add --yes; nothing was changed".into()),
            });
        }
        let mut out = anstream::stderr();
        write!(out, "{} [y/N] ", visible(&shown_in(question))).and_then(|()| out.flush()).ok();
        let mut answer = String::new();
        io::stdin()
            .lock()
            .read_line(&mut answer)
            .map_err(|source| AppError::Io { what: "reading the answer".into(), source })?;
        Ok(matches!(answer.trim().to_lowercase().as_str(), "y" | "yes"))
    }
}

impl Progress for Ui {
    fn event(&self, event: Event<'_>) {
        match event {
            Event::Recovered(outcome) => self.warn(&recovered(outcome)),
            Event::ForeignFolder { file, why } => self.warn(&format!(
                "{}: {why}. It says what this server should run and which programs are started.",
                file.display()
            )),
            Event::ForeignChange { number, origin, steps } => {
                self.warn(&format!(
                    "Change {number} ({}, by {}) was interrupted, and this account has no record of it. \
                     Going on with it would do this:",
                    origin.command, origin.who
                ));
                for step in steps {
                    self.warn(&format!("  {}", step_in_words(step)));
                }
                self.warn(&format!("  and {WANTS_FILE} and {LOCK_FILE} would be as its record says."));
            }
            Event::Secrets(secrets) => drop(self.secrets.replace(secrets)),
            Event::MayBeRunning(doubt) => self.warn(doubt),
            Event::Starting(server) => self.note(&format!("Starting {server} …")),
            Event::Announced { text, before } => {
                let when = match before.as_secs() {
                    0 => "The server is stopped now".to_owned(),
                    seconds @ 1..120 => format!("The server is stopped in {seconds} s"),
                    seconds => format!("The server is stopped in {} min", seconds / 60),
                };
                self.note(&format!("Players were told: {text}. {when}."));
            }
            Event::WillDownload { files, bytes } => {
                let (files, bytes) = (count(files, "file"), size(bytes));
                self.note(&format!("Reading every byte over the network: {files}, {bytes}."));
            }
            Event::Unreachable(catalogue) => {
                self.warn(&format!("{catalogue}. Its contents are not known now."));
            }
        }
    }

    /// Progress bars on a terminal; nothing elsewhere.
    fn watch(&self) -> Arc<dyn Watch> {
        if self.draws() { Arc::new(Bars::new()) } else { Arc::new(Nobody) }
    }
}

impl Ui {
    pub(crate) fn new(global: &Global) -> Self {
        let asked = std::env::var("COLUMNS").ok().and_then(|text| text.parse().ok());
        let real = terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
        let width = asked.or(real).unwrap_or(WIDEST).clamp(40, WIDEST);
        Self {
            json: global.json,
            quiet: global.quiet,
            verbose: global.verbose,
            yes: global.yes,
            proved: global.proved,
            else_undo: global.else_undo,
            width,
            secrets: RefCell::default(),
        }
    }

    /// Says what is waited for as long as that takes: with a line that moves on a terminal, else once.
    pub(crate) fn wait(&self, what: &str) -> Waiting {
        if !self.draws() {
            self.note(&format!("{what} …"));
        }
        self.wait_quietly(what)
    }

    /// The same for what is mostly over at once, so that it is only worth a word on a terminal.
    pub(crate) fn wait_quietly(&self, what: &str) -> Waiting {
        if self.draws() { Waiting::draw(what) } else { Waiting::silent() }
    }

    /// Whether lines that move are drawn.
    fn draws(&self) -> bool {
        io::stderr().is_terminal() && !self.quiet && !self.json && !self.verbose
    }

    /// Returns a text as it may be shown.
    pub(crate) fn hide(&self, text: &str) -> String {
        self.secrets.borrow().hide(text)
    }

    /// Returns what hides secrets, from any thread.
    pub(crate) fn hider(&self) -> impl Fn(&str) -> String + Send + use<> {
        let secrets = self.secrets.borrow().clone();
        move |text| secrets.hide(text)
    }

    /// An error's first line is ours; behind it stands what is in a file.
    fn hide_error(&self, text: &str) -> String {
        match text.split_once('\n') {
            Some((first, rest)) => format!("{}\n{}", shown_in(first), self.hide(rest)),
            None => shown_in(text),
        }
    }

    /// Whether more of what happens should be told.
    pub(crate) fn is_verbose(&self) -> bool {
        self.verbose
    }

    /// Whether everything is agreed to without being asked.
    pub(crate) fn is_unasked(&self) -> bool {
        self.yes
    }

    /// Whether a change is made on a copy first.
    pub(crate) fn wants_proof(&self) -> bool {
        self.proved
    }

    /// Whether a change after which the server does not start well is taken back.
    pub(crate) fn takes_back(&self) -> bool {
        self.else_undo
    }

    /// Whether only results are printed.
    pub(crate) fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// Whether results are printed as JSON.
    pub(crate) fn is_json(&self) -> bool {
        self.json
    }

    /// Prints a command's result.
    pub(crate) fn show<T: Serialize + View>(&self, result: &T) -> Result<(), AppError> {
        if self.json {
            let mut out = BufWriter::with_capacity(1 << 16, io::stdout().lock());
            let written = serde_json::to_writer_pretty(&mut out, result).map_err(io::Error::from);
            return is_told(written.and_then(|()| out.write_all(b"\n")).and_then(|()| out.flush()));
        }
        let mut page = Page::new(self.width);
        result.view(&mut page);
        self.print(&page.into_text())
    }

    /// Prints text on standard output. A reader that has gone away is no error.
    #[expect(clippy::unused_self, reason = "who may print is who has the Ui")]
    pub(crate) fn print(&self, text: &str) -> Result<(), AppError> {
        let mut out = io::stdout().lock();
        let bare = (AutoStream::choice(&out) == ColorChoice::Never).then(|| strip_str(text).to_string());
        is_told(out.write_all(bare.as_deref().unwrap_or(text).as_bytes()).and_then(|()| out.flush()))
    }

    /// Tells something that is not the result.
    pub(crate) fn note(&self, text: &str) {
        if !self.quiet {
            self.tell(Role::Dim, text);
        }
    }

    /// Returns what tells a line as [`Ui::note`] does, from any thread.
    pub(crate) fn teller(&self) -> impl Fn(&str) + Send + Sync + use<> {
        let (quiet, width) = (self.quiet, self.width);
        move |text| {
            if !quiet {
                tell(width, Role::Dim, text);
            }
        }
    }

    /// Tells something that must not be missed, even when quiet.
    pub(crate) fn warn(&self, text: &str) {
        self.tell(Role::Warn, text);
    }

    fn tell(&self, role: Role, text: &str) {
        tell(self.width, role, text);
    }

    /// Tells an error: what, then what can be done.
    pub(crate) fn error(&self, error: &AppError) {
        if self.json {
            let mut result = serde_json::json!({
                "error": self.hide_error(&error.to_string()),
                "hint": error.hint().map(|hint| shown_in(&in_words(&hint))),
            });
            if let AppError::NoLineup(explanation) = error {
                result["no_lineup"] = lineup::as_json(explanation);
            }
            if let AppError::Solver { question, .. } = error {
                result["question"] = (**question).clone();
            }
            self.print(&format!("{result:#}\n")).ok();
            return;
        }
        let mut page = Page::new(self.width);
        let text = self.hide_error(&error.to_string());
        let mut lines = text.lines();
        page.label(Role::Bad, "Error", lines.next().unwrap_or(""));
        for line in lines {
            page.raw(line);
        }
        if let AppError::NoLineup(explanation) = error {
            lineup::explain(&mut page, explanation);
        }
        if let Some(hint) = error.hint() {
            page.label(Role::Head, "To do", &shown_in(&in_words(&hint)));
        }
        anstream::stderr().write_all(page.into_text().as_bytes()).ok();
    }
}

fn tell(width: usize, role: Role, text: &str) {
    let mut page = Page::new(width);
    page.line(role, &shown_in(text));
    anstream::stderr().write_all(page.into_text().as_bytes()).ok();
}

/// A reader that has gone away is no error.
fn is_told(written: io::Result<()>) -> Result<(), AppError> {
    match written {
        Err(error) if error.kind() != io::ErrorKind::BrokenPipe => {
            Err(AppError::Io { what: "writing to standard output".into(), source: error })
        }
        _ => Ok(()),
    }
}
