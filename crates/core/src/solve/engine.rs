//! The search: propagate, decide, and learn from conflicts.

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
    /// The rules it appears in.
    rules: Vec<usize>,
    /// Whether its own rules were made.
    opened: bool,
}

struct Engine<'a> {
    question: Question<'a>,
    problem: Problem<'a>,
    states: Vec<State>,
    rules: Vec<Nogood>,
    trail: Vec<Narrowing>,
    level: usize,
    /// Contents that must be present, in the order in which that became known, with the trail's length then.
    present: Vec<(Var, usize)>,
    /// Needs that more than one content can meet.
    alternatives: Vec<usize>,
}

/// What is known at the end of a search without a result: the problem, and the rules that exclude everything.
pub(super) struct DeadEnd<'a> {
    pub(super) problem: Problem<'a>,
    pub(super) causes: Vec<Cause>,
}

enum Verdict {
    Quiet,
    Conflict(usize),
}

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
    };
    match engine.search() {
        Ok(()) => Ok(engine.selection()),
        Err(root) => {
            let causes = engine.leaves(root);
            Err(Box::new(DeadEnd { problem: engine.problem, causes }))
        }
    }
}

impl Engine<'_> {
    fn search(&mut self) -> Result<(), usize> {
        let wants = self.question.wants;
        let mut queue = Vec::new();
        for (id, range) in wants {
            if let Some(rule) = self.problem.want(id, range) {
                queue.push(self.add(rule));
            }
        }
        let mut verdict = self.settle_rules(queue);
        loop {
            while let Verdict::Conflict(rule) = verdict {
                let learned = self.learn(rule)?;
                verdict = self.settle_rules(vec![learned]);
            }
            match self.choose() {
                Some((content, choice)) => {
                    self.level += 1;
                    let bound = self.problem.candidates[content].bound;
                    verdict = self.narrow(content, Set::single(bound, choice), None);
                }
                None => return Ok(()),
            }
        }
    }

    fn add(&mut self, mut rule: Nogood) -> usize {
        // A term that every choice satisfies says nothing.
        let candidates = &self.problem.candidates;
        rule.terms.retain(|(content, set)| *set != Set::full(candidates[*content].bound));
        while self.states.len() < self.problem.candidates.len() {
            let bound = self.problem.candidates[self.states.len()].bound;
            self.states.push(State {
                choices: Set::full(bound),
                narrowings: Vec::new(),
                rules: Vec::new(),
                opened: false,
            });
        }
        let number = self.rules.len();
        for (content, _) in &rule.terms {
            self.states[*content].rules.push(number);
        }
        if matches!(rule.cause, Cause::Need { .. }) && rule.terms.len() > 2 {
            self.alternatives.push(number);
        }
        self.rules.push(rule);
        number
    }

    /// Looks at rules that are new, then at whatever follows.
    fn settle_rules(&mut self, rules: Vec<usize>) -> Verdict {
        for rule in rules {
            if let conflict @ Verdict::Conflict(_) = self.apply(rule) {
                return conflict;
            }
        }
        Verdict::Quiet
    }

    /// Narrows one content if a rule leaves no other way.
    fn apply(&mut self, number: usize) -> Verdict {
        let mut open = None;
        for (content, set) in &self.rules[number].terms {
            let choices = &self.states[*content].choices;
            if choices.is_disjoint(set) {
                return Verdict::Quiet;
            }
            if !choices.is_subset(set) {
                if open.is_some() {
                    return Verdict::Quiet;
                }
                open = Some((*content, choices.minus(set)));
            }
        }
        match open {
            None => Verdict::Conflict(number),
            Some((content, left)) => self.narrow(content, left, Some(number)),
        }
    }

    /// Narrows a content's choices and follows what comes of it.
    fn narrow(&mut self, content: Var, left: Set, reason: Option<usize>) -> Verdict {
        self.record(content, left, reason);
        let mut changed = vec![content];
        while let Some(content) = changed.pop() {
            self.open(content);
            for rule in self.states[content].rules.clone() {
                let before = self.trail.len();
                let mut open = None;
                let mut count = 0;
                for (other, set) in &self.rules[rule].terms {
                    let choices = &self.states[*other].choices;
                    if choices.is_disjoint(set) {
                        count = 2;
                        break;
                    }
                    if !choices.is_subset(set) {
                        count += 1;
                        open = Some((*other, choices.minus(set)));
                        if count > 1 {
                            break;
                        }
                    }
                }
                match (count, open) {
                    (0, _) => return Verdict::Conflict(rule),
                    (1, Some((other, left))) => self.record(other, left, Some(rule)),
                    _ => {}
                }
                if self.trail.len() > before {
                    changed.push(self.trail[before].content);
                }
            }
        }
        Verdict::Quiet
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

    /// Makes a content's own rules once it must be present; they hold whatever is decided, so they stay.
    fn open(&mut self, content: Var) {
        let absent = self.problem.candidates[content].absent();
        if self.states[content].opened || self.states[content].choices.contains(absent) {
            return;
        }
        self.states[content].opened = true;
        for rule in self.problem.rules_of(content) {
            self.add(rule);
        }
    }

    /// The next content to decide and its best choice: what is locked, then wants, then dependencies, then needs that
    /// several can meet.
    fn choose(&self) -> Option<(Var, usize)> {
        let undecided =
            || self.present.iter().map(|(content, _)| *content).filter(|c| self.states[*c].choices.len() > 1);
        let is_locked =
            |content: &Var| self.question.locked.contains_key(self.problem.candidates[*content].id);
        let is_wanted =
            |content: &Var| self.question.wants.contains_key(self.problem.candidates[*content].id);
        let next = undecided()
            .find(is_locked)
            .or_else(|| undecided().find(is_wanted))
            .or_else(|| undecided().next());
        if let Some(content) = next {
            return Some((content, self.states[content].choices.first()?));
        }
        self.alternatives.iter().find_map(|rule| {
            let terms = &self.rules[*rule].terms;
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
            ways.find(|(content, _)| is_locked(content)).or(first)
        })
    }

    /// Derives a new rule from a conflict and goes back to where it first says something.
    fn learn(&mut self, conflict: usize) -> Result<usize, usize> {
        let mut terms = self.rules[conflict].terms.clone();
        let mut parents = vec![conflict];
        loop {
            let satisfiers: Vec<usize> =
                terms.iter().map(|(content, set)| self.satisfier(*content, set)).collect();
            let Some((at, latest)) = satisfiers.iter().copied().enumerate().max_by_key(|(_, step)| *step)
            else {
                self.rules.push(Nogood { terms, cause: Cause::Learned(parents) });
                return Err(self.rules.len() - 1);
            };
            let others = satisfiers.iter().enumerate().filter(|(index, _)| *index != at);
            let previous = others.map(|(_, step)| self.trail[*step].level).max().unwrap_or(0);
            let step = &self.trail[latest];
            match step.reason {
                Some(reason) if step.level == previous => {
                    terms = resolve(&terms, &self.rules[reason].terms, step.content, &self.problem);
                    parents.push(reason);
                }
                _ => {
                    self.go_back(previous);
                    let rule = Nogood { terms, cause: Cause::Learned(parents) };
                    return Ok(self.add(rule));
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
    }

    fn selection(&self) -> Selection {
        let chosen = self.present.iter().filter_map(|(content, _)| {
            let candidate = &self.problem.candidates[*content];
            let release = candidate.releases.get(self.states[*content].choices.first()?)?;
            Some((candidate.id.clone(), release.version.clone()))
        });
        chosen.collect()
    }

    /// The rules at the bottom of a derivation, wants first, each once.
    fn leaves(&self, root: usize) -> Vec<Cause> {
        let mut seen = vec![false; self.rules.len()];
        let mut next = vec![root];
        let mut found = Vec::new();
        while let Some(rule) = next.pop() {
            if std::mem::replace(&mut seen[rule], true) {
                continue;
            }
            match &self.rules[rule].cause {
                Cause::Learned(parents) => next.extend(parents),
                leaf => found.push((rule, leaf.clone())),
            }
        }
        found.sort_by_key(|(rule, _)| *rule);
        found.into_iter().map(|(_, cause)| cause).collect()
    }
}

/// Of two rules, one of which forced the other's last term: what neither allows.
fn resolve(a: &[(Var, Set)], b: &[(Var, Set)], pivot: Var, problem: &Problem<'_>) -> Vec<(Var, Set)> {
    let mut terms: Vec<(Var, Set)> = a.to_vec();
    for (content, set) in b {
        match terms.iter_mut().find(|(there, _)| there == content) {
            Some((_, there)) if *content == pivot => *there = there.or(set),
            Some((_, there)) => *there = there.and(set),
            None => terms.push((*content, set.clone())),
        }
    }
    terms.retain(|(content, set)| *set != Set::full(problem.candidates[*content].bound));
    terms
}
