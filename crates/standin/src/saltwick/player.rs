//! A player's game that joins a Saltwick server: it is told which look there is, fetches it, and compares its digest.

use std::{
    fmt::Write as _,
    io::{self, Cursor},
};

use ring::digest::{SHA1_FOR_LEGACY_USE_ONLY, digest as digest_of};

use crate::joining::{ask, fetch};

/// Joins a server on this machine. Returns what the player sees: `came in`, or why they did not, or without what.
///
/// # Errors
/// Where the server does not answer.
pub fn join(port: u16) -> io::Result<String> {
    let told = ask(port)?;
    let look = &told["look"];
    let link = look["link"].as_str().unwrap_or_default();
    if link.is_empty() {
        return Ok("came in".into());
    }
    let wrong = match fetch(link, 4) {
        Err(error) => Some(format!("the look cannot be fetched: {error}")),
        Ok(bytes) => what_is_wrong(&bytes, look["digest"].as_str().unwrap_or_default()),
    };
    Ok(match wrong {
        None => "came in with the look".into(),
        Some(why) if look["must"] == true => format!("turned away: {why}"),
        Some(why) => format!("came in without the look: {why}"),
    })
}

fn what_is_wrong(bytes: &[u8], digest: &str) -> Option<String> {
    let found = digest_of(&SHA1_FOR_LEGACY_USE_ONLY, bytes);
    let found = found.as_ref().iter().fold(String::new(), |mut text, byte| {
        // Writing to a text cannot fail.
        write!(text, "{byte:02x}").ok();
        text
    });
    if !digest.is_empty() && digest != found {
        return Some("the look's digest is another one".into());
    }
    let Ok(mut zip) = zip::ZipArchive::new(Cursor::new(bytes)) else {
        return Some("the look is no zip".into());
    };
    zip.by_name("look.json").is_err().then(|| "there is no look.json at the look's top".into())
}
