//! Writes reproducible zip archives: members in the given order, no times, no
//! system-specific fields. Members of other archives are copied without decompressing them.
//!
//! The format is PKWARE's APPNOTE 6.3, without the extension for archives above 4 GB.

use std::io::{self, Read, Write};

/// The most members, and the most bytes, that this form allows.
const MOST_MEMBERS: usize = 0xffff;
const MOST_BYTES: u64 = 0xffff_ffff;
/// 1 January 1980, the earliest date in the format.
const DATE: u16 = 0x21;
/// Names are UTF-8.
const FLAGS: u16 = 1 << 11;
/// Version 2.0 of the format.
const VERSION: u16 = 20;

/// A member's header fields.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Its path.
    pub path: String,
    /// The number of its compression method.
    pub method: u16,
    /// The checksum of the uncompressed bytes.
    pub sum: u32,
    /// Its compressed size in bytes.
    pub packed: u64,
    /// Its uncompressed size in bytes.
    pub size: u64,
}

/// An archive that is being written.
#[derive(Debug)]
pub struct ZipOut<W> {
    out: W,
    at: u64,
    members: Vec<(Member, u64)>,
}

fn too_large() -> io::Error {
    io::Error::new(io::ErrorKind::FileTooLarge, "such an archive has at most 65,535 files and 4 GB")
}

impl<W: Write> ZipOut<W> {
    /// Starts an archive.
    pub fn new(out: W) -> Self {
        Self { out, at: 0, members: Vec::new() }
    }

    /// Adds a member from its compressed bytes.
    ///
    /// # Errors
    /// If it cannot be written, or `bytes` does not have the member's size.
    pub fn copy(&mut self, member: Member, bytes: &mut dyn Read) -> io::Result<()> {
        if member.packed > MOST_BYTES || member.size > MOST_BYTES || self.members.len() >= MOST_MEMBERS {
            return Err(too_large());
        }
        let start = self.at;
        let mut head = Vec::with_capacity(30 + member.path.len());
        head.extend(0x0403_4b50_u32.to_le_bytes());
        fields(&member, &mut head);
        head.extend([0; 2]);
        head.extend(member.path.as_bytes());
        self.out.write_all(&head)?;
        let came = io::copy(bytes, &mut self.out)?;
        if came != member.packed {
            return Err(io::Error::new(
                io::ErrorKind::InvalidData,
                format!("{}: {came} of {} bytes", member.path, member.packed),
            ));
        }
        self.at += head.len() as u64 + came;
        if self.at > MOST_BYTES {
            return Err(too_large());
        }
        self.members.push((member, start));
        Ok(())
    }

    /// Adds a member without compressing it.
    ///
    /// # Errors
    /// If it cannot be written.
    pub fn store(&mut self, path: &str, bytes: &[u8]) -> io::Result<()> {
        let size = bytes.len() as u64;
        let sum = crc32fast::hash(bytes);
        self.copy(Member { path: path.to_owned(), method: 0, sum, packed: size, size }, &mut &*bytes)
    }

    /// Finishes the archive and returns the writer.
    ///
    /// # Errors
    /// If it cannot be written.
    pub fn finish(mut self) -> io::Result<W> {
        let mut end = Vec::new();
        for (member, start) in &self.members {
            end.extend(0x0201_4b50_u32.to_le_bytes());
            end.extend(VERSION.to_le_bytes());
            fields(member, &mut end);
            // No extra field, no comment, no disk, no attributes.
            end.extend([0; 2 + 2 + 2 + 2 + 4]);
            end.extend(small(*start)?.to_le_bytes());
            end.extend(member.path.as_bytes());
        }
        let count = u16::try_from(self.members.len()).map_err(|_| too_large())?;
        let (length, at) = (small(end.len() as u64)?, small(self.at)?);
        end.extend(0x0605_4b50_u32.to_le_bytes());
        end.extend([0; 4]);
        end.extend(count.to_le_bytes());
        end.extend(count.to_le_bytes());
        end.extend(length.to_le_bytes());
        end.extend(at.to_le_bytes());
        end.extend([0; 2]);
        self.out.write_all(&end)?;
        self.out.flush()?;
        Ok(self.out)
    }
}

fn small(number: u64) -> io::Result<u32> {
    u32::try_from(number).map_err(|_| too_large())
}

/// Writes the fields that both headers of a member share: from the version needed to the name's length.
fn fields(member: &Member, into: &mut Vec<u8>) {
    for number in [VERSION, FLAGS, member.method, 0, DATE] {
        into.extend(number.to_le_bytes());
    }
    // Both were checked against the format's limits.
    for number in [u64::from(member.sum), member.packed, member.size] {
        into.extend(u32::try_from(number).unwrap_or(u32::MAX).to_le_bytes());
    }
    into.extend(u16::try_from(member.path.len()).unwrap_or(u16::MAX).to_le_bytes());
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_can_be_read_and_copied() -> Result<(), Box<dyn std::error::Error>> {
        let mut given = zip::ZipWriter::new(io::Cursor::new(Vec::new()));
        given.start_file("wörds.txt", zip::write::SimpleFileOptions::default())?;
        let text = "words and words and words ".repeat(40);
        given.write_all(text.as_bytes())?;
        let mut given = zip::ZipArchive::new(given.finish()?)?;
        let mut out = ZipOut::new(Vec::new());
        let mut file = given.by_index_raw(0)?;
        let member = Member {
            path: "wörds.txt".into(),
            method: 8,
            sum: file.crc32(),
            packed: file.compressed_size(),
            size: file.size(),
        };
        out.copy(member.clone(), &mut file)?;
        out.store("plain", b"plain")?;
        drop(file);
        let bytes = out.finish()?;
        let mut read = zip::ZipArchive::new(io::Cursor::new(&bytes))?;
        let mut found = String::new();
        read.by_name("wörds.txt")?.read_to_string(&mut found)?;
        assert_eq!(found, text);
        assert_eq!(read.by_name("plain")?.size(), 5);
        // A member of the wrong size is refused.
        let short = ZipOut::new(Vec::new()).copy(Member { packed: 9, ..member }, &mut &b"four"[..]);
        assert!(short.is_err());
        Ok(())
    }
}
