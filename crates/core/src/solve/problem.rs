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
pub(super) enum Cause<'a> {
    /// Somebody asked for it.
    Want { content: Var },
    /// These releases do not run here.
    Platform { content: Var, releases: Set, miss: PlatformMiss },
    /// These releases were withdrawn.
    Withdrawn { content: Var, releases: Set },
    /// These releases need one of those.
    Need { content: Var, releases: Set, group: Group<'a> },
    /// These releases take only some versions of another content.
    Welcome { content: Var, releases: Set, other: &'a ContentId, range: &'a VersionRange },
    /// These releases refuse another content.
    Refuse { content: Var, releases: Set, other: &'a ContentId, range: &'a VersionRange },
    /// Learned from these rules.
    Learned(Vec<usize>),
}

/// Needs of which any one will do.
#[derive(Debug, Clone)]
pub(super) enum Group<'a> {
    /// The usual case.
    One(&'a ContentId, &'a VersionRange),
    /// Several.
    Any(&'a Relations),
}

impl<'a> Group<'a> {
    pub(super) fn iter(&self) -> impl Iterator<Item = (&'a ContentId, &'a VersionRange)> + use<'a> {
        let (one, any) = match self {
            Self::One(id, range) => (Some((*id, *range)), None),
            Self::Any(relations) => (None, Some(relations.iter())),
        };
        one.into_iter().chain(any.into_iter().flatten())
    }
}

