//! All contents that a solve may look at.
//!
//! A universe may be open: then a name that was not added is not nobody's but has not been read yet, and a solve that
//! comes to it asks for it.

use std::collections::{BTreeMap, HashMap};

use foldhash::fast::RandomState;

use super::{
    Content, Release,
    gathered::gather,
    line::Number,
    rows::{Gathered, Gatherings, wait_for},
};
use crate::{id::ContentId, version::ReleaseVersion};

/// All contents that a solve may look at. Each id stands here once: the first catalogue that has it decides.
#[derive(Debug, Clone, Default)]
pub struct Universe {
    numbers: HashMap<ContentId, Number, RandomState>,
    /// By number: contents, and names that contents give to others.
    entries: Vec<Entry>,
    /// By number: what is said. It stands apart, since it is all that most of a solve looks at.
    gathered: Gatherings,
    /// The most releases that any content has.
    widest: usize,
    has_providers: bool,
    is_open: bool,
}

#[derive(Debug, Clone)]
struct Entry {
    id: ContentId,
    content: Option<Box<Content>>,
    /// Whose releases stand in for it, by id.
    providers: Vec<Number>,
    /// Whether everything is known that the catalogues say of it.
    is_read: bool,
}

impl Universe {
    /// Returns an empty universe in which names that were not added have not been read yet.
    pub fn open() -> Self {
        Self { is_open: true, ..Self::default() }
    }

    /// Notes that nobody has a content, or not more of it than was added.
    pub fn close(&mut self, id: &ContentId) {
        let number = self.number_or_new(id);
        self.entries[number as usize].is_read = true;
    }

    /// Notes that some release of one content stands in for another, before that content is added.
    pub fn note_provider(&mut self, name: &ContentId, provider: &ContentId) {
        let (name, provider) = (self.number_or_new(name), self.number_or_new(provider));
        if name == provider || self.entries[name as usize].providers.contains(&provider) {
            return;
        }
        let mut providers = std::mem::take(&mut self.entries[name as usize].providers);
        providers.push(provider);
        providers.sort_by(|a, b| self.id(*a).cmp(self.id(*b)));
        self.entries[name as usize].providers = providers;
        self.has_providers = true;
    }

    /// Returns whether a name has still to be read.
    pub fn is_unread(&self, id: &ContentId) -> bool {
        match self.number(id) {
            Some(number) => self.is_unread_number(number),
            None => self.is_open,
        }
    }

    /// Adds a content, unless its id is there already. Releases are sorted, newest first.
    pub fn add(&mut self, mut content: Content) {
        if content.releases.is_sorted_by(|a, b| a.version < b.version) {
            content.releases.reverse();
        } else {
            content.releases.sort_by(|a, b| b.version.cmp(&a.version));
        }
        let number = self.number_or_new(&content.id);
        self.entries[number as usize].is_read = true;
        if self.entries[number as usize].content.is_none() {
            self.put(number, content);
        }
    }

    /// Adds one release to a content, making the content where it is new; a version that is there stays.
    pub fn add_release(&mut self, id: &ContentId, catalogue: &str, release: Release) {
        let number = self.number_or_new(id);
        let mut content = match self.entries[number as usize].content.take() {
            Some(content) => *content,
            None => Content {
                id: id.clone(),
                title: id.to_string(),
                about: String::new(),
                catalogue: catalogue.into(),
                releases: Vec::new(),
            },
        };
        if content.release(&release.version).is_none() {
            let at = content.releases.partition_point(|other| other.version > release.version);
            content.releases.insert(at, release);
        }
        self.put(number, content);
    }

    /// Adds a release, in place of one of the same version: what is locked counts, even where a catalogue says something else
    /// of that version by now.
    pub fn put_release(&mut self, id: &ContentId, catalogue: &str, release: Release) {
        let number = self.number_or_new(id);
        if let Some(content) = &mut self.entries[number as usize].content
            && let Some(there) = content.releases.iter_mut().find(|other| other.version == release.version)
        {
            if *there == release {
                return;
            }
            *there = release.clone();
        }
        self.add_release(id, catalogue, release);
    }

