//! A pack of somebody else's: contents in one archive or folder, and beside them a folder `overrides` with files for the server's
//! configuration.

use yalotheca_core::{
    catalogue::{Recognised, Release, Side},
    game::{DescribeError, PACK_KIND},
    id::{ContentId, Digest},
    version::{ReleaseVersion, VersionRange, split_version},
};

use super::{ArrivalError, Arrived, Locate, Looking};
use crate::{container::bare_name, survey};

/// The folder whose files go where they lie below it.
const OVERRIDES: &str = "overrides";

impl Looking<'_> {
    /// Takes the files below `overrides` for the server's configuration; those of worlds and saves are left out.
    pub(super) fn take_overrides(&mut self, place: Locate<'_>) -> Result<(), ArrivalError> {
        let failed = |why: String| ArrivalError::Describe {
            path: OVERRIDES.into(),
            source: DescribeError { file: OVERRIDES.into(), why },
        };
        let scope = survey::default_scope(self.game);
        let protected = survey::protected(self.game, &scope).map_err(|error| failed(error.to_string()))?;
        for path in std::mem::take(&mut self.arrival.unrouted) {
            let Some(own) = below_overrides(&path) else {
                self.arrival.unrouted.push(path);
                continue;
            };
            let once = self.once((&path, own), &protected, place);
            self.overrides.extend(once.map_err(|error| failed(error.to_string()))?);
        }
        Ok(())
    }

    /// Makes one pack of the contents that came, if files for the configuration came with them or that was asked for.
    pub(super) fn as_one_pack(&mut self, name: &str) {
        let is_one = !self.overrides.is_empty() || self.is_asked_as_pack;
        let has_own = self.arrival.contents.iter().any(|one| one.content.release.kind == PACK_KIND);
        if !is_one || has_own || self.arrival.is_setup || self.arrival.contents.is_empty() {
            return;
        }
        let (stem, version) = split_version(bare_name(name));
        let members = std::mem::take(&mut self.arrival.contents);
        let mut once = std::mem::take(&mut self.overrides);
        once.sort_by(|a, b| a.to.cmp(&b.to));
        // Without a version of its own, it is known by all that is in it.
        let members_told = members.iter().map(|one| format!("{} {}\n", one.content.id, one.payload.digest()));
        let told: String =
            members_told.chain(once.iter().map(|one| format!("{} {}\n", one.to, one.digest))).collect();
        let version = version.unwrap_or_else(|| ReleaseVersion::edition(&Digest::of(told.as_bytes())));
        let mut release = Release::new(version, PACK_KIND);
        for member in members.iter().filter(|member| member.content.release.side != Side::Player) {
            let version = &member.content.release.version;
            let range =
                if version.is_unversioned() { VersionRange::any() } else { VersionRange::exactly(version) };
            release.needs.insert(member.content.id.clone(), range);
        }
        let mut pack = Arrived {
            content: Recognised { id: pack_id(stem), title: stem.to_owned(), about: String::new(), release },
            inside: String::new(),
            payload: std::sync::Arc::default(),
            sources: std::sync::Arc::default(),
            bundled: members,
            once,
        };
        pack.content.release.payload = Some(pack.payload.digest());
        self.arrival.contents.push(pack);
    }
}

/// Returns the path that something below `overrides` has there, at the top of what came or in the one folder around all.
fn below_overrides(path: &str) -> Option<&str> {
    let own = |path: &'_ str| -> Option<usize> {
        let rest = path.strip_prefix(OVERRIDES)?.strip_prefix('/')?;
        Some(path.len() - rest.len())
    };
    if let Some(at) = own(path) {
        return Some(&path[at..]);
    }
    let (_, rest) = path.split_once('/')?;
    own(rest).map(|at| &rest[at..])
}

/// Returns what a pack is called by its file's name.
fn pack_id(stem: &str) -> ContentId {
    let text: String = stem
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() || "-_.+".contains(c) { c.to_ascii_lowercase() } else { '-' })
        .collect();
    let text = text.trim_matches(|c: char| !c.is_ascii_alphanumeric());
    ContentId::new(text).or_else(|_| ContentId::new("pack")).unwrap_or_else(|_| unreachable!("a good id"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_lies_below_overrides_goes_where_it_lies_there() {
        let table = [
            ("overrides/minetest.conf", Some("minetest.conf")),
            ("Harbour 2/overrides/world/x.conf", Some("world/x.conf")),
            ("a/b/overrides/x", None),
            ("overrides", None),
            ("my-overrides/x", None),
        ];
        for (path, own) in table {
            assert_eq!(below_overrides(path), own, "{path}");
        }
        assert_eq!(pack_id("Harbour Pack (final)").as_str(), "harbour-pack--final");
        assert_eq!(pack_id("…").as_str(), "pack");
    }
}
