//! Modpacks, ready-made setups, engines and loaders, and a clean start.

use std::{fs, process::Command};

use yalotheca_standin::{kites, quayside};

use crate::harness::{Done, World, free_port, skipped};

type File = (String, Vec<u8>);

fn file(name: &str, bytes: impl Into<Vec<u8>>) -> File {
    (name.to_owned(), bytes.into())
}

fn zipped(world: &World, name: &str, files: &[File]) -> Done {
    fs::create_dir_all(world.files())?;
    Ok(fs::write(world.files().join(name), kites::zipped(files)?)?)
}

/// A fresh server with engines, a loader and a mod in the folder `files`.
fn grounds() -> Result<World, Box<dyn std::error::Error>> {
    let world = World::fresh()?;
    fs::create_dir_all(world.files())?;
    for (version, runtime) in [("2.2", 6), ("3.0", 7)] {
        fs::write(
            world.files().join(format!("saltwick-{version}.swe")),
            quayside::engine(version, runtime)?,
        )?;
    }
    let loader = "{\"name\": \"pontoon\", \"version\": \"3.1\", \"engine\": \">=2.2, <3\"}";
    zipped(&world, "pontoon-3.1.swl", &[file("loader.json", loader)])?;
    let bridges = "id = \"rope-bridges\"\nversion = \"0.4\"\nengine = \">=2.2\"\nloader = \"pontoon >=3\"\nside = \"both\"\n";
    zipped(&world, "rope-bridges-0.4.swm", &[file("mod.toml", bridges)])?;
    let gulls = "id = \"gull-sounds\"\nversion = \"1.0\"\nside = \"player\"\n";
    zipped(&world, "gull-sounds-1.0.swm", &[file("mod.toml", gulls)])?;
    Ok(world)
}

#[test]
fn an_engine_brings_its_file_and_the_setting_that_names_it() -> Done {
    let world = grounds()?;
    let before = world.digests()?;
    world
        .run(&["add", "../files/saltwick-3.0.swe", "--yes"])
        .code(3)
        .says(&["saltwick 3.0 needs runtime 7", "has runtime 6"]);
    world.run(&["add", "../files/saltwick-2.2.swe", "--yes"]).code(0).says(&["engine = saltwick-2.2.swe"]);
    assert!(world.read("boot.json")?.contains("\"engine\": \"saltwick-2.2.swe\""));
    world.run(&["check"]).code(0).says(&["engine 2.2"]);
    // What runs on that engine only is chosen for it, in the same step.
    world.run(&["about", "tidebell"]).code(0);
    world.run(&["trial"]).code(0);
    world.run(&["drop", "saltwick", "--yes"]).code(0).says(&["back to engine = saltwick-2.4.swe"]);
    // The town that the first start makes is not ours.
    let after = world.digests()?;
    assert!(
        before
            .iter()
            .filter(|(path, _)| path.as_str() != "saltwick.conf")
            .all(|(path, digest)| after.get(path) == Some(digest))
    );
    Ok(())
}

#[test]
fn a_mod_needs_its_loader_and_players_parts_stay_off_the_server() -> Done {
    let world = grounds()?;
    world.run(&["add", "../files/rope-bridges-0.4.swm", "--yes"]).code(3).says(&["needs pontoon 3 or newer"]);
    world
        .run(&["add", "../files/pontoon-3.1.swl", "../files/rope-bridges-0.4.swm", "--yes"])
        .code(0)
        .says(&["pontoon-3.1.swl", "loader = pontoon-3.1.swl", "mods/rope-bridges-0.4.swm"]);
    world.run(&["add", "../files/gull-sounds-1.0.swm", "--yes"]).code(0);
    assert!(!world.path("mods/gull-sounds-1.0.swm").exists(), "it is for players only");
    world.run(&["check"]).code(0);
    Ok(())
}

