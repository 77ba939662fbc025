//! From metadata to rules over sets of releases ("nogoods": things that may not all be so).

use std::collections::{BTreeMap, HashMap};

use super::{Question, sets::Set, verify::platform_provides};
use crate::{
    catalogue::{Content, PlatformMiss, Relations, Release, provided_matches},
    id::ContentId,
    version::{ReleaseVersion, VersionRange},
};

/// A content in the problem, by number.
pub(super) type Var = usize;

/// What a rule stands for. Rules that were learned are made of others.
#[derive(Debug, Clone)]
pub(super) enum Cause {
    /// Somebody asked for it.
    Want { content: Var },
    /// These releases do not run here.
    Platform { content: Var, releases: Set, miss: PlatformMiss },
    /// These releases were withdrawn.
    Withdrawn { content: Var, releases: Set },
    /// These releases need one of those.
    Need { content: Var, releases: Set, group: Vec<(ContentId, VersionRange)> },
    /// These releases take only some versions of another content.
    Welcome { content: Var, releases: Set, other: ContentId, range: VersionRange },
    /// These releases refuse another content.
    Refuse { content: Var, releases: Set, other: ContentId, range: VersionRange },
    /// Learned from these rules.
    Learned(Vec<usize>),
}

/// Terms that may not all hold: each says that a content's choice lies in a set.
#[derive(Debug, Clone)]
pub(super) struct Nogood {
    pub(super) terms: Vec<(Var, Set)>,
    pub(super) cause: Cause,
}

/// One content in the problem.
pub(super) struct Candidate<'a> {
    pub(super) id: &'a ContentId,
    pub(super) releases: Vec<&'a Release>,
    /// How many choices there are: the releases, then "absent".
    pub(super) bound: usize,
}

impl Candidate<'_> {
    pub(super) fn absent(&self) -> usize {
        self.bound - 1
    }

    fn present(&self) -> Set {
        let mut set = Set::full(self.bound);
        set.remove(self.absent());
        set
    }

    fn matching(&self, accept: impl Fn(&Release) -> bool) -> Set {
        let mut set = Set::empty(self.bound);
        self.releases
            .iter()
            .enumerate()
            .filter(|(_, release)| accept(release))
            .for_each(|(bit, _)| set.insert(bit));
        set
    }
}

/// The contents met so far, and who provides what.
pub(super) struct Problem<'a> {
    question: Question<'a>,
    pub(super) candidates: Vec<Candidate<'a>>,
    numbers: HashMap<&'a ContentId, Var>,
}

impl<'a> Problem<'a> {
    pub(super) fn new(question: &Question<'a>) -> Self {
        Self { question: *question, candidates: Vec::new(), numbers: HashMap::new() }
    }

    /// Returns the number of a content, if anything is known of it.
    pub(super) fn number(&mut self, id: &'a ContentId) -> Option<Var> {
        if let Some(number) = self.numbers.get(id) {
            return Some(*number);
        }
        let content = self.question.universe.get(id)?;
        let releases = self.preferred(content);
        let bound = releases.len() + 1;
        self.candidates.push(Candidate { id: &content.id, releases, bound });
        self.numbers.insert(&content.id, self.candidates.len() - 1);
        Some(self.candidates.len() - 1)
    }

