//! From wants to a lineup: which release of which content.
//!
//! A pure function over metadata that was fetched before. It is complete: it finds a lineup whenever one exists.
//! It learns from dead ends: each conflict becomes a new rule ("nogood") derived from the rules that led there, so that
//! the same dead end is never entered twice. When nothing is left, the rules at the root of the derivation are the
//! explanation. (The scheme is that of conflict-driven clause learning, over sets of releases instead of truth values.)

mod engine;
mod explain;
mod problem;
mod sets;
#[cfg(test)]
mod tests;
mod verify;

use std::collections::BTreeMap;

pub use explain::{Explanation, Statement, WayOut};
pub use verify::{Breach, verify};

use crate::{
    catalogue::{Platform, Universe},
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
}

/// Finds the best lineup: what is locked stays where it can; then each want gets its newest release that fits, then
/// each dependency. Pre-releases come last. Nothing is in it that nothing needs.
pub fn solve(question: &Question<'_>) -> Answer {
    match engine::run(question) {
        Ok(selection) => Answer::Lineup(trim(question, selection)),
        Err(end) => Answer::None(explain::explain(question, &end)),
    }
}

/// Returns whether there is a lineup, without saying why not.
fn is_solvable(question: &Question<'_>) -> bool {
    engine::run(question).is_ok()
}

/// Takes out what no want leads to (an alternative that became needless after it was chosen).
fn trim(question: &Question<'_>, selection: Selection) -> Selection {
    let mut kept: std::collections::BTreeSet<&ContentId> = question.wants.keys().collect();
    let mut next: Vec<&ContentId> = kept.iter().copied().collect();
    while let Some(id) = next.pop() {
        let Some(release) = selection.get(id).and_then(|version| question.universe.release(id, version))
        else {
            continue;
        };
        let groups = release
            .needs
            .iter()
            .map(|(id, range)| vec![(id, range)])
            .chain(release.needs_any.iter().map(|group| group.iter().collect()));
        for group in groups {
            let by_platform =
                group.iter().any(|(id, range)| verify::platform_provides(question.platform, id, range));
            if by_platform || verify::meets_any(question.universe, id, &selection[id], &group) {
                continue;
            }
            let bearers = group
                .iter()
                .flat_map(|(named, _)| std::iter::once(*named).chain(question.universe.providers(named)));
            let mut meeting: Vec<&ContentId> = bearers
                .filter_map(|other| selection.get_key_value(other))
                .filter(|(other, version)| verify::meets_any(question.universe, other, version, &group))
                .map(|(other, _)| other)
                .collect();
            // What is kept anyway, or bears the very name that is needed, comes before stand-ins.
            meeting
                .sort_by_key(|other| (!kept.contains(other), !group.iter().any(|(named, _)| named == other)));
            if let Some(first) = meeting.first()
                && kept.insert(first)
            {
                next.push(first);
            }
        }
    }
    let kept: std::collections::BTreeSet<ContentId> = kept.into_iter().cloned().collect();
    selection.into_iter().filter(|(id, _)| kept.contains(id)).collect()
}
