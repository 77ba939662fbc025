//! Hosts that answer wrongly, never, or without end.

use std::{
    fs,
    time::{Duration, Instant},
};

use yalotheca_core::id::Digest;
use yalotheca_host::{
    fetch::{FetchError, Fetcher, Wanted},
    store::Store,
};
use yalotheca_standin::file_host::FileHost;

use crate::Done;

const NAME: &str = "rope.bin";

fn noise(length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(b"fetch").finalize_xof().fill(&mut bytes);
    bytes
}

struct World {
    folder: tempfile::TempDir,
    host: FileHost,
    bytes: Vec<u8>,
}

impl World {
    fn new() -> Result<Self, Box<dyn std::error::Error>> {
        let folder = tempfile::tempdir()?;
        let files = folder.path().join("files");
        fs::create_dir_all(&files)?;
        let bytes = noise(600_000);
        fs::write(files.join(NAME), &bytes)?;
        Ok(Self { host: FileHost::start(files)?, folder, bytes })
    }

    fn fetcher(&self) -> Fetcher {
        Fetcher::new(Store::at(&self.folder.path().join("cache")), false)
    }

    fn wanted(&self, path: &str) -> Wanted {
        Wanted { url: self.host.at(path), name: NAME.into(), ..Wanted::default() }
    }
}

#[test]
fn a_part_that_is_none_is_no_answer() -> Done {
    for known in [false, true] {
        for how in ["from-start", "elsewhere", "no-range", "longer", "other"] {
            let world = World::new()?;
            let wanted = world.wanted(&format!("part/{how}/{NAME}"));
            // What the host has by then, where it is another file.
            let mut right = world.bytes.clone();
            if how == "other" {
                right.reverse();
            }
            let wanted = Wanted { digest: known.then(|| Digest::of(&right)), ..wanted };
            let brought =
                world.fetcher().download(wanted).map_err(|error| format!("{how}, {known}: {error}"))?;
            assert!(fs::read(&brought.path)? == right, "{how}, digest known: {known}: a wrong file");
        }
    }
    let world = World::new()?;
    let error = world
        .fetcher()
        .download(world.wanted(&format!("part/unasked/{NAME}")))
        .err()
        .ok_or("it is a part only")?;
    assert!(error.to_string().contains("the whole was asked for"), "{error}");
    Ok(())
}

#[test]
fn a_download_that_broke_off_is_taken_up_and_compared() -> Done {
    let world = World::new()?;
    let brought = world.fetcher().download(world.wanted(&format!("break/70/{NAME}")))?;
    assert_eq!(fs::read(&brought.path)?, world.bytes);
    assert_eq!(world.host.ranges().len(), 1, "it was taken up");
    // With a digest, too.
    let world = World::new()?;
    let wanted =
        Wanted { digest: Some(Digest::of(&world.bytes)), ..world.wanted(&format!("break/70/{NAME}")) };
    world.fetcher().download(wanted)?;
    assert_eq!(world.host.ranges().len(), 1);
    Ok(())
}

#[test]
fn what_never_ends_is_stopped_at_what_was_promised() -> Done {
    let world = World::new()?;
    let store = || -> u64 {
        let all = walkdir::WalkDir::new(world.folder.path().join("cache")).into_iter().flatten();
        all.filter_map(|entry| entry.metadata().ok())
            .filter(fs::Metadata::is_file)
            .map(|data| data.len())
            .sum()
    };
    for (size, most) in [(Some(100_000), None), (None, Some(200_000))] {
        let wanted = Wanted { size, most, ..world.wanted("endless/x") };
        let error = world.fetcher().download(wanted).err().ok_or("it never ends")?;
        assert!(matches!(error, FetchError::TooLong { .. }), "{error}");
        assert!(store() < 1 << 20, "{}", store());
    }
    let error = world
        .fetcher()
        .get(&world.host.at("endless/catalogue.json"), 1 << 20)
        .err()
        .ok_or("it never ends")?;
    assert!(matches!(error, FetchError::TooLong { .. }), "{error}");
    Ok(())
}

#[test]
fn what_is_asked_once_in_a_command_is_not_asked_again() -> Done {
    let world = World::new()?;
    let fetcher = world.fetcher();
    for _ in 0..3 {
        assert_eq!(fetcher.get(&world.host.at(&format!("f/{NAME}")), 1 << 30)?, Some(world.bytes.clone()));
        assert_eq!(fetcher.get(&world.host.at("f/gone"), 1 << 30)?, None);
    }
    assert_eq!((world.host.times(&format!("f/{NAME}")), world.host.times("f/gone")), (1, 1));
    Ok(())
}

#[test]
fn no_host_is_waited_for_longer_than_a_person_would() -> Done {
    let world = World::new()?;
    let begun = Instant::now();
    let url = world.host.at(&format!("drip/{NAME}"));
    let run = std::thread::spawn(move || {
        let folder = tempfile::tempdir().ok()?;
        let fetcher = Fetcher::new(Store::at(folder.path()), false).with_pace(Duration::from_millis(400));
        fetcher
            .download(Wanted { url, name: NAME.into(), ..Wanted::default() })
            .err()
            .map(|error| error.to_string())
    });
    let error = run.join().ok().flatten().ok_or("it is too slow")?;
    assert!(error.contains("too slow"), "{error}");
    assert!(begun.elapsed() < Duration::from_secs(30), "{:?}", begun.elapsed());
    Ok(())
}
