//! What is decided next: the order of preference.

use super::{
    engine::{Engine, Mode},
    problem::{Term, Var},
};
use crate::sets::Bits;

impl<S: Bits> Engine<'_, S> {
    /// The next content to decide and its best choice: what is locked, then wants, then dependencies, then needs that
    /// several can meet.
    pub(super) fn choose(&mut self) -> Option<(Var, S)> {
        while let Some((var, allowed)) = self.wishes.get(self.looked[4]) {
            let choices = &self.vars[*var as usize].choices;
            if !choices.is_subset(allowed) && !choices.is_disjoint(allowed) {
                return Some((*var, choices.and(allowed)));
            }
            self.looked[4] += 1;
        }
        let (var, choice) = self.choose_one()?;
        Some((var, S::single(self.bound(var), choice)))
    }

    fn choose_one(&mut self) -> Option<(Var, usize)> {
        if self.mode == Mode::ByTrouble
            && let Some(troubled) = self.most_troubled()
        {
            return Some(troubled);
        }
        for rank in 0..3 {
            while let Some((var, _)) = self.present.get(self.looked[rank]) {
                let variable = &self.vars[*var as usize];
                if usize::from(variable.rank) == rank && variable.choices.len() > 1 {
                    return Some((*var, self.problem.candidates[*var as usize].best(&variable.choices)?));
                }
                self.looked[rank] += 1;
            }
            if rank == 0
                && let Some(locked) = self.locked_way()
            {
                return Some(locked);
            }
        }
        while let Some((var, _)) = self.present.get(self.looked[3]) {
            let alternatives = self.vars[*var as usize].seldom.iter().flat_map(|seldom| &seldom.alternatives);
            let unmet = alternatives.into_iter().find_map(|terms| self.way(*var, terms));
            if let Some(way) = unmet {
                return Some((way.var, way.bit));
            }
            self.looked[3] += 1;
        }
        None
    }

    /// A locked content that meets a need which is not met yet: what is locked comes before what is only wanted.
    fn locked_way(&self) -> Option<(Var, usize)> {
        if self.problem.question.locked.is_empty() {
            return None;
        }
        self.needing.iter().filter(|var| self.vars[**var as usize].is_present()).find_map(|var| {
            let alternatives = self.vars[*var as usize].seldom.iter().flat_map(|seldom| &seldom.alternatives);
            let mut ways = alternatives.into_iter().filter_map(|terms| self.way(*var, terms));
            ways.find(|way| way.is_locked).map(|way| (way.var, way.bit))
        })
    }

    fn most_troubled(&self) -> Option<(Var, usize)> {
        let mut most: Option<(f32, Var)> = None;
        for (var, _) in &self.present {
            let variable = &self.vars[*var as usize];
            let choices = variable.choices.len();
            if choices > 1 && most.is_none_or(|(weight, _)| variable.weight > weight) {
                most = Some((variable.weight, *var));
            }
        }
        let (_, var) = most?;
        let variable = &self.vars[var as usize];
        // What it was before mostly still goes with the others.
        let tried = variable.tried.map(|bit| bit as usize).filter(|bit| variable.choices.contains(*bit));
        Some((var, tried.or_else(|| self.problem.candidates[var as usize].best(&variable.choices))?))
    }

    /// A way to meet a need that several can meet, where it is not met: what is locked, else the first.
    fn way(&self, needing: Var, terms: &[Term<S>]) -> Option<ReleaseOption> {
        let mut first: Option<ReleaseOption> = None;
        for term in terms {
            let variable = &self.vars[term.var as usize];
            if term.var == needing {
                if !variable.choices.is_subset(&term.set) {
                    return None;
                }
                continue;
            }
            let left = variable.choices.minus(&term.set);
            if variable.choices.is_disjoint(&term.set) {
                return None;
            }
            let candidate = &self.problem.candidates[term.var as usize];
            if let Some(bit) = candidate.best(&left) {
                let is_locked = candidate.locked.is_some_and(|locked| locked as usize == bit);
                if first.as_ref().is_none_or(|first| is_locked && !first.is_locked) {
                    first = Some(ReleaseOption { var: term.var, bit, is_locked });
                }
            }
        }
        first
    }
}

/// A release that would meet a need.
struct ReleaseOption {
    var: Var,
    bit: usize,
    is_locked: bool,
}
