//! The straight way: most questions are answered without a single conflict, and then nothing of what the search keeps (rules,
//! who watches them, how to go back) is ever looked at.
//!
//! So it is tried first without all that: what follows is followed, the best choice is taken, and one that leads to a conflict
//! is taken back and left out. Where that does not help, or where a need can be met by several, the way is given up and the
//! search begins from nothing. It meets everything in the order of the search, so that both give the same lineup as long as
//! there is no conflict (a property test holds them together).

use std::collections::HashMap;

use super::{
    Question,
    problem::{Drafts, Problem, Term, Var},
    quick::Choice,
};
use crate::{
    catalogue::{Gathered, Number},
    sets::{Bits, Set},
    version::VersionRange,
};

/// How far the straight way led.
pub(super) struct Walked<'a> {
    pub(super) arrival: Arrival,
    /// The wants by number, without those that no catalogue knows.
    pub(super) wants: Vec<(Number, &'a VersionRange)>,
    /// How many choices were taken back; where none was, the search says the same.
    #[cfg_attr(not(test), expect(dead_code, reason = "only a test asks"))]
    pub(super) taken_back: usize,
}

/// Where it ends.
pub(super) enum Arrival {
    Found(Vec<Choice>),
    /// It came to contents that have not been read.
    Unread(Vec<Number>),
}

/// Why it goes no further.
enum Stop {
    /// What was chosen cannot be.
    Conflict,
    /// It takes more than this way knows.
    Lost,
}

type Step = Result<(), Stop>;

/// Goes the straight way; nothing where it does not lead to the end.
pub(super) fn walk<'a>(question: &Question<'a>) -> Option<Walked<'a>> {
    if question.universe.widest() < Set::WORD {
        Walk::<u64>::new(question).finish()
    } else {
        Walk::<Set>::new(question).finish()
    }
}

/// How many contents ahead are read together.
const AHEAD: usize = 32;

/// After so many choices that were taken back it is better to learn from conflicts.
const PATIENCE: usize = 64;

/// What is known of a content.
#[derive(Clone)]
struct State<S> {
    choices: S,
    /// The releases whose own rules were made.
    opened: S,
    absent: u32,
    /// As in the search: what is locked, then what is wanted, then the rest.
    rank: u8,
    /// Whether the rules about what runs here were made.
    fitted: bool,
    queued: bool,
    /// Whether rules wait for it.
    is_waited_for: bool,
}

/// The last decision, and what was before it.
struct Decision {
    var: Var,
    bit: usize,
    present: usize,
    looked: [usize; 3],
}

/// A rule of two terms, seen from one of them.
struct Waiting<S> {
    set: S,
    other: Var,
    other_set: S,
}

