//! A player's game that joins a Mossgarrow server: it is told what the server carries, and why it is turned away.

use std::io;

use crate::joining::ask;

/// Joins a server on this machine. Returns what the player sees: `came in on <region>`, or why they were turned away.
///
/// # Errors
/// Where the server does not answer.
pub fn join(port: u16) -> io::Result<String> {
    let told = ask(port)?;
    let reasons: Vec<&str> =
        told["turned_away"].as_array().into_iter().flatten().filter_map(serde_json::Value::as_str).collect();
    Ok(match reasons.first() {
        Some(why) => format!("turned away: {why}"),
        None => format!("came in on {}", told["region"].as_str().unwrap_or_default()),
    })
}
