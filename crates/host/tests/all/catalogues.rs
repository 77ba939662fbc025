//! Catalogues: published ones on loopback and in folders, and folders of downloads.

use std::{collections::BTreeMap, fs, path::Path};

use yalotheca_core::{
    catalogue::Universe,
    control::{AsFound, CatalogueSource, ControlFile, Locked, ProcessSection, ServerSection},
    game::{BUILT_IN, Game, load},
    id::{ContentId, Digest},
    version::ReleaseVersion,
};
use yalotheca_host::{
    catalogue::{CatalogueError, Catalogues, GivenInspector, PrefetchedCatalogues},
    fetch::{FetchError, Fetcher},
    sources::ByteSource,
    store::Store,
};
use yalotheca_standin::{catalogue_host::CatalogueHost, quayside};

use crate::Done;

fn saltwick() -> Result<Game, Box<dyn std::error::Error>> {
    Ok(load("saltwick", BUILT_IN.iter().find(|(name, _)| *name == "saltwick").map_or("", |(_, text)| text))?)
}

fn source(name: &str, at: &str) -> CatalogueSource {
    CatalogueSource { name: name.into(), at: at.into(), key: None, older: false }
}

fn opened<'a>(
    sources: &[CatalogueSource],
    base: &Path,
    game: &'a Game,
    fetcher: &'a Fetcher,
) -> Result<Catalogues<'a>, CatalogueError> {
    let server = ServerSection {
        name: String::new(),
        game: game.name.clone(),
        at: ".".into(),
        values: BTreeMap::new(),
        process: ProcessSection::default(),
    };
    Catalogues::open(
        &ControlFile::new(&server, sources),
        (base, std::collections::BTreeMap::new()),
        game,
        fetcher,
        &GivenInspector::default(),
        &PrefetchedCatalogues::default(),
    )
}

fn fetcher(folder: &Path, offline: bool) -> Fetcher {
    Fetcher::new(Store::at(&folder.join("cache")), offline)
}

fn id(text: &str) -> Result<ContentId, Box<dyn std::error::Error>> {
    Ok(ContentId::new(text)?)
}

fn locked(
    catalogues: &Catalogues<'_>,
    name: &str,
    version: &str,
) -> Result<Locked, Box<dyn std::error::Error>> {
    let content = catalogues.content(&id(name)?)?.ok_or("it is there")?;
    let release = content.release(&ReleaseVersion::parse(version)?).ok_or("so is the release")?.clone();
    Ok(Locked {
        id: content.id,
        title: content.title,
        catalogue: content.catalogue,
        off: false,
        release,
        given: None,
        found: AsFound::default(),
    })
}

#[test]
fn a_published_catalogue_over_http_and_the_same_in_a_folder() -> Done {
    let folder = tempfile::tempdir()?;
    let game = saltwick()?;
    quayside::write_catalogue(&folder.path().join("quayside"))?;
    let host = CatalogueHost::start(folder.path().join("quayside"))?;
    let fetcher = fetcher(folder.path(), false);
    for at in [host.address(), host.address().trim_end_matches('/').to_owned(), "quayside".to_owned()] {
        let catalogues = opened(&[source("q", &at)], folder.path(), &game, &fetcher)?;
        assert_eq!(catalogues.listings().len(), 15);
        assert!(catalogues.content(&id("nobody")?)?.is_none());
        let tidebell = locked(&catalogues, "tidebell", "1.4.0")?;
        let payload = catalogues.payload(&tidebell)?;
        assert_eq!(payload.files.len(), 1);
        let places = catalogues.fetch(&tidebell)?;
        let Some(ByteSource::File(path) | ByteSource::Cached(path)) = places.get(&payload.files[0].digest)
        else {
            return Err("a file".into());
        };
        assert_eq!(Digest::of(&fs::read(path)?), payload.files[0].digest);
    }
    Ok(())
}

#[test]
fn only_what_can_be_reached_is_fetched() -> Done {
    let folder = tempfile::tempdir()?;
    quayside::write_catalogue(&folder.path().join("quayside"))?;
    let host = CatalogueHost::start(folder.path().join("quayside"))?;
    let fetcher = fetcher(folder.path(), false);
    let game = saltwick()?;
    let catalogues = opened(&[source("q", &host.address())], folder.path(), &game, &fetcher)?;
    let mut universe = Universe::open();
    let (regatta, ghost) = (id("regatta")?, id("ghost")?);
    catalogues.read(&[regatta.clone(), ghost.clone()], &mut universe, |_, _| false)?;
    let names: Vec<&str> = universe.iter().map(|content| content.id.as_str()).collect();
    assert_eq!(names, ["regatta"]);
    assert!(!universe.is_unread(&ghost), "nobody has it, and that is known");
    assert!(universe.is_unread(&id("harbour-core")?));
    assert_eq!(host.counts().0, 2, "the index and one content");
    let fetcher = self::fetcher(folder.path(), false);
    let again = opened(&[source("q", &host.address())], folder.path(), &game, &fetcher)?;
    again.read(std::slice::from_ref(&regatta), &mut Universe::open(), |_, _| false)?;
    assert_eq!(host.counts(), (2, 1), "the index is asked for once more, and has not changed");
    let mut universe = Universe::open();
    let read = again.read(&[regatta], &mut universe, |_, _| true)?;
    let names: Vec<&str> = read.iter().map(ContentId::as_str).collect();
    assert_eq!(
        names,
        ["regatta", "ferry-lines", "night-lamps", "harbour-core", "lamp-oil"],
        "what is needed comes along"
    );
    Ok(())
}

