//! What a content's releases say, gathered: equal things once, with the set of releases that say them.
//!
//! Made once when a content is added to a universe, whatever will be asked. Contents are known by number here, and a
//! range by its first and last place, so that a solve compares numbers and not texts. All contents' parts stand close
//! together, apart from the contents themselves: a solve looks at a few of very many, and what it looks at should lie on
//! few pages of memory.

use std::collections::HashSet;

use super::{Content, Relations, Release};
use crate::{
    id::ContentId,
    sets::{Bits, Set},
    version::{ReleaseVersion, VersionRange},
};

/// A content, or a name that somebody else gave, by number.
pub(crate) type Number = u32;

/// What a line says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Saying {
    /// Needs the named content.
    Need,
    /// Needs one of a group (the one with this place in the release's list).
    Any(u16),
    /// Takes only some versions of the named content.
    Welcome,
    /// Refuses the named content.
    Refuse,
}

/// One thing that some releases say.
#[derive(Debug, Clone)]
pub(crate) struct Line {
    pub(crate) releases: Set,
    /// The range as first and last place, where it is one stretch; else the first is the higher one.
    stretch: (u64, u64),
    /// The content that is named; without meaning for a group.
    pub(crate) on: Number,
    /// The first release that says it, where the range itself can be found.
    pub(crate) release: u32,
    pub(crate) saying: Saying,
}

impl Line {
    /// Returns the range as first and last place, where it is one stretch.
    pub(crate) fn stretch(&self) -> Option<(u64, u64)> {
        (self.stretch.0 <= self.stretch.1).then_some(self.stretch)
    }
}

/// What few contents have.
#[derive(Debug, Clone, Default)]
pub(crate) struct Rare {
    pub(crate) withdrawn: Option<Set>,
    pub(crate) prereleases: Option<Set>,
    /// Releases that ask the same of the platform, and one of them.
    pub(crate) grounds: Vec<(Set, u32)>,
}

/// What all releases of a content say, newest first.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Gathered<'a> {
    /// The releases' places, where each has one.
    pub(crate) places: &'a [u64],
    /// Those that every release says come first.
    pub(crate) lines: &'a [Line],
    /// For each release where its other lines begin further on in here, and where the last one's end; then the lines.
    said: &'a [u32],
    pub(crate) rare: Option<&'a Rare>,
    /// How many releases there are.
    pub(crate) count: u32,
    /// How many lines every release says.
    pub(crate) by_all: u32,
}

/// What the releases of all contents say, by number.
#[derive(Debug, Clone, Default)]
pub(super) struct Gatherings {
    extents: Vec<Extent>,
    places: Vec<u64>,
    lines: Vec<Line>,
    said: Vec<u32>,
    versions: Vec<ReleaseVersion>,
    /// One of each version: contents share them.
    known: HashSet<ReleaseVersion>,
}

/// What is gathered of a name that nobody bears.
static NOTHING: Extent =
    Extent { places: (0, 0), lines: (0, 0), said: (0, 0), versions: 0, count: 0, by_all: 0, rare: None };

/// Where a content's parts stand.
#[derive(Debug, Clone, Default)]
struct Extent {
    places: (u32, u32),
    lines: (u32, u32),
    said: (u32, u32),
    versions: u32,
    count: u32,
    by_all: u32,
    rare: Option<Box<Rare>>,
}

fn part<T>(all: &[T], (from, to): (u32, u32)) -> &[T] {
    &all[from as usize..to as usize]
}

/// Adds to a list and returns where.
fn append<T>(all: &mut Vec<T>, new: impl IntoIterator<Item = T>) -> (u32, u32) {
    let from = narrow(all.len());
    all.extend(new);
    (from, narrow(all.len()))
}

impl Gatherings {
    /// Gathers what a content's releases say, in place of what was gathered for that number before. `number` numbers a
    /// name.
    pub(super) fn gather(
        &mut self,
        own: Number,
        content: &Content,
        number: impl FnMut(&ContentId) -> Number,
    ) {
        let gathering = Gathering::of(content, number);
        let rare = gathering.rare();
        let (lines, said, by_all) = gathering.arranged();
        let places: Option<Vec<u64>> =
            content.releases.iter().map(|release| release.version.place()).collect();
        let versions: Vec<ReleaseVersion> =
            content.releases.iter().map(|release| self.shared(&release.version)).collect();
        let extent = Extent {
            places: append(&mut self.places, places.unwrap_or_default()),
            lines: append(&mut self.lines, lines),
            said: append(&mut self.said, said),
            versions: append(&mut self.versions, versions).0,
            count: narrow(content.releases.len()),
            by_all,
            rare,
        };
        if self.extents.len() <= own as usize {
            self.extents.resize(own as usize + 1, Extent::default());
        }
        self.extents[own as usize] = extent;
    }

    fn shared(&mut self, version: &ReleaseVersion) -> ReleaseVersion {
        if let Some(known) = self.known.get(version) {
            return known.clone();
        }
        self.known.insert(version.clone());
        version.clone()
    }

    pub(super) fn get(&self, number: Number) -> Gathered<'_> {
        let extent = self.extents.get(number as usize).unwrap_or(&NOTHING);
        Gathered {
            places: part(&self.places, extent.places),
            lines: part(&self.lines, extent.lines),
            said: part(&self.said, extent.said),
            rare: extent.rare.as_deref(),
            count: extent.count,
            by_all: extent.by_all,
        }
    }

    /// Returns a release's version, by its place among the content's releases.
    pub(super) fn version(&self, number: Number, release: usize) -> &ReleaseVersion {
        &self.versions[self.extents[number as usize].versions as usize + release]
    }
}

