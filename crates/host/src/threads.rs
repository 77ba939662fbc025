//! Work on many things by several threads.

use std::{
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicUsize, Ordering},
    },
    thread,
};

/// Returns how many threads work at once where the processor is what they wait for.
pub(crate) fn cores() -> usize {
    thread::available_parallelism().map_or(1, usize::from)
}

/// Calls a function with each of many, by at most so many threads, and returns the results in order. Each thread takes the next few until
/// none are left.
pub(crate) fn spread<T: Sync, R: Send>(
    all: &[T],
    (threads, few): (usize, usize),
    act: impl Fn(&T) -> R + Sync,
) -> Vec<R> {
    let next = AtomicUsize::new(0);
    let done: Mutex<Vec<(usize, R)>> = Mutex::default();
    let work = || {
        loop {
            let from = next.fetch_add(few, Ordering::Relaxed);
            let part = all.get(from..all.len().min(from.saturating_add(few))).unwrap_or_default();
            if part.is_empty() {
                return;
            }
            let results: Vec<(usize, R)> =
                part.iter().enumerate().map(|(at, one)| (from + at, act(one))).collect();
            done.lock().unwrap_or_else(PoisonError::into_inner).extend(results);
        }
    };
    thread::scope(|scope| {
        for _ in 1..threads.min(all.len().div_ceil(few)) {
            scope.spawn(work);
        }
        work();
    });
    let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    done.sort_by_key(|(at, _)| *at);
    done.into_iter().map(|(_, result)| result).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_is_done_once_and_the_results_are_in_order() {
        for count in [0_usize, 1, 2, 15, 16, 17, 1000] {
            let all: Vec<usize> = (0..count).collect();
            let expected: Vec<usize> = all.iter().map(|number| number * 3).collect();
            for (threads, few) in [(1, 1), (2, 16), (8, 3), (4, 2000)] {
                assert_eq!(
                    spread(&all, (threads, few), |number| number * 3),
                    expected,
                    "{count} by {threads}"
                );
            }
        }
    }
}
