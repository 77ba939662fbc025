//! Small sets of releases: one bit each, in the order of preference, and one more for "absent".

/// A set of numbers below a bound that its owner knows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Set {
    /// Up to 64 members.
    One(u64),
    /// Any number of them.
    Many(Box<[u64]>),
}

impl Set {
    /// Returns the empty set for numbers below `bound`.
    pub(super) fn empty(bound: usize) -> Self {
        if bound <= 64 { Self::One(0) } else { Self::Many(vec![0; bound.div_ceil(64)].into()) }
    }

    /// Returns the set of all numbers below `bound`.
    pub(super) fn full(bound: usize) -> Self {
        let mut set = Self::empty(bound);
        (0..bound).for_each(|bit| set.insert(bit));
        set
    }

    /// Returns the set of one number.
    pub(super) fn single(bound: usize, bit: usize) -> Self {
        let mut set = Self::empty(bound);
        set.insert(bit);
        set
    }

    fn words(&self) -> &[u64] {
        match self {
            Self::One(word) => std::slice::from_ref(word),
            Self::Many(words) => words,
        }
    }

    fn words_mut(&mut self) -> &mut [u64] {
        match self {
            Self::One(word) => std::slice::from_mut(word),
            Self::Many(words) => words,
        }
    }

    pub(super) fn insert(&mut self, bit: usize) {
        self.words_mut()[bit / 64] |= 1 << (bit % 64);
    }

    pub(super) fn remove(&mut self, bit: usize) {
        self.words_mut()[bit / 64] &= !(1 << (bit % 64));
    }

    pub(super) fn contains(&self, bit: usize) -> bool {
        self.words()[bit / 64] >> (bit % 64) & 1 == 1
    }

    pub(super) fn is_empty(&self) -> bool {
        self.words().iter().all(|word| *word == 0)
    }

    pub(super) fn len(&self) -> usize {
        self.words().iter().map(|word| word.count_ones() as usize).sum()
    }

    pub(super) fn first(&self) -> Option<usize> {
        let (at, word) = self.words().iter().enumerate().find(|(_, word)| **word != 0)?;
        Some(at * 64 + word.trailing_zeros() as usize)
    }

    pub(super) fn is_subset(&self, other: &Self) -> bool {
        self.words().iter().zip(other.words()).all(|(a, b)| a & !b == 0)
    }

    pub(super) fn is_disjoint(&self, other: &Self) -> bool {
        self.words().iter().zip(other.words()).all(|(a, b)| a & b == 0)
    }

    fn zip(&self, other: &Self, with: impl Fn(u64, u64) -> u64) -> Self {
        match (self, other) {
            (Self::One(a), Self::One(b)) => Self::One(with(*a, *b)),
            _ => Self::Many(self.words().iter().zip(other.words()).map(|(a, b)| with(*a, *b)).collect()),
        }
    }

    pub(super) fn and(&self, other: &Self) -> Self {
        self.zip(other, |a, b| a & b)
    }

    pub(super) fn or(&self, other: &Self) -> Self {
        self.zip(other, |a, b| a | b)
    }

    /// Returns what is in this set and not in the other.
    pub(super) fn minus(&self, other: &Self) -> Self {
        self.zip(other, |a, b| a & !b)
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = usize> + '_ {
        self.words().iter().enumerate().flat_map(|(at, word)| {
            (0..64).filter(move |bit| word >> bit & 1 == 1).map(move |bit| at * 64 + bit)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn small_and_large_behave_alike() {
        for bound in [5, 64, 65, 200] {
            let full = Set::full(bound);
            assert_eq!((full.len(), full.first()), (bound, Some(0)));
            let mut odd = Set::empty(bound);
            (1..bound).step_by(2).for_each(|bit| odd.insert(bit));
            assert!(odd.is_subset(&full) && !full.is_subset(&odd));
            let even = full.minus(&odd);
            assert!(even.is_disjoint(&odd) && even.or(&odd) == full && even.and(&odd).is_empty());
            assert_eq!(odd.iter().collect::<Vec<_>>(), (1..bound).step_by(2).collect::<Vec<_>>());
            odd.remove(1);
            assert!(!odd.contains(1) && odd.contains(3));
            assert_eq!(Set::single(bound, bound - 1).first(), Some(bound - 1));
        }
    }
}
