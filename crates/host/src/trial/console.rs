//! A console that reads lines over TCP: just enough to tell it one thing.

use std::{
    io::{self, BufReader, Read, Write},
    net::{SocketAddr, TcpStream},
    time::Duration,
};

const WAIT: Duration = Duration::from_millis(800);

/// What to tell whom.
pub(super) struct Telling {
    pub(super) port: u16,
    pub(super) secret: Option<String>,
    pub(super) line: String,
}

/// Tells a console one line: the secret first, where it has one.
pub(super) fn tell(telling: &Telling) -> io::Result<()> {
    let address = SocketAddr::from(([127, 0, 0, 1], telling.port));
    let mut stream = TcpStream::connect_timeout(&address, WAIT)?;
    stream.set_read_timeout(Some(Duration::from_millis(200)))?;
    let mut answers = BufReader::new(stream.try_clone()?);
    hear(&mut answers);
    if let Some(secret) = &telling.secret {
        stream.write_all(format!("{secret}\n").as_bytes())?;
        hear(&mut answers);
    }
    stream.write_all(format!("{}\n", telling.line).as_bytes())?;
    // Some consoles drop what was sent when the line is closed at once.
    hear(&mut answers);
    Ok(())
}

/// Waits for an answer, but not long: some consoles say nothing.
fn hear(answers: &mut impl Read) {
    let mut buffer = [0; 4096];
    let _heard = answers.read(&mut buffer);
}
