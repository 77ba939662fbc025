//! A player's game that joins a Saltwick server: it is told which look there is, fetches it, and compares its digest.

use std::{
    fmt::Write as _,
    io::{self, Cursor, Read, Write},
    net::TcpStream,
    time::Duration,
};

use ring::digest::{SHA1_FOR_LEGACY_USE_ONLY, digest as digest_of};

use crate::joining::ask;

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

/// Fetches what a plain HTTP address holds, passed on a few times at most.
fn fetch(link: &str, hops: usize) -> io::Result<Vec<u8>> {
    let wrong = |why: &str| io::Error::other(why.to_owned());
    let rest = link.strip_prefix("http://").ok_or_else(|| wrong("not http"))?;
    let (host, path) = rest.split_once('/').ok_or_else(|| wrong("no path"))?;
    let mut stream = TcpStream::connect(host)?;
    stream.set_read_timeout(Some(Duration::from_secs(5)))?;
    write!(stream, "GET /{path} HTTP/1.0\r\nHost: {host}\r\nConnection: close\r\n\r\n")?;
    let mut bytes = Vec::new();
    stream.read_to_end(&mut bytes)?;
    let end = bytes.windows(4).position(|four| four == b"\r\n\r\n").ok_or_else(|| wrong("no answer"))?;
    let head = String::from_utf8_lossy(&bytes[..end]).into_owned();
    let status = head.split_whitespace().nth(1).unwrap_or_default().to_owned();
    let header = |name: &str| {
        head.lines().find_map(|line| line.split_once(':').filter(|(key, _)| key.eq_ignore_ascii_case(name)))
    };
    match (status.as_str(), header("location")) {
        ("200", _) => Ok(bytes.split_off(end + 4)),
        (moved, Some((_, to))) if moved.starts_with('3') && hops > 0 => {
            let to = to.trim();
            fetch(&if to.starts_with('/') { format!("http://{host}{to}") } else { to.to_owned() }, hops - 1)
        }
        _ => Err(wrong(&format!("the host answers {status}"))),
    }
}
