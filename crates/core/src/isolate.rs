//! Finding the contents that make a server fail, by starting it with fewer of them.
//!
//! Each start is with a set of contents that is complete: what they need is there. The search is a pure function of the answers so
//! far, so that it can be interrupted and gone on with. One culprit among n contents takes about log2 n starts; each further one that
//! only fails together with it takes about as many again.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::id::ContentId;

/// What is searched.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Problem {
    /// The contents; what another needs comes before it, and those that are suspected come last.
    pub order: Vec<ContentId>,
    /// How many of them are suspected: they were changed since the server last started well.
    pub suspects: usize,
    /// What each of them needs directly.
    pub needs: BTreeMap<ContentId, BTreeSet<ContentId>>,
}

/// Whether the server failed with a set of contents.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Answers(Vec<(BTreeSet<ContentId>, bool)>);

/// What is to be done next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Next {
    /// Start the server with these contents.
    Start(BTreeSet<ContentId>),
    /// It is known.
    Found(Culprits),
}

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "found")]
pub enum Culprits {
    /// The server fails with these together, and not with fewer of them.
    Contents {
        /// The contents.
        ids: Vec<ContentId>,
        /// What they need; it was there as well.
        with: Vec<ContentId>,
    },
    /// It fails without any content: it is not a content.
    None,
    /// It does not fail with all of them.
    NotReproduced,
    /// The starts contradict each other: it fails only now and then.
    Unsteady,
}

impl Answers {
    /// Returns whether it failed with a set; nothing where that was not tried.
    pub fn get(&self, set: &BTreeSet<ContentId>) -> Option<bool> {
        self.0.iter().find(|(known, _)| known == set).map(|(_, fails)| *fails)
    }

    /// Notes whether it failed with a set.
    pub fn note(&mut self, set: BTreeSet<ContentId>, fails: bool) {
        match self.0.iter_mut().find(|(known, _)| *known == set) {
            Some((_, known)) => *known = fails,
            None => self.0.push((set, fails)),
        }
    }

    /// Returns how many starts there were.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Returns whether there was none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

/// More contents hardly ever fail only together: then it is chance.
const MOST_TOGETHER: usize = 6;

/// A start that has to be made before it can be said more.
struct Missing(BTreeSet<ContentId>);

impl Problem {
    /// Returns about how many starts it takes to find one culprit, and for each further one.
    pub fn estimate(&self) -> (usize, usize) {
        let halvings = |count: usize| count.next_power_of_two().trailing_zeros() as usize;
        let all = halvings(self.order.len());
        (all + 2, all + 1)
    }

    /// Returns a set with all that its contents need.
    fn complete<'c>(&self, contents: impl IntoIterator<Item = &'c ContentId>) -> BTreeSet<ContentId> {
        let mut set = BTreeSet::new();
        let mut waiting: Vec<&ContentId> = contents.into_iter().collect();
        while let Some(id) = waiting.pop() {
            if set.insert(id.clone()) {
                waiting.extend(
                    self.needs.get(id).into_iter().flatten().filter(|need| self.order.contains(need)),
                );
            }
        }
        set
    }

    /// Returns the next start, or what was found.
    pub fn next(&self, answers: &Answers) -> Next {
        match self.search(answers) {
            Ok(found) => Next::Found(found),
            Err(Missing(set)) => Next::Start(set),
        }
    }

    fn search(&self, answers: &Answers) -> Result<Culprits, Missing> {
        let fails = |contents: &[&[ContentId]]| {
            let set = self.complete(contents.iter().copied().flatten());
            answers.get(&set).ok_or(Missing(set))
        };
        if !fails(&[&self.order])? {
            return Ok(Culprits::NotReproduced);
        }
        let mut found: Vec<ContentId> = Vec::new();
        let mut rest = self.order.as_slice();
        // What has not changed comes first: mostly it works alone.
        let mut first =
            Some(rest.len() - self.suspects.min(rest.len())).filter(|at| (1..rest.len()).contains(at));
        loop {
            // With so many of the rest it works, and with so many it fails.
            let (mut works, mut failing) = (0, rest.len());
            while failing - works > 1 {
                let middle = first.take().unwrap_or(usize::midpoint(works, failing));
                if fails(&[&found, &rest[..middle]])? {
                    failing = middle;
                } else {
                    works = middle;
                }
            }
            let Some(culprit) = failing.checked_sub(1).and_then(|at| rest.get(at)) else {
                return Ok(Culprits::Unsteady);
            };
            // Nothing but this one made it fail, so perhaps nothing has to.
            if works == 0 && found.is_empty() && fails(&[])? {
                return Ok(Culprits::None);
            }
            found.insert(0, culprit.clone());
            rest = &rest[..failing - 1];
            if found.len() > MOST_TOGETHER {
                return Ok(Culprits::Unsteady);
            }
            if fails(&[&found])? {
                break;
            }
        }
        self.narrow(found, answers)
    }