struct Walk<'a, S> {
    problem: Problem<'a>,
    wants: Vec<(Number, &'a VersionRange)>,
    states: Vec<State<S>>,
    drafts: Drafts<S>,
    queue: Vec<Var>,
    /// Contents that must be present, in the order in which that became known.
    present: Vec<Var>,
    /// For each rank how far `present` was looked through.
    looked: [usize; 3],
    /// And how far was looked ahead.
    ahead: [usize; 3],
    next: Vec<(Gathered<'a>, usize)>,
    named: Vec<Number>,
    last: Option<Decision>,
    /// The states that were changed since, as they were.
    before: Vec<(Var, State<S>)>,
    taken_back: usize,
    /// Rules that were made just now and say nothing yet. Each is applied or filed in `waiting` before anything else is
    /// decided: one that is lost leads to a lineup that breaks it.
    fresh: Vec<[Term<S>; 2]>,
    /// Rules that say nothing yet, by each content that they are about.
    waiting: HashMap<Var, Vec<Waiting<S>>>,
}

impl<'a, S: Bits> Walk<'a, S> {
    fn new(question: &Question<'a>) -> Self {
        let room = (question.wants.len() * 6 + 64).min(question.universe.len());
        Self {
            problem: Problem::new(question, room),
            wants: Vec::new(),
            states: Vec::with_capacity(room),
            drafts: Drafts::new(),
            queue: Vec::new(),
            present: Vec::with_capacity(room),
            looked: [0; 3],
            ahead: [0; 3],
            next: Vec::new(),
            named: Vec::new(),
            last: None,
            before: Vec::new(),
            taken_back: 0,
            fresh: Vec::new(),
            waiting: HashMap::new(),
        }
    }

    fn finish(mut self) -> Option<Walked<'a>> {
        self.go().ok()?;
        let chosen = self.present.iter().filter_map(|var| {
            let release = self.states[*var as usize].choices.first()?;
            Some((self.problem.candidates[*var as usize].number, release))
        });
        let arrival = if self.problem.unread.is_empty() {
            Arrival::Found(chosen.collect())
        } else {
            Arrival::Unread(self.problem.unread)
        };
        Some(Walked { arrival, wants: self.wants, taken_back: self.taken_back })
    }

    fn go(&mut self) -> Step {
        self.wants = self.problem.wants();
        self.named.extend(self.wants.iter().map(|(number, _)| *number));
        self.problem.question.universe.look_ahead_at(&self.named);
        for (number, range) in &self.wants {
            self.problem.want(*number, range, &mut self.drafts);
        }
        self.take_up()?;
        loop {
            match self.follow().and_then(|()| self.decide()) {
                Ok(true) => return Ok(()),
                Ok(false) => {}
                Err(Stop::Conflict) => self.take_back()?,
                Err(Stop::Lost) => return Err(Stop::Lost),
            }
        }
    }

    /// Decides something; returns whether everything was decided.
    fn decide(&mut self) -> Result<bool, Stop> {
        let Some((var, bit)) = self.choose() else { return Ok(true) };
        self.try_out(var, bit)?;
        Ok(false)
    }

    /// Follows what comes of all that was excluded so far.
    fn follow(&mut self) -> Step {
        while let Some(var) = self.queue.pop() {
            self.states[var as usize].queued = false;
            self.open(var)?;
            self.file_fresh();
            self.visit(var)?;
        }
        Ok(())
    }

    /// Has the fresh rules wait until one of their terms holds.
    fn file_fresh(&mut self) {
        if self.fresh.is_empty() {
            return;
        }
        let mut fresh = std::mem::take(&mut self.fresh);
        for [a, b] in fresh.drain(..) {
            self.wait(&a, &b);
            self.wait(&b, &a);
        }
        self.fresh = fresh;
    }

    /// Takes the last decision back and leaves out what it chose.
    fn take_back(&mut self) -> Step {
        let last = self.last.take().ok_or(Stop::Conflict)?;
        self.taken_back += 1;
        if self.taken_back > PATIENCE {
            return Err(Stop::Lost);
        }
        while let Some(var) = self.queue.pop() {
            self.states[var as usize].queued = false;
        }
        self.fresh.clear();
        while let Some((var, before)) = self.before.pop() {
            let is_waited_for = self.states[var as usize].is_waited_for;
            self.states[var as usize] = State { is_waited_for, queued: false, ..before };
        }
        self.present.truncate(last.present);
        self.looked = last.looked;
        self.ahead = [0; 3];
        let choice = S::single(self.problem.candidates[last.var as usize].bound(), last.bit);
        self.exclude(last.var, &choice)
    }

    /// The next content to decide, and its best choice.
    fn choose(&mut self) -> Option<(Var, usize)> {
        for rank in 0..3 {
            while let Some(var) = self.present.get(self.looked[rank]) {
                if self.looked[rank] >= self.ahead[rank] {
                    self.look_ahead(rank);
                    continue;
                }
                let state = &self.states[*var as usize];
                if usize::from(state.rank) == rank && state.choices.len() > 1 {
                    return Some((*var, self.problem.candidates[*var as usize].best(&state.choices)?));
                }
                self.looked[rank] += 1;
            }
        }
        None
    }

    /// Has what the contents to be decided next say read, all at once.
    fn look_ahead(&mut self, rank: usize) {
        let from = self.looked[rank];
        let upto = self.present.len().min(from + AHEAD);
        self.ahead[rank] = upto;
        self.next.clear();
        self.next.extend(self.present[from..upto].iter().filter_map(|var| {
            let state = &self.states[*var as usize];
            let is_next = usize::from(state.rank) == rank && state.choices.len() > 1;
            let release = state.choices.first().filter(|_| is_next)?;
            Some((self.problem.candidates[*var as usize].gathered, release))
        }));
        if !self.next.is_empty() {
            self.problem.question.universe.look_ahead(&self.next, &mut self.named);
        }
    }

    /// Chooses a release, unless its rules say at once that it is none to choose.
    fn try_out(&mut self, var: Var, bit: usize) -> Step {
        let choice = S::single(self.problem.candidates[var as usize].bound(), bit);
        let opened = self.states[var as usize].opened.clone();
        self.open_releases(var, &choice)?;
        if !self.queue.is_empty() {
            self.file_fresh();
            return Ok(());
        }
        self.last = Some(Decision { var, bit, present: self.present.len(), looked: self.looked });
        self.before.clear();
        let state = &mut self.states[var as usize];
        // Its rules are not kept: should it be taken back, they are made anew.
        self.before.push((var, State { opened, ..state.clone() }));
        state.choices = choice;
        self.visit(var)?;
        let mut fresh = std::mem::take(&mut self.fresh);
        let step = fresh.drain(..).try_for_each(|[a, b]| self.apply(a, b));
        // Its room is kept, and what of it says nothing yet.
        fresh.append(&mut self.fresh);
        self.fresh = fresh;
        self.file_fresh();
        step
    }

    fn wait(&mut self, one: &Term<S>, other: &Term<S>) {
        let waiting = Waiting { set: one.set.clone(), other: other.var, other_set: other.set.clone() };
        self.waiting.entry(one.var).or_default().push(waiting);
        self.states[one.var as usize].is_waited_for = true;
    }

    /// Looks at the rules that wait for a content.
    fn visit(&mut self, var: Var) -> Step {
        if !self.states[var as usize].is_waited_for {
            return Ok(());
        }
        let waiting = self.waiting.remove(&var).unwrap_or_default();
        let choices = self.states[var as usize].choices.clone();
        let held = waiting.iter().filter(|waiting| choices.is_subset(&waiting.set));
        let step = held.map(|waiting| (waiting.other, &waiting.other_set));
        let step = step.into_iter().try_for_each(|(other, set)| self.exclude(other, set));
        self.waiting.insert(var, waiting);
        step
    }

    /// Makes those of a content's rules that have come to matter.
    fn open(&mut self, var: Var) -> Step {
        let state = &self.states[var as usize];
        if state.choices.contains(state.absent as usize) {
            return Ok(());
        }
        let one = state.choices.len() == 1;
        let releases = if one { state.choices.clone() } else { S::empty(state.absent as usize + 1) };
        self.open_releases(var, &releases)
    }

    /// Makes the rules of some of a content's releases, and those of all of them together.
    fn open_releases(&mut self, var: Var, releases: &S) -> Step {
        let state = &mut self.states[var as usize];
        let gathered = self.problem.candidates[var as usize].gathered;
        self.before.push((var, state.clone()));
        if !std::mem::replace(&mut state.fitted, true) {
            self.problem.fitness_rules(var, &mut self.drafts);
            self.take_up()?;
            for line in 0..gathered.by_all {
                self.line(var, line)?;
            }
        }
        let mut new = releases.minus(&self.states[var as usize].opened);
        while let Some(bit) = new.first() {
            new.remove(bit);
            for line in gathered.lines_of(bit) {
                // What an earlier release says as well stands in a rule already.
                if S::of(&gathered.line(line).releases).is_disjoint(&self.states[var as usize].opened) {
                    self.line(var, line)?;
                }
            }
            self.states[var as usize].opened.insert(bit);
        }
        Ok(())
    }

    /// Does what a line of a content asks for now. Nearly every one is a need that one content meets: no rule is written for it.
    fn line(&mut self, var: Var, line: u32) -> Step {
        let said = self.problem.candidates[var as usize].gathered.line(line);
        if let Some((other, wrong)) = self.problem.plain_need(var, &said) {
            self.add_variables();
            return self.apply(Term { var, set: S::of(&said.releases) }, Term { var: other, set: wrong });
        }
        self.problem.line_rules(var, line, &mut self.drafts);
        self.take_up()
    }

    /// Does what the rules that were made ask for now.
    fn take_up(&mut self) -> Step {
        self.add_variables();
        let mut drafts = std::mem::replace(&mut self.drafts, Drafts::new());
        let mut start = 0;
        for (end, _) in &drafts.heads {
            match &drafts.terms[start..*end] {
                [only] => self.exclude(only.var, &only.set)?,
                [a, b] => self.apply(a.clone(), b.clone())?,
                _ => return Err(Stop::Lost),
            }
            start = *end;
        }
        drafts.terms.clear();
        drafts.heads.clear();
        self.drafts = drafts;
        Ok(())
    }

    /// Does what a rule of two terms asks for now; one that asks for nothing yet is fresh.
    fn apply(&mut self, a: Term<S>, b: Term<S>) -> Step {
        let choices = |term: &Term<S>| &self.states[term.var as usize].choices;
        if choices(&a).is_disjoint(&a.set) || choices(&b).is_disjoint(&b.set) {
            return Ok(());
        }
        if choices(&a).is_subset(&a.set) {
            self.exclude(b.var, &b.set)
        } else if choices(&b).is_subset(&b.set) {
            self.exclude(a.var, &a.set)
        } else {
            self.fresh.push([a, b]);
            Ok(())
        }
    }

    /// Takes some choices from a content; nothing where none would be left.
    fn exclude(&mut self, var: Var, set: &S) -> Step {
        let state = &mut self.states[var as usize];
        let left = state.choices.minus(set);
        if left == state.choices {
            return Ok(());
        }
        if left.is_empty() {
            return Err(Stop::Conflict);
        }
        self.before.push((var, state.clone()));
        let absent = state.absent as usize;
        if state.choices.contains(absent) && !left.contains(absent) {
            self.present.push(var);
        }
        state.choices = left;
        if !std::mem::replace(&mut state.queued, true) {
            self.queue.push(var);
        }
        Ok(())
    }

    /// Makes a state for every content that the problem has met since.
    fn add_variables(&mut self) {
        for candidate in &self.problem.candidates[self.states.len()..] {
            let bound = candidate.bound();
            self.states.push(State {
                choices: S::full(bound),
                opened: S::empty(bound),
                absent: candidate.gathered.count,
                rank: candidate.rank(),
                fitted: false,
                queued: false,
                is_waited_for: false,
            });
        }
    }
}
