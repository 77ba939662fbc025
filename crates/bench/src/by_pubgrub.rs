//! The same catalogues solved with the general-purpose crate `pubgrub`.
//!
//! It knows needs only. A refusal becomes a need on a "guard" of the refused package: a package of its own with the
//! release numbers of the refused one and 0 for "absent", which every release of the refused one needs in its own number.

use std::{cmp::Reverse, convert::Infallible, fmt};

use pubgrub::{Dependencies, DependencyProvider, PackageResolutionStatistics, PubGrubError, Ranges, resolve};

use crate::generator::{Catalogue, Window};

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Package {
    Root,
    Numbered(u32),
    Guard(u32),
}

impl fmt::Display for Package {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Root => f.write_str("root"),
            Self::Numbered(number) => write!(f, "{number}"),
            Self::Guard(number) => write!(f, "guard of {number}"),
        }
    }
}

/// A catalogue as that crate's provider of metadata, read as it is asked for.
pub(crate) struct ByPubgrub<'a> {
    catalogue: &'a Catalogue,
    /// Which packages anything refuses.
    guarded: Vec<bool>,
}

fn range(window: &Window) -> Ranges<u32> {
    Ranges::from_range_bounds(window.lo..=window.hi)
}

impl<'a> ByPubgrub<'a> {
    pub(crate) fn new(catalogue: &'a Catalogue) -> Self {
        let mut guarded = vec![false; catalogue.packages.len()];
        for refused in catalogue.packages.iter().flatten().flat_map(|release| &release.refuses) {
            guarded[refused.on as usize] = true;
        }
        Self { catalogue, guarded }
    }

    /// Returns the release number of each chosen package, or nothing where there is no lineup.
    pub(crate) fn solve(&self) -> Option<Vec<(u32, u32)>> {
        match resolve(self, Package::Root, 0_u32) {
            Ok(chosen) => {
                let numbered = chosen.into_iter().filter_map(|(package, number)| match package {
                    Package::Numbered(package) => Some((package, number)),
                    _ => None,
                });
                Some(numbered.collect())
            }
            Err(PubGrubError::NoSolution(_)) => None,
            Err(other) => unreachable!("{other}"),
        }
    }

    fn count(&self, package: u32) -> u32 {
        u32::try_from(self.catalogue.packages[package as usize].len()).unwrap_or(u32::MAX)
    }

    fn fitting(&self, package: Package, range: &Ranges<u32>) -> impl Iterator<Item = u32> {
        let (from, to) = match package {
            Package::Root => (0, 0),
            Package::Numbered(package) => (1, self.count(package)),
            Package::Guard(package) => (0, self.count(package)),
        };
        (from..=to).rev().filter(|number| range.contains(number))
    }
}

impl DependencyProvider for ByPubgrub<'_> {
    type P = Package;
    type V = u32;
    type VS = Ranges<u32>;
    type M = String;
    type Err = Infallible;
    type Priority = (u32, Reverse<usize>);

    // The crate's own way to weigh packages.
    fn prioritize(
        &self,
        package: &Package,
        range: &Ranges<u32>,
        statistics: &PackageResolutionStatistics,
    ) -> Self::Priority {
        match self.fitting(*package, range).count() {
            0 => (u32::MAX, Reverse(0)),
            count => (statistics.conflict_count(), Reverse(count)),
        }
    }

    fn choose_version(&self, package: &Package, range: &Ranges<u32>) -> Result<Option<u32>, Infallible> {
        Ok(self.fitting(*package, range).next())
    }

    fn get_dependencies(
        &self,
        package: &Package,
        version: &u32,
    ) -> Result<Dependencies<Package, Ranges<u32>, String>, Infallible> {
        let need = |window: &Window| (Package::Numbered(window.on), range(window));
        Ok(Dependencies::Available(match package {
            Package::Root => self.catalogue.roots.iter().map(need).collect(),
            Package::Guard(_) => [].into_iter().collect(),
            Package::Numbered(number) => {
                let release = &self.catalogue.packages[*number as usize][*version as usize - 1];
                let guard = self.guarded[*number as usize]
                    .then(|| (Package::Guard(*number), Ranges::singleton(*version)));
                let refusals = release
                    .refuses
                    .iter()
                    .map(|window| (Package::Guard(window.on), range(window).complement()));
                release.needs.iter().map(need).chain(guard).chain(refusals).collect()
            }
        }))
    }
}
