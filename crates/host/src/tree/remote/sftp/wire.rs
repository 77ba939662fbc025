//! The packets of SFTP version 3, as in draft-ietf-secsh-filexfer-02 and OpenSSH's PROTOCOL file.
//!
//! The library for this takes names for UTF-8, and waits for one thing at a time; administrators' servers have other names, and are far
//! away.

use std::io;

use super::super::file_server::{RemoteEntry, RemoteKind, RemoteMetadata};

/// No packet is longer than this.
pub(super) const LONGEST: usize = 4 << 20;
/// What every server takes in one request.
pub(super) const CHUNK: usize = 32 << 10;

pub(super) const OPEN: u8 = 3;
pub(super) const CLOSE: u8 = 4;
pub(super) const READ: u8 = 5;
pub(super) const WRITE: u8 = 6;
pub(super) const LSTAT: u8 = 7;
pub(super) const FSTAT: u8 = 8;
pub(super) const FSETSTAT: u8 = 10;
pub(super) const OPENDIR: u8 = 11;
pub(super) const READDIR: u8 = 12;
pub(super) const REMOVE: u8 = 13;
pub(super) const MKDIR: u8 = 14;
pub(super) const RMDIR: u8 = 15;
pub(super) const REALPATH: u8 = 16;
pub(super) const RENAME: u8 = 18;
pub(super) const READLINK: u8 = 19;
pub(super) const EXTENDED: u8 = 200;
const INIT: u8 = 1;
const VERSION: u8 = 2;
const STATUS: u8 = 101;
const HANDLE: u8 = 102;
const DATA: u8 = 103;
const NAME: u8 = 104;
const ATTRS: u8 = 105;
const EXTENDED_REPLY: u8 = 201;

/// How a file is opened.
pub(super) const FOR_READING: u32 = 1;
pub(super) const FOR_WRITING: u32 = 2 | 8 | 16;

const HAS_SIZE: u32 = 1;
const HAS_OWNER: u32 = 2;
const HAS_MODE: u32 = 4;
const HAS_TIMES: u32 = 8;
const HAS_MORE: u32 = 0x8000_0000;

/// A request, without its number.
#[derive(Debug, Clone)]
pub(super) struct Request {
    kind: u8,
    body: Vec<u8>,
    /// Tells the exchange which of its requests was answered.
    pub(super) tag: u64,
    /// So many bytes come with the answer.
    expects: usize,
}

impl Request {
    pub(super) fn new(kind: u8) -> Self {
        Self { kind, body: Vec::new(), tag: 0, expects: 0 }
    }

    pub(super) fn extended(name: &str) -> Self {
        Self::new(EXTENDED).bytes(name.as_bytes())
    }

    pub(super) fn tag(self, tag: u64) -> Self {
        Self { tag, ..self }
    }

    pub(super) fn expects(self, bytes: u64) -> Self {
        Self { expects: usize::try_from(bytes).unwrap_or(usize::MAX), ..self }
    }

    /// What it asks for, in a word.
    pub(super) fn name(&self) -> &'static str {
        match self.kind {
            OPEN => "open",
            LSTAT => "look at",
            OPENDIR => "list",
            REMOVE => "remove",
            MKDIR => "make folder",
            RMDIR => "remove folder",
            REALPATH => "real path",
            RENAME => "rename",
            READLINK => "read link",
            _ => "other",
        }
    }

    /// How many bytes are under way for it.
    pub(super) fn weight(&self) -> usize {
        self.body.len().saturating_add(self.expects)
    }

    /// Whether its answer is not needed.
    pub(super) fn is_farewell(&self) -> bool {
        self.kind == CLOSE
    }

    pub(super) fn bytes(mut self, bytes: &[u8]) -> Self {
        self.body.extend_from_slice(&u32::try_from(bytes.len()).unwrap_or(u32::MAX).to_be_bytes());
        self.body.extend_from_slice(bytes);
        self
    }

    pub(super) fn path(self, path: &str) -> Self {
        self.bytes(path.as_bytes())
    }

    pub(super) fn number(mut self, number: u32) -> Self {
        self.body.extend_from_slice(&number.to_be_bytes());
        self
    }

    pub(super) fn long(mut self, number: u64) -> Self {
        self.body.extend_from_slice(&number.to_be_bytes());
        self
    }

    /// Adds a mode and a time, those that there are.
    pub(super) fn attributes(self, mode: Option<u32>, modified: Option<u64>) -> Self {
        let flags =
            if mode.is_some() { HAS_MODE } else { 0 } | if modified.is_some() { HAS_TIMES } else { 0 };
        let mut request = self.number(flags);
        if let Some(mode) = mode {
            request = request.number(mode);
        }
        if let Some(modified) = modified {
            let seconds = u32::try_from(modified).unwrap_or(u32::MAX);
            request = request.number(seconds).number(seconds);
        }
        request
    }

    pub(super) fn write(&self, id: u32, into: &mut impl io::Write) -> io::Result<()> {
        let length = u32::try_from(self.body.len() + 5).map_err(io::Error::other)?;
        into.write_all(&length.to_be_bytes())?;
        into.write_all(&[self.kind])?;
        into.write_all(&id.to_be_bytes())?;
        into.write_all(&self.body)
    }
}

