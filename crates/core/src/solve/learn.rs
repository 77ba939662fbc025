//! What a conflict teaches: a new rule derived from those that led to it, so that the same dead end is not entered twice.
//!
//! The conflict is followed back through the trail until only one narrowing of its level takes part; what then stands is
//! forbidden whatever else is decided. Narrowings that hold whatever is decided are left out and noted as facts.

use super::{
    engine::Engine,
    problem::{Cause, Term, Var},
    rules::{RuleNumber, RuleOrigin},
};
use crate::sets::Bits;

/// The rule that is being learned.
pub(super) struct Analysis<S> {
    terms: Vec<(Term<S>, u32)>,
    origins: Vec<RuleOrigin>,
    /// The conflict's level, and how many terms came to hold there.
    level: u32,
    count: usize,
    /// What taking part in a conflict weighs now.
    weight: f32,
}

impl<S> Default for Analysis<S> {
    fn default() -> Self {
        Self { terms: Vec::new(), origins: Vec::new(), level: 0, count: 0, weight: 1.0 }
    }
}

/// How much lighter older conflicts become with each new one.
const FADING: f32 = 0.95;

impl<S: Bits> Engine<'_, S> {
    /// Learns from a broken rule and goes back to where what was learned first says something, and does it.
    ///
    /// # Errors
    /// The broken rule, where nothing can be taken back.
    pub(super) fn learn(&mut self, broken: RuleNumber) -> Result<(), RuleNumber> {
        let mut analysis = std::mem::take(&mut self.analysis);
        analysis.terms.clear();
        analysis.origins.clear();
        let levels =
            self.rules.terms(broken).iter().filter_map(|term| {
                self.since(term.var, &term.set).map(|since| self.trail[since as usize].level)
            });
        analysis.level = levels.max().unwrap_or(0);
        analysis.count = 0;
        if analysis.level == 0 {
            return Err(broken);
        }
        self.join(&mut analysis, broken, None);
        let mut at = self.trail.len();
        while at > 0 {
            at -= 1;
            let step = &self.trail[at];
            let place = self.vars[step.var as usize].term;
            if place == 0 || analysis.terms[place as usize - 1].1 as usize != at {
                continue;
            }
            if analysis.count == 1 {
                break;
            }
            let Some(reason) = step.reason else { break };
            let pivot = step.var;
            self.join(&mut analysis, reason, Some(pivot));
        }
        let pivot = self.trail[at].var;
        self.heat_chain(at, analysis.level);
        self.shorten(&mut analysis, pivot);
        for (term, _) in &analysis.terms {
            let variable = &mut self.vars[term.var as usize];
            variable.term = 0;
            variable.hot = true;
        }
        analysis.weight /= FADING;
        // First the one that is forced, then the one that will be free again first.
        let trail = &self.trail;
        analysis.terms.sort_by_key(|(term, since)| (term.var != pivot, std::cmp::Reverse(*since)));
        let level = analysis.terms.get(1).map_or(0, |(_, since)| trail[*since as usize].level);
        let terms = analysis.terms.drain(..).map(|(term, _)| term);
        let rule = self.rules.learned(terms, &analysis.origins);
        self.analysis = analysis;
        self.go_back(level);
        if self.rules.terms(rule).len() > 1 {
            self.watch(rule);
        }
        if self.rules.terms(rule).len() > 2 {
            self.learned.push(rule);
        }
        let Some(term) = self.rules.terms(rule).first().cloned() else { return Err(rule) };
        let left = self.vars[term.var as usize].choices.minus(&term.set);
        if left.is_empty() {
            return Err(rule);
        }
        self.narrow(term.var, left, Some(rule));
        if self.analysis.weight > HEAVY {
            self.lighten();
        }
        Ok(())
    }

    /// Makes the rules of all releases worth having of the contents that led straight to a narrowing: a conflict at the end of
    /// a chain of needs comes again with the next release of each of its links.
    fn heat_chain(&mut self, at: usize, level: u32) {
        let mut next = Some(at);
        while let Some(at) = next.take() {
            let step = &self.trail[at];
            let (var, Some(reason)) = (step.var, step.reason) else { break };
            let others = self.rules.terms(reason).iter().filter(|term| term.var != var);
            let mut of_level = others.filter_map(|term| {
                let since = self.since(term.var, &term.set)?;
                (self.trail[since as usize].level == level && (since as usize) < at)
                    .then_some((term.var, since))
            });
            if let (Some((other, since)), None) = (of_level.next(), of_level.next()) {
                self.vars[other as usize].hot = true;
                next = Some(since as usize);
            }
        }
    }

    /// Joins a rule's terms to those of the rule that is being learned: of two rules, one of which forced the other's
    /// last term (`pivot`), what neither allows.
    fn join(&mut self, analysis: &mut Analysis<S>, rule: RuleNumber, pivot: Option<Var>) {
        analysis.origins.push(RuleOrigin::Rule(rule));
        for index in 0..self.rules.terms(rule).len() {
            let Term { var, set } = self.rules.terms(rule)[index].clone();
            let place = self.vars[var as usize].term as usize;
            let joined = match place.checked_sub(1) {
                None => set,
                Some(at) => {
                    let (known, since) = &analysis.terms[at];
                    analysis.count -= usize::from(self.trail[*since as usize].level == analysis.level);
                    if pivot == Some(var) { known.set.or(&set) } else { known.set.and(&set) }
                }
            };
            self.vars[var as usize].weight += analysis.weight;
            let Some(since) = self.since(var, &joined) else {
                self.take_out(analysis, place);
                continue;
            };
            let level = self.trail[since as usize].level;
            if level == 0 {
                analysis.origins.push(RuleOrigin::Fact(since));
                self.take_out(analysis, place);
                continue;
            }
            analysis.count += usize::from(level == analysis.level);
            let term = (Term { var, set: joined }, since);
            if place == 0 {
                analysis.terms.push(term);
                self.vars[var as usize].term = u32::try_from(analysis.terms.len()).unwrap_or(0);
            } else {
                analysis.terms[place - 1] = term;
            }
        }
    }

    /// Takes a term out of the rule that is being learned, by its place plus one.
    fn take_out(&mut self, analysis: &mut Analysis<S>, place: usize) {
        let Some(at) = place.checked_sub(1) else { return };
        let (term, _) = analysis.terms.swap_remove(at);
        self.vars[term.var as usize].term = 0;
        if let Some((moved, _)) = analysis.terms.get(at) {
            self.vars[moved.var as usize].term = u32::try_from(place).unwrap_or(0);
        }
    }

    /// Takes out terms that follow from the others.
    fn shorten(&mut self, analysis: &mut Analysis<S>, pivot: Var) {
        let mut at = 0;
        while at < analysis.terms.len() {
            let (term, since) = &analysis.terms[at];
            let reason = self.trail[*since as usize].reason.filter(|_| term.var != pivot);
            let Some(reason) = reason.filter(|reason| self.follows(analysis, term, *reason)) else {
                at += 1;
                continue;
            };
            let var = term.var;
            let facts = self
                .rules
                .terms(reason)
                .iter()
                .filter(|other| other.var != var && self.vars[other.var as usize].term == 0);
            let facts: Vec<u32> = facts.filter_map(|other| self.since(other.var, &other.set)).collect();
            analysis.origins.push(RuleOrigin::Rule(reason));
            analysis.origins.extend(facts.into_iter().map(RuleOrigin::Fact));
            self.take_out(analysis, at + 1);
        }
    }

    /// Whether a term holds by a rule all of whose other terms hold by other terms or by facts.
    fn follows(&self, analysis: &Analysis<S>, term: &Term<S>, reason: RuleNumber) -> bool {
        self.rules.terms(reason).iter().all(|other| {
            let variable = &self.vars[other.var as usize];
            if other.var == term.var {
                return term.set.or(&other.set) == variable.full;
            }
            if let Some(place) = variable.term.checked_sub(1) {
                return analysis.terms[place as usize].0.set.is_subset(&other.set);
            }
            let since = self.since(other.var, &other.set);
            since.is_some_and(|since| self.trail[since as usize].level == 0)
        })
    }

    /// Keeps the weights within what numbers can tell.
    fn lighten(&mut self) {
        for variable in &mut self.vars {
            variable.weight *= LIGHT;
        }
        self.analysis.weight *= LIGHT;
    }

    /// The rules at the bottom of a derivation, in the order in which they were made, each once.
    pub(super) fn leaves(&self, root: RuleNumber) -> Vec<Cause> {
        let mut rules = vec![false; self.rules.len()];
        let mut facts = vec![false; self.trail.len()];
        let mut found = Vec::new();
        let mut next = vec![RuleOrigin::Rule(root)];
        let fact = |var: Var, set: &S| self.since(var, set).map(RuleOrigin::Fact);
        next.extend(self.rules.terms(root).iter().filter_map(|term| fact(term.var, &term.set)));
        while let Some(origin) = next.pop() {
            match origin {
                RuleOrigin::Rule(rule) => {
                    if std::mem::replace(&mut rules[rule as usize], true) {
                        continue;
                    }
                    match self.rules.cause(rule) {
                        Cause::Learned { from, to } => next.extend(self.rules.origins(from, to)),
                        _ => found.push(rule),
                    }
                }
                RuleOrigin::Fact(at) => {
                    if std::mem::replace(&mut facts[at as usize], true) {
                        continue;
                    }
                    let step = &self.trail[at as usize];
                    let Some(reason) = step.reason else { continue };
                    next.push(RuleOrigin::Rule(reason));
                    for term in self.rules.terms(reason) {
                        let set =
                            if term.var == step.var { step.after.or(&term.set) } else { term.set.clone() };
                        next.extend(fact(term.var, &set));
                    }
                }
            }
        }
        found.sort_unstable();
        found.into_iter().map(|rule| self.rules.cause(rule)).collect()
    }
}

const HEAVY: f32 = 1e30;
const LIGHT: f32 = 1e-30;
