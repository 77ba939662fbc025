//! A player's game that joins a Mossgarrow server: it is told what the server carries, and why it is turned away.

use std::{
    io::{self, BufRead, BufReader, Write},
    net::TcpStream,
    time::Duration,
};

/// Joins a server on this machine. Returns what the player sees: `came in on <region>`, or why they were turned away.
///
/// # Errors
/// Where the server does not answer.
pub fn join(port: u16) -> io::Result<String> {
    let mut stream = TcpStream::connect(("127.0.0.1", port))?;
    stream.set_read_timeout(Some(Duration::from_secs(5)))?;
    stream.write_all(b"{\"player\": \"wren\"}\n")?;
    let mut answer = String::new();
    BufReader::new(stream).read_line(&mut answer)?;
    let told: serde_json::Value = serde_json::from_str(&answer).map_err(io::Error::other)?;
    let reasons: Vec<&str> =
        told["turned_away"].as_array().into_iter().flatten().filter_map(serde_json::Value::as_str).collect();
    Ok(match reasons.first() {
        Some(why) => format!("turned away: {why}"),
        None => format!("came in on {}", told["region"].as_str().unwrap_or_default()),
    })
}
