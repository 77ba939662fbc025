//! The console of a running server: commands go in, answers come out.
//!
//! A session knows nothing of settings or contents. What it hears that was not asked for waits until somebody takes it.

mod datagrams;
mod lines;
mod local;
mod packets;

use std::{
    fmt,
    io::{self, Read},
    net::{TcpStream, ToSocketAddrs},
    path::PathBuf,
    time::{Duration, Instant},
};

use yalotheca_core::{
    game::{ConsoleChannel, ConsoleRule, Pattern, RenderError, Scope},
    hint::{Advice, Hint},
    id::TreePath,
};

pub(crate) use self::local::open_input;
use crate::{
    log_lines::Lines,
    survey::value_at,
    tree::{LocalTree, Tree},
    trust::Invocation,
};

/// How long a connection may take to be made.
const CONNECTING: Duration = Duration::from_secs(5);
/// How long the first line of an answer may take, where the definition says how answers end.
const ANSWERING: Duration = Duration::from_secs(10);
/// How long it may take where it does not: some commands have no answer.
const MAYBE_ANSWERING: Duration = Duration::from_secs(1);
/// An answer ends when nothing has followed for so long.
const SILENCE: Duration = Duration::from_millis(150);
/// How long a server that was told to stop may take to close the connection.
const STOPPING: Duration = Duration::from_secs(2);
/// An answer has no more lines than this; what follows comes unasked.
const MOST_LINES: usize = 10_000;

/// Why a console cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ConsoleError {
    /// The server's configuration has it switched off.
    #[error("the server's console is off: {why}")]
    Off {
        /// What says so.
        why: String,
        /// The setting, as `file#/pointer`, if it is known.
        setting: Option<String>,
    },
    /// Nothing answers.
    #[error("nothing answers at the console's address {address}: {source}")]
    Connect {
        /// The address.
        address: String,
        /// Why.
        source: io::Error,
    },
    /// The server did not take the secret.
    #[error("the server does not take the console's secret{}", .setting.as_ref().map(|at| format!(" in {at}")).unwrap_or_default())]
    Secret {
        /// Where it is kept.
        setting: Option<String>,
    },
    /// The server ended the connection.
    #[error("the server closed the console's connection")]
    Closed,
    /// The server did not answer in time.
    #[error("the server took no notice of {line:?} within {seconds} s")]
    Silent {
        /// What was sent.
        line: String,
        /// How long it was waited for.
        seconds: u64,
    },
    /// Only a server that a trial left running hears its standard input.
    #[error("the server was not started by a trial that left it running, so nothing reaches its console")]
    NotKept,
    /// The console is reached on the server's own machine only.
    #[error("this console is reached only on the machine on which the server runs")]
    Elsewhere,
    /// A pipe, or a command, failed.
    #[error("{what}: {source}")]
    Local {
        /// What was used.
        what: String,
        /// Why.
        source: io::Error,
    },
    /// A line cannot be sent.
    #[error("a command is one line of text without control characters")]
    Line,
    /// A template of the definition cannot be filled.
    #[error(transparent)]
    Render(#[from] RenderError),
}

impl Hint for ConsoleError {
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::Off { setting, .. } => setting.clone().map(Advice::SwitchConsoleOn),
            Self::Connect { .. } | Self::NotKept => Some(Advice::StartForConsole),
            Self::Secret { .. } => Some(
                "the server reads its secret when it starts: if it was changed since, start the server again"
                    .into(),
            ),
            Self::Closed => Some("run the command again; the server may have stopped".into()),
            Self::Silent { .. } => Some("look at the server's log; it may hang".into()),
            Self::Local { .. } | Self::Line | Self::Elsewhere => None,
            Self::Render(error) => error.hint(),
        }
    }
}

/// Where a console is, with its secret.
pub struct ConsoleAddress {
    way: Way,
    secret: Option<Secret>,
    refused: Option<Pattern>,
    end: Option<Pattern>,
}

struct Secret {
    text: String,
    /// Where it is kept, as `file#/pointer`.
    at: String,
}

enum Way {
    Lines(String, u16),
    Packets(String, u16),
    Datagrams(String, u16),
    Input(LocalTree),
    Pipe(PathBuf),
    Command(Invocation),
}

impl fmt::Display for ConsoleAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.way {
            Way::Lines(host, port) | Way::Packets(host, port) | Way::Datagrams(host, port) => {
                write!(f, "{host}:{port}")
            }
            Way::Input(_) => f.write_str("the server's standard input"),
            Way::Pipe(path) => write!(f, "{}", path.display()),
            Way::Command(command) => write!(f, "{}", command.program.display()),
        }
    }
}

