//! Where what is gathered of all contents stands.
//!
//! A solve looks at a few of very many contents, and waits for memory most of the time. So all that it looks at of one
//! content stands in one stretch of rows: how much there is of everything, the releases' places, and the lines, those of
//! the newest release first, since that is mostly the one that is chosen.

use std::collections::HashSet;

use foldhash::fast::RandomState;

use super::line::{Line, Number, Parts, Rare, Saying, narrow};
use crate::{
    sets::{Bits, Set},
    version::ReleaseVersion,
};

/// Four words: a head, four places, or a line.
type Row = [u64; 4];

/// What the releases of all contents say, by number.
#[derive(Debug, Clone, Default)]
pub(super) struct Gatherings {
    /// The row of each content's head, counted from 1; 0 for a name that nobody bears.
    heads: Vec<u32>,
    rows: Vec<Row>,
    /// For each release of a content where its lines begin further on, and where the last one's end; then the lines.
    said: Vec<u32>,
    /// Sets that no word holds; a line has the number of its set then.
    wide: Vec<Set>,
    rare: Vec<Rare>,
    versions: Vec<ReleaseVersion>,
    /// One of each version: contents share them.
    known: HashSet<ReleaseVersion, RandomState>,
}

/// What all releases of a content say, newest first.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Gathered<'a> {
    of: &'a Gatherings,
    /// The first row behind the head.
    row: u32,
    /// How many rows of places there are.
    places: u32,
    said: u32,
    /// Counted from 1; 0 where there is nothing rare.
    rare: u32,
    /// How many releases there are.
    pub(crate) count: u32,
    /// How many lines every release says: they come first.
    pub(crate) by_all: u32,
    /// How many lines the newest says: they come first as well.
    by_newest: u32,
}

fn pair(low: u32, high: u32) -> u64 {
    u64::from(low) | u64::from(high) << 32
}

fn halves(word: u64) -> (u32, u32) {
    let half = |word: u64| u32::try_from(word & u64::from(u32::MAX)).unwrap_or(u32::MAX);
    (half(word), half(word >> 32))
}

/// Has some places in memory read one right after another, so that all are waited for together and not each in turn: what
/// was just read is at hand. The numbers say nothing.
pub(super) fn wait_for(read: impl Iterator<Item = usize>) {
    std::hint::black_box(read.fold(0, usize::wrapping_add));
}

const NEED: u32 = 0;
const WELCOME: u32 = 1;
const REFUSE: u32 = 2;
const ANY: u32 = 3;

impl Gatherings {
    /// Takes up what a content's releases say, in place of what there was for that number before.
    pub(super) fn put(&mut self, own: Number, parts: Parts) {
        let count = parts.versions.len();
        let places: Option<Vec<u64>> = parts.versions.iter().map(ReleaseVersion::place).collect();
        let places = places.unwrap_or_default();
        let said = narrow(self.said.len());
        let mut upto = narrow(count + 1);
        for lines in &parts.said {
            self.said.push(upto);
            upto += narrow(lines.len());
        }
        self.said.push(upto);
        self.said.extend(parts.said.iter().flatten());
        let rare = parts.rare.map_or(0, |rare| {
            self.rare.push(rare);
            narrow(self.rare.len())
        });
        let by_newest = parts.lines.iter().take_while(|line| line.releases.contains(0)).count();
        let versions = narrow(self.versions.len());
        for version in &parts.versions {
            let shared = self.shared(version);
            self.versions.push(shared);
        }
        self.rows.push([
            pair(narrow(count), narrow(places.len().div_ceil(4))),
            pair(parts.by_all, narrow(by_newest)),
            pair(rare, said),
            pair(versions, 0),
        ]);
        let head = narrow(self.rows.len());
        self.rows.extend(places.chunks(4).map(|four| {
            let mut row = [0; 4];
            row[..four.len()].copy_from_slice(four);
            row
        }));
        for line in parts.lines {
            let row = self.row(line);
            self.rows.push(row);
        }
        if self.heads.len() <= own as usize {
            self.heads.resize(own as usize + 1, 0);
        }
        self.heads[own as usize] = head;
    }

    fn row(&mut self, line: Line) -> Row {
        let releases = match line.releases {
            Set::One(releases) => releases,
            wide @ Set::Many(_) => {
                self.wide.push(wide);
                self.wide.len() as u64 - 1
            }
        };
        let (on, kind) = match line.saying {
            Saying::Need => (line.on, NEED),
            Saying::Welcome => (line.on, WELCOME),
            Saying::Refuse => (line.on, REFUSE),
            Saying::Any(place) => (u32::from(place), ANY),
        };
        [releases, line.stretch.0, line.stretch.1, pair(on, line.release << 2 | kind)]
    }