    /// The releases with the best choice first: what is locked, then the newest; pre-releases last, unless the want
    /// names one.
    fn preferred(&self, content: &'a Content) -> Vec<&'a Release> {
        let locked = self.question.locked.get(&content.id);
        let asked = self.question.wants.get(&content.id).is_some_and(VersionRange::names_prerelease);
        let mut releases: Vec<&Release> = content.releases.iter().collect();
        releases.sort_by(|a, b| {
            let rank = |release: &Release| {
                (Some(&release.version) != locked, !asked && release.version.is_prerelease())
            };
            rank(a).cmp(&rank(b)).then_with(|| b.version.cmp(&a.version))
        });
        releases
    }

    /// The rule that a want makes.
    pub(super) fn want(&mut self, id: &'a ContentId, range: &VersionRange) -> Option<Nogood> {
        let content = self.number(id)?;
        let candidate = &self.candidates[content];
        let allowed = candidate.matching(|release| takes(range, &release.version));
        let terms = vec![(content, Set::full(candidate.bound).minus(&allowed))];
        Some(Nogood { terms, cause: Cause::Want { content } })
    }

    /// The rules that a content's releases make, once it must be present.
    pub(super) fn rules_of(&mut self, content: Var) -> Vec<Nogood> {
        let mut rules = self.fitness_rules(content);
        let mut needs: BTreeMap<Vec<(&ContentId, &VersionRange)>, Set> = BTreeMap::new();
        let mut welcomes: BTreeMap<(&ContentId, &VersionRange), Set> = BTreeMap::new();
        let mut refuses: BTreeMap<(&ContentId, &VersionRange), Set> = BTreeMap::new();
        let candidate = &self.candidates[content];
        let bound = candidate.bound;
        for (bit, release) in candidate.releases.iter().enumerate() {
            let single = release.needs.iter().map(|pair| vec![pair]);
            for group in
                single.chain(release.needs_any.iter().map(|group: &Relations| group.iter().collect()))
            {
                needs.entry(group).or_insert_with(|| Set::empty(bound)).insert(bit);
            }
            for pair in &release.welcomes {
                welcomes.entry(pair).or_insert_with(|| Set::empty(bound)).insert(bit);
            }
            for pair in &release.refuses {
                refuses.entry(pair).or_insert_with(|| Set::empty(bound)).insert(bit);
            }
        }
        for (group, releases) in needs {
            rules.extend(self.need_rule(content, &releases, &group));
        }
        for ((other, range), releases) in welcomes {
            if let Some(number) = self.number(other).filter(|number| *number != content) {
                let candidate = &self.candidates[number];
                let wrong =
                    candidate.present().minus(&candidate.matching(|release| takes(range, &release.version)));
                let cause = Cause::Welcome {
                    content,
                    releases: releases.clone(),
                    other: other.clone(),
                    range: range.clone(),
                };
                push_rule(&mut rules, vec![(content, releases), (number, wrong)], cause);
            }
        }
        for ((other, range), releases) in refuses {
            self.refuse_rules(content, &releases, (other, range), &mut rules);
        }
        rules
    }

    /// What does not run here and what was withdrawn.
    fn fitness_rules(&self, content: Var) -> Vec<Nogood> {
        let candidate = &self.candidates[content];
        let locked = self.question.locked.get(candidate.id);
        let mut misses: BTreeMap<PlatformMiss, Set> = BTreeMap::new();
        let mut withdrawn = Set::empty(candidate.bound);
        for (bit, release) in candidate.releases.iter().enumerate() {
            if let Some(miss) = self.question.platform.miss(release) {
                misses.entry(miss).or_insert_with(|| Set::empty(candidate.bound)).insert(bit);
            }
            if release.withdrawn && Some(&release.version) != locked {
                withdrawn.insert(bit);
            }
        }
        let mut rules: Vec<Nogood> = misses
            .into_iter()
            .map(|(miss, releases)| Nogood {
                terms: vec![(content, releases.clone())],
                cause: Cause::Platform { content, releases, miss },
            })
            .collect();
        if !withdrawn.is_empty() {
            rules.push(Nogood {
                terms: vec![(content, withdrawn.clone())],
                cause: Cause::Withdrawn { content, releases: withdrawn },
            });
        }
        rules
    }

    fn need_rule(
        &mut self,
        content: Var,
        releases: &Set,
        group: &[(&'a ContentId, &'a VersionRange)],
    ) -> Option<Nogood> {
        if group.iter().any(|(id, range)| platform_provides(self.question.platform, id, range)) {
            return None;
        }
        // A release that provides what it needs itself needs nothing.
        let own = self.meeting(content, group);
        let releases = releases.minus(&own);
        if releases.is_empty() {
            return None;
        }
        let mut terms = vec![(content, releases.clone())];
        let mut met: Vec<Var> = vec![content];
        for (id, _) in group {
            let named = self.question.universe.get(id).map(|content| &content.id);
            let stand_ins = self.question.universe.providers(id);
            for id in named.into_iter().chain(stand_ins) {
                let Some(number) = self.number(id) else { continue };
                if met.contains(&number) {
                    continue;
                }
                met.push(number);
                let meeting = self.meeting(number, group);
                if !meeting.is_empty() {
                    terms.push((number, Set::full(self.candidates[number].bound).minus(&meeting)));
                }
            }
        }
        let group = group.iter().map(|(id, range)| ((*id).clone(), (*range).clone())).collect();
        Some(Nogood { terms, cause: Cause::Need { content, releases, group } })
    }

    /// The releases of a content that meet one of a group's needs.
    fn meeting(&self, content: Var, group: &[(&ContentId, &VersionRange)]) -> Set {
        let candidate = &self.candidates[content];
        candidate.matching(|release| {
            group.iter().any(|(id, range)| {
                release.stands_for(candidate.id, id).is_some_and(|version| provided_matches(version, range))
            })
        })
    }

    fn refuse_rules(
        &mut self,
        content: Var,
        releases: &Set,
        refused: (&'a ContentId, &'a VersionRange),
        rules: &mut Vec<Nogood>,
    ) {
        let (other, range) = refused;
        let cause =
            Cause::Refuse { content, releases: releases.clone(), other: other.clone(), range: range.clone() };
        if platform_provides(self.question.platform, other, range) {
            rules.push(Nogood { terms: vec![(content, releases.clone())], cause: cause.clone() });
        }
        let named = self.question.universe.get(other).map(|content| &content.id);
        let stand_ins = self.question.universe.providers(other);
        for id in named.into_iter().chain(stand_ins) {
            let Some(number) = self.number(id).filter(|number| *number != content) else { continue };
            let bad = self.meeting(number, &[(other, range)]);
            push_rule(rules, vec![(content, releases.clone()), (number, bad)], cause.clone());
        }
    }
}

/// A rule with an empty set in it can never apply.
fn push_rule(rules: &mut Vec<Nogood>, terms: Vec<(Var, Set)>, cause: Cause) {
    if terms.iter().all(|(_, set)| !set.is_empty()) {
        rules.push(Nogood { terms, cause });
    }
}

/// Whether a want's or a welcome's range takes a version; one that has none is taken, since nobody can say otherwise.
fn takes(range: &VersionRange, version: &ReleaseVersion) -> bool {
    provided_matches(Some(version), range)
}
