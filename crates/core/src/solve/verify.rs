//! Whether a lineup satisfies everything: written apart from the search, so that each can catch the other's mistakes.

use std::{collections::BTreeMap, fmt};

use super::Selection;
use crate::{
    catalogue::{Platform, PlatformMiss, Universe, provided_matches},
    id::ContentId,
    version::{ReleaseVersion, VersionRange},
};

/// One thing that a lineup breaks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Breach {
    /// A content in the lineup has no such release.
    Unknown {
        /// The content.
        id: ContentId,
    },
    /// A want that is not met.
    Want {
        /// What was asked for.
        id: ContentId,
        /// In which versions.
        range: VersionRange,
        /// What is there instead, if anything.
        has: Option<ReleaseVersion>,
    },
    /// A need that nothing meets.
    Need {
        /// Who needs it.
        id: ContentId,
        /// Its version.
        version: ReleaseVersion,
        /// What is needed: any one of these.
        group: Vec<(ContentId, VersionRange)>,
        /// What is there instead, if anything.
        has: Option<ReleaseVersion>,
    },
    /// A companion is there in a version that does not go with it.
    Welcome {
        /// Who welcomes it.
        id: ContentId,
        /// The companion.
        other: ContentId,
        /// The range that would go.
        range: VersionRange,
        /// The version that is there.
        has: ReleaseVersion,
    },
    /// Two that do not go together.
    Refuse {
        /// Who refuses.
        id: ContentId,
        /// Who is refused.
        other: ContentId,
    },
    /// One that does not run on this server.
    Platform {
        /// The content.
        id: ContentId,
        /// Its version.
        version: ReleaseVersion,
        /// What does not fit.
        miss: PlatformMiss,
    },
}

impl fmt::Display for Breach {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Unknown { id } => write!(f, "nothing is known of the release of {id} that is locked"),
            Self::Want { id, range, has } => {
                let there = match has {
                    Some(version) => format!("{version} was chosen"),
                    None => "it was left out".into(),
                };
                write!(f, "yalotheca.toml asks for {}, and {there}", with_range(id, range))
            }
            Self::Need { id, version, group, has } => {
                let wanted: Vec<String> = group.iter().map(|(id, range)| with_range(id, range)).collect();
                let there = match has {
                    Some(version) => format!("{version} is there"),
                    None => "it is not there".into(),
                };
                write!(f, "{} needs {}, and {there}", version.named(id), wanted.join(" or "))
            }
            Self::Welcome { id, other, range, has } => {
                write!(f, "{id} goes with {}, and {has} is there", with_range(other, range))
            }
            Self::Refuse { id, other } => write!(f, "{id} does not go together with {other}"),
            Self::Platform { id, version, miss } => {
                write!(
                    f,
                    "{} needs {} {}, and {}",
                    version.named(id),
                    miss.part,
                    miss.range.in_words(),
                    miss.what_is_there()
                )
            }
        }
    }
}

/// Returns `name` or `name 2.1 or newer`.
pub(super) fn with_range(id: &ContentId, range: &VersionRange) -> String {
    if range.is_any() { id.to_string() } else { format!("{id} {}", range.in_words()) }
}

/// Returns whether the base game provides what is needed.
pub(super) fn platform_provides(platform: &Platform, id: &ContentId, range: &VersionRange) -> bool {
    platform.provides.get(id).is_some_and(|version| provided_matches(version.as_ref(), range))
}

/// Returns whether a release of `other` meets one of a group of needs.
pub(super) fn meets_any(
    universe: &Universe,
    other: &ContentId,
    version: &ReleaseVersion,
    group: &[(&ContentId, &VersionRange)],
) -> bool {
    universe
        .release(other, version)
        .is_some_and(|release| group.iter().any(|(id, range)| release.meets(other, id, range)))
}

/// Returns everything that a selection breaks; nothing for a good one.
pub fn verify(universe: &Universe, platform: &Platform, selection: &Selection) -> Vec<Breach> {
    let mut breaches = Vec::new();
    let standing = standing(universe, selection);
    let bearers = |group: &[(&ContentId, &VersionRange)]| -> Vec<(&ContentId, &ReleaseVersion)> {
        let named = group.iter().filter_map(|(id, _)| standing.get(*id)).flatten();
        named.filter_map(|id| selection.get_key_value(*id)).collect()
    };
    for (id, version) in selection {
        let Some(release) = universe.release(id, version) else {
            breaches.push(Breach::Unknown { id: id.clone() });
            continue;
        };
        if let Some(miss) = platform.miss(release) {
            breaches.push(Breach::Platform { id: id.clone(), version: version.clone(), miss });
        }
        let groups = release.needs.iter().map(|pair| vec![pair]);
        for group in groups.chain(release.needs_any.iter().map(|group| group.iter().collect())) {
            let met = group.iter().any(|(need, range)| platform_provides(platform, need, range))
                || bearers(&group)
                    .into_iter()
                    .any(|(other, version)| meets_any(universe, other, version, &group));
            if !met {
                let has = group.iter().find_map(|(need, _)| selection.get(*need)).cloned();
                let group = group.into_iter().map(|(need, range)| (need.clone(), range.clone())).collect();
                breaches.push(Breach::Need { id: id.clone(), version: version.clone(), group, has });
            }
        }
        for (other, range) in &release.welcomes {
            if let Some(has) =
                selection.get(other).filter(|has| *other != *id && !provided_matches(Some(has), range))
            {
                let (id, other, range, has) = (id.clone(), other.clone(), range.clone(), has.clone());
                breaches.push(Breach::Welcome { id, other, range, has });
            }
        }
        for (refused, range) in &release.refuses {
            if platform_provides(platform, refused, range) {
                breaches.push(Breach::Refuse { id: id.clone(), other: refused.clone() });
            }
            for (other, version) in bearers(&[(refused, range)]) {
                if other != id && meets_any(universe, other, version, &[(refused, range)]) {
                    breaches.push(Breach::Refuse { id: id.clone(), other: other.clone() });
                }
            }
        }
    }
    breaches
}

/// Returns who in a selection goes by each name.
fn standing<'a>(
    universe: &'a Universe,
    selection: &'a Selection,
) -> BTreeMap<&'a ContentId, Vec<&'a ContentId>> {
    let mut standing: BTreeMap<&ContentId, Vec<&ContentId>> = BTreeMap::new();
    for (id, version) in selection {
        standing.entry(id).or_default().push(id);
        let release = universe.release(id, version);
        for provided in release.into_iter().flat_map(|release| release.provides.keys()) {
            if provided != id {
                standing.entry(provided).or_default().push(id);
            }
        }
    }
    standing
}