#[test]
fn a_pack_of_a_lineup_is_solved_with_the_rest_of_another_server() -> Done {
    let world = grounds()?;
    world
        .run(&["add", "tidebell", "../files/pontoon-3.1.swl", "../files/rope-bridges-0.4.swm", "--yes"])
        .code(0);
    world.write("plugins/tidebell/settings.yml", "volume: 3\n")?;
    world
        .run(&["modpack", "export", "../files/festival.zip", "--setting", "plugins/tidebell/settings.yml"])
        .code(0)
        .says(&["by name, from a catalogue: harbour-core, tidebell", "brought along: pontoon, rope-bridges"]);
    let first = fs::read(world.files().join("festival.zip"))?;
    world
        .run(&[
            "modpack",
            "export",
            "../files/festival.zip",
            "--setting",
            "plugins/tidebell/settings.yml",
            "--force",
        ])
        .code(0);
    assert_eq!(fs::read(world.files().join("festival.zip"))?, first, "the same lineup gives the same bytes");
    world
        .run(&["modpack", "export", "../files/x.zip", "--setting", "nothing.yml"])
        .code(2)
        .says(&["is no file of the server"]);
    world
        .run(&["modpack", "export", "../files/players.zip", "--edition", "player", "--json"])
        .code(0)
        .says(&["rope-bridges"]);

    let other = World::fresh()?;
    let pack = world.files().join("festival.zip").display().to_string();
    let before = other.digests()?;
    other.run(&["add", "gull-chat", "--yes"]).code(0);
    other.run(&["add", &pack, "--yes"]).code(0).says(&[
        "new festival 1.0 you want it",
        "festival needs it",
        "mods/rope-bridges-0.4.swm",
        "plugins/tidebell/settings.yml",
    ]);
    assert_eq!(other.read("plugins/tidebell/settings.yml")?, "volume: 3\n");
    other.run(&["trial"]).code(0);
    // Settings belong to the administrator from then on.
    other.write("plugins/tidebell/settings.yml", "volume: 9\n")?;
    other.run(&["check"]).code(0);
    fs::remove_file(other.path("mods/rope-bridges-0.4.swm"))?;
    other.run(&["settle", "--yes"]).code(0);
    assert!(
        other.path("mods/rope-bridges-0.4.swm").exists(),
        "what the pack brings along comes back from it"
    );
    other.run(&["drop", "festival", "gull-chat", "--yes"]).code(0);
    assert_eq!(other.read("plugins/tidebell/settings.yml")?, "volume: 9\n");
    assert!(!other.path("mods").exists() && !other.path("pontoon-3.1.swl").exists());
    let after = other.digests()?;
    assert!(before.contains_key("boot.json") && before.get("boot.json") == after.get("boot.json"));
    Ok(())
}

#[test]
fn a_broken_pack_says_what_is_wrong_with_it() -> Done {
    let world = World::fresh()?;
    let text = "format = 1\nid = \"p\"\nversion = \"1\"\ngame = \"saltwick\"\n";
    for (name, pack, says) in [
        ("newer", text.replace("format = 1", "format = 9"), "it has format 9"),
        ("game", text.replace("saltwick", "kitehollow"), "it is for kitehollow"),
        ("typo", text.replace("id =", "ide ="), "ide"),
        (
            "gone",
            format!("{text}[[member]]\nfile = \"members/x.swp\"\n"),
            "members/x.swp: it is not in the pack",
        ),
        ("needs", format!("{text}[wants]\nnobody = \"*\"\n"), "nobody"),
    ] {
        zipped(&world, &format!("{name}.zip"), &[file("yalotheca-pack.toml", pack)])?;
        let answer = world.run(&["add", &format!("../files/{name}.zip"), "--yes"]).says(&[says]);
        assert!(answer.code == 5 || answer.code == 3, "{name}: {}", answer.code);
    }
    assert!(!world.read("yalotheca.toml")?.contains("p ="));
    Ok(())
}

fn unzipped(world: &World, name: &str, files: &[File]) -> Done {
    for (path, bytes) in files {
        let path = world.files().join(name).join(path);
        fs::create_dir_all(path.parent().ok_or("no folder")?)?;
        fs::write(path, bytes)?;
    }
    Ok(())
}

/// An archive that is a whole server's folder, as somebody else packed it.
fn setup(world: &World) -> Done {
    zipped(world, "setup.zip", &setup_files()?)
}

