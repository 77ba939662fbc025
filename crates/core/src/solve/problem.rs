//! From metadata to rules over sets of releases: terms that may not all hold.

use std::{
    borrow::Cow,
    collections::{HashMap, HashSet},
};

use super::{Question, verify::platform_provides};
use crate::{
    catalogue::{AnyOf, Content, Gathered, Line, Number, Rare, Release, Saying, Universe, provided_matches},
    id::ContentId,
    sets::{Bits, Set},
    version::{ReleaseVersion, VersionRange},
};

/// A content in the problem, by the order in which it was met.
pub(super) type Var = u32;

/// What a rule stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Cause {
    /// Somebody asked for it.
    Want { content: Var },
    /// Releases that ask something of the platform that it does not have: one of the content's `grounds`.
    Platform { content: Var, ground: u32 },
    /// These releases were withdrawn.
    Withdrawn { content: Var },
    /// What some releases say: one of the content's `lines`.
    Line { content: Var, line: u32 },
    /// Derived from other rules.
    Learned { from: u32, to: u32 },
}

impl Cause {
    /// Returns the content that speaks.
    pub(super) fn subject(self) -> Option<Var> {
        match self {
            Self::Want { content }
            | Self::Platform { content, .. }
            | Self::Withdrawn { content }
            | Self::Line { content, .. } => Some(content),
            Self::Learned { .. } => None,
        }
    }
}

/// A content's choice lies in a set.
#[derive(Debug, Clone)]
pub(super) struct Term<S> {
    pub(super) var: Var,
    pub(super) set: S,
}

/// Rules before they are taken up: the terms of each may not all hold.
#[derive(Debug)]
pub(super) struct Drafts<S> {
    /// The terms of one after another.
    pub(super) terms: Vec<Term<S>>,
    /// For each where its terms end, and what it stands for.
    pub(super) heads: Vec<(usize, Cause)>,
}

impl<S: Bits> Drafts<S> {
    pub(super) fn new() -> Self {
        Self { terms: Vec::new(), heads: Vec::new() }
    }

    fn term(&mut self, var: Var, set: S) {
        self.terms.push(Term { var, set });
    }

    /// Ends a rule. One with an empty set in it can never apply.
    fn end(&mut self, cause: Cause) {
        let start = self.start();
        if self.terms[start..].iter().any(|term| term.set.is_empty()) {
            self.terms.truncate(start);
        } else {
            self.heads.push((self.terms.len(), cause));
        }
    }

    fn start(&self) -> usize {
        self.heads.last().map_or(0, |(end, _)| *end)
    }
}

/// One content in the problem.
pub(super) struct Candidate<'a> {
    pub(super) number: Number,
    pub(super) gathered: Gathered<'a>,
    /// The release that is locked.
    pub(super) locked: Option<u32>,
    /// Releases that come last: pre-releases that nobody asked for.
    late: Option<Cow<'a, Set>>,
    /// Whether somebody asked for it.
    pub(super) is_wanted: bool,
}

impl Candidate<'_> {
    /// Returns how many choices there are: the releases, newest first, then "absent".
    pub(super) fn bound(&self) -> usize {
        self.absent() + 1
    }

    pub(super) fn absent(&self) -> usize {
        self.gathered.count as usize
    }

    /// Returns when it is decided: what is locked first, then what is wanted, then the rest.
    pub(super) fn rank(&self) -> u8 {
        if self.locked.is_some() { 0 } else { 1 + u8::from(!self.is_wanted) }
    }

    /// Returns the best of some choices: what is locked, then the newest; pre-releases last, unless the want names one.
    pub(super) fn best<S: Bits>(&self, choices: &S) -> Option<usize> {
        if let Some(locked) = self.locked.map(|bit| bit as usize).filter(|locked| choices.contains(*locked)) {
            return Some(locked);
        }
        let early = self.late.as_ref().and_then(|late| choices.minus(&S::of(late)).first());
        early.or_else(|| choices.first())
    }
}