/// Returns where a server's console is; `host` is the machine on which the server runs.
///
/// # Errors
/// Where it is switched off, or is of no use from here.
pub fn address(
    rule: &ConsoleRule,
    tree: &dyn Tree,
    scope: &Scope,
    host: &str,
) -> Result<ConsoleAddress, ConsoleError> {
    let at = |place: &yalotheca_core::game::ConfigPlace| {
        place.spot(scope).map(|(file, pointer)| format!("{file}#{pointer}")).unwrap_or_default()
    };
    let port = |template: &yalotheca_core::game::Template| -> Result<u16, ConsoleError> {
        let text = template.render(scope)?;
        match text.trim().parse::<u16>() {
            Ok(0) | Err(_) => Err(ConsoleError::Off {
                why: format!("its port is {}", if text.is_empty() { "not set" } else { text.trim() }),
                setting: None,
            }),
            Ok(port) => Ok(port),
        }
    };
    let local = || tree.local().cloned().ok_or(ConsoleError::Elsewhere);
    let way = match &rule.channel {
        ConsoleChannel::Lines(template) => Way::Lines(host.into(), port(template)?),
        ConsoleChannel::Packets(template) => Way::Packets(host.into(), port(template)?),
        ConsoleChannel::Datagrams(template) => Way::Datagrams(host.into(), port(template)?),
        ConsoleChannel::Input => Way::Input(local()?),
        ConsoleChannel::Pipe(template) => Way::Pipe(local()?.root().join(template.render(scope)?)),
        ConsoleChannel::Command(_) => {
            local()?;
            let command = Invocation::of_console(rule, scope)?;
            Way::Command(command.ok_or_else(|| ConsoleError::Off {
                why: "its command names no program".into(),
                setting: None,
            })?)
        }
    };
    let secret = match &rule.secret {
        None => None,
        Some(place) => {
            let found = value_at(tree, place, scope).ok().flatten().filter(|text| !text.is_empty());
            let off =
                || ConsoleError::Off { why: format!("{} is empty", at(place)), setting: Some(at(place)) };
            Some(Secret { text: found.ok_or_else(off)?, at: at(place) })
        }
    };
    Ok(ConsoleAddress { way, secret, refused: rule.refused.clone(), end: rule.end.clone() })
}

/// What goes to a server and comes back.
trait Channel: Send {
    /// Sends a command.
    fn send(&mut self, line: &str) -> Result<(), ConsoleError>;
    /// Returns what came, after waiting for it so long.
    ///
    /// # Errors
    /// Where nothing can come any more.
    fn heard(&mut self, wait: Duration) -> Result<Vec<String>, ConsoleError>;
    /// Has the connection end without a farewell.
    fn forget_when_closed(&mut self) {}
    /// Whether each command has an answer, even an empty one.
    fn always_answers(&self) -> bool {
        false
    }
}

/// A console that is open.
pub struct ConsoleSession {
    channel: Box<dyn Channel>,
    end: Option<Pattern>,
    unasked: Vec<String>,
}

impl ConsoleSession {
    /// Opens a console.
    ///
    /// # Errors
    /// Where nothing answers, or the server does not take the secret.
    pub fn open(address: &ConsoleAddress) -> Result<Self, ConsoleError> {
        let channel: Box<dyn Channel> = match &address.way {
            Way::Lines(host, port) => Box::new(lines::open(address, (host, *port))?),
            Way::Packets(host, port) => Box::new(packets::open(address, (host, *port))?),
            Way::Datagrams(host, port) => Box::new(datagrams::open(address, (host, *port))?),
            Way::Input(tree) => Box::new(local::open_kept(tree)?),
            Way::Pipe(path) => Box::new(local::open_pipe(path)?),
            Way::Command(command) => Box::new(local::RunEach::new(command.clone())),
        };
        Ok(Self { channel, end: address.end.clone(), unasked: Vec::new() })
    }