fn setup_files() -> Result<Vec<File>, Box<dyn std::error::Error>> {
    let (bells, bell_bytes) = quayside::release("tidebell", "1.2.0")?;
    let (core, core_bytes) = quayside::release("harbour-core", "2.3.0")?;
    Ok(vec![
        file(
            "My Harbour/boot.json",
            "{\"engine\": \"saltwick-2.2.swe\", \"runtime\": 6, \"memory_mb\": 4096, \"options\": []}\n",
        ),
        file("My Harbour/saltwick-2.2.swe", quayside::engine("2.2", 6)?),
        file("My Harbour/saltwick.conf", "name = My Harbour\nport = 1\n"),
        file(&format!("My Harbour/plugins/{bells}"), bell_bytes),
        file(&format!("My Harbour/plugins/plugins/{core}"), core_bytes),
        file("My Harbour/plugins/order.txt", format!("# theirs\n{}\n", "tidebell")),
        file("My Harbour/plugins/tidebell/settings.yml", "volume: 7\n"),
        file("My Harbour/towns/brinewick/chart/0001.chart", "a world"),
        file("My Harbour/logs/latest.log", "[1] info harbour open"),
        file("My Harbour/start.sh", "#!/bin/sh\nrm -rf /\n"),
        file("My Harbour/README.txt", "hi"),
    ])
}

#[test]
fn a_ready_made_setup_on_an_empty_server() -> Done {
    let world = World::empty()?;
    setup(&world)?;
    let program = format!("program={}", world.root().join("saltwick-server").display());
    world.run(&["adopt", "--game", "saltwick", "--name", "New", "--set", &program]).code(0);
    world.run(&["add", "../files/setup.zip", "--yes"]).code(0).says(&[
        "new tidebell 1.2.0",
        "new saltwick 2.2",
        "is a whole server's folder",
        "a start script; yours stays My Harbour/start.sh",
        "of a world, a save or a log; yours stays My Harbour/towns/brinewick/chart/0001.chart",
    ]);
    assert!(
        world.path("plugins/harbour-core-2.3.0.swp").exists(),
        "what lay a folder too deep lies right now"
    );
    assert!(world.read("boot.json")?.contains("\"memory_mb\": 4096"), "their settings are taken over");
    assert_eq!(world.read("plugins/tidebell/settings.yml")?, "volume: 7\n");
    assert!(!world.path("start.sh").exists() && !world.path("towns/brinewick/chart").exists());
    world.write("saltwick.conf", &format!("name = New\nport = {}\n", free_port()?))?;
    world.run(&["settle", "--accept-terms", "--yes"]).code(0);
    world.run(&["trial"]).code(0).says(&["tidebell 1.2.0 loaded"]);
    Ok(())
}

#[test]
fn a_ready_made_setup_on_a_used_server_keeps_what_is_the_administrators() -> Done {
    let world = World::fresh()?;
    setup(&world)?;
    let conf = world.read("saltwick.conf")?;
    world
        .run(&["add", "../files/setup.zip", "--yes"])
        .code(0)
        .says(&["saltwick.conf is there already; yours stays"]);
    assert_eq!(world.read("saltwick.conf")?, conf);
    assert!(world.read("boot.json")?.contains("saltwick-2.2.swe"), "the engine came with it");
    Ok(())
}

