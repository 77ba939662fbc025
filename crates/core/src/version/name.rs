//! A version in a name.

use super::ReleaseVersion;

/// Splits what a file without a descriptor is called: `night-lamps-1.2` is night-lamps in version 1.2.
pub fn split_version(stem: &str) -> (&str, Option<ReleaseVersion>) {
    let split = stem.rmatch_indices(['-', '_']).find_map(|(at, _)| {
        let rest = stem[at + 1..].strip_prefix('v').unwrap_or(&stem[at + 1..]);
        let is_version = rest.starts_with(|c: char| c.is_ascii_digit()) && rest.contains('.');
        is_version.then(|| Some((&stem[..at], ReleaseVersion::parse(rest).ok()?))).flatten()
    });
    split.filter(|(name, _)| !name.is_empty()).map_or((stem, None), |(name, version)| (name, Some(version)))
}
