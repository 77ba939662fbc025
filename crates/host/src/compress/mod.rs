//! Compression in the forms that players' games expect.

mod bzip2;

use std::io::{self, Read, Write};

use flate2::{Compression as Level, GzBuilder};
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
