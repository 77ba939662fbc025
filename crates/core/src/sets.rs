//! Small sets of releases: one bit each, newest first, and one more for "absent".
//!
//! The search is made for two sorts of them: plain words of 64 bits, which is what nearly every catalogue needs, and
//! [`Set`], which holds any number.

/// A set of numbers below a bound that its owner knows.
pub(crate) trait Bits: Clone + PartialEq {
    /// What tells quickly that a set cannot be part of another one.
    type Fold: Copy;

    /// Returns the fold of a set.
    fn fold(&self) -> Self::Fold;
    /// Whether a set may be part of another one, by their folds; if not, it is not.
    fn may_be_subset(one: Self::Fold, other: Self::Fold) -> bool;

    /// Returns the empty set for numbers below `bound`.
    fn empty(bound: usize) -> Self;
    /// Returns the set of all numbers below `bound`.
    fn full(bound: usize) -> Self;
    /// Returns the set of the numbers from `from` to before `upto`, where that is not below it.
    fn span(bound: usize, from: usize, upto: usize) -> Self;
    /// Returns this form of a set.
    fn of(set: &Set) -> Self;
    fn insert(&mut self, bit: usize);
    fn remove(&mut self, bit: usize);
    fn contains(&self, bit: usize) -> bool;
    fn is_empty(&self) -> bool;
    fn len(&self) -> usize;
    fn first(&self) -> Option<usize>;
    fn is_subset(&self, other: &Self) -> bool;
    fn is_disjoint(&self, other: &Self) -> bool;
    fn and(&self, other: &Self) -> Self;
    fn or(&self, other: &Self) -> Self;
    /// Returns what is in this set and not in the other.
    fn minus(&self, other: &Self) -> Self;

    /// Returns the set of one number.
    fn single(bound: usize, bit: usize) -> Self {
        let mut set = Self::empty(bound);
        set.insert(bit);
        set
    }
}

/// As many as one word holds.
impl Bits for u64 {
    // Asking the sets themselves is as quick.
    type Fold = ();

    fn fold(&self) -> Self::Fold {}

    fn may_be_subset((): Self::Fold, (): Self::Fold) -> bool {
        true
    }

    fn empty(_: usize) -> Self {
        0
    }

    fn full(bound: usize) -> Self {
        if bound >= 64 { Self::MAX } else { (1 << bound) - 1 }
    }

    fn span(_: usize, from: usize, upto: usize) -> Self {
        Self::full(upto) & !Self::full(from)
    }

    fn of(set: &Set) -> Self {
        set.words()[0]
    }

    fn insert(&mut self, bit: usize) {
        *self |= 1 << bit;
    }

    fn remove(&mut self, bit: usize) {
        *self &= !(1 << bit);
    }

    fn contains(&self, bit: usize) -> bool {
        *self >> bit & 1 == 1
    }

    fn is_empty(&self) -> bool {
        *self == 0
    }

    fn len(&self) -> usize {
        self.count_ones() as usize
    }

    fn first(&self) -> Option<usize> {
        (*self != 0).then(|| self.trailing_zeros() as usize)
    }

    fn is_subset(&self, other: &Self) -> bool {
        self & !other == 0
    }

    fn is_disjoint(&self, other: &Self) -> bool {
        self & other == 0
    }

    fn and(&self, other: &Self) -> Self {
        self & other
    }

    fn or(&self, other: &Self) -> Self {
        self | other
    }

    fn minus(&self, other: &Self) -> Self {
        self & !other
    }
}

/// A set of numbers below a bound that its owner knows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Set {
    /// Up to 64 members.
    One(u64),
    /// Any number of them.
    Many(Box<[u64]>),
}

impl Set {
    /// How many numbers one word holds.
    pub(crate) const WORD: usize = 64;

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

    fn zip(&self, other: &Self, with: impl Fn(u64, u64) -> u64) -> Self {
        match (self, other) {
            (Self::One(a), Self::One(b)) => Self::One(with(*a, *b)),
            _ => Self::Many(self.words().iter().zip(other.words()).map(|(a, b)| with(*a, *b)).collect()),
        }
    }

