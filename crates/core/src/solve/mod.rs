//! From wants to a lineup: which release of which content.
//!
//! A pure function over metadata that was fetched before. It is complete: it finds a lineup whenever one exists.
//! It learns from dead ends: each conflict becomes a new rule ("nogood") derived from the rules that led there, so that
//! the same dead end is never entered twice. When nothing is left, the rules at the root of the derivation are the
//! explanation. (The scheme is that of conflict-driven clause learning, over sets of releases instead of truth values.)

mod blame;
mod decide;
mod engine;
mod explain;
mod learn;
mod problem;
mod propagate;
mod rules;
mod straight;
#[cfg(test)]
mod tests;
mod trim;
mod variable;
mod verify;
mod ways;

use std::collections::BTreeMap;

pub use explain::{Explanation, Statement, WayOut};
use straight::Arrival;
pub use verify::{Breach, verify};

use crate::{
    catalogue::{Number, Platform, Universe},
    id::ContentId,
    version::{ReleaseVersion, VersionRange},
};

/// What to solve.
#[derive(Debug, Clone, Copy)]
pub struct Question<'a> {
    /// Everything that may be chosen.
    pub universe: &'a Universe,
    /// What the server brings.
    pub platform: &'a Platform,
    /// What was asked for.
    pub wants: &'a BTreeMap<ContentId, VersionRange>,
    /// What stays as it is where it can.
    pub locked: &'a BTreeMap<ContentId, ReleaseVersion>,
}

/// The chosen release of each content, by id.
pub type Selection = BTreeMap<ContentId, ReleaseVersion>;

/// What came of it.
#[derive(Debug, Clone)]
pub enum Answer {
    /// A lineup that satisfies everything.
    Lineup(Selection),
    /// There is none, and this is why.
    None(Explanation),
    /// These contents have not been read, and something that may be chosen needs them; it is to be solved again once
    /// they were added (an open universe only).
    Unread(Vec<ContentId>),
}

/// Finds the best lineup: what is locked stays where it can; then each want gets its newest release that fits, then
/// each dependency. Pre-releases come last. Nothing is in it that nothing needs.
pub fn solve(question: &Question<'_>) -> Answer {
    match straight::walk(question).map(|walked| walked.arrival) {
        Some(Arrival::Found(selection)) => Answer::Lineup(selection),
        Some(Arrival::Unread(unread)) => Answer::Unread(named(question.universe, unread)),
        None => search(question),
    }
}

/// Searches for it, whether or not the straight way leads there as well.
fn search(question: &Question<'_>) -> Answer {
    match engine::run(question, usize::MAX) {
        engine::End::Found(found) if found.may_be_trimmed => {
            Answer::Lineup(trim::trim(question, found.selection))
        }
        engine::End::Found(found) => Answer::Lineup(found.selection),
        engine::End::Dead(end) => match explain::explain(question, &end) {
            Ok(explanation) => Answer::None(explanation),
            Err(unread) => Answer::Unread(named(question.universe, unread)),
        },
        engine::End::Unread(unread) => Answer::Unread(named(question.universe, unread)),
        engine::End::GaveUp => unreachable!("there was no bound"),
    }
}

/// A length as a number in the search's small form.
fn next_number(length: usize) -> u32 {
    u32::try_from(length).unwrap_or(u32::MAX)
}

fn named(universe: &Universe, mut numbers: Vec<Number>) -> Vec<ContentId> {
    numbers.sort_unstable();
    numbers.dedup();
    numbers.into_iter().map(|number| universe.id(number).clone()).collect()
}
