//! The catalogues of one command: opened once, read as far as something is asked of them.

use std::{
    cell::{OnceCell, Ref, RefCell},
    collections::{BTreeMap, BTreeSet, HashMap},
    mem::ManuallyDrop,
    time::Instant,
};

use tracing::debug;
use yalotheca_core::{
    catalogue::{Platform, Release, Universe},
    control::{ControlFile, Given, Locked},
    id::ContentId,
    solve::{Question, Resolution, Selection, solve},
    version::{ReleaseVersion, VersionRange},
};
use yalotheca_host::catalogue::Catalogues;

use crate::{AppError, Server};

/// Which contents may become newer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fresh {
    /// None: what is locked stays where it can.
    None,
    /// These.
    These(BTreeSet<ContentId>),
    /// These are what was given just now, whatever is locked of them.
    Given(BTreeSet<ContentId>),
    /// All.
    All,
}

impl Fresh {
    /// Returns whether a content may become newer.
    pub fn has(&self, id: &ContentId) -> bool {
        match self {
            Self::None => false,
            Self::These(ids) | Self::Given(ids) => ids.contains(id),
            Self::All => true,
        }
    }

    /// Returns whether a content is the one that was given just now and no other.
    pub fn is_given(&self, id: &ContentId) -> bool {
        matches!(self, Self::Given(ids) if ids.contains(id))
    }
}

/// Which installed contents are mended: brought to what is usual and to what satisfies everything. All others stay as they were
/// found, whatever is wrong with them.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Mend {
    /// None.
    #[default]
    None,
    /// These.
    These(BTreeSet<ContentId>),
}

impl Mend {
    /// Returns whether a content is mended.
    pub fn has(&self, id: &ContentId) -> bool {
        match self {
            Self::None => false,
            Self::These(ids) => ids.contains(id),
        }
    }
}

/// The catalogues of a server.
pub struct OpenCatalogues<'a> {
    server: &'a Server,
    wants: &'a ControlFile,
    opened: OnceCell<ManuallyDrop<Catalogues<'a>>>,
    /// Which contents may become newer: of those a catalogue is asked, of all others the lock.
    fresh: RefCell<Fresh>,
    /// What is installed and breaks something already, without what it breaks.
    tolerated: OnceCell<HashMap<ContentId, Release>>,
    /// What is installed and must satisfy everything, as what is new must.
    mend: RefCell<Mend>,
    /// What was read of them so far, and what is locked of that. Both are never taken apart: the program ends with the
    /// command, and the memory of many thousand small things is given back sooner as a whole.
    universe: RefCell<ManuallyDrop<Universe>>,
}

