//! The command line of Yalotheca.

mod args;
mod commands;
mod complete;
mod exit;
mod global;
mod ui;
mod verbose;
mod view;

/// A catalogue is very many small things; this gives them room sooner than the system does.
#[global_allocator]
static MEMORY: mimalloc::MiMalloc = mimalloc::MiMalloc;

use std::{io::Write, path::Path, process::ExitCode, time::Instant};

use clap::{
    CommandFactory, Parser,
    error::{ContextKind, ContextValue},
};

use args::{Cli, Command};
use exit::exit_code;
use tracing::debug;
use ui::Ui;
use verbose::Events;
use view::visible;
use yalotheca_app::AppError;
use yalotheca_host::{
    interrupt::{self, Phase},
    settle::SettleError,
    tree::sftp,
};

fn main() -> ExitCode {
    if let Some(socket) = std::env::var_os(sftp::ASK_VARIABLE) {
        return ask_for_ssh(Path::new(&socket));
    }
    clap_complete::CompleteEnv::with_factory(Cli::command).var(commands::shell::VARIABLE).complete();
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => return wrong_use(&error),
    };
    if needs_little(&cli.command) {
        // With 2 MiB pages they take 30 to 37 MiB on a server of 50,000 files, without 20 to 22, and no longer. A command that
        // reads much is a tenth quicker with them.
        nix::sys::prctl::set_thp_disable(true).ok();
    }
    let ui = Ui::new(&cli.global);
    if cli.global.verbose {
        // Nothing else has told events to anybody yet.
        tracing::subscriber::set_global_default(Events(ui.teller())).ok();
    }
    // Stand-ins and the demo's children end as they please.
    if !matches!(cli.command, Command::Demo(_) | Command::StandIn(_)) {
        let tell = ui.teller();
        interrupt::tell_before_end(move |phase| tell(interrupted(phase))).ok();
    }
    let started = Instant::now();
    let done = run_on_what_is_there(&cli, &ui);
    debug!("in all {} ms", started.elapsed().as_millis());
    match done {
        Ok(code) => code,
        Err(error) => {
            ui.error(&error);
            exit_code(&error)
        }
    }
}

/// Whether a command reads a few small files and starts no server.
fn needs_little(command: &Command) -> bool {
    matches!(command, Command::List(_) | Command::Why(_) | Command::Order(_) | Command::History)
}

/// `ssh` has started this program to have something asked; the one that started `ssh` knows the answer, or asks.
fn ask_for_ssh(socket: &Path) -> ExitCode {
    let question = std::env::args().nth(1).unwrap_or_default();
    match sftp::ask_through(socket, &question) {
        Ok(answer) if writeln!(std::io::stdout(), "{answer}").is_ok() => ExitCode::SUCCESS,
        _ => ExitCode::FAILURE,
    }
}

/// What was done and what is left, where somebody ends the program.
fn interrupted(phase: Phase) -> &'static str {
    match phase {
        Phase::Changing => {
            "Interrupted in the middle of a change. The next yalotheca command finishes it or takes it back."
        }
        Phase::Looking | Phase::Watching => {
            "Interrupted. Nothing on the server was changed; what was downloaded is kept."
        }
    }
}

/// Words that people type for commands that are called otherwise here.
const OTHER_WORDS: &[(&str, &str)] = &[
    ("install", "add NAME"),
    ("get", "add NAME"),
    ("remove", "drop NAME"),
    ("uninstall", "drop NAME"),
    ("delete", "drop NAME"),
    ("rm", "drop NAME"),
    ("ls", "list"),
    ("verify", "check"),
    ("upgrade", "update"),
    ("search", "find WORDS"),
    ("info", "about NAME"),
    ("show", "about NAME"),
    ("enable", "on NAME"),
    ("disable", "off NAME"),
    ("diff", "preview --diff"),
    ("plan", "preview"),
    ("apply", "settle"),
    ("sync", "settle"),
    ("run", "start"),
    ("reload", "restart (or --live with a change, while it runs)"),
    ("doctor", "check"),
    ("diagnose", "trial"),
    ("debug", "trial"),
    ("logs", "log"),
    ("tail", "log --follow"),
    (
        "backup",
        "modpack export FILE (worlds are not in it; every change keeps what it replaces: history, undo)",
    ),
    ("restore", "undo"),
    ("export", "modpack export FILE"),
    ("kill", "stop"),
    ("test", "trial"),
    ("init", "adopt"),
    ("import", "adopt"),
    ("rollback", "undo"),
    ("revert", "undo"),
    ("config", "settings"),
    ("send", "console 'LINE'"),
    ("exec", "console 'LINE'"),
    ("set", "settings"),
];

