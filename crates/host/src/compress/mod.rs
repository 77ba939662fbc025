//! Compression in the forms that players' games expect.

mod bzip2;

use std::io::{self, Read, Write};

use ::bzip2::read::BzDecoder;
use flate2::{Compression as Level, GzBuilder, read::GzDecoder};
use yalotheca_core::game::Compression;

/// Compresses everything that a reader gives. The same bytes give the same result on any machine.
///
/// # Errors
/// If reading or writing fails.
pub fn compress(how: Compression, mut from: impl Read, to: impl Write) -> io::Result<()> {
    match how {
        Compression::Bzip2 => bzip2::compress(from, to),
        Compression::Gzip => {
            let mut encoder = GzBuilder::new().write(to, Level::best());
            io::copy(&mut from, &mut encoder)?;
            encoder.finish()?.flush()
        }
    }
}

/// Decompresses one stream, as games do: what follows it does not count.
///
/// # Errors
/// If it is broken, or reading or writing fails.
pub fn decompress(how: Compression, from: impl Read, to: &mut impl Write) -> io::Result<u64> {
    match how {
        Compression::Bzip2 => io::copy(&mut BzDecoder::new(from), to),
        Compression::Gzip => io::copy(&mut GzDecoder::new(from), to),
    }
}
