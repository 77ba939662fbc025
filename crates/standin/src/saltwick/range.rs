//! The ranges of Saltwick's descriptors: `>=2.2 <3`, dotted numbers, all parts must hold.

use std::cmp::Ordering;

fn compare(a: &str, b: &str) -> Ordering {
    let numbers = |text: &str| -> Vec<u64> {
        let main = text.split(['-', '+']).next().unwrap_or("");
        main.split('.').map(|n| n.parse().unwrap_or(0)).collect()
    };
    let (a, b) = (numbers(a), numbers(b));
    (0..a.len().max(b.len()))
        .map(|at| a.get(at).unwrap_or(&0).cmp(b.get(at).unwrap_or(&0)))
        .find(|order| order.is_ne())
        .unwrap_or(Ordering::Equal)
}

pub(super) fn holds(range: &str, version: &str) -> bool {
    range.split([' ', ',']).filter(|part| !part.is_empty()).all(|part| {
        let bound = part.trim_start_matches(['<', '>', '=']);
        let order = compare(version, bound);
        match &part[..part.len() - bound.len()] {
            ">=" => order.is_ge(),
            ">" => order.is_gt(),
            "<=" => order.is_le(),
            "<" => order.is_lt(),
            _ => bound == "*" || order.is_eq(),
        }
    })
}