    fn put(&mut self, number: Number, content: Content) {
        self.widest = self.widest.max(content.releases.len());
        for provided in content.releases.iter().flat_map(|release| release.provides.keys()) {
            self.note_provider(provided, &content.id);
        }
        let parts = gather(&content, |id| self.number_or_new(id));
        self.gathered.put(number, parts);
        self.entries[number as usize].content = Some(Box::new(content));
    }

    fn number_or_new(&mut self, id: &ContentId) -> Number {
        if let Some(number) = self.numbers.get(id) {
            return *number;
        }
        let number = Number::try_from(self.entries.len()).unwrap_or(Number::MAX);
        self.numbers.insert(id.clone(), number);
        self.entries.push(Entry { id: id.clone(), content: None, providers: Vec::new(), is_read: false });
        number
    }

    /// Returns the contents of which some release stands in for another content.
    pub fn providers(&self, id: &ContentId) -> impl Iterator<Item = &ContentId> {
        let providers = self.number(id).map_or(&[][..], |number| self.providers_of(number));
        providers.iter().map(|number| self.id(*number))
    }

    /// Returns a content by its id.
    pub fn get(&self, id: &ContentId) -> Option<&Content> {
        self.content(self.number(id)?)
    }

    /// Returns all contents, by id.
    pub fn iter(&self) -> impl Iterator<Item = &Content> {
        let mut all: Vec<&Content> =
            self.entries.iter().filter_map(|entry| entry.content.as_deref()).collect();
        all.sort_by(|a, b| a.id.cmp(&b.id));
        all.into_iter()
    }

    /// Returns one release.
    pub fn release(&self, id: &ContentId, version: &ReleaseVersion) -> Option<&Release> {
        self.get(id)?.release(version)
    }

    /// Returns the number of an id, if anybody named it.
    pub(crate) fn number(&self, id: &ContentId) -> Option<Number> {
        self.numbers.get(id).copied()
    }

    /// Returns how many names there are: numbers are below.
    pub(crate) fn len(&self) -> usize {
        self.entries.len()
    }

    pub(crate) fn is_unread_number(&self, number: Number) -> bool {
        self.is_open && !self.entries[number as usize].is_read
    }

    pub(crate) fn widest(&self) -> usize {
        self.widest
    }

    pub(crate) fn id(&self, number: Number) -> &ContentId {
        &self.entries[number as usize].id
    }

    pub(crate) fn content(&self, number: Number) -> Option<&Content> {
        self.entries[number as usize].content.as_deref()
    }

