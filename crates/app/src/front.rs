//! What the use cases ask of the front end.

use std::{path::PathBuf, sync::Arc};

use yalotheca_core::change::Step;
use yalotheca_host::{
    fetch::{Nobody, Watch},
    settle::{ChangeOrigin, Outcome},
};

use crate::{AppError, secrets::Secrets, words::ServerName};

/// What somebody answers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    /// A text.
    Text(String),
    /// Nothing: the key to go on, and no text.
    Nothing,
    /// There is no one to ask: no terminal, say.
    Nobody,
}

/// Asks the person.
pub trait Prompt {
    /// Asks for a yes.
    ///
    /// # Errors
    /// Where there is no one to ask and no agreement was given before.
    fn confirm(&self, question: &str) -> Result<bool, AppError>;

    /// Asks for a text.
    fn text(&self, question: &str) -> Answer;

    /// Asks for a secret: what is typed is not shown.
    fn secret(&self, _question: &str) -> Answer {
        Answer::Nobody
    }
}

/// Something that happens on the way to a report.
#[derive(Debug)]
pub enum Event<'e> {
    /// A change that was interrupted has been finished or taken back.
    Recovered(&'e Outcome),
    /// The control folder is one that somebody else could have put there.
    ForeignFolder {
        /// Its `yalotheca.toml`.
        file: PathBuf,
        /// Why it is not trusted.
        why: &'e str,
    },
    /// A change that another account recorded was interrupted; it is going to be asked whether to go on with it.
    ForeignChange {
        /// Its number.
        number: u32,
        /// What its record says of itself.
        origin: &'e ChangeOrigin,
        /// What going on with it would do, besides writing the control files.
        steps: &'e [Step],
    },
    /// From now on these must not be shown.
    Secrets(Secrets),
    /// The server is being started; it is waited until that has gone well or not.
    Starting(&'e ServerName),
    /// Players were told that the server is going to be stopped.
    Announced {
        /// The text.
        text: &'e str,
        /// How long it is until the server stops.
        before: std::time::Duration,
    },
    /// Nothing can tell whether the server runs; what is known, and what to do.
    MayBeRunning(&'e str),
    /// So much is going to be read of a server on another machine.
    WillDownload {
        /// How many files.
        files: usize,
        /// How many bytes they have.
        bytes: u64,
    },
    /// A catalogue cannot be reached; its contents are not known now.
    Unreachable(&'e str),
}

/// Hears what happens on the way.
pub trait Progress {
    /// Something happens.
    fn event(&self, event: Event<'_>);

    /// Returns who looks on while something is fetched.
    fn watch(&self) -> Arc<dyn Watch> {
        Arc::new(Nobody)
    }
}

/// A front end: it asks and hears.
pub trait Front: Prompt + Progress {}

impl<T: Prompt + Progress> Front for T {}
