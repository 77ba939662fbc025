//! The search: propagate, decide, and learn from conflicts.
//!
//! A rule is looked at only when one of two of its terms, the watched ones, has come to hold: as long as two terms do not
//! hold, it can neither force anything nor be broken. A rule of one term is looked at whenever its content changes.

use super::{
    Question, Selection,
    problem::{Cause, Nogood, Problem, Var},
    sets::Set,
};

/// One narrowing of a content's choices.
struct Narrowing {
    content: Var,
    before: Set,
    after: Set,
    /// The rule behind it; none for a decision.
    reason: Option<usize>,
    level: usize,
}

struct State {
    choices: Set,
    /// Where in the trail this content's narrowings are.
    narrowings: Vec<usize>,
    /// The rules that watch it.
    watching: Vec<usize>,
    /// Whether the rules about which releases run here were made.
    fitted: bool,
    /// The releases whose own rules were made.
    opened: Set,
    /// Whether it took part in a conflict: then the rules of all its releases are worth having.
    hot: bool,
    /// When it is decided: what is locked, then what is wanted, then the rest.
    rank: usize,
    /// Where it stands among the terms of the rule that is being learned, plus one.
    term: usize,
}

/// A rule and the two of its terms that are watched (the same one twice where there is only one).
struct Rule<'a> {
    nogood: Nogood<'a>,
    watched: [usize; 2],
}

struct Engine<'a> {
    question: Question<'a>,
    problem: Problem<'a>,
    states: Vec<State>,
    rules: Vec<Rule<'a>>,
    trail: Vec<Narrowing>,
    level: usize,
    /// Contents that must be present, in the order in which that became known, with the trail's length then.
    present: Vec<(Var, usize)>,
    /// Needs that more than one content can meet.
    alternatives: Vec<usize>,
    /// For each rank, how far `present` was looked through; and what that was before each decision.
    looked: [usize; 3],
    looked_before: Vec<[usize; 3]>,
}

/// What is known at the end of a search without a result: the problem, and the rules that exclude everything.
pub(super) struct DeadEnd<'a> {
    pub(super) problem: Problem<'a>,
    pub(super) causes: Vec<Cause<'a>>,
}

/// What a rule asks for.
enum Ask {
    /// Nothing yet, or never.
    Nothing,
    /// That a content has only these choices left.
    Narrow(Var, Set),
    /// What cannot be: all its terms hold.
    Impossible,
}

/// What comes of looking at rules: nothing, or one that is broken.
type Broken = Option<usize>;

/// Returns a selection, or the rules that together leave none.
pub(super) fn run<'a>(question: &Question<'a>) -> Result<Selection, Box<DeadEnd<'a>>> {
    let mut engine = Engine {
        question: *question,
        problem: Problem::new(question),
        states: Vec::new(),
        rules: Vec::new(),
        trail: Vec::new(),
        level: 0,
        present: Vec::new(),
        alternatives: Vec::new(),
        looked: [0; 3],
        looked_before: Vec::new(),
    };
    match engine.search() {
        Ok(()) => Ok(engine.selection()),
        Err(root) => {
            let causes = engine.leaves(root);
            Err(Box::new(DeadEnd { problem: engine.problem, causes }))
        }
    }
}

impl<'a> Engine<'a> {
    fn search(&mut self) -> Result<(), usize> {
        let mut broken = None;
        for (id, range) in self.question.wants {
            if broken.is_none()
                && let Some(rule) = self.problem.want(id, range)
            {
                let rule = self.add(rule);
                broken = self.apply(rule);
            }
        }
        loop {
            while let Some(rule) = broken {
                let learned = self.learn(rule)?;
                broken = self.apply(learned);
            }
            match self.choose() {
                Some((content, choice)) => {
                    self.looked_before.push(self.looked);
                    self.level += 1;
                    let bound = self.problem.candidates[content].bound;
                    broken = self.narrow(content, Set::single(bound, choice), None);
                }
                None => return Ok(()),
            }
        }
    }