/// The greeting.
pub(super) fn hello() -> [u8; 9] {
    [0, 0, 0, 5, INIT, 0, 0, 0, 3]
}

/// What a server answers to a greeting: the extensions that it has.
pub(super) fn extensions(packet: &[u8]) -> io::Result<Vec<String>> {
    let (&kind, rest) = packet.split_first().ok_or_else(garbled)?;
    if kind != VERSION {
        return Err(garbled());
    }
    let mut rest = Fields(rest);
    let version = rest.number()?;
    if version < 3 {
        return Err(io::Error::other(format!(
            "the server speaks version {version} of SFTP; 3 is the oldest that Yalotheca knows"
        )));
    }
    let mut names = Vec::new();
    while !rest.0.is_empty() {
        names.push(String::from_utf8_lossy(rest.bytes()?).into_owned());
        rest.bytes()?;
    }
    Ok(names)
}

fn garbled() -> io::Error {
    io::Error::new(
        io::ErrorKind::InvalidData,
        "the server's answer is no SFTP; does its shell print something at login?",
    )
}

/// An answer.
#[derive(Debug)]
pub(super) enum Reply {
    Done,
    End,
    Handle(Vec<u8>),
    Data(Vec<u8>),
    Names(Vec<RemoteEntry>),
    Metadata(RemoteMetadata),
    Extended(Vec<u8>),
}

/// Reads an answer, and which request it is for. A status that tells of a failure is an error.
pub(super) fn reply(packet: &[u8]) -> io::Result<(u32, io::Result<Reply>)> {
    let (&kind, rest) = packet.split_first().ok_or_else(garbled)?;
    let mut rest = Fields(rest);
    let id = rest.number()?;
    let read = |mut rest: Fields<'_>| -> io::Result<Reply> {
        Ok(match kind {
            STATUS => return status(&mut rest),
            HANDLE => Reply::Handle(rest.bytes()?.to_vec()),
            DATA => Reply::Data(rest.bytes()?.to_vec()),
            ATTRS => Reply::Metadata(rest.metadata()?),
            EXTENDED_REPLY => Reply::Extended(rest.0.to_vec()),
            NAME => {
                let mut names = Vec::new();
                for _ in 0..rest.number()? {
                    let name = rest.bytes()?.to_vec();
                    rest.bytes()?;
                    let metadata = rest.metadata()?;
                    let name = String::from_utf8(name).map_err(std::string::FromUtf8Error::into_bytes);
                    names.push(RemoteEntry { name, metadata });
                }
                Reply::Names(names)
            }
            _ => return Err(garbled()),
        })
    };
    Ok((id, read(rest)))
}

fn status(rest: &mut Fields<'_>) -> io::Result<Reply> {
    let code = rest.number()?;
    let message = rest.bytes().map(|text| String::from_utf8_lossy(text).into_owned()).unwrap_or_default();
    let kind = match code {
        0 => return Ok(Reply::Done),
        1 => return Ok(Reply::End),
        2 => return Err(io::ErrorKind::NotFound.into()),
        3 => return Err(io::ErrorKind::PermissionDenied.into()),
        6 | 7 => io::ErrorKind::ConnectionReset,
        8 => io::ErrorKind::Unsupported,
        _ => io::ErrorKind::Other,
    };
    let message = if message.is_empty() { "failure".into() } else { message.to_lowercase() };
    Err(io::Error::new(kind, format!("the server says: {message}")))
}

