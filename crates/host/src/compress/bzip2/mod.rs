//! One bzip2 stream, compressed on all cores.
//!
//! Games decompress with the library's plain calls, which end at the end of the first stream, so the streams of several blocks must not
//! simply follow one another. Each block is compressed alone; then the blocks' bits are put into one stream. The usual library cannot do
//! that, and sorts much more slowly than a modern suffix array (here one core does what it does on three).
//!
//! The stream's form: `BZh9`, blocks of any number of bits (a 48-bit magic, the block's CRC, its data), a 48-bit end magic, the CRC of
//! all blocks, and up to seven bits of padding.

mod bits;
mod block;
mod codes;

use std::{
    collections::BTreeMap,
    io::{self, Read, Write},
    sync::{Mutex, PoisonError, mpsc},
    thread,
};

use self::{
    bits::BitWriter,
    block::{Block, compress_block},
};
use crate::threads::cores;

/// `BZh9`.
const HEAD: u64 = 0x425a_6839;
const END_MAGIC: u64 = 0x1772_4538_5090;
/// How many bytes a block takes after runs of equal bytes were shortened; a little less than the encoder allows.
const BLOCK: usize = 899_900;

/// Compresses everything that a reader gives into one stream. The same bytes give the same stream on any machine.
///
/// # Errors
/// If reading or writing fails.
pub(super) fn compress(from: impl Read, to: impl Write) -> io::Result<()> {
    // A few blocks wait for each core, so that none is idle while one is read or written.
    let (jobs, waiting) = mpsc::sync_channel::<(usize, Vec<u8>)>(cores());
    let (ready, done) = mpsc::channel();
    let waiting = Mutex::new(waiting);
    let work = |ready: &mpsc::Sender<(usize, io::Result<Block>)>| {
        let next = || waiting.lock().unwrap_or_else(PoisonError::into_inner).recv();
        while let Ok((number, bytes)) = next() {
            if ready.send((number, compress_block(&bytes))).is_err() {
                break;
            }
        }
    };
    thread::scope(|scope| {
        for _ in 0..cores() {
            let ready = ready.clone();
            scope.spawn(move || work(&ready));
        }
        drop(ready);
        let mut stream = Stream::begin(to, done)?;
        let count = split(from, |number, block| {
            // All workers end only if the stream does.
            jobs.send((number, block)).map_err(io::Error::other)?;
            stream.take_ready()
        });
        drop(jobs);
        stream.finish(count?)
    })
}

/// Calls a function with each block of what a reader gives, and returns how many there are.
fn split(mut from: impl Read, mut act: impl FnMut(usize, Vec<u8>) -> io::Result<()>) -> io::Result<usize> {
    let mut rest: Vec<u8> = Vec::new();
    let mut count = 0;
    loop {
        // Of long runs of equal bytes one block takes more than the usual number of bytes.
        let wanted = (4 * BLOCK).saturating_sub(rest.len()).max(BLOCK);
        let read = from.by_ref().take(wanted as u64).read_to_end(&mut rest)?;
        let is_end = read < wanted;
        let mut at = 0;
        while at < rest.len() {
            let length = block_length(&rest[at..]);
            if at + length == rest.len() && !is_end {
                break;
            }
            act(count, rest[at..at + length].to_vec())?;
            (at, count) = (at + length, count + 1);
        }
        rest.drain(..at);
        if is_end {
            return Ok(count);
        }
    }
}

/// The stream while it is written: blocks arrive in any order.
struct Stream<W> {
    out: BitWriter<W>,
    done: mpsc::Receiver<(usize, io::Result<Block>)>,
    early: BTreeMap<usize, Block>,
    written: usize,
    checksum: u32,
}

impl<W: Write> Stream<W> {
    fn begin(to: W, done: mpsc::Receiver<(usize, io::Result<Block>)>) -> io::Result<Self> {
        let mut out = BitWriter::new(to);
        out.put(HEAD, 32)?;
        Ok(Self { out, done, early: BTreeMap::new(), written: 0, checksum: 0 })
    }

    /// Writes the blocks that are compressed by now and whose turn it is.
    fn take_ready(&mut self) -> io::Result<()> {
        while let Ok((number, block)) = self.done.try_recv() {
            self.early.insert(number, block?);
        }
        while let Some(Block { bits, checksum }) = self.early.remove(&self.written) {
            self.out.put_all(&bits)?;
            self.checksum = self.checksum.rotate_left(1) ^ checksum;
            self.written += 1;
        }
        Ok(())
    }

