//! The options that every command takes.

use std::path::PathBuf;

use clap::Args;
use yalotheca_app::OpenOptions;

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
            restarts: self.restart,
            compares: false,
            accept_keys: self.accept_key.clone(),
        }
    }
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
