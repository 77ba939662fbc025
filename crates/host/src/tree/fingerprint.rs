//! Archives known by their ends, so that a large one on another machine need not be downloaded to be known again.

use std::io::{self, Read, Seek, SeekFrom};

use yalotheca_core::id::Digest;

/// An archive has to be larger than this to be known by its fingerprint; what is smaller is read.
pub(super) const LARGE: u64 = 128 << 10;
/// The record at the end of an archive without a comment.
const END: usize = 22;
/// Where that record begins to be looked for: a comment is no longer than 65,535 bytes.
const FARTHEST: u64 = END as u64 + 0xFFFF;
/// A central directory larger than this is not read.
const MOST_DIRECTORY: u64 = 8 << 20;

/// Returns the fingerprint of an archive and its size; nothing where it has no directory that can be read.
///
/// The form of the record at the end: PKWARE's APPNOTE.TXT, 4.3.16. Archives with the 64-bit record are not known this way.
///
/// # Errors
/// Where it cannot be read.
pub fn fingerprint_of(mut file: &mut (impl Read + Seek + ?Sized)) -> io::Result<Option<(Digest, u64)>> {
    let size = file.seek(SeekFrom::End(0))?;
    // Mostly there is no comment, and the record is at the very end.
    for length in [END as u64, FARTHEST] {
        let length = length.min(size);
        file.seek(SeekFrom::Start(size - length))?;
        let mut end = Vec::new();
        Read::take(&mut file, length).read_to_end(&mut end)?;
        let Some(at) = end.windows(END).rposition(|part| part.starts_with(b"PK\x05\x06")) else { continue };
        let number = |at: usize| {
            end.get(at..at + 4)
                .map(|bytes| bytes.iter().rev().fold(0, |sum, byte| sum << 8 | u64::from(*byte)))
        };
        let (Some(directory), Some(start)) = (number(at + 12), number(at + 16)) else { return Ok(None) };
        let record = size - length + at as u64;
        if start.checked_add(directory).is_none_or(|behind| behind > record)
            || record - start > MOST_DIRECTORY
        {
            return Ok(None);
        }
        file.seek(SeekFrom::Start(start))?;
        let mut bytes = Vec::new();
        Read::take(&mut file, size - start).read_to_end(&mut bytes)?;
        let is_whole = bytes.len() as u64 == size - start;
        return Ok(is_whole.then(|| (Digest::fingerprint_of(size, &bytes), size)));
    }
    Ok(None)
}

/// Returns the digest of a file, or its fingerprint if it is to be compared with one.
pub(super) fn comparable(
    file: &mut (impl Read + Seek + ?Sized),
    digest: Digest,
    other: &Digest,
) -> io::Result<Digest> {
    if !other.is_fingerprint() {
        return Ok(digest);
    }
    Ok(fingerprint_of(file)?.map_or(digest, |(fingerprint, _)| fingerprint))
}

#[cfg(test)]
mod tests {
    use std::io::{Cursor, Write};

    use super::*;

    fn archive(text: &[u8], comment: &str) -> Vec<u8> {
        let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
        let stored = zip::write::SimpleFileOptions::default();
        zip.start_file("plugin.json", stored).unwrap();
        zip.write_all(text).unwrap();
        zip.set_comment(comment).unwrap();
        zip.finish().unwrap().into_inner()
    }

    fn of(bytes: &[u8]) -> Option<Digest> {
        fingerprint_of(&mut Cursor::new(bytes)).unwrap().map(|(digest, _)| digest)
    }

    #[test]
    fn another_member_is_another_fingerprint_and_what_is_no_archive_has_none() {
        let bells = of(&archive(b"bells", "")).unwrap();
        assert!(bells.is_fingerprint());
        assert_eq!(of(&archive(b"bells", "")), Some(bells));
        assert_ne!(of(&archive(b"bellz", "")), Some(bells));
        assert!(of(&archive(b"bells", &"long ".repeat(900))).is_some_and(|other| other != bells));
        let longer = [archive(b"bells", ""), b"tail".to_vec()].concat();
        assert_ne!(of(&longer), Some(bells));
        for broken in [&b""[..], b"PK", b"PK\x05\x06", &vec![b'x'; 70_000], &archive(b"bells", "")[..60]] {
            assert_eq!(of(broken), None, "{broken:?}");
        }
        let mut lying = archive(b"bells", "");
        let at = lying.len() - 6;
        lying[at..at + 4].copy_from_slice(&[0xFF; 4]);
        assert_eq!(of(&lying), None);
        assert!(!Digest::of(b"bells").is_fingerprint());
    }
}