/// Terms that may not all hold: each says that a content's choice lies in a set.
#[derive(Debug, Clone)]
pub(super) struct Nogood<'a> {
    pub(super) terms: Vec<(Var, Set)>,
    pub(super) cause: Cause<'a>,
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
        let late = |release: &&Release| !asked && release.version.is_prerelease();
        let is_locked = |release: &&Release| Some(&release.version) == locked;
        // A universe keeps its releases newest first.
        let mut releases = Vec::with_capacity(content.releases.len());
        releases.extend(content.releases.iter().filter(is_locked));
        releases.extend(content.releases.iter().filter(|release| !is_locked(release) && !late(release)));
        releases.extend(content.releases.iter().filter(|release| !is_locked(release) && late(release)));
        releases
    }

    /// The rule that a want makes.
    pub(super) fn want(&mut self, id: &'a ContentId, range: &VersionRange) -> Option<Nogood<'a>> {
        let content = self.number(id)?;
        let candidate = &self.candidates[content];
        let allowed = candidate.matching(|release| takes(range, &release.version));
        let terms = vec![(content, Set::full(candidate.bound).minus(&allowed))];
        Some(Nogood { terms, cause: Cause::Want { content } })
    }

    /// The rules that some of a content's releases make. A rule covers all releases that say the same; those that an
    /// earlier call (`done`) made are not made again.
    pub(super) fn rules_of(&mut self, content: Var, releases: &Set, done: &Set) -> Vec<Nogood<'a>> {
        let mut rules = Vec::new();
        for bit in releases.iter() {
            let Some(release) = self.candidates[content].releases.get(bit).copied() else { continue };
            // What an earlier release, of this call or of one before it, says as well stands in a rule already.
            let is_known = |same: &Set| {
                same.iter().any(|other| done.contains(other) || (other < bit && releases.contains(other)))
            };
            for (id, range) in &release.needs {
                let same = self.saying(content, |other| other.needs.get(id) == Some(range));
                if !is_known(&same) {
                    rules.extend(self.need_rule(content, &same, Group::One(id, range)));
                }
            }
            for group in &release.needs_any {
                let same = self.saying(content, |other| other.needs_any.contains(group));
                if !is_known(&same) {
                    rules.extend(self.need_rule(content, &same, Group::Any(group)));
                }
            }
            for (id, range) in &release.welcomes {
                let same = self.saying(content, |other| other.welcomes.get(id) == Some(range));
                if !is_known(&same) {
                    self.welcome_rule(content, same, (id, range), &mut rules);
                }
            }
            for (id, range) in &release.refuses {
                let same = self.saying(content, |other| other.refuses.get(id) == Some(range));
                if !is_known(&same) {
                    self.refuse_rules(content, &same, (id, range), &mut rules);
                }
            }
        }
        rules
    }

    fn saying(&self, content: Var, says: impl Fn(&Release) -> bool) -> Set {
        self.candidates[content].matching(says)
    }

    fn welcome_rule(
        &mut self,
        content: Var,
        releases: Set,
        (other, range): (&'a ContentId, &'a VersionRange),
        rules: &mut Vec<Nogood<'a>>,
    ) {
        let Some(number) = self.number(other).filter(|number| *number != content) else { return };
        let candidate = &self.candidates[number];
        let wrong = candidate.present().minus(&candidate.matching(|release| takes(range, &release.version)));
        let cause = Cause::Welcome { content, releases: releases.clone(), other, range };
        push_rule(rules, vec![(content, releases), (number, wrong)], cause);
    }

    /// What does not run here and what was withdrawn.
    pub(super) fn fitness_rules(&self, content: Var) -> Vec<Nogood<'a>> {
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
        let mut rules: Vec<Nogood<'a>> = misses
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

    fn need_rule(&mut self, content: Var, releases: &Set, group: Group<'a>) -> Option<Nogood<'a>> {
        if group.iter().any(|(id, range)| platform_provides(self.question.platform, id, range)) {
            return None;
        }
        // A release that provides what it needs itself needs nothing.
        let releases = releases.minus(&self.meeting(content, &group));
        if releases.is_empty() {
            return None;
        }
        let mut terms = Vec::with_capacity(2);
        terms.push((content, releases.clone()));
        for (id, _) in group.iter() {
            let named = self.question.universe.get(id).map(|content| &content.id);
            let stand_ins = self.question.universe.providers(id);
            for id in named.into_iter().chain(stand_ins) {
                let Some(number) = self.number(id) else { continue };
                if terms.iter().any(|(known, _)| *known == number) {
                    continue;
                }
                let meeting = self.meeting(number, &group);
                if !meeting.is_empty() {
                    terms.push((number, Set::full(self.candidates[number].bound).minus(&meeting)));
                }
            }
        }
        Some(Nogood { terms, cause: Cause::Need { content, releases, group } })
    }

    /// The releases of a content that meet one of a group's needs.
    fn meeting(&self, content: Var, group: &Group<'_>) -> Set {
        let candidate = &self.candidates[content];
        let mut set = Set::empty(candidate.bound);
        for (id, range) in group.iter() {
            let is_it = candidate.id == id;
            for (bit, release) in candidate.releases.iter().enumerate() {
                let meets = if is_it {
                    takes(range, &release.version)
                } else {
                    let provided = release.provides.get(id);
                    provided.is_some_and(|version| provided_matches(version.as_ref(), range))
                };
                if meets {
                    set.insert(bit);
                }
            }
        }
        set
    }

    fn refuse_rules(
        &mut self,
        content: Var,
        releases: &Set,
        refused: (&'a ContentId, &'a VersionRange),
        rules: &mut Vec<Nogood<'a>>,
    ) {
        let (other, range) = refused;
        let cause = Cause::Refuse { content, releases: releases.clone(), other, range };
        if platform_provides(self.question.platform, other, range) {
            rules.push(Nogood { terms: vec![(content, releases.clone())], cause: cause.clone() });
        }
        let named = self.question.universe.get(other).map(|content| &content.id);
        let stand_ins = self.question.universe.providers(other);
        for id in named.into_iter().chain(stand_ins) {
            let Some(number) = self.number(id).filter(|number| *number != content) else { continue };
            let bad = self.meeting(number, &Group::One(other, range));
            push_rule(rules, vec![(content, releases.clone()), (number, bad)], cause.clone());
        }
    }
}

/// A rule with an empty set in it can never apply.
fn push_rule<'a>(list: &mut Vec<Nogood<'a>>, terms: Vec<(Var, Set)>, cause: Cause<'a>) {
    if terms.iter().all(|(_, set)| !set.is_empty()) {
        list.push(Nogood { terms, cause });
    }
}

/// Whether a want's or a welcome's range takes a version; one that has none is taken, since nobody can say otherwise.
fn takes(range: &VersionRange, version: &ReleaseVersion) -> bool {
    provided_matches(Some(version), range)
}
