//! The search: propagate (see `propagate`), decide (see `decide`), and learn from conflicts (see `learn`), until everything
//! is decided or nothing is left.

use std::collections::HashSet;

use super::{
    Question, Selection,
    blame::Blame,
    learn::Analysis,
    next_number,
    problem::{Cause, Drafts, Problem, Term, Var},
    rules::{RuleNumber, Rules},
    variable::{Narrowing, Variable},
};
use crate::{
    catalogue::Number,
    id::ContentId,
    sets::{Bits, Set},
};

/// After so many conflicts the order of preference is left for a while, to find out whether there is a lineup at all. Few
/// questions take as many, so the tests are less patient.
const PATIENCE: usize = if cfg!(test) { 8 } else { 2000 };

/// Once it is known that there is a lineup, the best one is looked for with so many conflicts more, and else the one that is
/// known is taken. Only puzzles take as many.
const PATIENCE_FOR_THE_BEST: usize = if cfg!(test) { 20_000 } else { 2_000 };

/// So many learned rules are watched at most, at first.
const MOST_LEARNED: usize = if cfg!(test) { 20 } else { 4_000 };

/// The search by trouble starts anew after about so many conflicts.
const RESTART: usize = 200;

/// What is decided next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Mode {
    /// The best choice of the most important content: what comes out is what was asked for.
    ByPreference,
    /// What conflicts are about: finds out soonest whether there is a lineup.
    ByTrouble,
}

pub(super) struct Engine<'a, S: Bits> {
    pub(super) problem: Problem<'a>,
    pub(super) vars: Vec<Variable<S>>,
    pub(super) rules: Rules<S>,
    pub(super) trail: Vec<Narrowing<S>>,
    pub(super) level: u32,
    pub(super) analysis: Analysis<S>,
    pub(super) queue: Vec<Var>,
    pub(super) drafts: Drafts<S>,
    /// Contents that must be present, in the order in which that became known, with the trail's length then.
    pub(super) present: Vec<(Var, u32)>,
    /// Contents with needs that several can meet, in the order in which that became known.
    pub(super) needing: Vec<Var>,
    /// For each rank (and for alternatives), how far `present` was looked through, and last how far `wishes` was; and what
    /// that was before each decision.
    pub(super) looked: [usize; 5],
    pub(super) looked_before: Vec<[usize; 5]>,
    /// If set, no other rules count.
    pub(super) only: Option<&'a HashSet<Blame>>,
    /// Wants that may be given up: a content, and the releases that would do.
    pub(super) wishes: Vec<(Var, S)>,
    pub(super) mode: Mode,
    pub(super) conflicts: usize,
    /// With how many conflicts the search by trouble starts anew.
    next_restart: usize,
    /// Learned rules of three terms or more that are watched, and how many of them may be.
    pub(super) learned: Vec<RuleNumber>,
    most_learned: usize,
    /// A lineup that was found by trouble, and with how many conflicts it is taken.
    known: Option<(Selection, usize)>,
}

/// What is known at the end of a search without a result: the problem, and the rules that exclude everything.
pub(super) struct DeadEnd<'a> {
    pub(super) problem: Problem<'a>,
    pub(super) causes: Vec<Cause>,
    /// How many conflicts it took.
    pub(super) conflicts: usize,
}

/// What was found, and whether it may hold contents that nothing needs after all.
pub(super) struct Found {
    pub(super) selection: Selection,
    pub(super) may_be_trimmed: bool,
    /// How many conflicts it took.
    pub(super) conflicts: usize,
}

/// How a search ended.
pub(super) enum End<'a> {
    Found(Found),
    Dead(Box<DeadEnd<'a>>),
    /// It took more conflicts than were allowed.
    GaveUp,
    /// It came to contents that have not been read.
    Unread(Vec<Number>),
}

/// What comes of looking at rules: nothing, or one that is broken.
pub(super) type Broken = Option<RuleNumber>;

/// Searches until the end, or until it took `most` conflicts.
pub(super) fn run<'a>(question: &Question<'a>, most: usize) -> End<'a> {
    run_among(question, None, most)
}

