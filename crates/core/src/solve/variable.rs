//! A content in the search: what may still be chosen of it, and who wants to know.

use super::{
    problem::{Term, Var},
    rules::{RuleNumber, Watch},
};
use crate::sets::Bits;

/// One narrowing of a content's choices.
pub(super) struct Narrowing<S> {
    pub(super) var: Var,
    pub(super) before: S,
    pub(super) after: S,
    /// The rule behind it; none for a decision.
    pub(super) reason: Option<RuleNumber>,
    pub(super) level: u32,
    /// The narrowing of the same content before it.
    pub(super) previous: Option<u32>,
}

pub(super) struct Variable<S: Bits> {
    pub(super) choices: S,
    pub(super) full: S,
    /// The releases whose own rules were made.
    pub(super) opened: S,
    pub(super) watches: Vec<Watch<S>>,
    pub(super) seldom: Option<Box<Seldom<S>>>,
    /// Its last narrowing.
    pub(super) last: Option<u32>,
    pub(super) absent: u32,
    /// Whether the rules about what runs here were made.
    pub(super) fitted: bool,
    /// Whether it took part in a conflict: then the rules of all its releases are worth having.
    pub(super) hot: bool,
    pub(super) queued: bool,
    /// When it is decided: what is locked, then what is wanted, then the rest.
    pub(super) rank: u8,
    /// What it was the last time that one choice was left.
    pub(super) tried: Option<u32>,
    /// Where it stands among the terms of the rule that is being learned, plus one.
    pub(super) term: u32,
    /// How much it had to do with conflicts lately.
    pub(super) weight: f32,
}

/// What few contents have.
pub(super) struct Seldom<S> {
    /// Its rules of one term.
    pub(super) alone: Vec<RuleNumber>,
    /// Its needs that more than one content can meet, each with the contents in the order in which they are tried.
    pub(super) alternatives: Vec<Vec<Term<S>>>,
}

impl<S: Bits> Variable<S> {
    pub(super) fn seldom(&mut self) -> &mut Seldom<S> {
        self.seldom.get_or_insert_with(|| Box::new(Seldom { alone: Vec::new(), alternatives: Vec::new() }))
    }

    pub(super) fn is_present(&self) -> bool {
        !self.choices.contains(self.absent as usize)
    }
}
