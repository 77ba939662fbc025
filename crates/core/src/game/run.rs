//! How a server runs, and what lines of its log mean.

use std::collections::BTreeMap;

use super::{Pattern, Template};

/// How a server runs.
#[derive(Debug, Clone)]
pub struct Run {
    /// The program and its arguments.
    pub command: Vec<Template>,
    /// Its environment, besides the caller's.
    pub env: BTreeMap<String, Template>,
    /// The signal that stops it.
    pub stop: StopSignal,
    /// The console's line that stops it better, where it has one.
    pub stop_line: Option<String>,
    /// The file to which it writes its log, besides its output or instead of it.
    pub log: Option<Template>,
    /// The log's line that says it is ready.
    pub ready: Pattern,
    /// The line that says that the first start is done, where a first one makes files and then stops by itself.
    pub first: Option<Pattern>,
    /// Files and folders that the first start makes: as long as none of them is there, it has not been.
    pub first_makes: Vec<Template>,
    /// How long to watch for troubles after that, in milliseconds.
    pub quiet_ms: u64,
    /// How long it may take until it is ready, in milliseconds, as long as nothing is known of this server's own starts.
    pub patience_ms: u64,
    /// How long it may take to stop before it is killed, in milliseconds.
    pub grace_ms: u64,
    /// Patterns of files that the running server reads again by itself when they change.
    pub rereads: Vec<Template>,
    /// The port that must answer.
    pub probe: Option<Probe>,
    /// Lines that say it failed.
    pub fatal: Vec<Pattern>,
    /// Lines that say something is wrong.
    pub trouble: Vec<Pattern>,
}

/// The signals that stop servers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StopSignal {
    /// Terminate.
    Term,
    /// Interrupt.
    Int,
}

/// How to ask whether a server answers.
#[derive(Debug, Clone)]
pub enum Probe {
    /// A connection is accepted.
    Tcp(Template),
    /// A datagram is answered.
    Udp {
        /// The port.
        port: Template,
        /// The bytes to send.
        send: Vec<u8>,
    },
}

/// What a line of the log means.
#[derive(Debug, Clone)]
pub struct Symptom {
    /// The line.
    pub pattern: Pattern,
    /// Its meaning in two or three words.
    pub means: String,
    /// Its meaning in a sentence.
    pub say: Template,
    /// What can be done.
    pub advice: Option<Template>,
}