    fn shared(&mut self, version: &ReleaseVersion) -> ReleaseVersion {
        if let Some(known) = self.known.get(version) {
            return known.clone();
        }
        self.known.insert(version.clone());
        version.clone()
    }

    /// Has what some releases say read, and how much there is of those that they name (see [`wait_for`]).
    pub(super) fn look_ahead(&self, releases: &[(Gathered<'_>, usize)], named: &mut Vec<Number>) {
        let apart = releases.iter().filter(|(_, release)| *release > 0);
        wait_for(apart.map(|(gathered, release)| self.said[gathered.said as usize + release] as usize));
        let rows = releases.iter().map(|(gathered, release)| (gathered, gathered.lines_of(*release).next()));
        let rows = rows.filter_map(|(gathered, line)| Some(gathered.line_row(line?)));
        wait_for(rows.map(|row| usize::from(self.rows[row][0] == 0)));
        named.clear();
        for (gathered, release) in releases {
            let lines = gathered.lines_of(*release);
            named.extend(lines.map(|line| halves(self.rows[gathered.line_row(line)][3]).0));
        }
        self.look_ahead_at(named);
    }

    /// Has read how much there is of some contents, and which releases.
    pub(super) fn look_ahead_at(&self, contents: &[Number]) {
        let head = |number: &Number| self.heads.get(*number as usize).map_or(0, |row| *row as usize);
        let heads = || contents.iter().map(head);
        wait_for(heads());
        // The row behind the head begins the releases' places, and the second one after it may stand in the next line of memory.
        let rows = heads().flat_map(|head| [head.saturating_sub(1), head + 1]);
        wait_for(rows.filter_map(|row| Some(usize::from(self.rows.get(row)?[0] == 0))));
    }

    pub(super) fn get(&self, number: Number) -> Gathered<'_> {
        let row = self.heads.get(number as usize).copied().unwrap_or(0);
        let head = row.checked_sub(1).map_or([0; 4], |head| self.rows[head as usize]);
        let [(count, places), (by_all, by_newest), (rare, said), _] = head.map(halves);
        Gathered { of: self, row, places, said, rare, count, by_all, by_newest }
    }

    /// Returns a release's version, by its place among the content's releases.
    pub(super) fn version(&self, number: Number, release: usize) -> &ReleaseVersion {
        let head = self.rows[self.heads[number as usize] as usize - 1];
        &self.versions[halves(head[3]).0 as usize + release]
    }
}

impl<'a> Gathered<'a> {
    /// Returns the releases' places, where each has one; else none at all.
    pub(crate) fn places(&self) -> &'a [u64] {
        let rows = &self.of.rows[self.row as usize..(self.row + self.places) as usize];
        let places = rows.as_flattened();
        &places[..places.len().min(self.count as usize)]
    }

    fn line_row(&self, line: u32) -> usize {
        (self.row + self.places + line) as usize
    }

    /// Returns a line.
    pub(crate) fn line(&self, line: u32) -> Line {
        let [releases, first, last, what] = self.of.rows[self.line_row(line)];
        let (on, what) = halves(what);
        let (on, saying) = match what & 3 {
            NEED => (on, Saying::Need),
            WELCOME => (on, Saying::Welcome),
            REFUSE => (on, Saying::Refuse),
            _ => (0, Saying::Any(u16::try_from(on).unwrap_or(u16::MAX))),
        };
        let releases = if (self.count as usize) < Set::WORD {
            Set::One(releases)
        } else {
            usize::try_from(releases).ok().and_then(|at| self.of.wide.get(at)).cloned().unwrap_or(Set::One(0))
        };
        Line { releases, stretch: (first, last), on, release: what >> 2, saying }
    }

    /// Returns the lines that one release says and not all do.
    pub(crate) fn lines_of(&self, release: usize) -> impl Iterator<Item = u32> + use<'a> {
        let (together, apart) = if release == 0 {
            (self.by_all..self.by_newest, &[][..])
        } else {
            let said = &self.of.said[self.said as usize..];
            (0..0, &said[said[release] as usize..said[release + 1] as usize])
        };
        together.chain(apart.iter().copied())
    }

    pub(crate) fn rare(&self) -> Option<&'a Rare> {
        self.rare.checked_sub(1).map(|rare| &self.of.rare[rare as usize])
    }
}
