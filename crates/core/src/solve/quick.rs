//! Whether a lineup satisfies everything, by the compact rows of its releases.
//!
//! [`verify`](super::verify()) compares ids, versions and ranges as their authors wrote them. On a large lineup that takes
//! as long as the search itself, so the releases are first checked here by number and by place. This check only ever
//! answers "yes" or "not known": a provided name, a need with alternatives, a range that is not one stretch and
//! everything else out of the ordinary is left to `verify`. It shares nothing with the search but the numbers of the wants.

use super::{Question, verify::platform_provides};
use crate::{
    catalogue::{Line, Number, Rare, Saying},
    version::VersionRange,
};

/// A chosen release: its content, and its place among that content's releases, newest first.
pub(super) type Choice = (Number, usize);

/// One was chosen whose place is not known; no stretch holds it.
const UNPLACED: u64 = u64::MAX;

struct Check<'a> {
    question: &'a Question<'a>,
    /// By content: the number of its chosen release, counted from 1; 0 for none. Of a large catalogue, few contents are chosen.
    numbers: Vec<u16>,
    /// The places of the chosen releases. Nearly every line asks for one, so they lie close together.
    places: Vec<u64>,
}

/// Returns whether a lineup certainly satisfies everything, wants included. `wants` are those of the question, by number.
pub(super) fn certainly_holds(
    question: &Question<'_>,
    wants: &[(Number, &VersionRange)],
    chosen: &[Choice],
) -> bool {
    // The caller reports wants that no catalogue has; `verify` knows them apart from others.
    if wants.len() != question.wants.len() {
        return false;
    }
    let mut numbers = vec![0_u16; question.universe.len()];
    let mut places = Vec::with_capacity(chosen.len());
    for (number, release) in chosen {
        let place = question.universe.gathered(*number).places().get(*release);
        places.push(place.copied().unwrap_or(UNPLACED));
        let Ok(index) = u16::try_from(places.len()) else { return false };
        if std::mem::replace(&mut numbers[*number as usize], index) != 0 {
            return false;
        }
    }
    let check = Check { question, numbers, places };
    wants.iter().all(|(number, range)| check.is_within(*number, range.stretch()))
        && chosen.iter().all(|(number, release)| check.release_holds(*number, *release))
}

impl Check<'_> {
    /// Returns the place of the chosen release of a content, if one was chosen.
    fn place(&self, number: Number) -> Option<u64> {
        let index = usize::from(self.numbers[number as usize]).checked_sub(1)?;
        Some(self.places[index])
    }

    fn is_chosen(&self, number: Number) -> bool {
        self.numbers[number as usize] != 0
    }

    /// Returns whether a content was chosen in a version between two places.
    fn is_within(&self, number: Number, stretch: Option<(u64, u64)>) -> bool {
        let place = self.place(number).filter(|place| *place < UNPLACED);
        place.zip(stretch).is_some_and(|(place, (first, last))| (first..=last).contains(&place))
    }

    fn release_holds(&self, number: Number, release: usize) -> bool {
        let gathered = self.question.universe.gathered(number);
        let lines = (0..gathered.by_all).chain(gathered.lines_of(release));
        release < gathered.count as usize
            && gathered.rare().is_none_or(|rare| self.runs_here(number, release, rare))
            && lines.map(|line| gathered.line(line)).all(|line| self.line_holds(number, &line))
    }

    fn runs_here(&self, number: Number, release: usize, rare: &Rare) -> bool {
        let release =
            self.question.universe.content(number).and_then(|content| content.releases.get(release));
        rare.grounds.is_empty()
            || release.is_some_and(|release| self.question.platform.miss(release).is_none())
    }

    fn line_holds(&self, own: Number, line: &Line) -> bool {
        let Question { universe, platform, .. } = *self.question;
        match line.saying {
            Saying::Need => {
                self.is_within(line.on, line.stretch()) || {
                    let said = universe.content(own).and_then(|content| {
                        content.releases[line.release as usize].needs.get(universe.id(line.on))
                    });
                    said.is_some_and(|range| platform_provides(platform, universe.id(line.on), range))
                }
            }
            Saying::Welcome => {
                line.on == own || !self.is_chosen(line.on) || self.is_within(line.on, line.stretch())
            }
            Saying::Refuse => {
                let is_apart = line.on == own || {
                    self.place(line.on).is_none_or(|place| {
                        let stretch = line.stretch().filter(|_| place < UNPLACED);
                        stretch.is_some_and(|(first, last)| !(first..=last).contains(&place))
                    })
                };
                is_apart
                    && !universe.providers_of(line.on).iter().any(|other| self.is_chosen(*other))
                    && !platform.provides.contains_key(universe.id(line.on))
            }
            Saying::Any(_) => false,
        }
    }
}