    /// Returns what a content's releases say; for a name that nobody bears, nothing.
    pub(crate) fn gathered(&self, number: Number) -> Gathered<'_> {
        self.gathered.get(number)
    }

    /// Returns chosen releases, each by its content's number and its place among that content's releases, with their names.
    pub(crate) fn select(
        &self,
        chosen: impl Iterator<Item = (Number, usize)>,
    ) -> BTreeMap<ContentId, ReleaseVersion> {
        let chosen: Vec<_> = chosen.collect();
        self.wait_for_names(&chosen);
        // Sorted before it is collected, by the first letters as one number: that is most of the work of a map.
        let mut sorted: Vec<_> = chosen
            .into_iter()
            .map(|(number, release)| (first_letters(self.id(number).as_str()), number, release))
            .collect();
        sorted.sort_unstable_by_key(|(letters, ..)| *letters);
        for alike in sorted.chunk_by_mut(|a, b| a.0 == b.0) {
            alike.sort_unstable_by(|a, b| self.id(a.1).cmp(self.id(b.1)));
        }
        let named = sorted.into_iter().map(|(_, number, release)| {
            (self.id(number).clone(), self.gathered.version(number, release).clone())
        });
        named.collect()
    }

    fn wait_for_names(&self, chosen: &[(Number, usize)]) {
        let ids = || chosen.iter().map(|(number, _)| self.id(*number).as_str().as_bytes());
        wait_for(ids().map(<[u8]>::len));
        wait_for(ids().map(|id| id.first().map_or(0, |byte| usize::from(*byte))));
        let versions = chosen.iter().map(|(number, release)| self.gathered.version(*number, *release));
        wait_for(versions.map(|version| usize::from(version.is_unversioned())));
    }

    /// Has what some releases say read, and how much there is of those that they name (see [`wait_for`]).
    pub(crate) fn look_ahead(&self, releases: &[(Gathered<'_>, usize)], named: &mut Vec<Number>) {
        self.gathered.look_ahead(releases, named);
    }

    /// Has read how much there is of some contents.
    pub(crate) fn look_ahead_at(&self, contents: &[Number]) {
        self.gathered.look_ahead_at(contents);
    }

    pub(crate) fn providers_of(&self, number: Number) -> &[Number] {
        if self.has_providers { &self.entries[number as usize].providers } else { &[] }
    }
}

/// Returns the first sixteen bytes as one number, which orders as the text does.
fn first_letters(text: &str) -> u128 {
    let mut bytes = [0; 16];
    let length = text.len().min(bytes.len());
    bytes[..length].copy_from_slice(&text.as_bytes()[..length]);
    u128::from_be_bytes(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{catalogue::Saying, version::VersionRange};

    fn id(text: &str) -> ContentId {
        ContentId::new(text).unwrap()
    }

    fn release(version: &str, needs: &[(&str, &str)]) -> Release {
        let mut release = Release::new(ReleaseVersion::parse(version).unwrap(), "plugin");
        for (name, range) in needs {
            release.needs.insert(id(name), VersionRange::parse(range).unwrap());
        }
        release
    }

    fn content(name: &str, releases: Vec<Release>) -> Content {
        let catalogue = "test".into();
        Content { id: id(name), title: name.into(), about: String::new(), catalogue, releases }
    }

    #[test]
    fn what_is_said_is_gathered_once_with_who_says_it() {
        let mut universe = Universe::default();
        let all = ("core", ">=2");
        universe.add(content(
            "bells",
            vec![
                release("1", &[all, ("rope", "1")]),
                release("3", &[all]),
                release("2", &[all, ("rope", "1")]),
            ],
        ));
        let number = universe.number(&id("bells")).unwrap();
        let gathered = universe.gathered(number);
        assert_eq!((gathered.count, gathered.by_all), (3, 1));
        let (first, second) = (gathered.line(0), gathered.line(1));
        assert!(first.saying == Saying::Need && second.saying == Saying::Need);
        assert_eq!(first.on, universe.number(&id("core")).unwrap());
        assert_eq!((second.releases.iter().collect::<Vec<_>>(), second.release), (vec![1, 2], 1));
        let lines_of = |release| gathered.lines_of(release).collect::<Vec<u32>>();
        assert_eq!((lines_of(0), lines_of(1), lines_of(2)), (vec![], vec![1], vec![1]));
        assert_eq!(universe.gathered.version(number, 0).as_str(), "3");
        assert!(gathered.places().is_sorted_by(|a, b| a > b));
        // Another release is gathered anew.
        universe.add_release(&id("bells"), "lock", release("4", &[]));
        assert_eq!((universe.gathered(number).count, universe.gathered(number).by_all), (4, 0));
    }

    #[test]
    fn an_open_universe_knows_what_it_does_not_know() {
        let mut universe = Universe::open();
        universe.add(content("bells", vec![release("1", &[("core", "*")])]));
        assert!(
            !universe.is_unread(&id("bells"))
                && universe.is_unread(&id("core"))
                && universe.is_unread(&id("x"))
        );
        universe.close(&id("core"));
        assert!(!universe.is_unread(&id("core")) && universe.get(&id("core")).is_none());
        universe.note_provider(&id("core"), &id("stand-in"));
        universe.note_provider(&id("core"), &id("stand-in"));
        assert_eq!(universe.providers(&id("core")).count(), 1);
        assert!(!Universe::default().is_unread(&id("x")), "nothing is to be read of a whole one");
    }

    #[test]
    fn the_first_of_an_id_decides() {
        let mut universe = Universe::default();
        universe.add(content("bells", vec![release("1", &[])]));
        universe.add(content("bells", vec![release("2", &[])]));
        universe.add_release(&id("bells"), "lock", release("1", &[("x", "*")]));
        let bells = universe.get(&id("bells")).unwrap();
        assert_eq!(bells.releases.len(), 1);
        assert!(bells.releases[0].needs.is_empty());
    }
}
