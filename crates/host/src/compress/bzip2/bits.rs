//! Writing bits, the highest first.

use std::io::{self, Write};

/// A row of bits in memory.
#[derive(Debug, Default)]
pub(super) struct Bits {
    bytes: Vec<u8>,
    /// The bits that do not fill a byte yet, in the lowest places.
    pending: u64,
    count: u32,
}

impl Bits {
    pub(super) fn with_capacity(bytes: usize) -> Self {
        Self { bytes: Vec::with_capacity(bytes), ..Self::default() }
    }

    /// Adds the lowest `count` bits of a number, at most 48.
    pub(super) fn put(&mut self, number: u64, count: u32) {
        debug_assert!(count <= 48 && self.count < 8);
        self.pending = self.pending << count | number & ((1 << count) - 1);
        self.count += count;
        while self.count >= 8 {
            self.count -= 8;
            self.bytes.push(u8::try_from(self.pending >> self.count & 0xff).unwrap_or_default());
        }
    }
}

/// Writes bits to a writer. What does not fill a byte waits.
pub(super) struct BitWriter<W> {
    to: W,
    last: Bits,
}

impl<W: Write> BitWriter<W> {
    pub(super) fn new(to: W) -> Self {
        Self { to, last: Bits::default() }
    }

    pub(super) fn put(&mut self, number: u64, count: u32) -> io::Result<()> {
        self.last.put(number, count);
        self.write()
    }

    pub(super) fn put_all(&mut self, bits: &Bits) -> io::Result<()> {
        self.last.bytes.reserve(bits.bytes.len());
        if self.last.count == 0 {
            self.last.bytes.extend_from_slice(&bits.bytes);
        } else {
            bits.bytes.iter().for_each(|byte| self.last.put(u64::from(*byte), 8));
        }
        self.last.put(bits.pending, bits.count);
        self.write()
    }

    fn write(&mut self) -> io::Result<()> {
        self.to.write_all(&self.last.bytes)?;
        self.last.bytes.clear();
        Ok(())
    }

    /// Fills the last byte with zeros, and flushes.
    pub(super) fn finish(mut self) -> io::Result<()> {
        let missing = (8 - self.last.count) % 8;
        self.put(0, missing)?;
        self.to.flush()
    }
}
