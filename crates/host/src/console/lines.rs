//! Lines of text over TCP; where there is a secret, it is the first line.

use std::{
    io::Write,
    net::{Shutdown, TcpStream},
    time::{Duration, Instant},
};

use super::{Channel, ConsoleAddress, ConsoleError, connect, lines_of, shown};
use crate::log_lines::Lines;

/// How long a server may take to say what it thinks of the secret.
const GREETING: Duration = Duration::from_secs(3);
/// After the last of it this much silence means that it has nothing against it.
const CONTENT: Duration = Duration::from_millis(250);

pub(super) struct LineChannel {
    stream: TcpStream,
    /// Whether the server is stopped over it.
    is_last: bool,
    lines: Lines,
}

impl Drop for LineChannel {
    fn drop(&mut self) {
        if !self.is_last {
            // The other half stays open: a server that still writes would be ended by a broken pipe.
            self.stream.shutdown(Shutdown::Write).ok();
        }
    }
}

pub(super) fn open(address: &ConsoleAddress, to: (&str, u16)) -> Result<LineChannel, ConsoleError> {
    let stream = connect(to)?;
    let failed = |source| ConsoleError::Connect { address: address.to_string(), source };
    let lines = lines_of(stream.try_clone().map_err(failed)?);
    let mut channel = LineChannel { stream, is_last: false, lines };
    let Some(secret) = &address.secret else { return Ok(channel) };
    channel.send(&secret.text)?;
    let refused = || ConsoleError::Secret { setting: Some(secret.at.clone()) };
    let until = Instant::now() + GREETING;
    let mut is_greeted = false;
    while Instant::now() < until {
        match channel.heard(if is_greeted { CONTENT } else { GREETING }) {
            // It asked for the secret and went.
            Err(ConsoleError::Closed) => return Err(refused()),
            Err(error) => return Err(error),
            Ok(lines) if lines.is_empty() => break,
            Ok(lines) => {
                is_greeted = true;
                let is_refusal =
                    |line: &String| address.refused.as_ref().is_some_and(|refused| refused.is_match(line));
                if lines.iter().any(is_refusal) {
                    return Err(refused());
                }
            }
        }
    }
    Ok(channel)
}

impl Channel for LineChannel {
    fn send(&mut self, line: &str) -> Result<(), ConsoleError> {
        let sent = self.stream.write_all(format!("{line}\n").as_bytes());
        sent.map_err(|_| ConsoleError::Closed)
    }

    fn forget_when_closed(&mut self) {
        self.is_last = rustix::net::sockopt::set_socket_linger(&self.stream, Some(Duration::ZERO)).is_ok();
    }

    fn heard(&mut self, wait: Duration) -> Result<Vec<String>, ConsoleError> {
        let lines = self.lines.next_or_end(wait).ok_or(ConsoleError::Closed)?;
        // Some servers end each line with a zero too.
        Ok(lines.iter().map(|line| shown(line)).filter(|line| !line.is_empty()).collect())
    }
}