#[test]
fn a_setup_and_a_pack_may_be_folders() -> Done {
    let world = World::fresh()?;
    unzipped(&world, "setup", &setup_files()?)?;
    world.run(&["add", "../files/setup", "--yes"]).code(0).says(&[
        "new tidebell 1.2.0",
        "is a whole server's folder",
        "saltwick.conf is there already; yours stays",
        "a start script; yours stays My Harbour/start.sh",
    ]);
    assert!(world.path("plugins/harbour-core-2.3.0.swp").exists() && !world.path("start.sh").exists());
    assert_eq!(world.read("plugins/tidebell/settings.yml")?, "volume: 7\n");

    let other = grounds()?;
    let pack = "format = 1\nid = \"crossing\"\nversion = \"2\"\ngame = \"saltwick\"\n\
                [[member]]\nfile = \"members/pontoon-3.1.swl\"\n\
                [[setting]]\nfile = \"settings/lamps.yml\"\nto = \"plugins/lamps/settings.yml\"\n";
    let loader = fs::read(other.files().join("pontoon-3.1.swl"))?;
    unzipped(
        &other,
        "crossing",
        &[
            file("yalotheca-pack.toml", pack),
            file("members/pontoon-3.1.swl", loader),
            file("settings/lamps.yml", "bright: true\n"),
        ],
    )?;
    other.run(&["add", "../files/crossing", "--yes"]).code(0).says(&["new crossing 2", "crossing needs it"]);
    assert_eq!(other.read("plugins/lamps/settings.yml")?, "bright: true\n");
    assert!(other.path("pontoon-3.1.swl").exists());
    other.run(&["drop", "crossing", "--yes"]).code(0);
    assert!(!other.path("pontoon-3.1.swl").exists());
    Ok(())
}

#[test]
fn a_clean_start_loses_no_world() -> Done {
    let world = World::left_behind()?;
    world.run(&["fix", "--yes"]).code(0);
    world.write("plugins/old-thing.swp", "who knows")?;
    world.write("mods/deep/er/leftover.swm", "who knows")?;
    world.write("towns/brinewick/chart/0002.chart", "the world")?;
    world.write("crew/notes.txt", "ask Wren")?;
    let before = world.digests()?;
    world
        .run(&["settle", "--clean-first", "--spare", "crew/**", "--yes"])
        .code(0)
        .says(&["set aside", "plugins/old-thing.swp", "mods/deep/er/leftover.swm"])
        .says(&["Stays where it is", "plugins/notes from last year.txt"]);
    for gone in ["plugins/old-thing.swp", "mods/deep"] {
        assert!(!world.path(gone).exists(), "{gone}");
    }
    for stays in [
        "towns/brinewick/chart/0002.chart",
        "crew/notes.txt",
        "plugins/notes from last year.txt",
        "boot.json",
        "saltwick.conf",
        "saltwick-2.4.swe",
        "terms.txt",
    ] {
        assert!(world.path(stays).exists(), "{stays}");
    }
    world.run(&["check"]).code(0);
    world.run(&["settle", "--clean-first", "--spare", "crew/**", "--yes"]).code(0).says(&["nothing to do"]);
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(world.digests()?, before);
    world.run(&["settle", "--spare", "x", "--yes"]).code(2);
    world.run(&["settle", "--clean-first", "--spare", "[", "--yes"]).code(2).says(&["the files to spare"]);
    Ok(())
}

#[test]
fn the_cache_is_swept_and_servers_keep_what_they_have() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "tidebell", "--yes"]).code(0);
    world.run(&["catalogue", "sweep"]).code(0).says(&["nothing that could go"]);
    world.run(&["catalogue", "sweep", "--most", "0"]).code(0).says(&["Swept"]);
    world.run(&["check"]).code(0);
    fs::remove_file(world.path("plugins/tidebell-1.4.0.swp"))?;
    world.run(&["settle", "--yes"]).code(0);
    Ok(())
}

