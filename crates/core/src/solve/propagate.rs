//! What follows from what: rules are taken up as they come to matter, and narrow what may be chosen.
//!
//! A content's own rules hold whatever is decided, so they stay. What all its releases say and which of them run here
//! matters once it must be present; what one release says, once it is to be chosen, or once the content took part in a
//! conflict.

use super::{
    blame::Blame,
    engine::{Broken, Engine},
    next_number,
    problem::{Cause, Drafts, Term, Var},
    rules::{MANY, RuleNumber, Watch},
    variable::{Narrowing, Variable},
};
use crate::sets::Bits;

impl<S: Bits> Engine<'_, S> {
    /// Takes up the rules that were made. Those after a broken one are taken up as well: they would not be made again.
    pub(super) fn take_up_drafts(&mut self) -> Broken {
        let mut drafts = std::mem::replace(&mut self.drafts, Drafts::new());
        let (mut broken, mut start) = (None, 0);
        for (end, cause) in &drafts.heads {
            if self.counts(*cause) {
                let now = self.take_up(&drafts.terms[start..*end], *cause);
                broken = broken.or(now);
            }
            start = *end;
        }
        drafts.terms.clear();
        drafts.heads.clear();
        self.drafts = drafts;
        broken
    }

    fn counts(&self, cause: Cause) -> bool {
        let blame = || Blame::of(&self.problem, cause);
        self.only.is_none_or(|only| blame().is_some_and(|blame| only.contains(&blame)))
    }

    /// Takes up a rule and does what it asks for now.
    fn take_up(&mut self, terms: &[Term<S>], cause: Cause) -> Broken {
        // A term that every choice satisfies says nothing.
        let vars = &self.vars;
        let told = terms.iter().filter(|term| term.set != vars[term.var as usize].full).cloned();
        let rule = self.rules.add(told, cause);
        if terms.len() > 2 {
            if let Some(content) = cause.subject() {
                let alternatives = &mut self.vars[content as usize].seldom().alternatives;
                if alternatives.is_empty() {
                    self.needing.push(content);
                }
                alternatives.push(terms.to_vec());
            }
            // Watched are terms that do not hold, else those that came to hold last: they are the first to be free again.
            let mut sorted = self.rules.terms(rule).to_vec();
            sorted.sort_by_key(|term| {
                let since =
                    if self.holds(term.var, &term.set) { self.since(term.var, &term.set) } else { None };
                std::cmp::Reverse(since.unwrap_or(u32::MAX))
            });
            self.rules.terms_mut(rule).clone_from_slice(&sorted);
        }
        self.watch(rule);
        self.apply(rule)
    }

    /// Has the first two terms of a rule watched.
    pub(super) fn watch(&mut self, rule: RuleNumber) {
        match self.rules.terms(rule) {
            [] => {}
            [only] => self.vars[only.var as usize].seldom().alone.push(rule),
            [first, second, rest @ ..] => {
                let (a, b) = (first.clone(), second.clone());
                let other = |term: &Term<S>| if rest.is_empty() { term.var } else { MANY };
                let (fold_a, fold_b) = (a.set.fold(), b.set.fold());
                let of_a = Watch {
                    set: a.set.clone(),
                    fold: fold_a,
                    other_set: b.set.clone(),
                    other: other(&b),
                    rule,
                };
                let of_b = Watch { other: other(&a), set: b.set, fold: fold_b, other_set: a.set, rule };
                self.vars[a.var as usize].watches.push(of_a);
                self.vars[b.var as usize].watches.push(of_b);
            }
        }
    }

    /// Does what a whole rule asks for now.
    fn apply(&mut self, rule: RuleNumber) -> Broken {
        let mut open = None;
        for term in self.rules.terms(rule) {
            let choices = &self.vars[term.var as usize].choices;
            if choices.is_disjoint(&term.set) {
                return None;
            }
            if !choices.is_subset(&term.set) {
                if open.is_some() {
                    return None;
                }
                open = Some((term.var, choices.minus(&term.set)));
            }
        }
        let Some((var, left)) = open else { return Some(rule) };
        self.narrow(var, left, Some(rule));
        None
    }

    /// Follows what comes of all narrowings so far.
    pub(super) fn propagate(&mut self) -> Broken {
        while let Some(var) = self.queue.pop() {
            self.vars[var as usize].queued = false;
            let broken = self.open(var).or_else(|| self.visit(var));
            if broken.is_some() {
                return broken;
            }
        }
        None
    }

    pub(super) fn forget_queue(&mut self) {
        while let Some(var) = self.queue.pop() {
            self.vars[var as usize].queued = false;
        }
    }

    /// Before a content is decided: leaves out choices that would fail at once, which is cheaper than to try them. Where
    /// that narrows anything, it must be chosen anew.
    pub(super) fn prepare(&mut self, var: Var, choices: &S) -> Broken {
        let broken = match choices.first() {
            Some(bit) if choices.len() == 1 => self.open_releases(var, &S::single(self.bound(var), bit)),
            _ => None,
        };
        if broken.is_some() {
            return broken;
        }
        // Only after a conflict there are rules that came too late to be followed on the level it went back to.
        let watched = if self.conflicts > 0 { self.vars[var as usize].watches.len() } else { 0 };
        for at in 0..watched {
            let Watch { set, other_set, other, rule, .. } = &self.vars[var as usize].watches[at];
            if *other != MANY && !choices.is_disjoint(set) && self.holds(*other, other_set) {
                let (set, rule) = (set.clone(), *rule);
                let broken = self.exclude(var, &set, rule);
                if broken.is_some() {
                    return broken;
                }
            }
        }
        None
    }

    /// Looks at the rules that watch a content.
    fn visit(&mut self, var: Var) -> Broken {
        let mut watches = std::mem::take(&mut self.vars[var as usize].watches);
        let choices = self.vars[var as usize].choices.clone();
        let fold = choices.fold();
        let mut broken = None;
        let mut kept = 0;
        for at in 0..watches.len() {
            let watch = &watches[at];
            let holds = S::may_be_subset(fold, watch.fold) && choices.is_subset(&watch.set);
            let stays = broken.is_some() || !holds || {
                let rule = watch.rule;
                if watch.other == MANY {
                    self.look_elsewhere(var, rule, &mut broken)
                } else {
                    broken = self.exclude(watch.other, &watch.other_set, rule);
                    true
                }
            };
            if stays {
                watches.swap(kept, at);
                kept += 1;
            }
        }
        watches.truncate(kept);
        // Rules that came to watch it meanwhile stand in the new list.
        watches.append(&mut self.vars[var as usize].watches);
        self.vars[var as usize].watches = watches;
        broken
    }

    /// Takes some choices from a content.
    fn exclude(&mut self, var: Var, set: &S, rule: RuleNumber) -> Broken {
        let choices = &self.vars[var as usize].choices;
        if choices.is_disjoint(set) {
            return None;
        }
        let left = choices.minus(set);
        if left.is_empty() {
            return Some(rule);
        }
        self.narrow(var, left, Some(rule));
        None
    }

    /// The watched term about a content has come to hold in a rule of three terms or more: another that does not hold is
    /// watched instead, if there is one. Returns whether the old watch stays.
    fn look_elsewhere(&mut self, var: Var, rule: RuleNumber, broken: &mut Broken) -> bool {
        let terms = self.rules.terms_mut(rule);
        if terms[0].var == var {
            terms.swap(0, 1);
        }
        let other = &terms[0];
        if self.vars[other.var as usize].choices.is_disjoint(&other.set) {
            return true;
        }
        let vars = &self.vars;
        let free =
            (2..terms.len()).find(|at| !vars[terms[*at].var as usize].choices.is_subset(&terms[*at].set));
        if let Some(free) = free {
            terms.swap(1, free);
            let set = terms[1].set.clone();
            let watch = Watch { fold: set.fold(), other_set: set.clone(), set, other: MANY, rule };
            self.vars[terms[1].var as usize].watches.push(watch);
            return false;
        }
        let (other, set) = (other.var, other.set.clone());
        *broken = self.exclude(other, &set, rule);
        true
    }

    /// Narrows a content's choices.
    pub(super) fn narrow(&mut self, var: Var, left: S, reason: Option<RuleNumber>) {
        let at = next_number(self.trail.len());
        let variable = &mut self.vars[var as usize];
        let before = std::mem::replace(&mut variable.choices, left.clone());
        let absent = variable.absent as usize;
        if before.contains(absent) && !left.contains(absent) {
            self.present.push((var, at));
        }
        let previous = variable.last.replace(at);
        if !std::mem::replace(&mut variable.queued, true) {
            self.queue.push(var);
        }
        self.trail.push(Narrowing { var, before, after: left, reason, level: self.level, previous });
    }

    /// Makes those of a content's rules that have come to matter.
    fn open(&mut self, var: Var) -> Broken {
        let variable = &mut self.vars[var as usize];
        if !variable.is_present() && !variable.hot {
            return None;
        }
        let releases = if variable.hot || variable.choices.len() == 1 {
            let mut releases = variable.choices.clone();
            releases.remove(variable.absent as usize);
            releases
        } else {
            S::empty(variable.absent as usize + 1)
        };
        self.open_releases(var, &releases)
    }

    /// Makes the rules of some of a content's releases, and those of all of them together.
    fn open_releases(&mut self, var: Var, releases: &S) -> Broken {
        let variable = &mut self.vars[var as usize];
        let number = self.problem.candidates[var as usize].number;
        let only = self.only;
        let counts = |line: u32| only.is_none_or(|only| only.contains(&Blame::Line(number, line)));
        let drafts = &mut self.drafts;
        let gathered = self.problem.candidates[var as usize].gathered;
        if !std::mem::replace(&mut variable.fitted, true) {
            self.problem.fitness_rules(var, drafts);
            for line in (0..gathered.by_all).filter(|line| counts(*line)) {
                self.problem.line_rules(var, line, drafts);
            }
        }
        let mut new = releases.minus(&variable.opened);
        while let Some(bit) = new.first() {
            new.remove(bit);
            for line in gathered.lines_of(bit) {
                let said = gathered.line(line);
                // What an earlier release says as well stands in a rule already.
                if counts(line) && S::of(&said.releases).is_disjoint(&variable.opened) {
                    self.problem.line_rules(var, line, drafts);
                }
            }
            variable.opened.insert(bit);
        }
        self.add_variables();
        let mut broken = self.take_up_drafts();
        let alone = |variable: &Variable<S>, at: usize| variable.seldom.as_ref()?.alone.get(at).copied();
        let mut at = 0;
        while let Some(rule) = alone(&self.vars[var as usize], at) {
            let now = self.apply(rule);
            broken = broken.or(now);
            at += 1;
        }
        broken
    }
}