    fn add(&mut self, mut nogood: Nogood<'a>) -> usize {
        self.meet();
        // A term that every choice satisfies says nothing.
        let candidates = &self.problem.candidates;
        nogood.terms.retain(|(content, set)| *set != Set::full(candidates[*content].bound));
        let number = self.rules.len();
        if matches!(nogood.cause, Cause::Need { .. }) && nogood.terms.len() > 2 {
            self.alternatives.push(number);
        }
        // Watched are terms that do not hold, else those that came to hold last: they are the first to be free again.
        let mut watched = [0; 2];
        if nogood.terms.len() > 1 {
            let mut order: Vec<usize> = (0..nogood.terms.len()).collect();
            let since = |at: usize| {
                let (content, set) = &nogood.terms[at];
                if self.states[*content].choices.is_subset(set) {
                    self.satisfier(*content, set)
                } else {
                    usize::MAX
                }
            };
            order.sort_by_key(|at| std::cmp::Reverse(since(*at)));
            watched = [order[0], order[1]];
        }
        let [first, second] = watched;
        for at in [Some(first), (second != first).then_some(second)].into_iter().flatten() {
            if let Some((content, _)) = nogood.terms.get(at) {
                self.states[*content].watching.push(number);
            }
        }
        self.rules.push(Rule { nogood, watched });
        number
    }

    /// Makes a state for every content that the problem has met since.
    fn meet(&mut self) {
        while let Some(candidate) = self.problem.candidates.get(self.states.len()) {
            let rank = if self.question.locked.contains_key(candidate.id) {
                0
            } else {
                1 + usize::from(!self.question.wants.contains_key(candidate.id))
            };
            self.states.push(State {
                choices: Set::full(candidate.bound),
                narrowings: Vec::new(),
                watching: Vec::new(),
                fitted: false,
                opened: Set::empty(candidate.bound),
                hot: false,
                rank,
                term: 0,
            });
        }
    }

    fn holds(&self, rule: usize, term: usize) -> bool {
        let (content, set) = &self.rules[rule].nogood.terms[term];
        self.states[*content].choices.is_subset(set)
    }

    /// What a whole rule asks for now.
    fn ask(&self, number: usize) -> Ask {
        let mut open = None;
        for (content, set) in &self.rules[number].nogood.terms {
            let choices = &self.states[*content].choices;
            if choices.is_disjoint(set) {
                return Ask::Nothing;
            }
            if !choices.is_subset(set) {
                if open.is_some() {
                    return Ask::Nothing;
                }
                open = Some((*content, choices.minus(set)));
            }
        }
        open.map_or(Ask::Impossible, |(content, left)| Ask::Narrow(content, left))
    }

    /// Looks at a whole rule and follows what comes of it.
    fn apply(&mut self, number: usize) -> Broken {
        match self.ask(number) {
            Ask::Nothing => None,
            Ask::Impossible => Some(number),
            Ask::Narrow(content, left) => self.narrow(content, left, Some(number)),
        }
    }

    /// Narrows a content's choices and follows what comes of it.
    fn narrow(&mut self, content: Var, left: Set, reason: Option<usize>) -> Broken {
        self.record(content, left, reason);
        let mut changed = vec![content];
        while let Some(content) = changed.pop() {
            for rule in self.open(content) {
                let broken = self.look(rule, &mut changed);
                if broken.is_some() {
                    return broken;
                }
            }
            let mut watching = std::mem::take(&mut self.states[content].watching);
            let mut broken = None;
            watching.retain(|rule| {
                let stays = broken.is_some() || !self.watch_elsewhere(*rule, content);
                if stays && broken.is_none() {
                    broken = self.look_watched(*rule, content, &mut changed);
                }
                stays
            });
            // Rules that came to watch it meanwhile stand in the new list.
            watching.append(&mut self.states[content].watching);
            self.states[content].watching = watching;
            if broken.is_some() {
                return broken;
            }
        }
        None
    }

    /// Looks at a whole rule that is new.
    fn look(&mut self, rule: usize, changed: &mut Vec<Var>) -> Broken {
        match self.ask(rule) {
            Ask::Nothing => None,
            Ask::Impossible => Some(rule),
            Ask::Narrow(content, left) => {
                self.record(content, left, Some(rule));
                changed.push(content);
                None
            }
        }
    }