/// The key and the signature are the example of the format's own library.
#[test]
fn a_publishers_key_is_checked() -> Done {
    let world = World::fresh()?;
    let wants = world.read("yalotheca.toml")?;
    let key = "RWQf6LRCGA9i53mlYecO4IzT51TGPpvWucNSCh1CBM0QTaLn73Y7GFO3";
    let at = wants.find("at = \"http").ok_or("the catalogue is on the web")?;
    let (head, tail) = wants.split_at(at);
    world.write("yalotheca.toml", &format!("{head}key = \"{key}\"\n{tail}"))?;
    world.run(&["add", "tidebell", "--yes"]).code(5).says(&["catalogue.json.minisig is not there"]);
    let signature = world.root().join("quayside/catalogue.json.minisig");
    fs::write(&signature, "nonsense")?;
    world.run(&["add", "tidebell", "--yes"]).code(5).says(&["is no signature"]);
    // A good signature by that key, of another file.
    fs::write(
        &signature,
        "untrusted comment: signature from minisign secret key\n\
         RWQf6LRCGA9i59SLOFxz6NxvASXDJeRtuZykwQepbDEGt87ig1BNpWaVWuNrm73YiIiJbq71Wi+dP9eKL8OC351vwIasSSbXxwA=\n\
         trusted comment: timestamp:1555779966\tfile:test\n\
         QtKMXWyYcwdpZAlPF7tE2ENJkRd1ujvKjlj1m9RtHTBnZPa5WKU5uWRs5GoP5M/VqE81QFuMKI5k/SfNQUaOAA==\n",
    )?;
    world.run(&["add", "tidebell", "--yes"]).code(5).says(&["it was not made with that key for this file"]);
    world.write("yalotheca.toml", &format!("{head}key = \"abc\"\n{tail}"))?;
    world.run(&["find"]).code(5).says(&["the key is none"]);
    Ok(())
}

#[test]
fn a_catalogue_that_its_publisher_signed_is_taken() -> Done {
    let world = World::fresh()?;
    let run = |words: &[&str]| Command::new("minisign").args(words).current_dir(world.root()).output();
    if !run(&["-G", "-W", "-p", "crew.pub", "-s", "crew.key"]).is_ok_and(|output| output.status.success()) {
        return skipped("minisign");
    }
    let signed = run(&["-S", "-s", "crew.key", "-m", "quayside/catalogue.json"])?;
    assert!(signed.status.success(), "{}", String::from_utf8_lossy(&signed.stderr));
    let key = fs::read_to_string(world.root().join("crew.pub"))?;
    let key = key.lines().nth(1).ok_or("the key is the second line")?;
    let wants = world.read("yalotheca.toml")?;
    world.write("yalotheca.toml", &wants.replace("at = \"http", &format!("key = \"{key}\"\nat = \"http")))?;
    world.run(&["add", "tidebell", "--yes"]).code(0);
    // One letter more, and it is not the publisher's any more.
    let index = world.root().join("quayside/catalogue.json");
    fs::write(&index, fs::read_to_string(&index)? + "\n")?;
    world
        .run(&["update", "--yes"])
        .code(5)
        .says(&["it was not made with that key for this file", "nothing of it was used"]);
    Ok(())
}

#[test]
fn an_older_index_of_a_publisher_is_refused() -> Done {
    let world = World::fresh()?;
    let run = |words: &[&str]| Command::new("minisign").args(words).current_dir(world.root()).output();
    if !run(&["-G", "-W", "-p", "crew.pub", "-s", "crew.key"]).is_ok_and(|output| output.status.success()) {
        return skipped("minisign");
    }
    let index = world.root().join("quayside/catalogue.json");
    let plain = fs::read_to_string(&index)?;
    let publish = |serial: u64| -> Done {
        fs::write(&index, plain.replacen('{', &format!("{{\"serial\": {serial}, "), 1))?;
        assert!(run(&["-S", "-s", "crew.key", "-m", "quayside/catalogue.json"])?.status.success());
        Ok(())
    };
    let key = fs::read_to_string(world.root().join("crew.pub"))?;
    let key = key.lines().nth(1).ok_or("the key is the second line")?;
    let wants = world.read("yalotheca.toml")?;
    let signed = wants.replace("at = \"http", &format!("key = \"{key}\"\nat = \"http"));
    world.write("yalotheca.toml", &signed)?;
    publish(7)?;
    world.run(&["find"]).code(0);
    publish(8)?;
    world.run(&["find"]).code(0);
    publish(7)?;
    let before = world.digests()?;
    for words in [&["find"][..], &["add", "tidebell", "--yes"]] {
        world.run(words).code(5).says(&["this is edition 7, and edition 8 was seen before", "older = true"]);
    }
    assert_eq!(world.digests()?, before);
    world.write("yalotheca.toml", &signed.replace("key = ", "older = true\nkey = "))?;
    world.run(&["add", "tidebell", "--yes"]).code(0);
    Ok(())
}