/// Searches as if there were no other rules than these, where some are given.
pub(super) fn run_among<'a>(
    question: &Question<'a>,
    only: Option<&'a HashSet<Blame>>,
    most: usize,
) -> End<'a> {
    if question.universe.widest() < Set::WORD {
        Engine::<u64>::new(question, only).run(most)
    } else {
        Engine::<Set>::new(question, only).run(most)
    }
}

/// Returns wants without which there is a lineup: each that cannot be had together with those before it. Nothing where it
/// took more than `most` conflicts.
pub(super) fn give_up_wants(
    question: &Question<'_>,
    most: usize,
) -> Result<Option<Vec<ContentId>>, Vec<Number>> {
    if question.universe.widest() < Set::WORD {
        Engine::<u64>::new(question, None).give_up(most)
    } else {
        Engine::<Set>::new(question, None).give_up(most)
    }
}

impl<'a, S: Bits> Engine<'a, S> {
    fn new(question: &Question<'a>, only: Option<&'a HashSet<Blame>>) -> Self {
        // Room for what a lineup mostly takes, so that little is moved while it grows.
        let room = (question.wants.len() * 6 + 64).min(question.universe.len());
        Self {
            problem: Problem::new(question, room),
            vars: Vec::with_capacity(room),
            rules: Rules::with_room(2 * room),
            trail: Vec::with_capacity(2 * room),
            level: 0,
            analysis: Analysis::default(),
            queue: Vec::new(),
            drafts: Drafts::new(),
            present: Vec::with_capacity(room),
            looked: [0; 5],
            looked_before: Vec::new(),
            only,
            wishes: Vec::new(),
            needing: Vec::new(),

            mode: Mode::ByPreference,
            conflicts: 0,
            next_restart: 0,
            learned: Vec::new(),
            most_learned: MOST_LEARNED,
            known: None,
        }
    }