/// The contents met so far.
pub(super) struct Problem<'a> {
    pub(super) question: Question<'a>,
    pub(super) candidates: Vec<Candidate<'a>>,
    /// By number in the universe.
    vars: Vec<Var>,
    /// What would have to be read to go on.
    pub(super) unread: Vec<Number>,
    /// What the base game provides, by number.
    base: HashMap<Number, Option<&'a ReleaseVersion>>,
}

const NOT_MET: Var = Var::MAX;

impl<'a> Problem<'a> {
    pub(super) fn new(question: &Question<'a>, room: usize) -> Self {
        let universe = question.universe;
        let provided = question.platform.provides.iter();
        let base = provided.filter_map(|(id, version)| Some((universe.number(id)?, version.as_ref())));
        Self {
            question: *question,
            candidates: Vec::with_capacity(room),
            vars: vec![NOT_MET; universe.len()],
            unread: Vec::new(),
            base: base.collect(),
        }
    }

    fn universe(&self) -> &'a Universe {
        self.question.universe
    }

    /// Returns the place of a content in the problem, if anything is known of it.
    fn var(&mut self, number: Number) -> Option<Var> {
        if self.vars[number as usize] != NOT_MET {
            return Some(self.vars[number as usize]);
        }
        let gathered = self.universe().gathered(number);
        if gathered.count == 0 {
            return None;
        }
        let late = gathered.rare().and_then(|rare| rare.prereleases.as_ref());
        self.candidates.push(Candidate {
            number,
            gathered,
            locked: self.locked(number),
            late: late.map(|late| self.late(number, late)),
            is_wanted: false,
        });
        let var = Var::try_from(self.candidates.len() - 1).unwrap_or(NOT_MET);
        self.vars[number as usize] = var;
        Some(var)
    }

    /// The pre-releases that come last: all but those of a version of which the want names one.
    fn late(&self, number: Number, prereleases: &'a Set) -> Cow<'a, Set> {
        let want = self.question.wants.get(self.universe().id(number));
        let Some(want) = want.filter(|want| want.names_prerelease()) else {
            return Cow::Borrowed(prereleases);
        };
        let mut late = prereleases.clone();
        for (bit, release) in
            self.universe().content(number).iter().flat_map(|content| &content.releases).enumerate()
        {
            if want.names_prerelease_of(&release.version) {
                late.remove(bit);
            }
        }
        Cow::Owned(late)
    }

    fn locked(&self, number: Number) -> Option<u32> {
        if self.question.locked.is_empty() {
            return None;
        }
        let version = self.question.locked.get(self.universe().id(number))?;
        let releases = &self.universe().content(number)?.releases;
        (0..).zip(releases).find(|(_, release)| release.version == *version).map(|(bit, _)| bit)
    }

    pub(super) fn content(&self, var: Var) -> &'a Content {
        let content = self.universe().content(self.candidates[var as usize].number);
        content.unwrap_or_else(|| unreachable!("only contents with releases are met"))
    }

    /// Returns what was asked for of what somebody knows.
    pub(super) fn wants(&self) -> Vec<(Number, &'a VersionRange)> {
        let wants = self.question.wants.iter();
        wants.filter_map(|(id, range)| Some((self.universe().number(id)?, range))).collect()
    }

    /// The rule that a want makes; none for what has no releases.
    pub(super) fn want<S: Bits>(
        &mut self,
        number: Number,
        range: &VersionRange,
        rules: &mut Drafts<S>,
    ) -> Option<()> {
        let content = self.var(number)?;
        let candidate = &mut self.candidates[content as usize];
        candidate.is_wanted = true;
        let bound = candidate.bound();
        let allowed = self.matching::<S>(content, range.stretch(), || Some(range));
        rules.term(content, S::full(bound).minus(&allowed));
        rules.end(Cause::Want { content });
        Some(())
    }

    /// What does not run here and what was withdrawn.
    pub(super) fn fitness_rules<S: Bits>(&self, content: Var, rules: &mut Drafts<S>) {
        let candidate = &self.candidates[content as usize];
        let Some(Rare { withdrawn, grounds, .. }) = candidate.gathered.rare() else { return };
        for (ground, (releases, one)) in (0..).zip(grounds) {
            if self.question.platform.miss(&self.content(content).releases[*one as usize]).is_some() {
                rules.term(content, S::of(releases));
                rules.end(Cause::Platform { content, ground });
            }
        }
        if let Some(withdrawn) = withdrawn {
            let mut set = S::of(withdrawn);
            if let Some(locked) = candidate.locked {
                set.remove(locked as usize);
            }
            rules.term(content, set);
            rules.end(Cause::Withdrawn { content });
        }
    }

    /// The rules that one thing makes that some of a content's releases say.
    pub(super) fn line_rules<S: Bits>(&mut self, content: Var, line: u32, rules: &mut Drafts<S>) {
        let said = &self.candidates[content as usize].gathered.line(line);
        let releases = S::of(&said.releases);
        let cause = Cause::Line { content, line };
        match said.saying {
            Saying::Need if !self.base_provides(said.on, || self.range(content, said)) => {
                self.need_rule(content, releases, Needs { named: &[said.on], said }, cause, rules);
            }
            Saying::Need => {}
            Saying::Any(_) => {
                let group = self.group(content, said);
                if group.iter().any(|(id, range)| platform_provides(self.question.platform, id, range)) {
                    return;
                }
                let universe = self.universe();
                let named: Vec<Number> = group.keys().filter_map(|id| universe.number(id)).collect();
                self.need_rule(content, releases, Needs { named: &named, said }, cause, rules);
            }
            Saying::Welcome => {
                let Some(other) = self.var(said.on).filter(|other| *other != content) else { return };
                let candidate = &self.candidates[other as usize];
                let mut wrong = S::full(candidate.bound());
                wrong.remove(candidate.absent());
                let wrong = wrong.minus(&self.meeting(other, content, said));
                rules.term(content, releases);
                rules.term(other, wrong);
                rules.end(cause);
            }
            Saying::Refuse => {
                if self.base_provides(said.on, || self.range(content, said)) {
                    rules.term(content, releases.clone());
                    rules.end(cause);
                }
                let universe = self.universe();
                for number in std::iter::once(said.on).chain(universe.providers_of(said.on).iter().copied()) {
                    let Some(other) = self.var(number).filter(|other| *other != content) else { continue };
                    let bad = self.meeting(other, content, said);
                    rules.term(content, releases.clone());
                    rules.term(other, bad);
                    rules.end(cause);
                }
            }
        }
    }

    /// Returns the one content that can meet a line, with those of its choices that do not; nothing where it is not as plain
    /// as that, and [`Self::line_rules`] tells all of it.
    pub(super) fn plain_need<S: Bits>(&mut self, content: Var, said: &Line) -> Option<(Var, S)> {
        let stretch = said.stretch().filter(|_| said.saying == Saying::Need)?;
        let is_plain = said.on != self.candidates[content as usize].number
            && (self.base.is_empty() || !self.base.contains_key(&said.on))
            && self.universe().providers_of(said.on).is_empty()
            && !self.universe().is_unread_number(said.on);
        let other = is_plain.then(|| self.var(said.on)).flatten()?;
        let meeting: S = self.within(other, stretch)?;
        (!meeting.is_empty())
            .then(|| (other, S::full(self.candidates[other as usize].bound()).minus(&meeting)))
    }

    fn base_provides(&self, on: Number, range: impl Fn() -> Option<&'a VersionRange>) -> bool {
        if self.base.is_empty() {
            return false;
        }
        let provided = self.base.get(&on);
        provided.is_some_and(|version| range().is_some_and(|range| provided_matches(*version, range)))
    }

    fn need_rule<S: Bits>(
        &mut self,
        content: Var,
        releases: S,
        needs: Needs<'_>,
        cause: Cause,
        rules: &mut Drafts<S>,
    ) {
        let unread = self.unread.len();
        for named in needs.named {
            let bearers = std::iter::once(named).chain(self.universe().providers_of(*named));
            self.unread.extend(bearers.filter(|number| self.question.universe.is_unread_number(**number)));
        }
        if self.unread.len() > unread {
            // What is not known is taken to be good, until it was read and it is solved again.
            return;
        }
        // A release that provides what it needs itself needs nothing.
        let releases = if self.stands_in(content, needs.named) {
            releases.minus(&self.meeting(content, content, needs.said))
        } else {
            releases
        };
        rules.term(content, releases);
        // Only where there are several names a content may go by more than one of them.
        let mut seen: Option<HashSet<Var>> = (needs.named.len() > 1).then(HashSet::new);
        let universe = self.universe();
        for named in needs.named {
            for number in std::iter::once(*named).chain(universe.providers_of(*named).iter().copied()) {
                let Some(other) = self.var(number) else { continue };
                if other == content || seen.as_mut().is_some_and(|seen| !seen.insert(other)) {
                    continue;
                }
                let meeting: S = self.meeting(other, content, needs.said);
                if !meeting.is_empty() {
                    let set = S::full(self.candidates[other as usize].bound()).minus(&meeting);
                    rules.term(other, set);
                }
            }
        }
        rules.end(cause);
    }

    /// Whether a content itself goes by one of these names.
    fn stands_in(&self, content: Var, named: &[Number]) -> bool {
        let own = self.candidates[content as usize].number;
        named.iter().any(|number| *number == own || self.universe().providers_of(*number).contains(&own))
    }

    /// The releases of `other` that meet what `content` says: that bear the name in a version that is asked for, or
    /// stand in for it.
    fn meeting<S: Bits>(&self, other: Var, content: Var, said: &Line) -> S {
        let candidate = &self.candidates[other as usize];
        if !matches!(said.saying, Saying::Any(_)) && candidate.number == said.on {
            return self.matching(other, said.stretch(), || self.range(content, said));
        }
        let bearer = self.content(other);
        let meets =
            |release: &Release, id: &ContentId, range: &VersionRange| release.meets(&bearer.id, id, range);
        let mut set = S::empty(candidate.bound());
        for (bit, release) in bearer.releases.iter().enumerate() {
            let meeting = if let Saying::Any(_) = said.saying {
                self.group(content, said).iter().any(|(id, range)| meets(release, id, range))
            } else {
                let id = self.universe().id(said.on);
                self.range(content, said).is_some_and(|range| meets(release, id, range))
            };
            if meeting {
                set.insert(bit);
            }
        }
        set
    }

    /// Returns the range that a line names.
    fn range(&self, content: Var, said: &Line) -> Option<&'a VersionRange> {
        let release = self.speaker(content, said);
        let id = self.universe().id(said.on);
        match said.saying {
            Saying::Need => release.needs.get(id),
            Saying::Welcome => release.welcomes.get(id),
            Saying::Refuse => release.refuses.get(id),
            Saying::Any(_) => None,
        }
    }

    /// Returns the group that a line names.
    fn group(&self, content: Var, said: &Line) -> &'a AnyOf {
        let place = if let Saying::Any(place) = said.saying { place } else { 0 };
        &self.speaker(content, said).needs_any[usize::from(place)]
    }

    fn speaker(&self, content: Var, said: &Line) -> &'a Release {
        &self.content(content).releases[said.release as usize]
    }

    /// The releases that a range takes; one that has no version is taken, since nobody can say otherwise.
    fn matching<'r, S: Bits>(
        &self,
        content: Var,
        stretch: Option<(u64, u64)>,
        range: impl Fn() -> Option<&'r VersionRange>,
    ) -> S {
        if let Some(within) = stretch.and_then(|stretch| self.within(content, stretch)) {
            return within;
        }
        let mut set = S::empty(self.candidates[content as usize].bound());
        if let Some(range) = range() {
            let releases = self.content(content).releases.iter().enumerate();
            releases
                .filter(|(_, release)| provided_matches(Some(&release.version), range))
                .for_each(|(bit, _)| set.insert(bit));
        }
        set
    }

    /// The releases between two places, where each release has its place.
    fn within<S: Bits>(&self, content: Var, (first, last): (u64, u64)) -> Option<S> {
        let candidate = &self.candidates[content as usize];
        let places = candidate.gathered.places();
        let from = places.partition_point(|place| *place > last);
        let upto = places.partition_point(|place| *place >= first);
        (!places.is_empty()).then(|| S::span(candidate.bound(), from, upto))
    }
}

/// What is needed: any of these names, as a line says.
#[derive(Clone, Copy)]
struct Needs<'l> {
    named: &'l [Number],
    said: &'l Line,
}
