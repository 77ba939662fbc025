//! Tar archives, compressed or not. Long names and extended headers are read here and not by the library, which holds as much of
//! them as an archive claims; and so is the mark at the end, without which an archive is only a part of one.

use std::{
    cell::Cell,
    io::{self, Read},
    rc::Rc,
};

use tar::{Archive, EntryType};

use super::{
    UnpackError, Unpacked,
    intake::{Intake, Link},
};

const BLOCK: u64 = 512;

/// A name, a link's target or an extended header may have so many bytes.
const LONGEST: u64 = 64 << 10;

/// Counts what is read and remembers whether the last block was empty.
struct Watched<R> {
    inner: R,
    seen: Rc<Cell<u64>>,
    /// So many bytes at the end of what was read were zero.
    zeros: Rc<Cell<u64>>,
    most: u64,
}

impl<R: Read> Read for Watched<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.seen.set(self.seen.get() + read as u64);
        let zeros = buffer[..read].iter().rev().take_while(|byte| **byte == 0).count();
        let before = if zeros == read { self.zeros.get() } else { 0 };
        self.zeros.set(before + zeros as u64);
        if self.seen.get() > self.most {
            return Err(io::Error::other("too much comes out of it"));
        }
        Ok(read)
    }
}

/// What an extended header, or a long name, says of the next member.
#[derive(Default)]
struct Next {
    path: Option<Vec<u8>>,
    target: Option<Vec<u8>>,
    size: Option<u64>,
}

pub(super) fn unpack(from: impl Read, intake: &Intake<'_>) -> Result<Unpacked, UnpackError> {
    let (seen, zeros) = (Rc::new(Cell::new(0)), Rc::new(Cell::new(0)));
    let most = intake.most_of_tar();
    let watched = Watched { inner: from, seen: Rc::clone(&seen), zeros: Rc::clone(&zeros), most };
    let damaged = |error: io::Error| {
        if seen.get() > most { intake.swollen() } else { intake.damaged(error) }
    };
    let (mut members, mut links) = (Vec::new(), Vec::new());
    let mut archive = Archive::new(watched);
    let mut end = 0;
    let mut next = Next::default();
    for entry in archive.entries().map_err(&damaged)?.raw(true) {
        let mut entry = entry.map_err(&damaged)?;
        let size = entry.size();
        end = entry.raw_file_position().saturating_add(size.div_ceil(BLOCK).saturating_mul(BLOCK));
        let sort = entry.header().entry_type();
        let mut text = || -> Result<Vec<u8>, UnpackError> {
            if size > LONGEST {
                return Err(intake.too_much(format!("a name or a header in it has {size} bytes")));
            }
            let mut bytes = Vec::new();
            entry.read_to_end(&mut bytes).map_err(&damaged)?;
            Ok(bytes)
        };
        match sort {
            EntryType::XGlobalHeader => continue,
            EntryType::GNULongName => {
                next.path = Some(without_nul(text()?));
                continue;
            }
            EntryType::GNULongLink => {
                next.target = Some(without_nul(text()?));
                continue;
            }
            EntryType::XHeader => {
                extended(&text()?, &mut next);
                continue;
            }
            _ => {}
        }
        let Next { path, target, size: other } = std::mem::take(&mut next);
        let bytes = path.unwrap_or_else(|| entry.path_bytes().into_owned());
        let raw = String::from_utf8(bytes)
            .map_err(|error| intake.unsafe_member(&error.to_string(), "its name is not UTF-8 text"))?;
        if other.is_some_and(|other| other != size) {
            return Err(intake.unsafe_member(&raw, "it has two sizes"));
        }
        if raw.trim_matches(['.', '/']).is_empty() && sort == EntryType::Directory && !raw.contains("..") {
            continue;
        }
        match sort {
            EntryType::Directory => drop(intake.name(&raw)?),
            EntryType::Regular | EntryType::Continuous => {
                let name = intake.name(&raw)?;
                members.push(intake.take(name, &mut entry)?);
            }
            EntryType::Symlink | EntryType::Link => {
                let path = intake.name(&raw)?;
                let own = || entry.link_name_bytes().map(std::borrow::Cow::into_owned).unwrap_or_default();
                let target = String::from_utf8(target.unwrap_or_else(own))
                    .map_err(|_| intake.unsafe_member(&raw, "it is a link to a name that is no text"))?;
                links.push(Link { path, target, from_top: sort == EntryType::Link });
            }
            EntryType::GNUSparse => {
                return Err(
                    intake.unsafe_member(&raw, "it is a file with holes in it, which is not supported")
                );
            }
            _ => return Err(intake.unsafe_member(&raw, "it is a device or a pipe, not a file")),
        }
    }
    if end == 0 {
        return Err(intake.damaged("there is nothing in it"));
    }
    // An empty block stands behind the last member.
    if seen.get() < end + BLOCK || zeros.get() < BLOCK {
        return Err(intake.damaged("it ends without a tar archive's end mark"));
    }
    intake.finish(members, links)
}

fn without_nul(mut bytes: Vec<u8>) -> Vec<u8> {
    while bytes.last() == Some(&0) {
        bytes.pop();
    }
    bytes
}

/// Reads the records of an extended header: `LENGTH KEY=VALUE`, each with a line end.
fn extended(bytes: &[u8], next: &mut Next) {
    let mut rest = bytes;
    while let Some(space) = rest.iter().position(|byte| *byte == b' ') {
        let length = std::str::from_utf8(&rest[..space]).ok().and_then(|text| text.parse::<usize>().ok());
        let Some(record) = length.and_then(|length| rest.get(space + 1..length)) else { return };
        rest = &rest[length.unwrap_or(rest.len())..];
        let record = record.strip_suffix(b"\n").unwrap_or(record);
        let Some(equals) = record.iter().position(|byte| *byte == b'=') else { continue };
        let (key, value) = (&record[..equals], &record[equals + 1..]);
        match key {
            b"path" => next.path = Some(value.to_vec()),
            b"linkpath" => next.target = Some(value.to_vec()),
            b"size" => next.size = std::str::from_utf8(value).ok().and_then(|text| text.parse().ok()),
            _ => {}
        }
    }
}
