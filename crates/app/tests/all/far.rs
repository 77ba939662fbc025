//! A server that goes away while it is looked at.

use std::collections::BTreeMap;

use yalotheca_app::take_over;
use yalotheca_core::control::{ControlFile, MapsSection, ProcessSection, ServerSection};
use yalotheca_host::{
    catalogue::{Catalogues, GivenInspector, PrefetchedCatalogues},
    fetch::Fetcher,
    games,
    store::Store,
    survey::{self, Queries},
    tree::{Faults, MemoryServer, RemoteTree, file_server::Features},
};
use yalotheca_standin::quayside;

use crate::Done;

#[test]
fn a_server_that_goes_away_while_it_is_adopted_is_not_taken_for_another_one() -> Done {
    let folder = tempfile::tempdir()?;
    quayside::write_left_behind_server(folder.path(), 7710)?;
    let features = Features { replaces: true, hard_links: true, ordered: true, tick: 120 };
    let base = MemoryServer::new(features);
    for entry in walkdir::WalkDir::new(folder.path()) {
        let entry = entry?;
        if entry.file_type().is_file() {
            let name = entry.path().strip_prefix(folder.path())?.to_string_lossy().into_owned();
            base.put(&format!("/srv/{name}"), &std::fs::read(entry.path())?);
        }
    }
    let (game, ..) = games::find(None, "saltwick")?;
    let cache = tempfile::tempdir()?;
    let section = ServerSection {
        name: String::new(),
        game: game.name.clone(),
        at: ".".into(),
        values: BTreeMap::new(),
        process: ProcessSection::default(),
    };
    let control = ControlFile::new(&section, &[]);
    let fetcher = Fetcher::new(Store::at(cache.path()), true);
    let known = (folder.path(), BTreeMap::new());
    let catalogues = Catalogues::open(
        &control,
        known,
        &game,
        &fetcher,
        &GivenInspector::default(),
        &PrefetchedCatalogues::default(),
    )?;
    // What is taken over, unless something says that it could not be read.
    let adopt = |server: &std::sync::Arc<MemoryServer>| -> Result<String, Box<dyn std::error::Error>> {
        let tree = RemoteTree::new(server.clone(), "/srv", "memory://srv".into());
        let survey = survey::survey(&tree, &game, &BTreeMap::new(), (Queries::Remembered, fetcher.store()))?;
        let inventory = survey::inventory(&tree, &game, &survey.scope)?;
        let taken =
            take_over::take(&tree, &game, &survey, &inventory, (&catalogues, &MapsSection::default(), None))?;
        Ok(format!("{} {:?} {:?}", taken.lock.text(), taken.off, taken.misplaced))
    };
    let whole = base.copy(Faults::default());
    let expected = adopt(&whole)?;
    assert!(expected.contains("night-lamps") && whole.calls() > 10);
    for call in 1..=whole.calls() {
        let server = base.copy(Faults { ends_at: Some(call), ..Faults::default() });
        if let Ok(taken) = adopt(&server) {
            return Err(format!("gone at call {call} of {}, and {taken} was adopted", whole.calls()).into());
        }
        let torn = base.copy(Faults { tears_at: Some(call), ..Faults::default() });
        assert_eq!(adopt(&torn)?, expected, "torn at call {call}");
    }
    Ok(())
}
