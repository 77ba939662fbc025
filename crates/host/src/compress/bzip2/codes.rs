//! The symbols of a block in prefix codes: several tables, and for each group of fifty symbols the one that writes it shortest.

use std::{cmp::Reverse, collections::BinaryHeap};

use super::bits::Bits;

/// So many symbols are written with one table.
const GROUP: usize = 50;
/// There are at most so many tables.
const MOST_TABLES: usize = 6;
/// There are at most so many symbols: two for runs of zeros, 255 places, and the end.
const MOST_SYMBOLS: usize = 258;
/// A code has at most so many bits. The format allows 20.
const LONGEST: u8 = 17;
/// The tables are made better so many times.
const ROUNDS: usize = 4;

/// The symbols of a block.
pub(super) struct Symbols {
    pub(super) list: Vec<u16>,
    /// How many different ones there can be.
    pub(super) count: usize,
}

type Lengths = [u8; MOST_SYMBOLS];

/// Writes the tables, which group uses which, and the symbols.
pub(super) fn write_symbols(bits: &mut Bits, symbols: &Symbols) {
    let (tables, chosen) = choose_tables(symbols);
    bits.put(tables.len() as u64, 3);
    bits.put(chosen.len() as u64, 15);
    let mut recent: Vec<usize> = (0..tables.len()).collect();
    for table in &chosen {
        let place = recent.iter().position(|other| other == table).unwrap_or_default();
        recent[..=place].rotate_right(1);
        for _ in 0..place {
            bits.put(1, 1);
        }
        bits.put(0, 1);
    }
    for lengths in &tables {
        write_lengths(bits, &lengths[..symbols.count]);
    }
    let codes: Vec<_> = tables.iter().map(|lengths| codes(&lengths[..symbols.count])).collect();
    for (group, table) in symbols.list.chunks(GROUP).zip(&chosen) {
        let (codes, lengths) = (&codes[*table], &tables[*table]);
        for symbol in group {
            let symbol = usize::from(*symbol);
            bits.put(u64::from(codes[symbol]), u32::from(lengths[symbol]));
        }
    }
}

/// Returns some tables of code lengths, and for each group the one to use.
fn choose_tables(symbols: &Symbols) -> (Vec<Lengths>, Vec<usize>) {
    let count = match symbols.list.len() {
        ..200 => 2,
        200..600 => 3,
        600..1200 => 4,
        1200..2400 => 5,
        _ => MOST_TABLES,
    };
    let mut tables = first_tables(symbols, count);
    let mut chosen = Vec::new();
    for _ in 0..ROUNDS {
        chosen.clear();
        let mut times = vec![[0_u32; MOST_SYMBOLS]; count];
        let costs = costs(&tables);
        for group in symbols.list.chunks(GROUP) {
            let cost: u64 = group.iter().map(|symbol| costs[usize::from(*symbol)]).sum();
            let of_table = |table: &usize| cost >> (10 * table) & 0x3ff;
            let best = (0..count).min_by_key(of_table).unwrap_or_default();
            chosen.push(best);
            for symbol in group {
                times[best][usize::from(*symbol)] += 1;
            }
        }
        for (table, times) in tables.iter_mut().zip(&times) {
            *table = code_lengths(&times[..symbols.count]);
        }
    }
    (tables, chosen)
}

/// The costs of a symbol in all tables, ten bits for each: the sums of fifty symbols do not run into each other.
fn costs(tables: &[Lengths]) -> [u64; MOST_SYMBOLS] {
    let mut costs = [0; MOST_SYMBOLS];
    for (table, lengths) in tables.iter().enumerate() {
        for (cost, length) in costs.iter_mut().zip(lengths) {
            *cost |= u64::from(*length) << (10 * table);
        }
    }
    costs
}

/// Returns tables that each prefer a range of symbols; all ranges together occur about equally often.
fn first_tables(symbols: &Symbols, count: usize) -> Vec<Lengths> {
    let mut times = [0_usize; MOST_SYMBOLS];
    symbols.list.iter().for_each(|symbol| times[usize::from(*symbol)] += 1);
    let mut tables = vec![[15_u8; MOST_SYMBOLS]; count];
    let (mut at, mut rest) = (0, symbols.list.len());
    for (made, table) in tables.iter_mut().enumerate() {
        let share = rest / (count - made);
        let mut taken = 0;
        while at < symbols.count && (taken < share || made + 1 == count) {
            taken += times[at];
            table[at] = 0;
            at += 1;
        }
        rest -= taken;
    }
    tables
}

/// Returns the lengths of prefix codes for symbols that occur so often, none longer than allowed.
fn code_lengths(times: &[u32]) -> Lengths {
    // Each symbol has a code, also one that does not occur.
    let mut weights: Vec<u32> = times.iter().map(|times| (*times).max(1)).collect();
    loop {
        let lengths = unbounded_lengths(&weights);
        if lengths.iter().all(|length| *length <= LONGEST) {
            return lengths;
        }
        // Flatter weights give shorter codes.
        for weight in &mut weights {
            *weight = *weight / 2 + 1;
        }
    }
}

fn unbounded_lengths(weights: &[u32]) -> Lengths {
    let mut parents = vec![0_usize; 2 * weights.len()];
    let leaves = weights.iter().enumerate().map(|(symbol, weight)| Reverse((*weight, symbol)));
    let mut heap: BinaryHeap<_> = leaves.collect();
    let mut next = weights.len();
    while let (Some(Reverse((one_weight, one))), Some(Reverse((other_weight, other)))) =
        (heap.pop(), heap.pop())
    {
        parents[one] = next;
        parents[other] = next;
        heap.push(Reverse((one_weight + other_weight, next)));
        next += 1;
        if heap.len() == 1 {
            break;
        }
    }
    let root = next - 1;
    let mut depths = vec![0_u8; next];
    for node in (0..root).rev() {
        depths[node] = depths[parents[node]].saturating_add(1);
    }
    let mut lengths = [0; MOST_SYMBOLS];
    lengths[..weights.len()].copy_from_slice(&depths[..weights.len()]);
    lengths
}

fn write_lengths(bits: &mut Bits, lengths: &[u8]) {
    let mut now = lengths[0];
    bits.put(u64::from(now), 5);
    for length in lengths {
        while now != *length {
            bits.put(if *length > now { 0b10 } else { 0b11 }, 2);
            now = if *length > now { now + 1 } else { now - 1 };
        }
        bits.put(0, 1);
    }
}

/// Returns the codes: shorter ones first, and among equally long ones in the order of symbols.
fn codes(lengths: &[u8]) -> [u32; MOST_SYMBOLS] {
    let mut codes = [0; MOST_SYMBOLS];
    let mut code = 0;
    for length in 1..=LONGEST {
        for (symbol, _) in lengths.iter().enumerate().filter(|(_, own)| **own == length) {
            codes[symbol] = code;
            code += 1;
        }
        code <<= 1;
    }
    codes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_never_too_long_and_fill_the_tree() {
        let growing: Vec<u32> = (0..30).map(|at| 1 << at).collect();
        for times in [growing, vec![0; 258], vec![1, 1, 1], vec![1_000_000, 0, 0, 1]] {
            let lengths = code_lengths(&times);
            let filled: f64 =
                lengths[..times.len()].iter().map(|length| 0.5_f64.powi(i32::from(*length))).sum();
            assert!((filled - 1.0).abs() < 1e-9, "{filled}");
            assert!(lengths.iter().all(|length| *length <= LONGEST));
        }
    }
}
