//! Digests of the kinds that games use.

use std::{
    fs::File,
    io::{self, Read},
    path::Path,
};

use sha1::{Digest as _, Sha1};
use sha2::Sha256;
use yalotheca_core::{game::PackDigest, id::Digest};

/// A file's digests and size, from one pass over it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileDigests {
    /// Yalotheca's own digest.
    pub blake3: Digest,
    /// Its size in bytes.
    pub bytes: u64,
    /// The requested digest, in hexadecimal.
    pub foreign: String,
}

/// Computes both digests of a file in one pass.
///
/// # Errors
/// If it cannot be read.
pub fn digest_file(path: &Path, kind: PackDigest) -> io::Result<FileDigests> {
    digest_reader(&mut File::open(path)?, kind)
}

/// Computes both digests of what a reader gives in one pass.
///
/// # Errors
/// If it cannot be read.
pub fn digest_reader(file: &mut dyn Read, kind: PackDigest) -> io::Result<FileDigests> {
    let mut blake3 = blake3::Hasher::new();
    let mut foreign = match kind {
        PackDigest::Sha1 => Foreign::Sha1(Sha1::new()),
        PackDigest::Sha256 => Foreign::Sha256(sha2::Digest::new()),
    };
    let (mut buffer, mut bytes) = (vec![0; 1 << 17], 0);
    loop {
        let part = match file.read(&mut buffer) {
            Ok(0) => break,
            Ok(read) => &buffer[..read],
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            Err(error) => return Err(error),
        };
        bytes += part.len() as u64;
        blake3.update(part);
        match &mut foreign {
            Foreign::Sha1(hasher) => hasher.update(part),
            Foreign::Sha256(hasher) => sha2::Digest::update(hasher, part),
        }
    }
    let foreign = match foreign {
        Foreign::Sha1(hasher) => hex(&hasher.finalize()),
        Foreign::Sha256(hasher) => hex(&sha2::Digest::finalize(hasher)),
    };
    Ok(FileDigests { blake3: Digest::from_bytes(*blake3.finalize().as_bytes()), bytes, foreign })
}

enum Foreign {
    Sha1(Sha1),
    Sha256(Sha256),
}

/// Returns bytes as hexadecimal digits.
pub fn hex(bytes: &[u8]) -> String {
    use std::fmt::Write as _;
    bytes.iter().fold(String::new(), |mut text, byte| {
        // Writing to a String cannot fail.
        write!(text, "{byte:02x}").ok();
        text
    })
}

/// Returns the SHA-1 that hexadecimal digits stand for.
pub fn sha1_from_hex(text: &str) -> Option<[u8; 20]> {
    let digits: Vec<u8> = text
        .chars()
        .map(|c| c.to_digit(16).and_then(|digit| u8::try_from(digit).ok()))
        .collect::<Option<_>>()?;
    let (pairs, rest) = digits.as_chunks::<2>();
    let bytes: Vec<u8> = pairs.iter().map(|[high, low]| high << 4 | low).collect();
    bytes.try_into().ok().filter(|_| rest.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hexadecimal_digits_are_read_back() {
        assert_eq!(sha1_from_hex(&hex(&[7; 20])), Some([7; 20]));
        for wrong in ["07", "", &"zz".repeat(20), &"0".repeat(41), &"ä".repeat(20)] {
            assert_eq!(sha1_from_hex(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn the_digests_are_those_of_the_standards() -> io::Result<()> {
        let folder = tempfile::tempdir()?;
        let path = folder.path().join("abc");
        std::fs::write(&path, "abc")?;
        let sha1 = digest_file(&path, PackDigest::Sha1)?;
        assert_eq!(sha1.foreign, "a9993e364706816aba3e25717850c26c9cd0d89d");
        assert_eq!((sha1.blake3, sha1.bytes), (Digest::of(b"abc"), 3));
        let sha256 = digest_file(&path, PackDigest::Sha256)?;
        assert_eq!(sha256.foreign, "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
        Ok(())
    }
}