impl<'a> OpenCatalogues<'a> {
    /// Returns the catalogues.
    pub fn get(&self) -> Result<&Catalogues<'a>, AppError> {
        if let Some(opened) = self.opened.get() {
            return Ok(opened);
        }
        let Server { control, game, fetcher, inspector, ahead, .. } = self.server;
        let locked =
            control.lock.by_id().into_iter().map(|(id, locked)| (id.clone(), locked.clone())).collect();
        let opened =
            Catalogues::open(self.wants, (&control.folder, locked), game, fetcher, inspector, ahead)?;
        Ok(self.opened.get_or_init(|| ManuallyDrop::new(opened)))
    }

    /// Returns the wants whose contents they have.
    pub fn wants(&self) -> &'a ControlFile {
        self.wants
    }

    /// From now on these contents may become newer.
    pub fn set_fresh(&self, fresh: &Fresh) {
        self.fresh.replace(fresh.clone());
    }

    /// From now on these installed contents must satisfy everything, as what is new must.
    pub fn mend(&self, mend: &Mend) {
        self.mend.replace(mend.clone());
    }

    /// Returns the release of an installed content that stays as it is.
    pub fn staying<'l>(&'l self, locked: &'l Locked) -> &'l Release {
        if self.mend.borrow().has(&locked.id) {
            return &locked.release;
        }
        let Server { control, survey, .. } = self.server;
        let tolerated =
            self.tolerated.get_or_init(|| control.lock.tolerated(&survey.platform, &self.wants.off));
        tolerated.get(&locked.id).unwrap_or(&locked.release)
    }

    /// Returns how a content was given, where it was given by hand.
    pub fn given(&self, id: &ContentId) -> Option<&Given> {
        self.wants.given.get(id)
    }

    /// Returns what was read so far.
    pub fn universe(&self) -> Ref<'_, Universe> {
        Ref::map(self.universe.borrow(), |universe| &**universe)
    }

    /// Has the edition of an installed content that an update leads to preferred, where it is not the one with the highest version:
    /// of editions without a version none is newer by itself, and what is given by hand is what is asked for.
    ///
    /// # Errors
    /// Where a catalogue cannot be read.
    pub fn prefer_editions(&self, fresh: &Fresh, preferred: &mut Selection) -> Result<(), AppError> {
        let lock = &self.server.control.lock;
        let may_differ = |locked: &&Locked| {
            fresh.has(&locked.id)
                && (locked.release.version.is_unversioned() || self.given(&locked.id).is_some())
                && !self.wants.off.contains_key(&locked.id)
        };
        for locked in lock.on().filter(may_differ) {
            let newest = match self.newest(&locked.id, &locked.release.version) {
                // What is in a catalogue that cannot be reached stays as it is.
                Err(_) if !self.get()?.unreachable().is_empty() => continue,
                newest => newest?,
            };
            if let Some(version) = newest {
                preferred.insert(locked.id.clone(), version);
            }
        }
        Ok(())
    }

    /// Returns the version that comes after the one that is here, everything else apart. Without versions, it is the edition that
    /// the catalogue has, where that has other bytes; of what was given by hand, what is there now.
    ///
    /// # Errors
    /// Where a catalogue cannot be read.
    pub fn newest(&self, id: &ContentId, here: &ReleaseVersion) -> Result<Option<ReleaseVersion>, AppError> {
        let Some(content) = self.get()?.content(id)? else { return Ok(None) };
        let is_given = self.given(id).is_some();
        let releases = content.releases.into_iter().filter(|release| !release.withdrawn);
        let versions = releases.map(|release| release.version);
        let after = versions.filter(|version| {
            version.follows(here) && !version.is_prerelease() || is_given && version != here
        });
        Ok(after.max())
    }

    /// Solves, reading those contents that turn out to matter and no others.
    pub fn solve(
        &self,
        platform: &Platform,
        wants: &BTreeMap<ContentId, VersionRange>,
        locked: &Selection,
    ) -> Result<Resolution, AppError> {
        let wanted: Vec<ContentId> = wants.keys().cloned().collect();
        // Mostly the newest release that may be chosen is.
        let may = |id: &ContentId, release: &Release| {
            !release.withdrawn
                && wants.get(id).is_none_or(|range| range.matches(&release.version))
                && locked.get(id).is_none_or(|version| release.version == *version)
                && platform.miss(release).is_none()
        };
        self.read(&wanted, may)?;
        if let Some(id) = wants.keys().find(|id| self.universe().get(id).is_none()) {
            return Err(self.unknown(id)?);
        }
        loop {
            let universe = self.universe();
            let question = Question { universe: &universe, platform, wants, locked };
            let started = Instant::now();
            let answer = solve(&question);
            debug!("solved for {} wants in {} ms", wants.len(), started.elapsed().as_millis());
            match answer {
                Resolution::Unread(ids) => {
                    drop(universe);
                    self.read(&ids, may)?;
                }
                Resolution::Defect { breaches, .. } => {
                    let breaches = breaches.iter().map(ToString::to_string).collect();
                    return Err(AppError::Solver { breaches, question: Box::new(question.to_json()) });
                }
                answer => return Ok(answer),
            }
        }
    }

    /// Returns the error for a content that no catalogue has.
    ///
    /// # Errors
    /// Where a catalogue cannot be read.
    pub fn unknown(&self, id: &ContentId) -> Result<AppError, AppError> {
        let near = self.get()?.listings().into_iter().map(|listing| listing.id.to_string()).collect();
        let has_catalogues = !self.server.control.wants.catalogues.is_empty();
        Ok(AppError::UnknownContent { id: id.clone(), near, has_catalogues })
    }

    /// Reads contents. What is locked of them is added, so that it can stay even where its catalogue has forgotten it.
    fn read(&self, ids: &[ContentId], may: impl Fn(&ContentId, &Release) -> bool) -> Result<(), AppError> {
        let mut universe = self.universe.borrow_mut();
        let unread: Vec<ContentId> = ids.iter().filter(|id| universe.is_unread(id)).cloned().collect();
        if unread.is_empty() {
            return Ok(());
        }
        let read = self.get()?.read(&unread, &mut universe, may)?;
        let lock = self.server.control.lock.by_id();
        for locked in read.iter().filter_map(|id| lock.get(id)) {
            let fresh = self.fresh.borrow();
            if fresh.is_given(&locked.id) {
                continue;
            }
            // What was wrong with it before keeps nothing else from being updated. Of its version a catalogue may have other files by now.
            let there = universe.release(&locked.id, &locked.release.version);
            let is_other = there.is_some_and(|there| there.is_other_edition(&locked.release));
            if !(fresh.has(&locked.id) && is_other) {
                universe.put_release(&locked.id, &locked.catalogue, self.staying(locked).clone());
            }
        }
        Ok(())
    }
}

impl Server {
    /// The catalogues, opened when they are first needed.
    pub fn catalogues(&self) -> OpenCatalogues<'_> {
        self.catalogues_for(&self.control.wants)
    }

    /// The catalogues for other wants than the noted ones: what is given by hand is in them.
    pub fn catalogues_for<'a>(&'a self, wants: &'a ControlFile) -> OpenCatalogues<'a> {
        let mut universe = Universe::open();
        // What is switched off is as if it were not there.
        wants.off.keys().for_each(|id| universe.close(id));
        for locked in self.control.lock.contents.iter().filter(|locked| !wants.off.contains_key(&locked.id)) {
            for provided in locked.release.provides.keys() {
                universe.note_provider(provided, &locked.id);
            }
        }
        OpenCatalogues {
            server: self,
            wants,
            opened: OnceCell::new(),
            fresh: RefCell::new(Fresh::None),
            tolerated: OnceCell::new(),
            mend: RefCell::new(Mend::None),
            universe: RefCell::new(ManuallyDrop::new(universe)),
        }
    }
}
