//! A player's game that joins a Kitehollow server: it needs the map that is flown, and fetches it if it lacks it.

use std::{
    fs,
    io::{self, Read},
    path::Path,
};

use bzip2::read::BzDecoder;

use crate::joining::{ask, fetch};

/// Joins a server on this machine with the maps of a folder. Returns what the player sees.
///
/// # Errors
/// Where the server does not answer.
pub fn join(port: u16, own: &Path) -> io::Result<String> {
    let told = ask(port)?;
    let text = |key: &str| told[key].as_str().unwrap_or_default().to_owned();
    let (map, from) = (text("map"), text("fetch_from"));
    let (bytes, crc) = (told["bytes"].as_u64().unwrap_or(0), told["crc"].as_u64().unwrap_or(0));
    let is_it = |found: &[u8]| found.len() as u64 == bytes && u64::from(crc_of(found)) == crc;
    if let Ok(there) = fs::read(own.join(format!("maps/{map}.kmap"))) {
        if !is_it(&there) {
            return Ok("turned away: map differs from the server's".into());
        }
    } else if from.is_empty() {
        let cap = text("fetch_cap_mb").parse::<u64>().unwrap_or(0);
        if bytes > cap * 1_000_000 {
            return Ok("turned away: missing map".into());
        }
    } else {
        match fetched(&from, &format!("maps/{map}.kmap")) {
            None => return Ok("turned away: missing map".into()),
            Some(found) if !is_it(&found) => {
                return Ok("turned away: map differs from the server's".into());
            }
            Some(_) => {}
        }
    }
    let sky = text("sky");
    let has_sky = sky.is_empty()
        || own.join(format!("sky/{sky}.ksky")).is_file()
        || (!from.is_empty() && fetched(&from, &format!("sky/{sky}.ksky")).is_some());
    Ok(if has_sky { "came in".into() } else { format!("came in without the sky {sky}") })
}

fn crc_of(map: &[u8]) -> u32 {
    let end = map.len().saturating_sub(4);
    map.get(end..).and_then(|crc| crc.try_into().ok()).map_or(0, u32::from_le_bytes)
}

/// Fetches a file, compressed if there is one, by the library's plain calls, which end at the end of the first stream.
fn fetched(from: &str, name: &str) -> Option<Vec<u8>> {
    if let Ok(packed) = fetch(&format!("{from}{name}.bz2"), 4) {
        let mut bytes = Vec::new();
        return BzDecoder::new(packed.as_slice()).read_to_end(&mut bytes).ok().map(|_| bytes);
    }
    fetch(&format!("{from}{name}"), 4).ok()
}