    /// Writes the rest, and ends the stream.
    fn finish(mut self, count: usize) -> io::Result<()> {
        while self.written < count {
            let (number, block) = self.done.recv().map_err(io::Error::other)?;
            self.early.insert(number, block?);
            self.take_ready()?;
        }
        self.out.put(END_MAGIC, 48)?;
        self.out.put(u64::from(self.checksum), 32)?;
        self.out.finish()
    }
}

/// Returns how many of the first bytes fill one block, or nearly so.
fn block_length(bytes: &[u8]) -> usize {
    /// So many runs are worth a shorter block.
    const FEW: usize = 2_000;
    let all = bytes.get(..BLOCK).unwrap_or(bytes);
    // Only runs of four or more change the length; each of them by one byte at most.
    let runs = runs_of_four(all);
    if runs <= FEW {
        return all.len().min(BLOCK - runs);
    }
    exact_length(bytes)
}

/// Returns at how many places four equal bytes begin: at least the number of such runs.
fn runs_of_four(bytes: &[u8]) -> usize {
    let count = bytes.len().saturating_sub(3);
    let at = |shift: usize| bytes.get(shift..).unwrap_or_default().iter().take(count);
    at(0)
        .zip(at(1))
        .zip(at(2).zip(at(3)))
        .map(|((a, b), (c, d))| usize::from((a ^ b) | (b ^ c) | (c ^ d) == 0))
        .sum()
}

/// The same, by looking at each run.
fn exact_length(bytes: &[u8]) -> usize {
    let (mut at, mut filled) = (0, 0);
    while let Some(byte) = bytes.get(at) {
        let run = bytes[at..].iter().take(255).take_while(|other| *other == byte).count();
        // The encoder writes a run of four or more as four bytes and a count.
        let takes = if run < 4 { run } else { 5 };
        if filled + takes > BLOCK {
            break;
        }
        filled += takes;
        at += run;
    }
    at
}

#[cfg(test)]
mod tests {
    use bzip2::read::BzDecoder;

    use super::*;

    fn noise(length: usize, kinds: u64) -> Vec<u8> {
        let mut state = 0x9E37_79B9_7F4A_7C15_u64;
        let mut bytes = Vec::with_capacity(length);
        while bytes.len() < length {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            let run = if (state >> 20).is_multiple_of(7) { (state >> 40) % 600 } else { 1 };
            let byte = u8::try_from((state >> 33) % kinds).unwrap_or(0);
            bytes.extend(std::iter::repeat_n(byte, usize::try_from(run).unwrap_or(1)));
        }
        bytes.truncate(length);
        bytes
    }

    #[test]
    fn a_block_never_takes_more_than_the_encoder_allows() {
        for sample in [
            b"aaaabbbbccccdddd".repeat(100_000),
            noise(2_000_000, 3),
            vec![1; 2_000_000],
            (0..=255_u8).cycle().take(2_000_000).collect(),
            b"aaaab".to_vec(),
            b"aaa".to_vec(),
            Vec::new(),
        ] {
            let length = block_length(&sample);
            assert!(length <= exact_length(&sample) && (length > 0 || sample.is_empty()));
            assert!(length == sample.len() || length >= BLOCK * 4 / 5 - 2_000, "{length}");
        }
    }

    #[test]
    fn one_stream_holds_all_bytes_whatever_they_are() -> io::Result<()> {
        let samples = [
            vec![],
            b"heron".to_vec(),
            vec![7; BLOCK * 5],
            noise(BLOCK, 256),
            noise(BLOCK + 1, 256),
            noise(2 * BLOCK + 77, 2),
        ];
        for sample in samples {
            let mut stream = Vec::new();
            compress(sample.as_slice(), &mut stream)?;
            let mut decoder = BzDecoder::new(stream.as_slice());
            let mut back = Vec::new();
            decoder.read_to_end(&mut back)?;
            assert!(back == sample, "{} bytes", sample.len());
            assert_eq!(decoder.total_in(), stream.len() as u64, "one stream, to the end");
        }
        Ok(())
    }
}
