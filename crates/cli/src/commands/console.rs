//! `console`.

use std::{
    io::{self, BufRead, IsTerminal},
    path::PathBuf,
    process::ExitCode,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    thread,
    time::Duration,
};

use clap::Args;
use etcetera::BaseStrategy;
use rustyline::{
    Editor, ExternalPrinter, Helper, completion::Completer, error::ReadlineError, highlight::Highlighter,
    hint::Hinter, history::FileHistory, validate::Validator,
};
use yalotheca_app::{
    AppError, Purpose, Server,
    ops::console::{AnsweredCommand, ConsoleReport, connect, send},
};
use yalotheca_host::console::{ConsoleError, ConsoleSession};

use crate::{
    global::Global,
    ui::Ui,
    view::{Page, Role, View, visible},
};

/// Send commands to the running server; without one, ask for them at a prompt.
#[derive(Debug, Args)]
pub(crate) struct ConsoleArgs {
    /// What to send, each line in quotes
    #[arg(value_name = "LINE")]
    lines: Vec<String>,
}

/// How often what the server says is looked for while somebody types.
const PAUSE: Duration = Duration::from_millis(60);

impl View for ConsoleReport {
    fn view(&self, page: &mut Page) {
        let is_one = self.commands.len() == 1;
        for AnsweredCommand { sent, answer } in &self.commands {
            if !is_one {
                page.line(Role::Head, &format!("> {}", visible(sent)));
            }
            for line in answer.iter().filter(|line| !line.is_empty()) {
                page.raw(&visible(line));
            }
            if answer.iter().all(String::is_empty) {
                page.line(Role::Dim, "(no answer)");
            }
        }
    }
}

pub(crate) fn run(args: &ConsoleArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let mut lines = args.lines.clone();
    if lines.is_empty() {
        if io::stdin().is_terminal() && !ui.is_json() {
            return prompt(&server, ui);
        }
        let read = |source| AppError::Io { what: "reading the commands".into(), source };
        lines = io::stdin().lock().lines().collect::<Result<_, _>>().map_err(read)?;
        lines.retain(|line| !line.trim().is_empty());
    }
    let mut report = send(&server, &lines)?;
    for command in &mut report.commands {
        for line in &mut command.answer {
            *line = ui.hide(line);
        }
    }
    ui.show(&report)?;
    Ok(ExitCode::SUCCESS)
}

/// Asks for commands until there are no more, and prints what the server says as it comes.
fn prompt(server: &Server, ui: &Ui) -> Result<ExitCode, AppError> {
    let session = Arc::new(Mutex::new(connect(server)?));
    let failed =
        |error: ReadlineError| AppError::Io { what: "the prompt".into(), source: io::Error::other(error) };
    let commands = server.game.console.as_ref().map(|console| console.commands.clone()).unwrap_or_default();
    let mut editor: Editor<Commands, FileHistory> = Editor::new().map_err(failed)?;
    editor.set_helper(Some(Commands(commands)));
    let history = history_file(&server.game.name);
    if let Some(history) = &history {
        editor.load_history(history).ok();
    }
    ui.note(&format!(
        "The console of {}. Tab completes, ctrl-D leaves; the server goes on running.",
        server.shown()
    ));
    let is_over = Arc::new(AtomicBool::new(false));
    // A simple terminal shows what the server says unasked with the next answer.
    let printer = editor.create_external_printer().ok();
    let listener = printer.map(|printer| listen(Arc::clone(&session), printer, (Arc::clone(&is_over), ui)));
    let went = loop {
        let line = match editor.readline("> ") {
            Ok(line) => line.trim().to_owned(),
            Err(ReadlineError::Eof | ReadlineError::Interrupted) => break Ok(()),
            Err(error) => break Err(failed(error)),
        };
        if is_over.load(Ordering::Relaxed) {
            break Err(ConsoleError::Closed.into());
        }
        if line.is_empty() {
            continue;
        }
        editor.add_history_entry(&line).ok();
        let answer = {
            let mut session = session.lock().unwrap_or_else(PoisonError::into_inner);
            let unasked = session.unasked(Duration::ZERO).unwrap_or_default();
            session.send(&line).map(|answer| unasked.into_iter().chain(answer))
        };
        match answer {
            Ok(answer) => {
                for line in answer {
                    ui.print(&format!("{}\n", visible(&ui.hide(&line))))?;
                }
            }
            Err(error @ (ConsoleError::Line | ConsoleError::Silent { .. })) => ui.error(&error.into()),
            Err(error) => break Err(error.into()),
        }
    };
    is_over.store(true, Ordering::Relaxed);
    if let Some(listener) = listener {
        listener.join().ok();
    }
    if let Some(history) = &history {
        editor.save_history(history).ok();
    }
    went.map(|()| ExitCode::SUCCESS)
}

/// Prints what the server says unasked.
fn listen(
    session: Arc<Mutex<ConsoleSession>>,
    mut printer: impl ExternalPrinter + Send + 'static,
    (is_over, ui): (Arc<AtomicBool>, &Ui),
) -> thread::JoinHandle<()> {
    let hide = ui.hider();
    thread::spawn(move || {
        while !is_over.load(Ordering::Relaxed) {
            let came = session.lock().unwrap_or_else(PoisonError::into_inner).unasked(Duration::ZERO);
            let Ok(lines) = came else {
                is_over.store(true, Ordering::Relaxed);
                printer.print("The server closed the console. Press Enter.\n".into()).ok();
                return;
            };
            for line in lines {
                printer.print(format!("{}\n", visible(&hide(&line)))).ok();
            }
            thread::sleep(PAUSE);
        }
    })
}

/// Returns where the commands of a game are remembered.
fn history_file(game: &str) -> Option<PathBuf> {
    let dirs = etcetera::choose_base_strategy().ok()?;
    let folder = dirs.state_dir().unwrap_or_else(|| dirs.data_dir()).join("yalotheca");
    std::fs::create_dir_all(&folder).ok()?;
    Some(folder.join(format!("console-{game}.history")))
}

/// The commands that a definition names.
struct Commands(Vec<String>);

impl Completer for Commands {
    type Candidate = String;

    fn complete(
        &self,
        line: &str,
        at: usize,
        _: &rustyline::Context<'_>,
    ) -> rustyline::Result<(usize, Vec<String>)> {
        let typed = &line[..at];
        Ok((0, self.0.iter().filter(|command| command.starts_with(typed)).cloned().collect()))
    }
}

impl Hinter for Commands {
    type Hint = String;
}
impl Highlighter for Commands {}
impl Validator for Commands {}
impl Helper for Commands {}
