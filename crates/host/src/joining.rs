//! Asks a server as a player's game does, and compares files as it does.

use std::{
    io::{self, BufRead, BufReader, Read, Write},
    net::{TcpStream, ToSocketAddrs},
    time::Duration,
};

use yalotheca_core::game::{NeedDigest, PackDigest};

use crate::foreign_digest::digest_reader;

/// How long an answer may take.
const WAIT: Duration = Duration::from_secs(5);
/// The longest answer that is read.
const LONGEST: u64 = 16 << 20;

/// Sends a line to a port, and returns the line that is answered.
///
/// # Errors
/// If nothing listens there, or it does not answer with a line.
pub fn ask_line(host: &str, port: u16, line: &str) -> io::Result<String> {
    let none = || io::Error::new(io::ErrorKind::NotFound, "the host has no address");
    let address = (host, port).to_socket_addrs()?.next().ok_or_else(none)?;
    let mut stream = TcpStream::connect_timeout(&address, WAIT)?;
    stream.set_read_timeout(Some(WAIT))?;
    stream.set_write_timeout(Some(WAIT))?;
    stream.write_all(format!("{line}\n").as_bytes())?;
    let mut answer = Vec::new();
    BufReader::new(stream).take(LONGEST).read_until(b'\n', &mut answer)?;
    if answer.is_empty() {
        return Err(io::Error::new(
            io::ErrorKind::UnexpectedEof,
            "it closed the connection without an answer",
        ));
    }
    String::from_utf8(answer).map_err(io::Error::other)
}

/// Returns the size and the digest of what a reader gives, as a player's game computes it.
///
/// # Errors
/// If it cannot be read.
pub fn digest_of(from: &mut dyn Read, digest: Option<NeedDigest>) -> io::Result<(u64, String)> {
    match digest {
        Some(NeedDigest::Crc32 { skip, leave }) => {
            let mut bytes = Vec::new();
            from.read_to_end(&mut bytes)?;
            let counted = bytes.get(skip..bytes.len().saturating_sub(leave)).unwrap_or_default();
            Ok((bytes.len() as u64, crc32fast::hash(counted).to_string()))
        }
        Some(NeedDigest::Sha1) => foreign(from, PackDigest::Sha1),
        Some(NeedDigest::Sha256) => foreign(from, PackDigest::Sha256),
        None => Ok((io::copy(from, &mut io::sink())?, String::new())),
    }
}

fn foreign(from: &mut dyn Read, kind: PackDigest) -> io::Result<(u64, String)> {
    let digests = digest_reader(from, kind)?;
    Ok((digests.bytes, digests.foreign))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn digests_are_those_of_the_standards() -> io::Result<()> {
        let of = |digest| digest_of(&mut &b"abc"[..], digest);
        assert_eq!(of(Some(NeedDigest::Sha1))?, (3, "a9993e364706816aba3e25717850c26c9cd0d89d".into()));
        assert_eq!(of(None)?, (3, String::new()));
        let crc = of(Some(NeedDigest::Crc32 { skip: 0, leave: 0 }))?;
        assert_eq!(crc, (3, 0x3524_41c2_u32.to_string()));
        let part = digest_of(&mut &b"xabcyz"[..], Some(NeedDigest::Crc32 { skip: 1, leave: 2 }))?;
        assert_eq!(part, (6, crc.1));
        let nothing = digest_of(&mut &b"x"[..], Some(NeedDigest::Crc32 { skip: 3, leave: 2 }))?;
        assert_eq!(nothing, (1, "0".into()));
        Ok(())
    }
}
