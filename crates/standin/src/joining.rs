//! How a player's game asks to come in: one line of JSON, answered by one.

use std::{
    io::{self, BufRead, BufReader, Write},
    net::TcpStream,
    time::Duration,
};

/// Asks a server on this machine, and returns what it tells a player.
pub(crate) fn ask(port: u16) -> io::Result<serde_json::Value> {
    let mut stream = TcpStream::connect(("127.0.0.1", port))?;
    stream.set_read_timeout(Some(Duration::from_secs(5)))?;
    stream.write_all(b"{\"player\": \"wren\"}\n")?;
    let mut answer = String::new();
    BufReader::new(stream).read_line(&mut answer)?;
    serde_json::from_str(&answer).map_err(io::Error::other)
}
