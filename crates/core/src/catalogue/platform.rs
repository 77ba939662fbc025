//! What the server brings: its game and loader versions, its runtime, and the contents of the base game.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use super::{PlatformSet, Release};
use crate::{
    id::ContentId,
    version::{ReleaseVersion, VersionRange},
};

/// What the server brings.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Platform {
    /// Version by part: the game's engine, a loader, the runtime.
    pub parts: BTreeMap<String, ReleaseVersion>,
    /// The contents that the base game provides, with their version where one is known.
    pub provides: BTreeMap<ContentId, Option<ReleaseVersion>>,
    /// Parts that are there but whose version is not known now: nothing is missing for want of it.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub unknown: BTreeSet<String>,
}

/// Why a release does not run on a platform.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct PlatformMiss {
    /// The part of the platform.
    pub part: String,
    /// What the release asks of it.
    pub range: VersionRange,
    /// What the server has, if it has that part at all.
    pub has: Option<ReleaseVersion>,
}

impl PlatformMiss {
    /// Returns the second half of a sentence: `this server runs 2.4`.
    pub fn what_is_there(&self) -> String {
        match &self.has {
            Some(version) => format!("this server has {} {version}", self.part),
            None => format!("this server has no {}", self.part),
        }
    }
}

impl Platform {
    /// Returns nothing where the release runs here, else the first reason why not, of the set that comes nearest.
    pub fn miss(&self, release: &Release) -> Option<PlatformMiss> {
        self.misses(release).into_iter().next()
    }

    /// Returns every reason why a release does not run here, of the set that comes nearest; none where it does.
    pub fn misses(&self, release: &Release) -> Vec<PlatformMiss> {
        let mut nearest: Option<Vec<PlatformMiss>> = None;
        for set in &release.platforms {
            let misses = self.misses_of(set);
            if misses.is_empty() {
                return misses;
            }
            if nearest.as_ref().is_none_or(|best| misses.len() < best.len()) {
                nearest = Some(misses);
            }
        }
        nearest.unwrap_or_default()
    }

    fn misses_of(&self, set: &PlatformSet) -> Vec<PlatformMiss> {
        set.iter()
            .filter_map(|(part, range)| {
                let has = self.parts.get(part);
                let fits = has.is_some_and(|version| range.matches(version));
                (!fits && !self.unknown.contains(part)).then(|| PlatformMiss {
                    part: part.clone(),
                    range: range.clone(),
                    has: has.cloned(),
                })
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn release(sets: &[&[(&str, &str)]]) -> Release {
        let mut release = Release::new(ReleaseVersion::parse("1").unwrap(), "plugin");
        release.platforms = sets
            .iter()
            .map(|set| set.iter().map(|(k, v)| ((*k).into(), VersionRange::parse(v).unwrap())).collect())
            .collect();
        release
    }

    #[test]
    fn any_one_set_will_do_and_the_nearest_miss_is_told() {
        let mut platform = Platform::default();
        platform.parts.insert("engine".into(), ReleaseVersion::parse("2.4").unwrap());
        let mut asked_later = platform.clone();
        asked_later.unknown.insert("pontoon".into());
        assert_eq!(asked_later.miss(&release(&[&[("pontoon", ">=3"), ("engine", "2.*")]])), None);
        assert!(asked_later.miss(&release(&[&[("pontoon", ">=3"), ("engine", ">=3")]])).is_some());
        assert_eq!(platform.miss(&release(&[])), None);
        assert_eq!(platform.miss(&release(&[&[("engine", ">=3")], &[("engine", "2.*")]])), None);
        let miss = platform
            .miss(&release(&[&[("engine", ">=3"), ("pontoon", "*")], &[("pontoon", ">=3")]]))
            .unwrap();
        assert_eq!((miss.part.as_str(), miss.has.clone()), ("pontoon", None));
        assert_eq!(miss.what_is_there(), "this server has no pontoon");
    }
}
