//! From all the rules that took part in a proof that there is no lineup to few that suffice.
//!
//! Rules are left out one after another, and it is solved again with the rest; where there is no lineup still, the rule
//! was not needed. The effort is bounded by counting conflicts, never by a clock, so that the same question always gets
//! the same explanation.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use super::{
    Question,
    engine::{self, DeadEnd, End},
    problem::{Cause, Problem},
};
use crate::catalogue::Number;

/// A rule's cause, told by the content's number, which is the same in every solve of one universe.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) enum Blame {
    Want(Number),
    /// One of the content's grounds.
    Platform(Number, u32),
    Withdrawn(Number),
    /// One of the content's lines.
    Line(Number, u32),
}

impl Blame {
    /// Returns what a cause is to blame for; nothing for what was derived.
    pub(super) fn of(problem: &Problem<'_>, cause: Cause) -> Option<Self> {
        let number = problem.candidates[cause.subject()? as usize].number;
        Some(match cause {
            Cause::Want { .. } => Self::Want(number),
            Cause::Platform { ground, .. } => Self::Platform(number, ground),
            Cause::Withdrawn { .. } => Self::Withdrawn(number),
            Cause::Line { line, .. } => Self::Line(number, line),
            Cause::Learned { .. } => return None,
        })
    }

    /// Returns the content that speaks.
    pub(super) fn subject(self) -> Number {
        match self {
            Self::Want(number)
            | Self::Platform(number, _)
            | Self::Withdrawn(number)
            | Self::Line(number, _) => number,
        }
    }
}

/// With more rules than this only wants are left out, not each single rule.
const FEW: usize = 80;

/// So many wants are looked at each alone.
const FEW_WANTS: usize = 12;

/// How many conflicts may still be spent, and what would have to be read to go on.
#[derive(Debug)]
pub(super) struct Effort {
    pub(super) conflicts: usize,
    pub(super) unread: Vec<Number>,
}

impl Effort {
    pub(super) fn new(conflicts: usize) -> Self {
        Self { conflicts, unread: Vec::new() }
    }

    pub(super) fn spend(&mut self, conflicts: usize) {
        self.conflicts = self.conflicts.saturating_sub(conflicts);
    }
}

/// Returns rules that suffice to show that there is no lineup: none of them can be left out where the effort sufficed.
pub(super) fn blame(question: &Question<'_>, end: &DeadEnd<'_>, effort: &mut Effort) -> BTreeSet<Blame> {
    let core = all(end);
    let core = for_one_want(question, &core, effort).unwrap_or(core);
    few(question, core, effort)
}

/// Where a want cannot be had even alone, that is the simpler explanation, whatever else stands against it as well.
fn for_one_want(
    question: &Question<'_>,
    core: &BTreeSet<Blame>,
    effort: &mut Effort,
) -> Option<BTreeSet<Blame>> {
    let wanted: Vec<Number> =
        core.iter().filter(|blame| matches!(blame, Blame::Want(_))).map(|blame| blame.subject()).collect();
    if wanted.len() < 2 || wanted.len() > FEW_WANTS {
        return None;
    }
    wanted.into_iter().find_map(|number| {
        let (id, range) = question.wants.get_key_value(question.universe.id(number))?;
        let alone = BTreeMap::from([(id.clone(), range.clone())]);
        match engine::run(&Question { wants: &alone, ..*question }, effort.conflicts) {
            End::Dead(end) => {
                effort.spend(end.conflicts);
                Some(all(&end))
            }
            End::Found(found) => {
                effort.spend(found.conflicts);
                None
            }
            End::GaveUp | End::Unread(_) => None,
        }
    })
}

fn few(question: &Question<'_>, mut core: BTreeSet<Blame>, effort: &mut Effort) -> BTreeSet<Blame> {
    let mut kept: BTreeSet<Blame> = BTreeSet::new();
    // Wants first, the last first: leaving one out often takes many rules along.
    while effort.conflicts > 0 {
        let tries = |blame: &&Blame| !kept.contains(*blame);
        let wants = core.iter().rev().filter(|blame| matches!(blame, Blame::Want(_)));
        let rules = core.iter().rev().filter(|blame| core.len() <= FEW && !matches!(blame, Blame::Want(_)));
        let Some(next) = wants.chain(rules).find(tries).copied() else { break };
        let rest: HashSet<Blame> = core.iter().filter(|blame| **blame != next).copied().collect();
        match engine::run_among(question, Some(&rest), effort.conflicts) {
            End::Dead(end) => {
                effort.spend(end.conflicts + 1);
                core = all(&end);
            }
            End::Found(found) => {
                effort.spend(found.conflicts + 1);
                kept.insert(next);
            }
            End::GaveUp => effort.conflicts = 0,
            // It might go on there, so it is needed as far as anybody knows.
            End::Unread(_) => drop(kept.insert(next)),
        }
    }
    core
}

fn all(end: &DeadEnd<'_>) -> BTreeSet<Blame> {
    end.causes.iter().filter_map(|cause| Blame::of(&end.problem, *cause)).collect()
}
