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
mod naming;
mod problem;
mod propagate;
mod quick;
mod rules;
mod straight;
#[cfg(test)]
mod tests;
mod trim;
mod variable;
mod verify;
mod ways;

use std::collections::BTreeMap;

pub use explain::{Explanation, Statement, WayAct, WayOut};
use straight::Arrival;
pub use verify::{Breach, verify};

use crate::{
    catalogue::{Number, Platform, Universe, provided_matches},
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
pub enum Resolution {
    /// A lineup that satisfies everything.
    Lineup(Selection),
    /// There is none, and this is why.
    None(Explanation),
    /// These contents have not been read, and something that may be chosen needs them; it is to be solved again once
    /// they were added (an open universe only).
    Unread(Vec<ContentId>),
    /// The search ended with a lineup that does not satisfy everything: a defect of the solver. It must not be used.
    Defect {
        /// What was found.
        selection: Selection,
        /// What it breaks.
        breaches: Vec<Breach>,
    },
}

/// Finds the best lineup: what is locked stays where it can; then each want gets its newest release that fits, then
/// each dependency. Pre-releases come last. Nothing is in it that nothing needs.
///
/// Every lineup is checked before it is returned, whichever way found it: by [`verify`], unless the quicker check by numbers
/// is certain.
pub fn solve(question: &Question<'_>) -> Resolution {
    if let Some(selection) = locked_is_enough(question) {
        return Resolution::Lineup(selection);
    }
    match go_straight(question) {
        Some(Ok(selection)) => Resolution::Lineup(selection),
        Some(Err(unread)) => Resolution::Unread(named(question.universe, unread)),
        None => checked(question, search(question)),
    }
}

/// Goes the straight way. Returns the lineup it leads to, once that was checked, or what has to be read to go on; nothing
/// where it takes a search.
fn go_straight(question: &Question<'_>) -> Option<Result<Selection, Vec<Number>>> {
    let walked = straight::walk(question)?;
    match walked.arrival {
        Arrival::Unread(unread) => Some(Err(unread)),
        Arrival::Found(chosen) => {
            let certain = quick::certainly_holds(question, &walked.wants, &chosen);
            let selection = question.universe.select(chosen.into_iter());
            debug_assert!(!certain || breaches(question, &selection).is_empty(), "{selection:?}");
            (certain || breaches(question, &selection).is_empty()).then_some(Ok(selection))
        }
    }
}

/// The locked releases that the wants lead to, where they satisfy everything as they are: then nothing is to be chosen.
fn locked_is_enough(question: &Question<'_>) -> Option<Selection> {
    let is_locked = |id: &ContentId| question.locked.contains_key(id);
    if question.locked.is_empty() || !question.wants.keys().all(is_locked) {
        return None;
    }
    let selection = trim::trim(question, question.locked.clone());
    breaches(question, &selection).is_empty().then_some(selection)
}

/// Replaces a lineup that breaks something by [`Resolution::Defect`].
fn checked(question: &Question<'_>, answer: Resolution) -> Resolution {
    let Resolution::Lineup(selection) = answer else { return answer };
    let breaches = breaches(question, &selection);
    if breaches.is_empty() {
        Resolution::Lineup(selection)
    } else {
        Resolution::Defect { selection, breaches }
    }
}

/// What a lineup breaks, wants included.
fn breaches(question: &Question<'_>, selection: &Selection) -> Vec<Breach> {
    let mut breaches = verify(question.universe, question.platform, selection);
    for (id, range) in question.wants {
        let has = selection.get(id);
        // The caller reports wants that no catalogue has.
        let is_known = || question.universe.get(id).is_some_and(|content| !content.releases.is_empty());
        if !has.is_some_and(|version| provided_matches(Some(version), range)) && is_known() {
            breaches.push(Breach::Want { id: id.clone(), range: range.clone(), has: has.cloned() });
        }
    }
    breaches
}

/// Searches for it, whether or not the straight way leads there as well.
fn search(question: &Question<'_>) -> Resolution {
    match engine::run(question, usize::MAX) {
        engine::End::Found(found) if found.may_be_trimmed => {
            Resolution::Lineup(trim::trim(question, found.selection))
        }
        engine::End::Found(found) => Resolution::Lineup(found.selection),
        engine::End::Dead(end) => match explain::explain(question, &end) {
            Ok(explanation) => Resolution::None(explanation),
            Err(unread) => Resolution::Unread(named(question.universe, unread)),
        },
        engine::End::Unread(unread) => Resolution::Unread(named(question.universe, unread)),
        engine::End::GaveUp => unreachable!("there was no bound"),
    }
}

impl Question<'_> {
    /// Returns everything that takes part in this question, as JSON: what reproduces a [`Resolution::Defect`].
    pub fn to_json(&self) -> serde_json::Value {
        let mut next: Vec<&ContentId> = self.wants.keys().chain(self.locked.keys()).collect();
        let mut contents = BTreeMap::new();
        while let Some(id) = next.pop() {
            let Some(content) = self.universe.get(id).filter(|_| !contents.contains_key(id)) else {
                continue;
            };
            contents.insert(id, &content.releases);
            for release in &content.releases {
                let beside = release.refuses.keys().chain(release.welcomes.keys());
                for other in release.needed_ids().chain(beside) {
                    next.push(other);
                    next.extend(self.universe.providers(other));
                }
            }
        }
        let texts = |ranges: &BTreeMap<ContentId, VersionRange>| {
            ranges.iter().map(|(id, range)| (id.to_string(), range.to_string())).collect::<BTreeMap<_, _>>()
        };
        serde_json::json!({
            "wants": texts(self.wants),
            "locked": self.locked,
            "platform": { "parts": self.platform.parts, "provides": self.platform.provides },
            "contents": contents,
        })
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
