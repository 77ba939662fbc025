//! The ways in that are no catalogue: files, folders, archives of every kind, with more around a content than the content.

use std::{fs, process::Command};

use yalotheca_standin::{kites, quayside};

use crate::harness::{Done, World, skipped};

#[test]
fn what_is_around_a_map_is_left_out_and_told() -> Done {
    let world = World::kites()?;
    let before = world.digests()?;
    world.run(&["add", "../files/gull-cliffs-2.zip", "--yes"]).code(0).says(&[
        "put 181 KB maps/gull_cliffs.kmap",
        "maps/gull_cliffs.lanes",
        "system litter __MACOSX/Gull Cliffs 2/._gull_cliffs.kmap",
        "for people to read Gull Cliffs 2/README.md",
        "an installer; nothing is run Gull Cliffs 2/install.bat",
        "a log Gull Cliffs 2/build.log",
        "dusk_harbour",
    ]);
    assert_eq!(fs::read(world.path("maps/gull_cliffs.kmap"))?, kites::map("gull_cliffs")[0].1);
    assert!(!world.path("maps/README.md").exists() && !world.path("install.bat").exists());
    world.run(&["check"]).code(0);
    let wants = world.read("yalotheca.toml")?;
    assert!(
        wants.contains("gull_cliffs = { file = ")
            && wants.contains("inside = \"Gull Cliffs 2/gull_cliffs.kmap\""),
        "{wants}"
    );
    // What is noted is enough to bring it back.
    fs::remove_file(world.path("maps/gull_cliffs.kmap"))?;
    world.run(&["check"]).code(1).says(&["maps/gull_cliffs.kmap of gull_cliffs is gone"]);
    world.run(&["settle", "--yes"]).code(0);
    world.run(&["drop", "gull_cliffs", "--yes"]).code(0);
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn a_map_in_an_archive_in_an_archive() -> Done {
    let world = World::kites()?;
    world
        .run(&["add", "../files/windmill.zip", "--yes"])
        .code(0)
        .says(&["windmill_row", "maps/read me first.txt"]);
    assert!(world.path("maps/windmill_row.kmap").exists() && world.path("maps/windmill_row.brief").exists());
    Ok(())
}

#[test]
fn several_contents_are_told_and_chosen_from() -> Done {
    let world = World::kites()?;
    world
        .run(&["add", "../files/two-lofts.zip", "--yes"])
        .code(2)
        .says(&["holds 2 contents: net_loft, rope_walk", "--only net_loft"]);
    world
        .run(&["add", "../files/two-lofts.zip", "--only", "attic", "--yes"])
        .code(2)
        .says(&["holds no attic"]);
    world.run(&["add", "../files/two-lofts.zip", "--only", "net_loft", "--yes"]).code(0);
    assert!(world.path("maps/net_loft.kmap").exists() && !world.path("maps/rope_walk.kmap").exists());
    world.run(&["add", "../files/two-lofts.zip", "../files/dusk_harbour.ksky", "--all", "--yes"]).code(0);
    assert!(world.path("maps/rope_walk.kmap").exists() && world.path("sky/dusk_harbour.ksky").exists());
    Ok(())
}

#[test]
fn what_is_not_the_file_is_told_as_what_it_is() -> Done {
    let world = World::kites()?;
    let before = world.digests()?;
    let put = |name: &str, bytes: &[u8]| fs::write(world.files().join(name), bytes);
    put("page.kmap", b"<!DOCTYPE html><title>Kites</title>")?;
    put("packed.rar", b"Rar!\x1a\x07\x01\0")?;
    put("notes.txt", b"hello")?;
    put("zeros.zip", b"PK\x03\x04 and then nothing")?;
    fs::create_dir(world.files().join("empty"))?;
    for (name, code, says) in [
        ("half_moon.kmap", 5, "it is truncated: 60000 of 90016 bytes"),
        ("page.kmap", 5, "it is a web page, not the file"),
        ("packed.rar", 5, "is a RAR archive"),
        ("notes.txt", 5, "nothing in it is recognised as a content of this game"),
        ("empty", 5, "nothing in it is recognised as a content of this game"),
        ("zeros.zip", 5, "damaged"),
        ("gone.zip", 2, "there is no file or folder"),
    ] {
        world.run(&["add", &format!("../files/{name}"), "--yes"]).code(code).says(&[says]);
    }
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn what_nobody_knows_a_place_for_stops_until_told() -> Done {
    let world = World::kites()?;
    let mut files = kites::map("rope_walk");
    files.push(("extra/wind.dat".into(), b"wind".to_vec()));
    fs::write(world.files().join("rope.zip"), kites::zipped(&files)?)?;
    world.run(&["add", "../files/rope.zip", "--yes"]).code(5).says(&[
        "can't tell where these files go: extra/wind.dat",
        "--place 'extra/wind.dat=FOLDER'",
        "--leave 'extra/wind.dat'",
    ]);
    world
        .run(&["add", "../files/rope.zip", "--place", "extra/*=weather", "--yes"])
        .code(0)
        .says(&["weather/wind.dat"]);
    assert_eq!(world.read("weather/wind.dat")?, "wind");
    assert!(
        world.read("yalotheca.toml")?.contains("place = { \"extra/*\" = \"weather\" }"),
        "it is remembered"
    );
    fs::remove_file(world.path("weather/wind.dat"))?;
    world.run(&["settle", "--yes"]).code(0);
    assert_eq!(world.read("weather/wind.dat")?, "wind");
    world
        .run(&["add", "../files/rope.zip", "--leave", "extra/*", "--yes"])
        .code(0)
        .says(&["you said so extra/wind.dat"]);
    assert!(!world.path("weather").exists());
    world.run(&["add", "../files/rope.zip", "--place", "extra/*=../outside", "--yes"]).code(2);
    Ok(())
}

#[test]
fn a_compressed_map_is_unpacked_and_a_folder_is_a_way_in() -> Done {
    let world = World::kites()?;
    let folder = world.files().join("kite maps");
    fs::create_dir(&folder)?;
    for (name, bytes) in kites::map("rope_walk") {
        fs::write(folder.join(name), bytes)?;
    }
    fs::write(folder.join("README"), "hello")?;
    world
        .run(&["add", "../files/kite maps", "--yes"])
        .code(0)
        .says(&["maps/rope_walk.lanes", "for people to read README"]);
    let single = world.files().join("net_loft.kmap");
    fs::write(&single, &kites::map("net_loft")[0].1)?;
    let packed = Command::new("bzip2").arg(&single).output();
    if !packed.is_ok_and(|output| output.status.success()) {
        return skipped("bzip2");
    }
    world.run(&["add", "../files/net_loft.kmap.bz2", "--yes"]).code(0).says(&["maps/net_loft.kmap"]);
    assert_eq!(fs::read(world.path("maps/net_loft.kmap"))?, kites::map("net_loft")[0].1);
    Ok(())
}

#[test]
fn plugins_come_by_file_with_what_they_need_from_the_catalogue() -> Done {
    let world = World::fresh()?;
    fs::create_dir(world.files())?;
    let (name, bytes) = quayside::release("tidebell", "1.2.0")?;
    fs::write(world.files().join(&name), &bytes)?;
    let before = world.digests()?;
    world
        .run(&["add", &format!("../files/{name}"), "--yes"])
        .code(0)
        .says(&["tidebell 1.2.0", "harbour-core"]);
    assert!(world.path("plugins/tidebell-1.2.0.swp").exists());
    // What was given by hand stays what it is, though the catalogue has a newer one.
    world.run(&["update", "--yes"]).code(0);
    assert!(world.path("plugins/tidebell-1.2.0.swp").exists());
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(world.digests()?, before);
    // Plugins in an archive: each is found, and is still an archive.
    let two = [(name, bytes), quayside::release("gull-chat", "1.0.0")?]
        .map(|(name, bytes)| (format!("pack/{name}"), bytes));
    fs::write(world.files().join("pack.zip"), kites::zipped(&two)?)?;
    world.run(&["add", "../files/pack.zip", "--all", "--yes"]).code(0);
    assert!(world.path("plugins/gull-chat-1.0.0.swp").exists() && !world.path("plugins/pack").exists());
    Ok(())
}

#[test]
fn an_archive_with_a_password_asks_for_it() -> Done {
    let world = World::kites()?;
    for (name, bytes) in kites::map("rope_walk") {
        fs::write(world.files().join(name), bytes)?;
    }
    let words =
        ["-q", "-P", "larkspur", "secret.zip", "rope_walk.kmap", "rope_walk.lanes", "rope_walk.brief"];
    let packed = Command::new("zip").args(words).current_dir(world.files()).output();
    if !packed.is_ok_and(|output| output.status.success()) {
        return skipped("zip");
    }
    world
        .run(&["add", "../files/secret.zip", "--yes"])
        .code(5)
        .says(&["a password is needed", "--password-file"]);
    fs::write(world.root().join("wrong"), "foxglove\n")?;
    fs::write(world.root().join("right"), "larkspur\n")?;
    world
        .run(&["add", "../files/secret.zip", "--password-file", "../wrong", "--yes"])
        .code(5)
        .says(&["not the right one"]);
    world.run(&["add", "../files/secret.zip", "--password-file", "../right", "--yes"]).code(0);
    assert!(world.path("maps/rope_walk.kmap").exists());
    for entry in walkdir::WalkDir::new(world.path(".yalotheca"))
        .into_iter()
        .chain(walkdir::WalkDir::new(world.server()))
    {
        let path = entry?.into_path();
        let keeps = path.is_file() && String::from_utf8_lossy(&fs::read(&path)?).contains("larkspur\n");
        assert!(!keeps, "{} keeps no password", path.display());
    }
    Ok(())
}

#[test]
fn bounds_are_the_administrators() -> Done {
    let world = World::kites()?;
    let wants = world.read("yalotheca.toml")?;
    world.write("yalotheca.toml", &format!("{wants}\n[unpack]\nentries = 2\n"))?;
    world
        .run(&["add", "../files/two-lofts.zip", "--all", "--yes"])
        .code(5)
        .says(&["more than 2 members", "[unpack]"]);
    world.write("yalotheca.toml", &format!("{wants}\n[unpack]\nentrees = 2\n"))?;
    world.run(&["check"]).code(2).says(&["entrees", "did you mean entries?"]);
    Ok(())
}

/// Archives that are made to do harm, given to the built program: it refuses each as a whole, and writes nothing anywhere.
#[test]
fn attacks_are_refused_as_a_whole() -> Done {
    let world = World::kites()?;
    let before = world.digests()?;
    let map = kites::map("rope_walk");
    let hostile = |name: &str| [map.clone(), vec![(name.to_owned(), b"x".to_vec())]].concat();
    for (at, name) in [
        "../outside",
        "/tmp/yalotheca-outside",
        "maps/../../outside",
        "..\\outside",
        "C:\\outside",
        "a\u{1b}[31m",
    ]
    .iter()
    .enumerate()
    {
        let file = format!("attack-{at}.zip");
        fs::write(world.files().join(&file), kites::zipped(&hostile(name))?)?;
        let answer = world
            .run(&["add", &format!("../files/{file}"), "--yes"])
            .code(5)
            .says(&["is not safe", "nothing of it was placed"]);
        assert!(!answer.err.contains('\u{1b}'), "{name}: nothing hostile reaches the terminal");
    }
    // A link out of the archive, as another program packs it.
    let folder = world.files().join("links");
    fs::create_dir(&folder)?;
    std::os::unix::fs::symlink("/etc/passwd", folder.join("rope_walk.kmap"))?;
    let packed =
        Command::new("tar").args(["-czf", "links.tar.gz", "links"]).current_dir(world.files()).output()?;
    assert!(packed.status.success());
    world
        .run(&["add", "../files/links.tar.gz", "--yes"])
        .code(5)
        .says(&["a link that leads out of the archive"]);
    // A little archive that would be a gigabyte.
    let zeros = vec![("rope_walk.kmap".to_owned(), vec![0; 90 << 20])];
    fs::write(world.files().join("bomb.zip"), kites::zipped(&zeros)?)?;
    world.run(&["add", "../files/bomb.zip", "--yes"]).code(5).says(&["is too large", "[unpack]"]);
    // Two names that are one on some disks are told, and nothing else is wrong with them.
    let twins =
        [map, vec![("README".to_owned(), b"1".to_vec()), ("readme".to_owned(), b"2".to_vec())]].concat();
    fs::write(world.files().join("twins.zip"), kites::zipped(&twins)?)?;
    assert_eq!(world.digests()?, before);
    world
        .run(&["add", "../files/twins.zip", "--yes"])
        .code(0)
        .says(&["README and readme are one name on some disks"]);
    let outside =
        ["outside", "harbour/outside", "files/outside"].iter().any(|path| world.root().join(path).exists());
    assert!(!outside && !std::path::Path::new("/tmp/yalotheca-outside").exists());
    Ok(())
}

#[test]
fn what_a_server_does_to_a_shared_file_stays_with_it() -> Done {
    let world = World::kites()?;
    world.run(&["add", "../files/windmill.zip", "--yes"]).code(0);
    // The second server has the same cache.
    let second = world.root().join("second");
    kites::write_server(&second, 1, 2)?;
    let at = second.display().to_string();
    let run = |words: &[&str]| world.run(&[&["--at", at.as_str()], words].concat());
    run(&["adopt", "--name", "Second"]).code(0);
    // The first server writes into its file in place, as some servers do.
    let map = world.path("maps/windmill_row.kmap");
    let whole = fs::read(&map)?;
    let mut file = fs::File::options().write(true).open(&map)?;
    std::io::Write::write_all(&mut file, b"scribble")?;
    let archive = world.files().join("windmill.zip").display().to_string();
    run(&["add", &archive, "--yes"]).code(0);
    assert_eq!(
        fs::read(second.join("maps/windmill_row.kmap"))?,
        whole,
        "the other server gets the right bytes"
    );
    assert!(fs::read(&map)?.starts_with(b"scribble"));
    world
        .run(&["check"])
        .code(1)
        .says(&["maps/windmill_row.kmap was edited since Yalotheca installed it: it does not begin as such a file does"]);
    world.run(&["settle", "--yes"]).code(0);
    assert!(fs::read(&map)?.starts_with(b"scribble"), "it stays until somebody asks");
    world.run(&["settle", "--replace", "maps/windmill_row.kmap", "--yes"]).code(0);
    assert_eq!(fs::read(&map)?, whole);
    run(&["check"]).code(0);
    Ok(())
}

#[test]
fn two_commands_may_use_the_cache_at_once() -> Done {
    let world = World::kites()?;
    let host = yalotheca_standin::file_host::FileHost::start(world.files())?;
    let servers: Vec<String> =
        (0..4).map(|at| world.root().join(format!("server-{at}")).display().to_string()).collect();
    for at in &servers {
        kites::write_server(std::path::Path::new(at), 1, 2)?;
        world.run(&["--at", at, "adopt"]).code(0);
    }
    let link = host.at("slow/windmill.zip");
    let running: Vec<_> = servers
        .iter()
        .map(|at| world.command(&["--at", at, "add", &link, "--yes", "--quiet"]).spawn())
        .collect::<Result<_, _>>()?;
    for mut one in running {
        assert!(one.wait()?.success());
    }
    for at in &servers {
        world.run(&["--at", at, "check"]).code(0);
        assert_eq!(
            fs::read(std::path::Path::new(at).join("maps/windmill_row.kmap"))?,
            kites::map("windmill_row")[0].1
        );
    }
    Ok(())
}
