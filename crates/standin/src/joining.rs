//! How a player's game asks to come in: one line of JSON, answered by one; and how it fetches files.

use std::{
    io::{self, BufRead, BufReader, Read, Write},
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

/// Fetches what a plain HTTP address holds, passed on a few times at most.
pub(crate) fn fetch(link: &str, hops: usize) -> io::Result<Vec<u8>> {
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
