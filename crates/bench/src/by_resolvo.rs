//! The same catalogues solved with the general-purpose crate `resolvo`.

use std::fmt::{self, Display};

use resolvo::{
    Candidates, Condition, ConditionId, ConditionalRequirement, Dependencies, DependencyProvider,
    HintDependenciesAvailable, Interner, KnownDependencies, NameId, Problem, Requirement, SolvableId, Solver,
    SolverCache, StringId, UnsolvableOrCancelled, VersionSetId, VersionSetUnionId,
    utils::{Pool, VersionSet},
};

use crate::generator::{Catalogue, Window};

/// Releases `lo` to `hi`, or all others.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct Range {
    lo: u32,
    hi: u32,
    others: bool,
}

impl VersionSet for Range {
    type V = u32;
}

impl Display for Range {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}..{}", if self.others { "not " } else { "" }, self.lo, self.hi)
    }
}

impl Range {
    fn of(window: &Window, others: bool) -> Self {
        Self { lo: window.lo, hi: window.hi, others }
    }

    fn contains(&self, number: u32) -> bool {
        (self.lo..=self.hi).contains(&number) != self.others
    }
}

/// A catalogue as that crate's provider of metadata, read as it is asked for.
pub(crate) struct ByResolvo<'a> {
    catalogue: &'a Catalogue,
    pool: Pool<Range, u32>,
}

impl<'a> ByResolvo<'a> {
    fn new(catalogue: &'a Catalogue) -> Self {
        Self { catalogue, pool: Pool::default() }
    }

    fn version_set(&self, window: &Window, others: bool) -> VersionSetId {
        let name = self.pool.intern_package_name(window.on);
        self.pool.intern_version_set(name, Range::of(window, others))
    }

    fn need(&self, window: &Window) -> ConditionalRequirement {
        Requirement::Single(self.version_set(window, false)).into()
    }

    /// Returns the release number of each chosen package, or nothing where there is no lineup.
    pub(crate) fn solve(catalogue: &'a Catalogue) -> Option<Vec<(u32, u32)>> {
        let provider = Self::new(catalogue);
        let wants = catalogue.roots.iter().map(|window| provider.need(window)).collect();
        let mut solver = Solver::new(provider);
        match solver.solve(Problem::new().requirements(wants)) {
            Ok(chosen) => {
                let pool = &solver.provider().pool;
                let numbered = chosen.into_iter().map(|id| {
                    let solvable = pool.resolve_solvable(id);
                    (*pool.resolve_package_name(solvable.name), solvable.record)
                });
                Some(numbered.collect())
            }
            Err(UnsolvableOrCancelled::Unsolvable(_)) => None,
            Err(UnsolvableOrCancelled::Cancelled(_)) => unreachable!("nobody cancels"),
        }
    }
}

impl Interner for ByResolvo<'_> {
    type NameId = NameId;
    type SolvableId = SolvableId;

    fn display_solvable(&self, solvable: SolvableId) -> impl Display + '_ {
        self.pool.resolve_solvable(solvable).record
    }

    fn display_name(&self, name: NameId) -> impl Display + '_ {
        *self.pool.resolve_package_name(name)
    }

    fn display_version_set(&self, version_set: VersionSetId) -> impl Display + '_ {
        self.pool.resolve_version_set(version_set).clone()
    }

    fn display_string(&self, string_id: StringId) -> impl Display + '_ {
        self.pool.resolve_string(string_id).to_owned()
    }

    fn version_set_name(&self, version_set: VersionSetId) -> NameId {
        self.pool.resolve_version_set_package_name(version_set)
    }

    fn solvable_name(&self, solvable: SolvableId) -> NameId {
        self.pool.resolve_solvable(solvable).name
    }

    fn version_sets_in_union(&self, union: VersionSetUnionId) -> impl Iterator<Item = VersionSetId> {
        self.pool.resolve_version_set_union(union)
    }

    fn resolve_condition(&self, condition: ConditionId) -> Condition {
        self.pool.resolve_condition(condition).clone()
    }
}

impl DependencyProvider for ByResolvo<'_> {
    async fn filter_candidates(
        &self,
        candidates: &[SolvableId],
        version_set: VersionSetId,
        inverse: bool,
    ) -> Vec<SolvableId> {
        let range = self.pool.resolve_version_set(version_set);
        let fits = |id: &SolvableId| range.contains(self.pool.resolve_solvable(*id).record) != inverse;
        candidates.iter().copied().filter(fits).collect()
    }

    async fn get_candidates(&self, name: NameId) -> Option<Candidates> {
        let package = *self.pool.resolve_package_name(name);
        let releases = &self.catalogue.packages[package as usize];
        Some(Candidates {
            candidates: releases
                .iter()
                .map(|release| self.pool.intern_solvable(name, release.number))
                .collect(),
            hint_dependencies_available: HintDependenciesAvailable::None,
            ..Candidates::default()
        })
    }

    async fn sort_candidates(&self, _: &SolverCache<Self>, solvables: &mut [SolvableId]) {
        solvables.sort_by_key(|id| std::cmp::Reverse(self.pool.resolve_solvable(*id).record));
    }

    async fn get_dependencies(&self, solvable: SolvableId) -> Dependencies {
        let solvable = self.pool.resolve_solvable(solvable);
        let package = *self.pool.resolve_package_name(solvable.name);
        let release = &self.catalogue.packages[package as usize][solvable.record as usize - 1];
        Dependencies::Known(KnownDependencies {
            requirements: release.needs.iter().map(|window| self.need(window)).collect(),
            constrains: release.refuses.iter().map(|window| self.version_set(window, true)).collect(),
        })
    }
}
