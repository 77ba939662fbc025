//! Each way to fail: its exit code, a clear message, and nothing changed.

use std::fs;

use crate::harness::{Done, World};

#[test]
fn unknown_contents_get_a_suggestion() -> Done {
    let world = World::fresh()?;
    world
        .run(&["add", "tidebel", "--yes"])
        .code(2)
        .says(&["no catalogue has a content called tidebel", "did you mean tidebell?"]);
    world.run(&["about", "harbour-coer"]).code(2).says(&["did you mean harbour-core"]);
    world.run(&["add", "a b", "--yes"]).code(2).says(&["is not a content id"]);
    world
        .run(&["add", "tidebell@>>1", "--yes"])
        .code(2)
        .says(&["is not a version range", "ranges look like"]);
    world.run(&["drop", "tidebell"]).code(2).says(&["tidebell is not in yalotheca.toml"]);
    world.run(&["update", "tidebell"]).code(2).says(&["is not on this server", "yalotheca add tidebell"]);
    assert!(!world.read("yalotheca.toml")?.contains("tidebel"));
    Ok(())
}

#[test]
fn a_catalogue_that_is_down_and_offline() -> Done {
    let mut world = World::fresh()?;
    world.run(&["add", "lamp-oil", "--yes"]).code(0);
    let before = world.digests()?;
    // What was fetched before is enough for what is known.
    world
        .run(&["--offline", "find", "bell"])
        .code(4)
        .says(&["it is not in the cache, and the network may not be used"]);
    world.run(&["find", "bell"]).code(0);
    world.run(&["--offline", "find", "bell"]).code(0).says(&["tidebell"]);
    world.run(&["--offline", "add", "tidebell", "--yes"]).code(4).says(&[
        "tidebell-1.4.0.swp",
        "not in the cache",
        "run it once without --offline",
    ]);
    assert_eq!(world.digests()?, before);
    let folder = world.root().join("elsewhere");
    fs::create_dir_all(&folder)?;
    world.host = yalotheca_standin::catalogue_host::CatalogueHost::start(folder)?;
    world
        .run(&["add", "tidebell", "--yes"])
        .code(4)
        .says(&["catalogue quayside: http://127.0.0.1", "--offline goes on"]);
    // What needs no catalogue still works.
    world.run(&["check"]).code(0);
    world.run(&["settle", "--yes"]).code(0);
    world.run(&["drop", "lamp-oil", "--yes"]).code(0);
    Ok(())
}

#[test]
fn a_corrupted_download_never_reaches_the_server() -> Done {
    let world = World::fresh()?;
    let before = world.digests()?;
    let file = world.root().join("quayside/files/tidebell-1.4.0.swp");
    let whole = fs::read(&file)?;
    let mut altered = whole.clone();
    altered[5_000] ^= 1;
    for (bytes, says) in [
        (&whole[..whole.len() / 2], "were expected"),
        (&altered, "was expected"),
        (b"<html><title>Not found</title></html>", "it is a web page (“Not found”), not the file"),
    ] {
        fs::write(&file, bytes)?;
        world.run(&["add", "tidebell", "--yes"]).code(4).says(&[says]);
        assert_eq!(world.digests()?, before);
    }
    fs::remove_file(&file)?;
    world.run(&["add", "tidebell", "--yes"]).code(4).says(&["the host answers 404"]);
    fs::write(&file, whole)?;
    world.run(&["add", "tidebell", "--yes"]).code(0);
    Ok(())
}

#[test]
fn a_broken_catalogue_is_told_with_its_place() -> Done {
    let world = World::fresh()?;
    fs::write(
        world.root().join("quayside/catalogue.json"),
        "{\"format\": 1, \"name\": \"q\", \"contents\": [}",
    )?;
    world.run(&["find"]).code(4).says(&["catalogue quayside:", "catalogue.json", "line 1 column"]);
    fs::write(
        world.root().join("quayside/catalogue.json"),
        "{\"format\": 9, \"name\": \"q\", \"contents\": {}}",
    )?;
    world.run(&["find"]).code(4).says(&["it has format 9, but this program reads format 1"]);
    Ok(())
}