    pub(crate) fn iter(&self) -> impl Iterator<Item = usize> + '_ {
        self.words().iter().enumerate().flat_map(|(at, word)| {
            (0..64).filter(move |bit| word >> bit & 1 == 1).map(move |bit| at * 64 + bit)
        })
    }
}

impl Bits for Set {
    /// All words over one another.
    type Fold = u64;

    fn fold(&self) -> u64 {
        self.words().iter().fold(0, |all, word| all | word)
    }

    fn may_be_subset(one: u64, other: u64) -> bool {
        one & !other == 0
    }

    fn empty(bound: usize) -> Self {
        if bound <= Self::WORD {
            Self::One(0)
        } else {
            Self::Many(vec![0; bound.div_ceil(Self::WORD)].into())
        }
    }

    fn full(bound: usize) -> Self {
        let mut set = Self::empty(bound);
        (0..bound).for_each(|bit| set.insert(bit));
        set
    }

    fn span(bound: usize, from: usize, upto: usize) -> Self {
        let mut set = Self::empty(bound);
        (from..upto).for_each(|bit| set.insert(bit));
        set
    }

    fn of(set: &Self) -> Self {
        set.clone()
    }

    fn insert(&mut self, bit: usize) {
        self.words_mut()[bit / 64] |= 1 << (bit % 64);
    }

    fn remove(&mut self, bit: usize) {
        self.words_mut()[bit / 64] &= !(1 << (bit % 64));
    }

    fn contains(&self, bit: usize) -> bool {
        self.words()[bit / 64] >> (bit % 64) & 1 == 1
    }

    fn is_empty(&self) -> bool {
        self.words().iter().all(|word| *word == 0)
    }

    fn len(&self) -> usize {
        self.words().iter().map(|word| word.count_ones() as usize).sum()
    }

    fn first(&self) -> Option<usize> {
        let (at, word) = self.words().iter().enumerate().find(|(_, word)| **word != 0)?;
        Some(at * 64 + word.trailing_zeros() as usize)
    }

    fn is_subset(&self, other: &Self) -> bool {
        self.words().iter().zip(other.words()).all(|(a, b)| a & !b == 0)
    }

    fn is_disjoint(&self, other: &Self) -> bool {
        self.words().iter().zip(other.words()).all(|(a, b)| a & b == 0)
    }

    fn and(&self, other: &Self) -> Self {
        self.zip(other, |a, b| a & b)
    }

    fn or(&self, other: &Self) -> Self {
        self.zip(other, |a, b| a | b)
    }

    fn minus(&self, other: &Self) -> Self {
        self.zip(other, |a, b| a & !b)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn behaves<S: Bits + std::fmt::Debug>(bound: usize) {
        let full = S::full(bound);
        assert_eq!((full.len(), full.first()), (bound, Some(0)));
        let mut odd = S::empty(bound);
        assert!(odd.is_empty() && odd.first().is_none());
        (1..bound).step_by(2).for_each(|bit| odd.insert(bit));
        assert!(odd.is_subset(&full) && !full.is_subset(&odd));
        let even = full.minus(&odd);
        assert!(even.is_disjoint(&odd) && even.or(&odd) == full && even.and(&odd).is_empty());
        let middle = S::span(bound, 1, bound - 1);
        assert!(middle.len() == bound - 2 && !middle.contains(0) && !middle.contains(bound - 1));
        assert!(S::span(bound, 3, 3).is_empty() && S::span(bound, 4, 2).is_empty());
        odd.remove(1);
        assert!(!odd.contains(1) && odd.contains(3));
        assert_eq!(S::single(bound, bound - 1).first(), Some(bound - 1));
    }

    #[test]
    fn small_and_large_behave_alike() {
        for bound in [5, 64, 65, 200] {
            behaves::<Set>(bound);
            let mut odd = Set::empty(bound);
            (1..bound).step_by(2).for_each(|bit| odd.insert(bit));
            assert_eq!(odd.iter().collect::<Vec<_>>(), (1..bound).step_by(2).collect::<Vec<_>>());
        }
        behaves::<u64>(5);
        behaves::<u64>(64);
    }
}
