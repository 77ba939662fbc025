//! One block of a bzip2 stream: runs of equal bytes are shortened, the rotations are sorted, and what comes of it is coded.

use std::io;

use libsais::SuffixArrayConstruction;

use super::{
    bits::Bits,
    codes::{Symbols, write_symbols},
};

const BLOCK_MAGIC: u64 = 0x3141_5926_5359;

/// A compressed block of a stream.
pub(super) struct Block {
    pub(super) bits: Bits,
    pub(super) checksum: u32,
}

/// Compresses bytes that fill at most one block.
pub(super) fn compress_block(bytes: &[u8]) -> io::Result<Block> {
    let checksum = checksum(bytes);
    let (last, origin) = last_column(&shorten_runs(bytes))?;
    let mut bits = Bits::with_capacity(bytes.len() / 2);
    bits.put(BLOCK_MAGIC, 48);
    bits.put(u64::from(checksum), 32);
    // Not randomised.
    bits.put(0, 1);
    bits.put(origin as u64, 24);
    let used = used(&last);
    write_used(&mut bits, &used);
    write_symbols(&mut bits, &move_to_front(&last, &used));
    Ok(Block { bits, checksum })
}

/// Returns the CRC-32 with the highest bit first, by the usual one with the lowest bit first.
fn checksum(bytes: &[u8]) -> u32 {
    let mut hasher = crc32fast::Hasher::new();
    let mut part = [0; 4096];
    for bytes in bytes.chunks(part.len()) {
        let turned = &mut part[..bytes.len()];
        turned.iter_mut().zip(bytes).for_each(|(turned, byte)| *turned = byte.reverse_bits());
        hasher.update(turned);
    }
    hasher.finalize().reverse_bits()
}

/// Writes runs of four to 255 equal bytes as four of them and the number of the others.
fn shorten_runs(bytes: &[u8]) -> Vec<u8> {
    const LONGEST: usize = 255;
    let mut short = Vec::with_capacity(bytes.len() + bytes.len() / 4 + 1);
    for group in bytes.chunk_by(|one, other| one == other) {
        for run in group.chunks(LONGEST) {
            short.extend_from_slice(&run[..run.len().min(4)]);
            if let Some(more) = run.len().checked_sub(4) {
                short.push(u8::try_from(more).unwrap_or(u8::MAX));
            }
        }
    }
    short
}

/// Returns the last column of the sorted rotations, and in which row the bytes themselves are.
fn last_column(bytes: &[u8]) -> io::Result<(Vec<u8>, usize)> {
    let length = bytes.len();
    if length == 0 {
        return Err(io::Error::other("a block has at least one byte"));
    }
    // The suffixes of the least rotation are in the same order as the rotations that begin with them.
    let begin = least_rotation(bytes);
    let turned = [&bytes[begin..], &bytes[..begin]].concat();
    let order = SuffixArrayConstruction::for_text(&turned)
        .in_owned_buffer32()
        .single_threaded()
        .run()
        .map_err(|error| io::Error::other(format!("sorting a block failed: {error:?}")))?
        .into_vec();
    let own = (length - begin) % length;
    let mut origin = 0;
    let last = order.iter().enumerate().map(|(row, at)| {
        let at = usize::try_from(*at).unwrap_or_default();
        if at == own {
            origin = row;
        }
        turned[at.checked_sub(1).unwrap_or(length - 1)]
    });
    Ok((last.collect(), origin))
}

/// Returns where the least rotation begins, in linear time (Shiloach, "Fast canonization of circular
/// strings", 1981).
fn least_rotation(bytes: &[u8]) -> usize {
    let length = bytes.len();
    let byte = |at: usize| bytes[if at < length { at } else { at - length }];
    let (mut best, mut other, mut equal) = (0, 1, 0);
    while best < length && other < length && equal < length {
        let (one, two) = (byte(best + equal), byte(other + equal));
        if one == two {
            equal += 1;
            continue;
        }
        if one > two {
            best += equal + 1;
        } else {
            other += equal + 1;
        }
        if best == other {
            other += 1;
        }
        equal = 0;
    }
    best.min(other)
}

fn used(bytes: &[u8]) -> [bool; 256] {
    let mut used = [false; 256];
    for byte in bytes {
        used[usize::from(*byte)] = true;
    }
    used
}

fn write_used(bits: &mut Bits, used: &[bool; 256]) {
    let row = |of: &mut dyn Iterator<Item = bool>| of.fold(0, |row, is| row << 1 | u64::from(is));
    bits.put(row(&mut used.chunks(16).map(|part| part.contains(&true))), 16);
    for part in used.chunks(16).filter(|part| part.contains(&true)) {
        bits.put(row(&mut part.iter().copied()), 16);
    }
}

/// Writes each byte as its place among those that came last, and runs of zeros in two symbols as a binary number.
fn move_to_front(bytes: &[u8], used: &[bool; 256]) -> Symbols {
    let mut recent: Vec<u8> = (0..=u8::MAX).filter(|byte| used[usize::from(*byte)]).collect();
    let mut symbols = Symbols { list: Vec::with_capacity(bytes.len() + 1), count: recent.len() + 2 };
    let end = u16::try_from(recent.len() + 1).unwrap_or_default();
    let mut zeros = 0_usize;
    let put_zeros = |list: &mut Vec<u16>, mut zeros: usize| {
        while zeros > 0 {
            list.push(u16::from(zeros.is_multiple_of(2)));
            zeros = (zeros - 1) / 2;
        }
    };
    for byte in bytes {
        if recent[0] == *byte {
            zeros += 1;
            continue;
        }
        put_zeros(&mut symbols.list, std::mem::take(&mut zeros));
        let mut before = *byte;
        for (at, place) in (0_u16..).zip(&mut recent) {
            std::mem::swap(&mut before, place);
            if before == *byte {
                symbols.list.push(at + 1);
                break;
            }
        }
    }
    put_zeros(&mut symbols.list, zeros);
    symbols.list.push(end);
    symbols
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_column_is_that_of_all_rotations_sorted() -> io::Result<()> {
        for text in ["banana", "abab", "aaaa", "a", "cba", "mississippi", "bbab", "zzzaz"] {
            let bytes = text.as_bytes();
            let mut rotations: Vec<Vec<u8>> =
                (0..bytes.len()).map(|at| [&bytes[at..], &bytes[..at]].concat()).collect();
            rotations.sort();
            let last: Vec<u8> = rotations.iter().filter_map(|rotation| rotation.last().copied()).collect();
            let (column, origin) = last_column(bytes)?;
            assert_eq!(column, last, "{text}");
            assert_eq!(rotations[origin], bytes, "{text}");
        }
        Ok(())
    }

    #[test]
    fn the_checksum_is_that_of_bzip2() {
        assert_eq!(checksum(b"123456789"), 0xFC89_1918);
    }
}
