//! The options that every command takes.

use std::{path::PathBuf, time::Duration};

use clap::Args;
use yalotheca_app::{OpenOptions, WhileRunning};

/// Options that every command takes.
#[derive(Debug, Clone, Default, Args)]
#[expect(clippy::struct_excessive_bools, reason = "each is an option of its own")]
pub(crate) struct Global {
    /// The folder with yalotheca.toml (or the server's folder, for adopt); else this folder or one above it
    #[arg(long, global = true, value_name = "FOLDER", help_heading = "Everywhere")]
    pub(crate) at: Option<PathBuf>,
    /// Print the result as JSON
    #[arg(long, global = true, help_heading = "Everywhere")]
    pub(crate) json: bool,
    /// Go ahead without asking (accepts no terms)
    #[arg(long, short, global = true, help_heading = "Everywhere")]
    pub(crate) yes: bool,
    /// If the server runs, stop it for the change, and start it again afterwards
    #[arg(long, global = true, help_heading = "Everywhere")]
    pub(crate) restart: bool,
    /// If the server runs: make the change while it runs, tell the server through its console, and ask it what it has now
    #[arg(long, global = true, help_heading = "Everywhere", conflicts_with = "restart")]
    pub(crate) live: bool,
    /// Make the change on a copy of the server first, start the copy, and go on only if it starts well
    #[arg(long, global = true, help_heading = "Everywhere")]
    pub(crate) proved: bool,
    /// With --restart: show players this text before the server is stopped
    #[arg(long, global = true, value_name = "TEXT", help_heading = "Everywhere", requires = "restart")]
    pub(crate) announce: Option<String>,
    /// With --announce: how long before the stop (30s, 5m)
    #[arg(long = "in", global = true, value_name = "TIME", help_heading = "Everywhere", requires = "announce", value_parser = duration, default_value = "0s")]
    pub(crate) notice: Duration,
    /// How many seconds the server may take to start, or to stop; else three times what it took when it last started well
    #[arg(long, global = true, value_name = "SECONDS", help_heading = "Everywhere")]
    pub(crate) patience: Option<u64>,
    /// With --restart: if the server does not start well afterwards, take the change back and start it again
    #[arg(long, global = true, help_heading = "Everywhere", requires = "restart")]
    pub(crate) else_undo: bool,
    /// Use no network, only what was fetched before
    #[arg(long, global = true, help_heading = "Everywhere")]
    pub(crate) offline: bool,
    /// A file with the password of an archive, or of a server on another machine
    #[arg(long, global = true, value_name = "FILE", help_heading = "Everywhere")]
    pub(crate) password_file: Option<PathBuf>,
    /// Let the key of this name be replaced by another one; compare the new one with what its author publishes first
    #[arg(long, global = true, value_name = "NAME", help_heading = "Everywhere")]
    pub(crate) accept_key: Vec<String>,
    /// Print the result and errors only
    #[arg(long, short, global = true, help_heading = "Everywhere")]
    pub(crate) quiet: bool,
    /// Print more of what happens
    #[arg(long, short, global = true, help_heading = "Everywhere")]
    pub(crate) verbose: bool,
}

impl Global {
    /// Returns how the server is opened.
    pub(crate) fn open(&self) -> OpenOptions {
        let words: Vec<String> =
            std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned()).collect();
        OpenOptions {
            at: self.at.clone(),
            offline: self.offline,
            password_file: self.password_file.clone(),
            helper: std::env::current_exe().ok(),
            ssh: ssh_options(),
            command: format!("yalotheca {}", without_places(&words).join(" ")),
            while_running: match (self.restart, self.live) {
                (true, _) => WhileRunning::Restart,
                (false, true) => WhileRunning::Tell,
                (false, false) => WhileRunning::Refuse,
            },
            announcement: self.announce.clone().map(|text| (text, self.notice)),
            compares: false,
            accept_keys: self.accept_key.clone(),
            patience: self.patience.map(Duration::from_secs),
            else_undo: self.else_undo,
        }
    }
}

/// Reads `30s`, `5m` or `1h`.
fn duration(text: &str) -> Result<Duration, String> {
    const LONGEST: u64 = 24 * 60 * 60;
    let wrong = || format!("{text:?} is not a time; write 30s, 5m or 1h, at most a day");
    let unit = match text.chars().last() {
        Some('s') => 1,
        Some('m') => 60,
        Some('h') => 60 * 60,
        _ => return Err(wrong()),
    };
    let number: u64 = text[..text.len() - 1].trim().parse().map_err(|_| wrong())?;
    let seconds = number.checked_mul(unit).filter(|seconds| *seconds <= LONGEST);
    seconds.map(Duration::from_secs).ok_or_else(wrong)
}

/// Options for `ssh` that are added to those of its own files, separated by line breaks.
fn ssh_options() -> Vec<String> {
    let options = std::env::var("YALOTHECA_SSH_OPTIONS").unwrap_or_default();
    options.lines().filter(|line| !line.trim().is_empty()).map(str::to_owned).collect()
}

/// `--at FOLDER` and how the answer was given say nothing in a history.
fn without_places(words: &[String]) -> Vec<String> {
    const MANNERS: &[&str] = &["--yes", "-y", "--quiet", "-q", "--json", "--verbose", "-v", "--offline"];
    let mut kept = Vec::new();
    let mut words = words.iter();
    while let Some(word) = words.next() {
        if word == "--at" {
            words.next();
        } else if !word.starts_with("--at=") && !MANNERS.contains(&word.as_str()) {
            // As it was typed: a word with spaces in it is one.
            kept.push(if word.contains(char::is_whitespace) { format!("'{word}'") } else { word.clone() });
        }
    }
    kept
}
