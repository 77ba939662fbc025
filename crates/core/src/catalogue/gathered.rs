//! What a content's releases say, gathered: equal things once, with the set of releases that say them.
//!
//! Made once when a content is added to a universe, whatever will be asked. Contents are known by number here, and a
//! range by its first and last place, so that a solve compares numbers and not texts. Where it stands then: see `rows`.

use super::{
    Content, Relations, Release,
    line::{Line, Number, Parts, Rare, Saying, narrow},
};
use crate::{
    id::ContentId,
    sets::{Bits, Set},
    version::VersionRange,
};

/// Gathers what a content's releases say. `number` numbers a name.
pub(super) fn gather(content: &Content, number: impl FnMut(&ContentId) -> Number) -> Parts {
    Gathering::of(content, number).parts()
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

    fn rare(&self) -> Option<Rare> {
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
        (!is_plain).then_some(rare)
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

    /// Puts the lines that every release says first; those of the newest come next of themselves.
    fn parts(self) -> Parts {
        let count = self.content.releases.len();
        let is_by_all = |at: &usize| self.lines[*at].releases.len() == count;
        let mut order: Vec<usize> = (0..self.lines.len()).collect();
        order.sort_by_key(|at| !is_by_all(at));
        let mut place = vec![0; order.len()];
        for (to, from) in order.iter().enumerate() {
            place[*from] = narrow(to);
        }
        let said = |lines: &Vec<usize>| {
            lines.iter().filter(|at| !is_by_all(at)).map(|at| place[*at]).collect::<Vec<u32>>()
        };
        Parts {
            versions: self.content.releases.iter().map(|release| release.version.clone()).collect(),
            by_all: narrow(order.iter().filter(|at| is_by_all(at)).count()),
            said: self.said.iter().map(said).collect(),
            rare: self.rare(),
            lines: order.iter().map(|at| self.lines[*at].clone()).collect(),
        }
    }
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