/// The fields of a packet that are left to read.
struct Fields<'a>(&'a [u8]);

impl<'a> Fields<'a> {
    fn take(&mut self, count: usize) -> io::Result<&'a [u8]> {
        let (taken, rest) = self.0.split_at_checked(count).ok_or_else(garbled)?;
        self.0 = rest;
        Ok(taken)
    }

    fn number(&mut self) -> io::Result<u32> {
        Ok(u32::from_be_bytes(self.take(4)?.try_into().map_err(|_| garbled())?))
    }

    fn long(&mut self) -> io::Result<u64> {
        Ok(u64::from_be_bytes(self.take(8)?.try_into().map_err(|_| garbled())?))
    }

    fn bytes(&mut self) -> io::Result<&'a [u8]> {
        let length = usize::try_from(self.number()?).map_err(|_| garbled())?;
        self.take(length)
    }

    fn metadata(&mut self) -> io::Result<RemoteMetadata> {
        let flags = self.number()?;
        let size = if flags & HAS_SIZE == 0 { 0 } else { self.long()? };
        if flags & HAS_OWNER != 0 {
            self.take(8)?;
        }
        let mode = if flags & HAS_MODE == 0 { None } else { Some(self.number()?) };
        let modified = if flags & HAS_TIMES == 0 {
            None
        } else {
            self.take(4)?;
            Some(u64::from(self.number()?))
        };
        if flags & HAS_MORE != 0 {
            for _ in 0..self.number()? {
                self.bytes()?;
                self.bytes()?;
            }
        }
        let kind = match mode.map(|mode| mode & 0o170_000) {
            Some(0o040_000) => RemoteKind::Folder,
            Some(0o120_000) => RemoteKind::Link,
            Some(0o100_000) | None => RemoteKind::File,
            Some(_) => RemoteKind::Other,
        };
        Ok(RemoteMetadata { kind, size, modified, mode: mode.map(|mode| mode & 0o777), target: None })
    }
}

/// Returns the free blocks of a disk, of what a server answers about it.
pub(super) fn free_blocks(reply: &[u8]) -> io::Result<u64> {
    let mut rest = Fields(reply);
    // Block size, fragment size, blocks, free blocks; then those that this user may fill.
    for _ in 0..4 {
        rest.long()?;
    }
    rest.long()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whatever_a_server_answers_nothing_ends_the_program() {
        let mut packet = vec![NAME, 0, 0, 0, 7, 0, 0, 0, 1, 0, 0, 0, 3];
        packet.extend_from_slice(b"a\xffb");
        packet.extend_from_slice(&[0, 0, 0, 0]);
        packet.extend_from_slice(&[
            0, 0, 0, 13, 0, 0, 0, 0, 0, 0, 0, 9, 0, 0, 0x81, 0xa4, 0, 0, 0, 1, 0, 0, 0, 2,
        ]);
        let (id, read) = reply(&packet).unwrap();
        let Ok(Reply::Names(names)) = read else { panic!("{read:?}") };
        assert_eq!((id, names[0].name.clone()), (7, Err(b"a\xffb".to_vec())));
        let metadata = RemoteMetadata {
            kind: RemoteKind::File,
            size: 9,
            modified: Some(2),
            mode: Some(0o644),
            target: None,
        };
        assert_eq!(names[0].metadata, metadata);
        for kind in [0, VERSION, STATUS, HANDLE, DATA, NAME, ATTRS, EXTENDED_REPLY, 255] {
            packet[0] = kind;
            for length in 0..packet.len() {
                drop(reply(&packet[..length]));
                drop(extensions(&packet[..length]));
            }
        }
        assert!(matches!(reply(&[STATUS, 0, 0, 0, 1, 0, 0, 0, 1]).unwrap().1, Ok(Reply::End)));
        assert_eq!(extensions(&[VERSION, 0, 0, 0, 3, 0, 0, 0, 1, b'x', 0, 0, 0, 1, b'1']).unwrap(), ["x"]);
    }
}