    fn run(mut self, most: usize) -> End<'a> {
        match self.search(most) {
            // A contradiction stays one whatever the others are.
            Ok(_) if !self.problem.unread.is_empty() => End::Unread(self.problem.unread),
            Ok(true) => {
                let (may_be_trimmed, conflicts) = (!self.needing.is_empty(), self.conflicts);
                let known = self.known.take().filter(|(_, limit)| conflicts > *limit);
                let selection = known.map_or_else(|| self.selection(), |(known, _)| known);
                End::Found(Found { selection, may_be_trimmed, conflicts })
            }
            Ok(false) => End::GaveUp,
            Err(root) => {
                let causes = self.leaves(root);
                End::Dead(Box::new(DeadEnd { problem: self.problem, causes, conflicts: self.conflicts }))
            }
        }
    }

    fn give_up(mut self, most: usize) -> Result<Option<Vec<ContentId>>, Vec<Number>> {
        for (number, range) in self.problem.wants() {
            self.problem.want(number, range, &mut self.drafts);
        }
        self.add_variables();
        for Term { var, set } in self.drafts.terms.drain(..) {
            self.wishes.push((var, self.vars[var as usize].full.minus(&set)));
        }
        self.drafts.heads.clear();
        let came_to_an_end = matches!(self.search(most), Ok(true));
        if !self.problem.unread.is_empty() {
            return Err(self.problem.unread);
        }
        if !came_to_an_end {
            return Ok(None);
        }
        let given_up = self
            .wishes
            .iter()
            .filter(|(var, allowed)| !self.holds(*var, allowed))
            .map(|(var, _)| self.problem.content(*var).id.clone());
        Ok(Some(given_up.collect()))
    }

    /// Takes up the wants, unless they are wishes.
    fn want(&mut self) -> Broken {
        if !self.wishes.is_empty() {
            return None;
        }
        for (number, range) in self.problem.wants() {
            if self.only.is_none_or(|only| only.contains(&Blame::Want(number))) {
                self.problem.want(number, range, &mut self.drafts);
            }
        }
        self.add_variables();
        self.take_up_drafts()
    }

    /// Returns whether it came to an end; the rule that cannot be kept where there is no lineup.
    fn search(&mut self, most: usize) -> Result<bool, RuleNumber> {
        if let Some(broken) = self.want() {
            return Err(broken);
        }
        let mut tried_by_trouble = !self.wishes.is_empty();
        let mut broken = None;
        loop {
            while let Some(rule) = broken.take().or_else(|| self.propagate()) {
                self.conflicts += 1;
                if self.conflicts > most {
                    return Ok(false);
                }
                self.forget_queue();
                self.learn(rule)?;
                if self.known.as_ref().is_some_and(|(_, limit)| self.conflicts > *limit) {
                    return Ok(true);
                }
            }
            if !tried_by_trouble && self.conflicts >= PATIENCE {
                tried_by_trouble = true;
                self.mode = Mode::ByTrouble;
                self.next_restart = self.conflicts;
            }
            if self.mode == Mode::ByTrouble && self.conflicts >= self.next_restart {
                self.next_restart = self.conflicts + RESTART + self.conflicts / 64;
                self.go_back(0);
                self.forget();
            }
            match self.choose() {
                Some((var, choices)) => {
                    broken = self.prepare(var, &choices);
                    if broken.is_none() && self.queue.is_empty() {
                        self.looked_before.push(self.looked);
                        self.level += 1;
                        self.narrow(var, choices, None);
                    }
                }
                None if self.mode == Mode::ByTrouble => {
                    // There is one; now the best one.
                    self.known = Some((self.selection(), self.conflicts + PATIENCE_FOR_THE_BEST));
                    self.mode = Mode::ByPreference;
                    self.go_back(0);
                }
                None => return Ok(true),
            }
        }
    }

    /// Makes a variable for every content that the problem has met since.
    pub(super) fn add_variables(&mut self) {
        for candidate in &self.problem.candidates[self.vars.len()..] {
            let rank = candidate.rank();
            let bound = candidate.bound();
            self.vars.push(Variable {
                choices: S::full(bound),
                full: S::full(bound),
                opened: S::empty(bound),
                watches: Vec::new(),
                seldom: None,
                last: None,
                absent: candidate.gathered.count,
                fitted: false,
                hot: false,
                queued: false,
                rank,
                tried: None,
                term: 0,
                weight: 0.0,
            });
        }
    }

    pub(super) fn holds(&self, var: Var, set: &S) -> bool {
        self.vars[var as usize].choices.is_subset(set)
    }

    pub(super) fn bound(&self, var: Var) -> usize {
        self.problem.candidates[var as usize].bound()
    }

    /// The first narrowing after which a term holds; none where it holds of itself.
    pub(super) fn since(&self, var: Var, set: &S) -> Option<u32> {
        if *set == self.vars[var as usize].full {
            return None;
        }
        let mut found = None;
        let mut next = self.vars[var as usize].last;
        while let Some(at) = next {
            let step = &self.trail[at as usize];
            if !step.after.is_subset(set) {
                break;
            }
            found = Some(at);
            next = step.previous;
        }
        found
    }

    pub(super) fn go_back(&mut self, level: u32) {
        while let Some(step) = self.trail.pop_if(|step| step.level > level) {
            let variable = &mut self.vars[step.var as usize];
            if step.after.len() == 1 {
                variable.tried = step.after.first().and_then(|bit| u32::try_from(bit).ok());
            }
            variable.choices = step.before;
            variable.last = step.previous;
        }
        let length = next_number(self.trail.len());
        while self.present.pop_if(|(_, at)| *at >= length).is_some() {}
        self.level = level;
        if let Some(looked) = self.looked_before.get(level as usize) {
            self.looked = *looked;
        }
        self.looked_before.truncate(level as usize);
    }

    /// Where very many rules were learned, no longer watches the longer half of them: they seldom come to say anything, and
    /// looking at them takes most of the time. What was derived from them stays derived.
    fn forget(&mut self) {
        if self.learned.len() < self.most_learned {
            return;
        }
        let rules = &self.rules;
        self.learned.sort_by_key(|rule| (rules.terms(*rule).len(), std::cmp::Reverse(*rule)));
        let forgotten: HashSet<RuleNumber> =
            self.learned.split_off(self.learned.len() / 2).into_iter().collect();
        for variable in &mut self.vars {
            variable.watches.retain(|watch| !forgotten.contains(&watch.rule));
        }
        self.most_learned += self.most_learned / 10;
    }

    fn selection(&self) -> Selection {
        let chosen = self.present.iter().filter_map(|(var, _)| {
            let release = self.vars[*var as usize].choices.first()?;
            Some((self.problem.candidates[*var as usize].number, release))
        });
        self.problem.question.universe.select(chosen)
    }
}