    /// Sends a command, and returns the lines of its answer.
    ///
    /// # Errors
    /// Where the command is not one line, or the server has gone or does not answer.
    pub fn send(&mut self, line: &str) -> Result<Vec<String>, ConsoleError> {
        if line.chars().any(char::is_control) {
            return Err(ConsoleError::Line);
        }
        self.hear(Duration::ZERO)?;
        self.channel.send(line)?;
        let must_answer = self.end.is_some() || self.channel.always_answers();
        let patience = if must_answer { ANSWERING } else { MAYBE_ANSWERING };
        let until = Instant::now() + patience;
        let longest = Instant::now() + ANSWERING;
        let mut answer: Vec<String> = Vec::new();
        let mut last = None::<Instant>;
        loop {
            let wait = last.map_or_else(
                || until.saturating_duration_since(Instant::now()),
                |last| (last + SILENCE).saturating_duration_since(Instant::now()),
            );
            let came = match self.channel.heard(wait) {
                // A command that stops the server also ends the connection.
                Err(ConsoleError::Closed) => return Ok(answer),
                came => came?,
            };
            // A server that logs all the time is never silent.
            let is_over = came.is_empty() || Instant::now() >= longest;
            for line in came {
                if self.end.as_ref().is_some_and(|end| end.is_match(&line)) {
                    return Ok(answer);
                }
                if answer.len() < MOST_LINES {
                    answer.push(line);
                } else {
                    self.unasked.push(line);
                }
            }
            if self.end.is_some() && Instant::now() < until {
                continue;
            }
            if is_over && answer.is_empty() && must_answer {
                return Err(ConsoleError::Silent { line: line.to_owned(), seconds: patience.as_secs() });
            }
            if is_over || answer.len() >= MOST_LINES {
                return Ok(answer);
            }
            last = Some(Instant::now());
        }
    }

    /// Sends the command that stops the server, and waits a moment for it to close the connection. The connection is then forgotten
    /// on both sides: else the server's port would stay taken for a minute, and its next start would fail.
    ///
    /// # Errors
    /// Where the server has gone already.
    pub fn send_last(mut self, line: &str) -> Result<(), ConsoleError> {
        self.channel.forget_when_closed();
        self.channel.send(line)?;
        let until = Instant::now() + STOPPING;
        while Instant::now() < until {
            match self.channel.heard(until.saturating_duration_since(Instant::now())) {
                Ok(lines) if lines.is_empty() => break,
                Ok(_) => {}
                Err(_) => break,
            }
        }
        Ok(())
    }

    fn hear(&mut self, wait: Duration) -> Result<(), ConsoleError> {
        let came = self.channel.heard(wait)?;
        self.unasked.extend(came);
        Ok(())
    }

    /// Returns what the server said without being asked, after waiting for it so long.
    ///
    /// # Errors
    /// Where the server has gone.
    pub fn unasked(&mut self, wait: Duration) -> Result<Vec<String>, ConsoleError> {
        if self.unasked.is_empty() {
            self.hear(wait)?;
        }
        Ok(std::mem::take(&mut self.unasked))
    }
}

fn connect((host, port): (&str, u16)) -> Result<TcpStream, ConsoleError> {
    let address = format!("{host}:{port}");
    let failed = |source| ConsoleError::Connect { address: address.clone(), source };
    let mut last = io::Error::from(io::ErrorKind::AddrNotAvailable);
    for one in (host, port).to_socket_addrs().map_err(failed)? {
        match TcpStream::connect_timeout(&one, CONNECTING) {
            Ok(stream) => {
                stream.set_nodelay(true).map_err(failed)?;
                stream.set_write_timeout(Some(CONNECTING)).map_err(failed)?;
                return Ok(stream);
            }
            Err(error) => last = error,
        }
    }
    Err(failed(last))
}

/// Returns a text without what a terminal would take for more than text.
fn shown(line: &str) -> String {
    let mut text = String::with_capacity(line.len());
    let mut chars = line.chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            '\u{1b}' => {
                if chars.peek() == Some(&'[') {
                    chars.next();
                    while chars.next_if(|c| !c.is_ascii_alphabetic()).is_some() {}
                }
                chars.next();
            }
            '\t' => text.push(' '),
            c if c.is_control() => {}
            c => text.push(c),
        }
    }
    text.trim_end().to_owned()
}

/// Listens to a stream in another thread.
fn lines_of(stream: impl Read + Send + 'static) -> Lines {
    Lines::of(vec![Box::new(stream)])
}

/// Returns where the pipe to a kept server's standard input is.
fn input_path() -> TreePath {
    TreePath::new(&format!("{}/console", crate::settle::OWN)).unwrap_or_else(|_| TreePath::root())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_terminal_would_obey_is_left_out() {
        assert_eq!(shown("\u{1b}[31mred\u{1b}[0m\tgull\0\u{7}\r"), "red gull");
    }
}