    /// Makes sure that it is not something which the found contents need.
    fn narrow(&self, found: Vec<ContentId>, answers: &Answers) -> Result<Culprits, Missing> {
        let all = self.complete(&found);
        let with: Vec<ContentId> =
            self.order.iter().filter(|id| all.contains(*id) && !found.contains(id)).cloned().collect();
        if with.is_empty() {
            return Ok(Culprits::Contents { ids: found, with });
        }
        let set = self.complete(&with);
        if set == all || !answers.get(&set).ok_or_else(|| Missing(set.clone()))? {
            return Ok(Culprits::Contents { ids: found, with });
        }
        let order = self.order.iter().filter(|id| set.contains(*id)).cloned().collect();
        Self { order, suspects: 0, needs: self.needs.clone() }.search(answers)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn id(number: usize) -> ContentId {
        ContentId::new(&format!("c{number:03}")).unwrap()
    }

    fn problem(count: usize, needs: &[(usize, usize)]) -> Problem {
        let mut all: BTreeMap<ContentId, BTreeSet<ContentId>> = BTreeMap::new();
        for (who, what) in needs {
            all.entry(id(*who)).or_default().insert(id(*what));
        }
        Problem { order: (0..count).map(id).collect(), suspects: 0, needs: all }
    }

    /// Searches with a server that fails with any of these sets, and returns what was found and the number of starts.
    fn search(problem: &Problem, failing: &[&[usize]]) -> (Culprits, usize) {
        let failing: Vec<BTreeSet<ContentId>> =
            failing.iter().map(|set| set.iter().map(|at| id(*at)).collect()).collect();
        let mut answers = Answers::default();
        loop {
            match problem.next(&answers) {
                Next::Found(found) => return (found, answers.len()),
                Next::Start(set) => {
                    assert_eq!(problem.complete(&set), set, "needs are complete");
                    let fails = failing.iter().any(|bad| bad.is_subset(&set));
                    answers.note(set, fails);
                    assert!(answers.len() < 200);
                }
            }
        }
    }

    fn ids(found: &Culprits) -> Vec<ContentId> {
        match found {
            Culprits::Contents { ids, .. } => ids.clone(),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn one_culprit_among_two_hundred_takes_ten_starts_and_a_pair_takes_forty() {
        let problem = problem(200, &[]);
        for culprit in 0..200 {
            let (found, starts) = search(&problem, &[&[culprit]]);
            assert_eq!(ids(&found), [id(culprit)]);
            assert!(starts <= 10 + usize::from(culprit == 0), "{culprit}: {starts}");
        }
        for one in (0..199).step_by(7) {
            for other in (one + 1..200).step_by(11) {
                let (found, starts) = search(&problem, &[&[one, other]]);
                assert_eq!(ids(&found), [id(one), id(other)]);
                assert!(starts <= 20, "{one} {other}: {starts}");
            }
        }
        let (found, starts) = search(&problem, &[&[3, 90, 150]]);
        assert_eq!(ids(&found), [id(3), id(90), id(150)]);
        assert!(starts <= 30, "{starts}");
        assert!(problem.estimate().0 <= 10);
    }

    #[test]
    fn what_was_changed_is_looked_at_first() {
        let mut problem = problem(200, &[]);
        problem.suspects = 4;
        let (found, starts) = search(&problem, &[&[198]]);
        assert_eq!(ids(&found), [id(198)]);
        assert!(starts <= 5, "{starts}");
        let (found, _) = search(&problem, &[&[17]]);
        assert_eq!(ids(&found), [id(17)]);
    }

    #[test]
    fn needs_come_along_and_a_need_is_found_itself() {
        // Ten chains of ten.
        let needs: Vec<(usize, usize)> = (0..100).filter(|at| at % 10 > 0).map(|at| (at, at - 1)).collect();
        let mut problem = problem(100, &needs);
        for culprit in [0, 5, 33, 99] {
            let (found, _) = search(&problem, &[&[culprit]]);
            assert_eq!(ids(&found), [id(culprit)]);
        }
        // A need that was changed, and what needs it was not.
        problem.order.rotate_left(1);
        problem.suspects = 1;
        let (found, _) = search(&problem, &[&[0]]);
        assert_eq!(ids(&found), [id(0)]);
    }

    #[test]
    fn what_is_no_content_and_what_does_not_fail_is_said() {
        let problem = problem(8, &[]);
        assert_eq!(search(&problem, &[&[]]).0, Culprits::None);
        assert_eq!(search(&problem, &[]).0, Culprits::NotReproduced);
        // It failed with all, and then with nothing any more.
        let mut answers = Answers::default();
        answers.note(problem.complete(&problem.order), true);
        loop {
            match problem.next(&answers) {
                Next::Start(set) => answers.note(set, false),
                Next::Found(found) => {
                    assert!(matches!(found, Culprits::Unsteady | Culprits::Contents { .. }), "{found:?}");
                    break;
                }
            }
        }
    }
}
