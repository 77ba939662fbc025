//! The rules that a search knows, and who watches what.
//!
//! As long as two terms of a rule do not hold, it can neither force anything nor be broken; so two terms of each are
//! watched (they stand first), and a rule is looked at only when one of these has come to hold.

use super::{
    next_number as number,
    problem::{Cause, Term, Var},
};
use crate::sets::Bits;

/// A rule's number.
pub(super) type RuleNumber = u32;

/// The rules, their terms one after another.
pub(super) struct Rules<S> {
    terms: Vec<Term<S>>,
    /// Where each one's terms begin and end, and what it stands for.
    heads: Vec<(u32, u32, Cause)>,
    /// What learned rules were derived from: see [`RuleOrigin`].
    origins: Vec<RuleOrigin>,
}

/// What a derivation rests on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum RuleOrigin {
    /// Another rule.
    Rule(RuleNumber),
    /// A narrowing that holds whatever is decided, by its place in the trail.
    Fact(u32),
}

/// Somebody wants to know when a content's choices lie in a set.
#[derive(Debug, Clone)]
pub(super) struct Watch<S: Bits> {
    pub(super) set: S,
    pub(super) fold: S::Fold,
    /// The other term, where the rule has two; else without meaning.
    pub(super) other_set: S,
    /// The content of the other term, or [`MANY`].
    pub(super) other: Var,
    pub(super) rule: RuleNumber,
}

/// Stands for the other content of a watch whose rule has three terms or more.
pub(super) const MANY: Var = Var::MAX;

impl<S: Clone> Rules<S> {
    pub(super) fn with_room(rules: usize) -> Self {
        let terms = Vec::with_capacity(2 * rules);
        Self { terms, heads: Vec::with_capacity(rules), origins: Vec::new() }
    }

    pub(super) fn add(&mut self, terms: impl IntoIterator<Item = Term<S>>, cause: Cause) -> RuleNumber {
        let start = self.terms.len();
        self.terms.extend(terms);
        self.heads.push((number(start), number(self.terms.len()), cause));
        number(self.heads.len() - 1)
    }

    pub(super) fn learned(
        &mut self,
        terms: impl IntoIterator<Item = Term<S>>,
        origins: &[RuleOrigin],
    ) -> RuleNumber {
        let from = number(self.origins.len());
        self.origins.extend_from_slice(origins);
        self.add(terms, Cause::Learned { from, to: number(self.origins.len()) })
    }

    pub(super) fn terms(&self, rule: RuleNumber) -> &[Term<S>] {
        let (start, end, _) = self.heads[rule as usize];
        &self.terms[start as usize..end as usize]
    }

    pub(super) fn terms_mut(&mut self, rule: RuleNumber) -> &mut [Term<S>] {
        let (start, end, _) = self.heads[rule as usize];
        &mut self.terms[start as usize..end as usize]
    }

    pub(super) fn cause(&self, rule: RuleNumber) -> Cause {
        self.heads[rule as usize].2
    }

    pub(super) fn origins(&self, from: u32, to: u32) -> &[RuleOrigin] {
        &self.origins[from as usize..to as usize]
    }

    pub(super) fn len(&self) -> usize {
        self.heads.len()
    }
}
