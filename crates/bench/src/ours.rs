//! Our solver on a generated catalogue.

use std::collections::BTreeMap;

use yalotheca_core::{
    catalogue::{Content, Platform, Release, Universe},
    id::ContentId,
    solve::{Explanation, Question, Resolution, Selection, solve, verify},
    version::{ReleaseVersion, VersionRange},
};

use crate::generator::{self, Catalogue, Window};

/// A catalogue as our metadata.
pub(crate) struct Ours {
    universe: Universe,
    platform: Platform,
    wants: BTreeMap<ContentId, VersionRange>,
    locked: Selection,
}

/// What came of a solve.
pub(crate) enum Outcome {
    /// A lineup.
    Lineup(Selection),
    /// None, and why.
    None(Explanation),
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
            let release = |generated: &generator::Release| {
                let version = ReleaseVersion::parse(&generated.number.to_string()).ok()?;
                let mut release = Release::new(version, "plugin");
                release.needs = generated.needs.iter().map(pair).collect::<Option<_>>()?;
                release.refuses = generated.refuses.iter().map(pair).collect::<Option<_>>()?;
                Some(release)
            };
            universe.add(Content {
                id: id.clone(),
                title: id.to_string(),
                about: String::new(),
                catalogue: "bench".into(),
                releases: releases.iter().map(release).collect::<Option<_>>()?,
            });
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
            Resolution::Lineup(selection) => Outcome::Lineup(selection),
            Resolution::None(why) => Outcome::None(why),
            Resolution::Unread(_) => unreachable!("everything was added"),
            Resolution::Defect { breaches, .. } => panic!("the lineup breaks {breaches:?}"),
        }
    }

    /// Names what another solver chose by number.
    pub(crate) fn selection(catalogue: &Catalogue, chosen: &[(u32, u32)]) -> Selection {
        let named = chosen.iter().filter_map(|(package, number)| {
            let id = ContentId::new(&catalogue.names[*package as usize]).ok()?;
            Some((id, ReleaseVersion::parse(&number.to_string()).ok()?))
        });
        named.collect()
    }

    /// Whether a lineup satisfies everything.
    pub(crate) fn is_good(&self, selection: &Selection) -> bool {
        let wanted = self.wants.iter().all(|(id, range)| selection.get(id).is_some_and(|v| range.matches(v)));
        wanted && verify(&self.universe, &self.platform, selection).is_empty()
    }
}