/// Tells what was typed wrong, or the help that was asked for.
fn wrong_use(error: &clap::Error) -> ExitCode {
    // What was typed may have come from a stranger.
    let mut text = visible(&error.render().to_string()).into_owned();
    if let Some(ContextValue::String(word)) = error.get(ContextKind::InvalidSubcommand)
        && let Some((_, command)) = OTHER_WORDS.iter().find(|(other, _)| other == word)
    {
        text = format!("error: there is no command {word}; here it is called yalotheca {command}\n");
    }
    let is_help = !error.use_stderr();
    if !is_help && std::env::args_os().any(|word| word == "--json") {
        let mut paragraphs = text.trim().splitn(2, "\n\n");
        let what = paragraphs.next().unwrap_or_default().trim_start_matches("error: ").to_owned();
        let result = serde_json::json!({ "error": what, "hint": paragraphs.next() });
        drop(writeln!(std::io::stdout(), "{result:#}"));
        return ExitCode::from(2);
    }
    let printed = if is_help { error.print() } else { anstream::stderr().write_all(text.as_bytes()) };
    drop(printed);
    ExitCode::from(u8::try_from(error.exit_code()).unwrap_or(2))
}

/// Runs a command; where somebody else has changed meanwhile what it was planned on, it is planned again.
fn run_on_what_is_there(cli: &Cli, ui: &Ui) -> Result<ExitCode, AppError> {
    const TRIES: usize = 5;
    for _ in 1..TRIES {
        match run(cli, ui) {
            Err(AppError::Settle(SettleError::Moved { path })) => {
                ui.warn(&format!(
                    "{path} was changed by somebody else meanwhile; nothing was done yet. Planning again."
                ));
            }
            done => return done,
        }
    }
    run(cli, ui)
}

fn run(cli: &Cli, ui: &Ui) -> Result<ExitCode, AppError> {
    let global = &cli.global;
    match &cli.command {
        Command::Adopt(args) => commands::adopt::run(args, global, ui),
        Command::List(args) => commands::list::run(args, global, ui),
        Command::Find(args) => commands::find::run(args, global, ui),
        Command::About(args) => commands::about::run(args, global, ui),
        Command::Add(args) => commands::add::run(args, global, ui),
        Command::Drop(args) => commands::drop::run(args, global, ui),
        Command::Off(args) => commands::off::off(args, global, ui),
        Command::On(args) => commands::off::on(args, global, ui),
        Command::Why(args) => commands::why::run(args, global, ui),
        Command::Order(args) => commands::order::run(args, global, ui),
        Command::Update(args) => commands::update::run(args, global, ui),
        Command::Maps(args) => commands::maps::run(args, global, ui),
        Command::Players(args) => commands::players::run(args, global, ui),
        Command::Merge(args) => commands::merge::run(args, global, ui),
        Command::Rehearse(args) => commands::rehearse::run(args, global, ui),
        Command::Handout(args) => commands::handout::run(args, global, ui),
        Command::Mirror(args) => commands::mirror::run(args, global, ui),
        Command::Settings(args) => commands::settings::run(args, global, ui),
        Command::Modpack(args) => commands::modpack::run(args, global, ui),
        Command::Keys => commands::keys::run(global, ui),
        Command::Clashes(args) => commands::clashes::run(args, global, ui),
        Command::Links(args) => commands::links::run(args, global, ui),
        Command::Where(args) => commands::where_is::run(args, global, ui),
        Command::Preview(args) => commands::settle::preview(args, global, ui),
        Command::Settle(args) => commands::settle::run(args, global, ui),
        Command::Trial(args) => commands::trial::run(args, global, ui),
        Command::Start => commands::start::start(global, ui),
        Command::Restart => commands::start::restart(global, ui),
        Command::Log(args) => commands::log::run(args, global, ui),
        Command::Stop(args) => commands::stop::run(args, global, ui),
        Command::Isolate(args) => commands::isolate::run(args, global, ui),
        Command::Status => commands::status::run(global, ui),
        Command::Console(args) => commands::console::run(args, global, ui),
        Command::Check(args) => commands::check::run(args, global, ui),
        Command::Fix(args) => commands::fix::run(args, global, ui),
        Command::Undo(args) => commands::undo::run(args, global, ui),
        Command::Redo(args) => commands::undo::redo(args, global, ui),
        Command::Repair(args) => commands::repair::run(args, global, ui),
        Command::History => commands::history::run(global, ui),
        Command::Catalogue(args) => commands::catalogue::run(args, global, ui),
        Command::Game(args) => commands::game::run(args, global, ui),
        Command::Completions(args) => commands::shell::completions(args, ui),
        Command::Man(args) => commands::shell::man(args, &Cli::command(), ui),
        Command::Demo(args) => commands::demo::run(args, ui),
        Command::StandIn(args) => commands::stand_in::run(args, ui),
    }
}