/// A catalogue of many contents, each of which needs the next one.
fn write_many(folder: &Path, count: usize) -> Done {
    fs::create_dir_all(folder.join("contents"))?;
    let mut entries = Vec::new();
    for at in 0..count {
        let needs = if at + 1 < count { format!(r#""m{}": "*""#, at + 1) } else { String::new() };
        let text = format!(
            r#"{{"format": 1, "id": "m{at}", "title": "M{at}", "releases": [{{"version": "1", "kind": "plugin", "needs": {{{needs}}}}}]}}"#
        );
        let digest = Digest::of(text.as_bytes());
        fs::write(folder.join(format!("contents/m{at}.json")), text)?;
        entries.push(format!(r#""m{at}": {{"title": "M{at}", "kind": "plugin", "digest": "{digest}"}}"#));
    }
    let index = format!(r#"{{"format": 1, "name": "many", "contents": {{{}}}}}"#, entries.join(", "));
    Ok(fs::write(folder.join("catalogue.json"), index)?)
}

#[test]
fn many_are_read_by_several_threads_and_none_is_lost() -> Done {
    let folder = tempfile::tempdir()?;
    write_many(&folder.path().join("many"), 200)?;
    let host = CatalogueHost::start(folder.path().join("many"))?;
    let (game, fetcher) = (saltwick()?, fetcher(folder.path(), false));
    let ids: Vec<ContentId> = (0..150).map(|at| id(&format!("m{at}"))).collect::<Result<_, _>>()?;
    for at in [host.address(), "many".to_owned()] {
        let catalogues = opened(&[source("m", &at)], folder.path(), &game, &fetcher)?;
        let mut universe = Universe::open();
        let read = catalogues.read(&ids, &mut universe, |_, _| false)?;
        assert_eq!(read, ids);
        assert_eq!(universe.iter().count(), 150);
        assert!(ids.iter().all(|id| universe.get(id).is_some_and(|content| content.id == *id)));
        // The needs of what is likely are followed to their end.
        let mut universe = Universe::open();
        assert_eq!(catalogues.read(&ids[149..], &mut universe, |_, _| true)?.len(), 51);
    }
    fs::write(folder.path().join("many/contents/m77.json"), "{broken")?;
    let catalogues = opened(&[source("m", "many")], folder.path(), &game, &fetcher)?;
    let error = catalogues.read(&ids, &mut Universe::open(), |_, _| false);
    let error = error.err().ok_or("one of them is broken")?.to_string();
    assert!(error.contains("m77.json"), "{error}");
    Ok(())
}

#[test]
fn the_first_catalogue_that_has_an_id_decides() -> Done {
    let folder = tempfile::tempdir()?;
    let game = saltwick()?;
    quayside::write_catalogue(&folder.path().join("quayside"))?;
    fs::create_dir_all(folder.path().join("downloads"))?;
    let (name, bytes) = quayside::release("tidebell", "1.2.0")?;
    fs::write(folder.path().join("downloads").join(name), bytes)?;
    let fetcher = fetcher(folder.path(), true);
    let (first, second) = (source("d", "downloads"), source("q", "quayside"));
    let releases = |order: &[CatalogueSource]| -> Result<(String, usize), Box<dyn std::error::Error>> {
        let catalogues = opened(order, folder.path(), &game, &fetcher)?;
        let content = catalogues.content(&id("tidebell")?)?.ok_or("it is there")?;
        Ok((content.catalogue, content.releases.len()))
    };
    assert_eq!(releases(&[first.clone(), second.clone()])?, ("d".into(), 1));
    assert_eq!(releases(&[second, first])?, ("q".into(), 3));
    Ok(())
}

#[test]
fn offline_uses_what_is_known_and_says_what_is_not() -> Done {
    let folder = tempfile::tempdir()?;
    quayside::write_catalogue(&folder.path().join("quayside"))?;
    let host = CatalogueHost::start(folder.path().join("quayside"))?;
    let game = saltwick()?;
    let sources = [source("q", &host.address())];
    let cold = fetcher(folder.path(), true);
    let error =
        opened(&sources, folder.path(), &game, &cold)?.unreachable().pop().ok_or("nothing is known yet")?;
    assert!(error.to_string().contains("the network may not be used"), "{error}");
    let online = fetcher(folder.path(), false);
    let catalogues = opened(&sources, folder.path(), &game, &online)?;
    catalogues.content(&id("tidebell")?)?;
    let warm = fetcher(folder.path(), true);
    let catalogues = opened(&sources, folder.path(), &game, &warm)?;
    let tidebell = locked(&catalogues, "tidebell", "1.4.0")?;
    assert!(matches!(catalogues.fetch(&tidebell), Err(CatalogueError::Fetch { .. })));
    assert!(catalogues.content(&id("regatta")?).is_err());
    Ok(())
}

#[test]
fn other_bytes_never_enter_the_cache() -> Done {
    let folder = tempfile::tempdir()?;
    quayside::write_catalogue(&folder.path().join("quayside"))?;
    let host = CatalogueHost::start(folder.path().join("quayside"))?;
    let game = saltwick()?;
    let fetcher = fetcher(folder.path(), false);
    let catalogues = opened(&[source("q", &host.address())], folder.path(), &game, &fetcher)?;
    let tidebell = locked(&catalogues, "tidebell", "1.4.0")?;
    let file = folder.path().join("quayside/files/tidebell-1.4.0.swp");
    let whole = fs::read(&file)?;
    let mut altered = whole.clone();
    altered[700] ^= 1;
    for (bytes, says) in [(&b"half"[..], "were expected"), (&altered, "was expected")] {
        fs::write(&file, bytes)?;
        let error = catalogues.fetch(&tidebell).err().ok_or("those are other bytes")?;
        assert!(error.to_string().contains(says), "{error}");
        assert!(fetcher.store().file(&tidebell.release.files[0].blake3).is_none());
    }
    fs::write(&file, whole)?;
    catalogues.fetch(&tidebell)?;
    assert!(fetcher.store().file(&tidebell.release.files[0].blake3).is_some());
    Ok(())
}

#[test]
fn the_cache_keeps_answers_with_their_tags() -> Done {
    let folder = tempfile::tempdir()?;
    let store = Store::at(folder.path());
    assert!(store.answer("http://a/").is_none());
    store.remember("http://a/", "\"tag\"", b"body")?;
    store.remember("http://b/", "", b"other")?;
    assert_eq!(store.answer("http://a/"), Some(("\"tag\"".into(), b"body".to_vec())));
    assert_eq!(store.answer("http://b/"), Some((String::new(), b"other".to_vec())));
    // A body that was damaged is not taken for the answer.
    for entry in fs::read_dir(folder.path().join("answers"))? {
        let path = entry?.path();
        if path.extension().is_some_and(|suffix| suffix == "body") {
            fs::write(path, "damaged")?;
        }
    }
    assert!(store.answer("http://a/").is_none() && store.answer("http://b/").is_none());
    let digest = Digest::of(b"bytes");
    assert!(store.file(&digest).is_none());
    assert_eq!(fs::read(store.keep(&digest, b"bytes")?)?, b"bytes");
    assert!(store.file(&digest).is_some());
    Ok(())
}

#[test]
fn a_catalogue_that_is_not_there_is_named() -> Done {
    let folder = tempfile::tempdir()?;
    let game = saltwick()?;
    let fetcher = fetcher(folder.path(), false);
    let open =
        |at: &str| opened(&[source("q", at)], folder.path(), &game, &fetcher).ok()?.unreachable().pop();
    let missing = open("nowhere").ok_or("no such folder")?;
    assert!(missing.to_string().starts_with("catalogue q: the folder"), "{missing}");
    let free = std::net::TcpListener::bind(("127.0.0.1", 0))?.local_addr()?;
    let down = open(&format!("http://{free}/")).ok_or("nobody answers")?;
    let CatalogueError::Unreachable(down) = down else { return Err(down.into()) };
    assert!(matches!(*down, CatalogueError::Fetch { source: FetchError::Unreachable { .. }, .. }), "{down}");
    let host = CatalogueHost::start(folder.path().to_owned())?;
    let empty = open(&host.address()).ok_or("no catalogue there")?;
    assert!(empty.to_string().contains("catalogue.json is not there"), "{empty}");
    // Only a want for something that may be in it fails.
    let catalogues = opened(&[source("q", "nowhere")], folder.path(), &game, &fetcher)?;
    assert!(catalogues.listings().is_empty() && catalogues.content(&id("tidebell")?).is_err());
    Ok(())
}
