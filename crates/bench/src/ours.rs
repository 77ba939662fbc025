//! Our solver on a generated catalogue.

use std::collections::BTreeMap;

use yalotheca_core::{
    catalogue::{Platform, Release, Universe},
    id::ContentId,
    solve::{Answer, Question, Selection, solve, verify},
    version::{ReleaseVersion, VersionRange},
};

use crate::generator::{Catalogue, Window};

/// A catalogue as our metadata.
pub(crate) struct Ours {
    universe: Universe,
    platform: Platform,
    wants: BTreeMap<ContentId, VersionRange>,
    locked: Selection,
}

/// What came of a solve.
pub(crate) enum Outcome {
    /// A lineup of so many contents; and whether the checker is content with it.
    Lineup(Selection),
    /// None, with so many sentences and ways out.
    None { sentences: usize, ways_out: usize },
}

fn range(window: &Window) -> Option<VersionRange> {
    let Window { lo, hi, .. } = window;
    VersionRange::parse(&if *hi > 500 { format!(">={lo}") } else { format!(">={lo}, <={hi}") }).ok()
}

impl Ours {
    pub(crate) fn new(catalogue: &Catalogue) -> Option<Self> {
        let ids: Vec<ContentId> =
            catalogue.names.iter().map(|name| ContentId::new(name)).collect::<Result<_, _>>().ok()?;
        let pair = |window: &Window| Some((ids[window.on as usize].clone(), range(window)?));
        let mut universe = Universe::default();
        for (id, releases) in ids.iter().zip(&catalogue.packages) {
            for generated in releases {
                let version = ReleaseVersion::parse(&generated.number.to_string()).ok()?;
                let mut release = Release::new(version, "plugin");
                release.needs = generated.needs.iter().map(pair).collect::<Option<_>>()?;
                release.refuses = generated.refuses.iter().map(pair).collect::<Option<_>>()?;
                universe.add_release(id, "bench", release);
            }
        }
        let wants = catalogue.roots.iter().map(pair).collect::<Option<_>>()?;
        Some(Self { universe, platform: Platform::default(), wants, locked: Selection::new() })
    }

    pub(crate) fn solve(&self) -> Outcome {
        let question = Question {
            universe: &self.universe,
            platform: &self.platform,
            wants: &self.wants,
            locked: &self.locked,
        };
        match solve(&question) {
            Answer::Lineup(selection) => Outcome::Lineup(selection),
            Answer::None(why) => Outcome::None { sentences: why.because.len(), ways_out: why.ways_out.len() },
        }
    }

    /// Whether a lineup satisfies everything.
    pub(crate) fn is_good(&self, selection: &Selection) -> bool {
        let wanted = self.wants.iter().all(|(id, range)| selection.get(id).is_some_and(|v| range.matches(v)));
        wanted && verify(&self.universe, &self.platform, selection).is_empty()
    }
}