    /// Where the watched term about a content has come to hold and another, unwatched one does not hold, watches that
    /// one instead.
    fn watch_elsewhere(&mut self, number: usize, content: Var) -> bool {
        let Rule { nogood, watched } = &self.rules[number];
        if nogood.terms.len() < 3 {
            return false;
        }
        let own = usize::from(nogood.terms[watched[0]].0 != content);
        if !self.holds(number, watched[own]) {
            return false;
        }
        let other = watched[1 - own];
        let (other_content, other_set) = &nogood.terms[other];
        if self.states[*other_content].choices.is_disjoint(other_set) {
            return false;
        }
        let free = (0..nogood.terms.len()).find(|at| !watched.contains(at) && !self.holds(number, *at));
        let Some(free) = free else { return false };
        let to = nogood.terms[free].0;
        self.rules[number].watched[own] = free;
        self.states[to].watching.push(number);
        true
    }

    /// Looks at a rule whose unwatched terms all hold, or whose watched one about this content does not.
    fn look_watched(&mut self, number: usize, content: Var, changed: &mut Vec<Var>) -> Broken {
        let Rule { nogood, watched } = &self.rules[number];
        let own = usize::from(nogood.terms[watched[0]].0 != content);
        let target = if watched[0] == watched[1] { watched[own] } else { watched[1 - own] };
        if target != watched[own] && !self.holds(number, watched[own]) {
            return None;
        }
        let (other, set) = &nogood.terms[target];
        let choices = &self.states[*other].choices;
        if choices.is_disjoint(set) {
            return None;
        }
        let left = choices.minus(set);
        if left.is_empty() {
            return Some(number);
        }
        let other = *other;
        self.record(other, left, Some(number));
        changed.push(other);
        None
    }

    fn record(&mut self, content: Var, left: Set, reason: Option<usize>) {
        let absent = self.problem.candidates[content].absent();
        let state = &mut self.states[content];
        let before = std::mem::replace(&mut state.choices, left.clone());
        if before.contains(absent) && !left.contains(absent) {
            self.present.push((content, self.trail.len()));
        }
        state.narrowings.push(self.trail.len());
        self.trail.push(Narrowing { content, before, after: left, reason, level: self.level });
    }

    /// Makes a content's own rules as they come to matter; they hold whatever is decided, so they stay. Which releases
    /// run here matters once it must be present; what a release asks for, once it is the only one left, or once the
    /// content took part in a conflict.
    fn open(&mut self, content: Var) -> Vec<usize> {
        let absent = self.problem.candidates[content].absent();
        let state = &mut self.states[content];
        if state.choices.contains(absent) {
            return Vec::new();
        }
        let mut rules = Vec::new();
        if !std::mem::replace(&mut state.fitted, true) {
            rules = self.problem.fitness_rules(content);
        }
        if state.hot || state.choices.len() == 1 {
            let new = state.choices.minus(&state.opened);
            if !new.is_empty() {
                rules.extend(self.problem.rules_of(content, &new, &state.opened));
                state.opened = state.opened.or(&new);
            }
        }
        rules.into_iter().map(|rule| self.add(rule)).collect()
    }

    /// The next content to decide and its best choice: what is locked, then wants, then dependencies, then needs that
    /// several can meet.
    fn choose(&mut self) -> Option<(Var, usize)> {
        for rank in 0..self.looked.len() {
            while let Some((content, _)) = self.present.get(self.looked[rank]) {
                let state = &self.states[*content];
                if state.rank == rank && state.choices.len() > 1 {
                    return Some((*content, state.choices.first()?));
                }
                self.looked[rank] += 1;
            }
        }
        self.alternatives.iter().find_map(|rule| {
            let terms = &self.rules[*rule].nogood.terms;
            let (needing, releases) = &terms[0];
            if !self.states[*needing].choices.is_subset(releases) {
                return None;
            }
            let met = terms[1..].iter().any(|(content, set)| self.states[*content].choices.is_disjoint(set));
            if met {
                return None;
            }
            let mut ways = terms[1..].iter().filter_map(|(content, set)| {
                let left = self.states[*content].choices.minus(set);
                left.first().map(|choice| (*content, choice))
            });
            let first = ways.clone().next();
            ways.find(|(content, _)| self.states[*content].rank == 0).or(first)
        })
    }