#[test]
fn a_broken_entry_of_an_index_stands_in_nobody_elses_way() -> Done {
    let world = World::fresh()?;
    let path = world.root().join("quayside/catalogue.json");
    let mut index: serde_json::Value = serde_json::from_slice(&fs::read(&path)?)?;
    index["contents"]["tidebell"]["tittle"] = "Tidebell".into();
    fs::write(&path, format!("{index:#}"))?;
    let place = ["catalogue quayside:", "catalogue.json: tidebell: unknown field `tittle`", "at line"];
    world.run(&["add", "evening-tide", "--yes"]).code(0);
    world.run(&["find"]).code(0).says(&["harbour-core", "Cannot be read", place[1]]);
    let before = world.digests()?;
    world.run(&["add", "tidebell", "--yes"]).code(4).says(&place);
    world.run(&["about", "tidebell"]).code(4).says(&place);
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn broken_files_of_ours_are_told_with_line_and_column() -> Done {
    let world = World::fresh()?;
    let text = world.read("yalotheca.toml")?;
    world.write("yalotheca.toml", &text.replace("game =", "gane ="))?;
    world.run(&["check"]).code(2).says(&[
        "yalotheca.toml:5:1:",
        "unknown field `gane`",
        "did you mean game?",
    ]);
    world.write("yalotheca.toml", &text.replace("\"saltwick\"", "\"saltwik\""))?;
    world.run(&["check"]).code(2).says(&["no game definition called \"saltwik\"", "did you mean saltwick?"]);
    world.write("yalotheca.toml", &text)?;
    world.write("yalotheca.lock", "format = 1\n[[content]]\nid = 3\n")?;
    world.run(&["check"]).code(2).says(&["yalotheca.lock"]);
    Ok(())
}

#[test]
fn a_broken_line_in_the_servers_configuration() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "evening-tide", "--yes"]).code(0);
    world.write("saltwick.conf", "name = x\nport 7710\n")?;
    let before = world.digests()?;
    world
        .run(&["add", "tidebell", "--yes"])
        .code(5)
        .says(&["saltwick.conf: line 2, column 1: expected \"key = value\" or a comment", "port 7710"]);
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn a_running_server_is_not_touched() -> Done {
    let world = World::fresh()?;
    let answer = world.run(&["trial", "--keep", "--json"]).code(0);
    let pid = answer.json()?["left_running"].as_u64().ok_or("no process")?.to_string();
    let before = world.digests()?;
    let refused = world.run(&["add", "tidebell", "--yes"]);
    let twice = world.run(&["trial"]);
    let checked = world.run(&["check"]);
    let same = world.digests()? == before;
    std::process::Command::new("kill").arg(&pid).status()?;
    refused.code(5).says(&[&format!("the server is running (process {pid})"), "yalotheca stop ends it"]);
    twice.code(5).says(&["is running already"]);
    checked.code(0).says(&["The server is running"]);
    assert!(same);
    for _ in 0..100 {
        if world.run(&["add", "tidebell", "--yes"]).code == 0 {
            return Ok(());
        }
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    Err("it never stopped".into())
}

#[test]
fn a_failing_disk_takes_everything_back() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "lamp-oil", "--yes"]).code(0);
    let before = world.digests()?;
    let lock = world.read("yalotheca.lock")?;
    // Root may write anywhere, so the obstacle is one that stops even root: a folder where the file belongs.
    fs::create_dir_all(world.path("plugins/tidebell-1.4.0.swp/inside"))?;
    let blocked = world.digests()?;
    world.run(&["add", "tidebell", "--yes"]).code(4).says(&["plugins/tidebell-1.4.0.swp"]);
    assert_eq!(world.digests()?, blocked);
    assert_eq!(world.read("yalotheca.lock")?, lock);
    fs::remove_dir_all(world.path("plugins/tidebell-1.4.0.swp"))?;
    assert_eq!(world.digests()?, before);
    world.run(&["add", "tidebell", "--yes"]).code(0);
    Ok(())
}

/// Root may write everywhere, so the command is run as somebody else.
#[test]
fn a_folder_that_cannot_be_written() -> Done {
    use std::os::unix::{fs::PermissionsExt, process::CommandExt};

    const NOBODY: u32 = 65534;
    let world = World::fresh()?;
    fs::create_dir_all(world.path("plugins"))?;
    let mut commands = Vec::new();
    for words in [vec!["add", "tidebell", "--yes"], vec!["check"]] {
        let mut command = world.command(&words);
        if is_root()? {
            // The build folder may be closed to others; the program is copied to where they may go.
            let copy = world.root().join("yalotheca");
            fs::copy(crate::harness::program(), &copy)?;
            command = std::process::Command::new(copy);
            command
                .args(&words)
                .current_dir(world.server())
                .env_clear()
                .env("HOME", world.root())
                .uid(NOBODY)
                .gid(NOBODY);
        }
        commands.push(command);
    }
    for entry in walkdir::WalkDir::new(world.root()) {
        let entry = entry?;
        std::os::unix::fs::chown(entry.path(), Some(NOBODY), Some(NOBODY)).ok();
        fs::set_permissions(entry.path(), fs::Permissions::from_mode(0o755))?;
    }
    fs::set_permissions(world.path("plugins"), fs::Permissions::from_mode(0o555))?;
    let before = world.digests()?;
    let refused = commands[0].output()?;
    let error = String::from_utf8_lossy(&refused.stderr).split_whitespace().collect::<Vec<_>>().join(" ");
    assert_eq!(refused.status.code(), Some(4), "{error}");
    assert!(
        error.contains("Permission denied") && error.contains("give yourself the right to write there"),
        "{error}"
    );
    assert_eq!(world.digests()?, before);
    assert_eq!(commands[1].output()?.status.code(), Some(0));
    fs::set_permissions(world.path("plugins"), fs::Permissions::from_mode(0o755))?;
    Ok(())
}

fn is_root() -> Result<bool, std::io::Error> {
    use std::os::unix::fs::MetadataExt;

    Ok(fs::metadata("/proc/self")?.uid() == 0)
}

#[test]
fn no_control_folder() -> Done {
    let world = World::empty()?;
    world.run(&["check"]).code(2).says(&["there is no yalotheca.toml", "run yalotheca adopt"]);
    let nowhere = world.root().join("nowhere").display().to_string();
    world.run(&["--at", &nowhere, "adopt"]).code(4).says(&["nowhere"]);
    Ok(())
}
