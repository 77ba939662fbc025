//! Whether a lineup satisfies everything: written apart from the search, so that each can catch the other's mistakes.

use std::{collections::HashMap, fmt};

use super::Selection;
use crate::{
    catalogue::{Platform, PlatformMiss, Release, Universe, provided_matches},
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
                    Some(version) => format!("and {version} is installed"),
                    None => "which is not installed".into(),
                };
                write!(f, "{} needs {}, {there}", version.named(id), wanted.join(" or "))
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

/// A selection looked up: every lineup is verified before it is used, so this is quick.
pub(super) struct Chosen<'a> {
    /// The chosen release of each content.
    pub(super) releases: HashMap<&'a ContentId, &'a Release>,
    /// The contents that provide each name other than their own.
    stand_ins: HashMap<&'a ContentId, Vec<&'a ContentId>>,
}

impl<'a> Chosen<'a> {
    pub(super) fn new(universe: &'a Universe, selection: &'a Selection) -> Self {
        let mut releases = HashMap::with_capacity(selection.len());
        let mut stand_ins: HashMap<&ContentId, Vec<&ContentId>> = HashMap::new();
        for (id, version) in selection {
            let Some(release) = universe.release(id, version) else { continue };
            releases.insert(id, release);
            for provided in release.provides.keys().filter(|provided| *provided != id) {
                stand_ins.entry(provided).or_default().push(id);
            }
        }
        Self { releases, stand_ins }
    }

    /// Returns who goes by a name and meets a range.
    pub(super) fn meeting<'s>(
        &'s self,
        named: &'s ContentId,
        range: &'s VersionRange,
    ) -> impl Iterator<Item = &'a ContentId> + use<'s, 'a> {
        let own = self.releases.get_key_value(named).map(|(id, _)| *id);
        let others = self.stand_ins.get(named).into_iter().flatten().copied();
        own.into_iter()
            .chain(others)
            .filter(move |id| self.releases.get(id).is_some_and(|release| release.meets(id, named, range)))
    }
}

/// Returns everything that a selection breaks; nothing for a good one.
pub fn verify(universe: &Universe, platform: &Platform, selection: &Selection) -> Vec<Breach> {
    let chosen = Chosen::new(universe, selection);
    let mut breaches = Vec::new();
    for (id, version) in selection {
        let Some(release) = chosen.releases.get(id) else {
            breaches.push(Breach::Unknown { id: id.clone() });
            continue;
        };
        if let Some(miss) = platform.miss(release) {
            breaches.push(Breach::Platform { id: id.clone(), version: version.clone(), miss });
        }
        let is_met = |need: &ContentId, range: &VersionRange| {
            platform_provides(platform, need, range) || chosen.meeting(need, range).next().is_some()
        };
        let mut unmet = |group: Vec<(ContentId, VersionRange)>| {
            let has = group.iter().find_map(|(need, _)| selection.get(need)).cloned();
            breaches.push(Breach::Need { id: id.clone(), version: version.clone(), group, has });
        };
        for (need, range) in &release.needs {
            if !is_met(need, range) {
                unmet(vec![(need.clone(), range.clone())]);
            }
        }
        for group in &release.needs_any {
            if !group.iter().any(|(need, range)| is_met(need, range)) {
                unmet(group.iter().map(|(need, range)| (need.clone(), range.clone())).collect());
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
            for other in chosen.meeting(refused, range).filter(|other| *other != id) {
                breaches.push(Breach::Refuse { id: id.clone(), other: other.clone() });
            }
        }
    }
    breaches
}
