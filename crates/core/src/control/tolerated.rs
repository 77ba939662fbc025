//! What an installed selection breaks already. A server that others set up may run for years with a need that is not met:
//! that is for `check` to tell and for `fix` to mend, and no other command changes it along the way.

use std::collections::{BTreeMap, HashMap};

use super::{LockFile, Locked};
use crate::{
    catalogue::{Platform, Release},
    id::ContentId,
    solve::{Breach, verify},
};

impl LockFile {
    /// Returns those installed releases that break something on this platform, without what they break: for a search that is not
    /// to mend it.
    /// Packs of which members are off are without these as well.
    pub fn tolerated(
        &self,
        platform: &Platform,
        off: &BTreeMap<ContentId, String>,
    ) -> HashMap<ContentId, Release> {
        let loaded = self.loaded(off);
        let locked = loaded.by_id();
        let installed = self.by_id();
        let differs =
            |one: &&Locked| installed.get(&one.id).is_some_and(|known| known.release != one.release);
        let mut tolerated: HashMap<ContentId, Release> =
            loaded.contents.iter().filter(differs).map(|one| (one.id.clone(), one.release.clone())).collect();
        for breach in verify(&loaded.universe(), platform, &loaded.selection()) {
            let (Breach::Need { id, .. }
            | Breach::Welcome { id, .. }
            | Breach::Refuse { id, .. }
            | Breach::Platform { id, .. }) = &breach
            else {
                continue;
            };
            let Some(known) = locked.get(id) else { continue };
            let release = tolerated.entry(id.clone()).or_insert_with(|| known.release.clone());
            match &breach {
                Breach::Need { group, .. } => {
                    if let [(need, _)] = group.as_slice() {
                        release.needs.remove(need);
                    }
                    let is_unmet = |one: &[ContentId]| {
                        one.len() == group.len() && group.iter().all(|(need, _)| one.contains(need))
                    };
                    release.needs_any.retain(|any| {
                        let needs: Vec<ContentId> = any.iter().map(|(need, _)| need.clone()).collect();
                        !is_unmet(&needs)
                    });
                }
                Breach::Welcome { other, .. } => drop(release.welcomes.remove(other)),
                Breach::Refuse { other, .. } => {
                    let names = locked.get(other).map(|other| &other.release.provides);
                    let is_other = |name: &ContentId| {
                        name == other || names.is_some_and(|names| names.contains_key(name))
                    };
                    let refused: Vec<ContentId> =
                        release.refuses.keys().filter(|name| is_other(name)).cloned().collect();
                    for name in &refused {
                        release.refuses.remove(name);
                    }
                }
                Breach::Platform { .. } => release.platforms.clear(),
                Breach::Unknown { .. } | Breach::Want { .. } => {}
            }
        }
        tolerated
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        control::AsFound,
        solve::{Question, Resolution, solve},
        version::{ReleaseVersion, VersionRange},
    };

    fn id(text: &str) -> ContentId {
        ContentId::new(text).unwrap()
    }

    fn locked(name: &str, say: impl FnOnce(&mut Release)) -> Locked {
        let mut release = Release::new(ReleaseVersion::parse("1").unwrap(), "plugin");
        say(&mut release);
        Locked {
            id: id(name),
            title: name.into(),
            catalogue: String::new(),
            off: false,
            release,
            given: None,
            found: AsFound::default(),
        }
    }

    #[test]
    fn what_an_installed_selection_breaks_is_left_alone_and_nothing_else() {
        let any = VersionRange::any;
        let engine = |range: &str| [("engine".to_owned(), VersionRange::parse(range).unwrap())].into();
        let contents = vec![
            locked("a", |release| {
                release.needs.insert(id("gone"), any());
                release.needs.insert(id("b"), any());
                release.refuses.insert(id("bells"), any());
                release.refuses.insert(id("other"), any());
            }),
            locked("b", |release| {
                release.provides.insert(id("bells"), None.into());
                release.welcomes.insert(id("a"), VersionRange::parse(">=2").unwrap());
                release.platforms.push(engine(">=3"));
            }),
            Locked { off: true, ..locked("gone", |_| ()) },
            locked("c", |release| drop(release.needs.insert(id("b"), any()))),
        ];
        let lock = LockFile { contents, ..LockFile::default() };
        let mut platform = Platform::default();
        platform.parts.insert("engine".into(), ReleaseVersion::parse("2").unwrap());
        let tolerated = lock.tolerated(&platform, &BTreeMap::new());
        let mut names: Vec<&str> = tolerated.keys().map(ContentId::as_str).collect();
        names.sort_unstable();
        assert_eq!(names, ["a", "b"]);
        let (a, b) = (&tolerated[&id("a")], &tolerated[&id("b")]);
        assert_eq!(a.needs.keys().collect::<Vec<_>>(), [&id("b")]);
        assert_eq!(a.refuses.keys().collect::<Vec<_>>(), [&id("other")]);
        assert!(b.welcomes.is_empty() && b.platforms.is_empty());
        // With that the selection stays as it is.
        let mut universe = lock.universe();
        for (id, release) in &tolerated {
            universe.put_release(id, "", release.clone());
        }
        let wants: BTreeMap<_, _> = ["a", "b", "c"].into_iter().map(|name| (id(name), any())).collect();
        let selection = lock.selection();
        let question =
            Question { universe: &universe, platform: &platform, wants: &wants, locked: &selection };
        assert!(matches!(solve(&question), Resolution::Lineup(lineup) if lineup == selection));
    }
}