/// Lines while they are gathered.
struct Gathering<'c> {
    content: &'c Content,
    lines: Vec<Line>,
    /// For each what it names.
    named: Vec<(&'c ContentId, Option<&'c VersionRange>)>,
    /// For each release its lines.
    said: Vec<Vec<usize>>,
}

impl<'a> Gathered<'a> {
    /// Returns the lines that one release says and not all do.
    pub(crate) fn lines_of(&self, release: usize) -> &'a [u32] {
        &self.said[self.said[release] as usize..self.said[release + 1] as usize]
    }
}

impl<'c> Gathering<'c> {
    fn of(content: &'c Content, mut number: impl FnMut(&ContentId) -> Number) -> Self {
        let said = vec![Vec::new(); content.releases.len()];
        let mut gathering = Self { content, lines: Vec::new(), named: Vec::new(), said };
        for (bit, release) in content.releases.iter().enumerate() {
            gathering.relations(bit, Saying::Need, &release.needs, &mut number);
            gathering.relations(bit, Saying::Welcome, &release.welcomes, &mut number);
            gathering.relations(bit, Saying::Refuse, &release.refuses, &mut number);
            gathering.groups(bit, release, &mut number);
        }
        gathering
    }

    fn rare(&self) -> Option<Box<Rare>> {
        let content = self.content;
        let those = |is: &dyn Fn(&Release) -> bool| {
            let mut set = Set::empty(content.releases.len() + 1);
            let bits = content.releases.iter().enumerate().filter(|(_, release)| is(release));
            bits.for_each(|(bit, _)| set.insert(bit));
            (!set.is_empty()).then_some(set)
        };
        let rare = Rare {
            withdrawn: those(&|release| release.withdrawn),
            prereleases: those(&|release| release.version.is_prerelease()),
            grounds: grounds(content),
        };
        let is_plain = rare.withdrawn.is_none() && rare.prereleases.is_none() && rare.grounds.is_empty();
        (!is_plain).then(|| Box::new(rare))
    }

    fn relations(
        &mut self,
        bit: usize,
        saying: Saying,
        relations: &'c Relations,
        number: &mut impl FnMut(&ContentId) -> Number,
    ) {
        for (id, range) in relations {
            // Releases that follow one another mostly say the same: the last lines are looked at first.
            let known = (0..self.lines.len()).rev().find(|at| {
                let (other, other_range) = self.named[*at];
                self.lines[*at].saying == saying && other_range == Some(range) && other == id
            });
            let at = known.unwrap_or_else(|| self.line(bit, saying, number(id), (id, Some(range))));
            self.lines[at].releases.insert(bit);
            self.said[bit].push(at);
        }
    }

    fn groups(&mut self, bit: usize, release: &Release, number: &mut impl FnMut(&ContentId) -> Number) {
        for (place, group) in (0..).zip(&release.needs_any) {
            for id in group.keys() {
                number(id);
            }
            let known = self.lines.iter().position(|line| {
                let other = &self.content.releases[line.release as usize];
                matches!(line.saying, Saying::Any(at) if other.needs_any[usize::from(at)] == *group)
            });
            let own = &self.content.id;
            let at = known.unwrap_or_else(|| self.line(bit, Saying::Any(place), 0, (own, None)));
            self.lines[at].releases.insert(bit);
            self.said[bit].push(at);
        }
    }

    fn line(
        &mut self,
        bit: usize,
        saying: Saying,
        on: Number,
        (id, range): (&'c ContentId, Option<&'c VersionRange>),
    ) -> usize {
        self.named.push((id, range));
        self.lines.push(Line {
            releases: Set::empty(self.content.releases.len() + 1),
            stretch: range.and_then(VersionRange::stretch).unwrap_or((1, 0)),
            on,
            release: narrow(bit),
            saying,
        });
        self.lines.len() - 1
    }

    /// Puts the lines that every release says first, and the others' places into one list.
    fn arranged(self) -> (Vec<Line>, Vec<u32>, u32) {
        let count = self.content.releases.len();
        let is_by_all = |at: &usize| self.lines[*at].releases.len() == count;
        let mut order: Vec<usize> = (0..self.lines.len()).collect();
        order.sort_by_key(|at| !is_by_all(at));
        let mut place = vec![0; order.len()];
        for (to, from) in order.iter().enumerate() {
            place[*from] = narrow(to);
        }
        let mut said: Vec<u32> = vec![narrow(count + 1); count + 1];
        for (bit, lines) in self.said.iter().enumerate() {
            said.extend(lines.iter().filter(|at| !is_by_all(at)).map(|at| place[*at]));
            said[bit + 1] = narrow(said.len());
        }
        let by_all = narrow(order.iter().filter(|at| is_by_all(at)).count());
        let lines = order.iter().map(|at| self.lines[*at].clone()).collect();
        (lines, said, by_all)
    }
}

fn narrow(number: usize) -> u32 {
    u32::try_from(number).unwrap_or(u32::MAX)
}

/// Groups the releases that ask something of the platform by what they ask.
fn grounds(content: &Content) -> Vec<(Set, u32)> {
    let bound = content.releases.len() + 1;
    let mut grounds: Vec<(Set, u32)> = Vec::new();
    for (bit, release) in content.releases.iter().enumerate() {
        if release.platforms.is_empty() {
            continue;
        }
        let same =
            |(_, other): &&mut (Set, u32)| content.releases[*other as usize].platforms == release.platforms;
        match grounds.iter_mut().rev().find(same) {
            Some((set, _)) => set.insert(bit),
            None => grounds.push((Set::single(bound, bit), narrow(bit))),
        }
    }
    grounds
}