    /// Derives a new rule from a conflict and goes back to where it first says something.
    fn learn(&mut self, conflict: usize) -> Result<usize, usize> {
        let mut terms: Vec<(Var, Set, usize)> = Vec::new();
        let mut parents = vec![conflict];
        self.join(&mut terms, conflict, None);
        let result = loop {
            let Some(latest) = terms.iter().map(|(_, _, since)| *since).max() else {
                break None;
            };
            let others = terms.iter().map(|(_, _, since)| *since).filter(|since| *since != latest);
            let previous = others.map(|since| self.trail[since].level).max().unwrap_or(0);
            let step = &self.trail[latest];
            match step.reason {
                Some(reason) if step.level == previous => {
                    let pivot = step.content;
                    self.join(&mut terms, reason, Some(pivot));
                    parents.push(reason);
                }
                _ => break Some(previous),
            }
        };
        for (content, _, _) in &terms {
            self.states[*content].term = 0;
            self.states[*content].hot = true;
        }
        let terms = terms.into_iter().map(|(content, set, _)| (content, set)).collect();
        let nogood = Nogood { terms, cause: Cause::Learned(parents) };
        let Some(level) = result else {
            self.rules.push(Rule { nogood, watched: [0; 2] });
            return Err(self.rules.len() - 1);
        };
        // Added while it is still known which terms came to hold last.
        let rule = self.add(nogood);
        self.go_back(level);
        Ok(rule)
    }

    /// Joins a rule's terms to those of the rule that is being learned: of two rules, one of which forced the other's
    /// last term (`pivot`), what neither allows.
    fn join(&mut self, terms: &mut Vec<(Var, Set, usize)>, rule: usize, pivot: Option<Var>) {
        for index in 0..self.rules[rule].nogood.terms.len() {
            let (content, set) = &self.rules[rule].nogood.terms[index];
            let content = *content;
            match self.states[content].term.checked_sub(1) {
                None => {
                    let set = set.clone();
                    let since = self.satisfier(content, &set);
                    terms.push((content, set, since));
                    self.states[content].term = terms.len();
                }
                Some(at) => {
                    let joined =
                        if pivot == Some(content) { terms[at].1.or(set) } else { terms[at].1.and(set) };
                    if joined == Set::full(self.problem.candidates[content].bound) {
                        terms.swap_remove(at);
                        self.states[content].term = 0;
                        if let Some((moved, _, _)) = terms.get(at) {
                            self.states[*moved].term = at + 1;
                        }
                    } else {
                        let since = self.satisfier(content, &joined);
                        terms[at] = (content, joined, since);
                    }
                }
            }
        }
    }

    /// The first narrowing after which a term holds.
    fn satisfier(&self, content: Var, set: &Set) -> usize {
        let narrowings = &self.states[content].narrowings;
        let at = narrowings.partition_point(|step| !self.trail[*step].after.is_subset(set));
        narrowings.get(at).copied().unwrap_or(0)
    }

    fn go_back(&mut self, level: usize) {
        while self.trail.last().is_some_and(|step| step.level > level) {
            if let Some(step) = self.trail.pop() {
                let state = &mut self.states[step.content];
                state.choices = step.before;
                state.narrowings.pop();
            }
        }
        while self.present.last().is_some_and(|(_, at)| *at >= self.trail.len()) {
            self.present.pop();
        }
        self.level = level;
        if let Some(looked) = self.looked_before.get(level) {
            self.looked = *looked;
        }
        self.looked_before.truncate(level);
    }

    fn selection(&self) -> Selection {
        let chosen = self.present.iter().filter_map(|(content, _)| {
            let candidate = &self.problem.candidates[*content];
            let release = candidate.releases.get(self.states[*content].choices.first()?)?;
            Some((candidate.id.clone(), release.version.clone()))
        });
        chosen.collect()
    }

    /// The rules at the bottom of a derivation, in the order in which they were made, each once.
    fn leaves(&self, root: usize) -> Vec<Cause<'a>> {
        let mut seen = vec![false; self.rules.len()];
        let mut next = vec![root];
        let mut found = Vec::new();
        while let Some(rule) = next.pop() {
            if std::mem::replace(&mut seen[rule], true) {
                continue;
            }
            match &self.rules[rule].nogood.cause {
                Cause::Learned(parents) => next.extend(parents),
                leaf => found.push((rule, leaf.clone())),
            }
        }
        found.sort_by_key(|(rule, _)| *rule);
        found.into_iter().map(|(_, cause)| cause).collect()
    }
}
