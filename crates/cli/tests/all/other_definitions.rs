//! Definitions of other games, and servers that they describe.

use std::fs;

use crate::harness::{Done, World};

const QUAY: &str = r#"
format = 1
name = "quay"
title = "Quay"
[recognise]
all = ["quay.conf"]
[run]
command = ["quay-server"]
stop = "TERM"
ready = "open"
[kind.part]
shape = "file"
suffix = ".part"
place = [{ into = "parts/" }]
loads-from = [{ folder = "parts", sub-folders = true }]
register = [{ list = "quay.conf#/parts", separator = ",", item = "{{ content.id }}" }]
settings = [{ file = "parts/{{ content.id }}.conf" }]
[kind.pier]
shape = "folder"
marker = "pier.conf"
place = [{ into = "piers/{{ content.id }}/" }]
[maps]
kind = "pier"
play = { at = "quay.conf#/pier" }
"#;

/// A server of that game, with a definition that is trusted.
fn quay() -> Result<World, Box<dyn std::error::Error>> {
    let world = World::empty()?;
    world.write("games/quay.toml", QUAY)?;
    world.write("quay.conf", "parts = deep\npier = north\n")?;
    world.run(&["adopt"]).code(2).says(&["the definition quay is new here", "yalotheca game trust quay"]);
    world.run(&["game", "trust", "quay", "--yes"]).code(0);
    Ok(world)
}

/// A file that is a zip archive by its bytes.
fn zip(world: &World, name: &str) -> Done {
    let mut zip = zip::ZipWriter::new(fs::File::create(world.path(name))?);
    zip.start_file("inside.txt", zip::write::SimpleFileOptions::default())?;
    zip.finish()?;
    Ok(())
}

#[test]
fn a_file_that_is_an_archive_by_its_bytes_is_a_content_all_the_same() -> Done {
    let world = quay()?;
    fs::create_dir_all(world.path("../files"))?;
    zip(&world, "../files/lamp.part")?;
    zip(&world, "../files/rope.part")?;
    world.run(&["adopt", "--catalogue", "own=../files"]).code(0);
    world.run(&["add", "../files/lamp.part", "--yes"]).code(0).says(&["parts/lamp.part"]);
    world.run(&["add", "rope", "--yes"]).code(0).says(&["parts/rope.part"]);
    assert_eq!(fs::read(world.path("parts/rope.part"))?, fs::read(world.path("../files/rope.part"))?);
    // Another kind of file says what it may be.
    world.write("../files/plain.txt", "x")?;
    world.run(&["add", "../files/plain.txt"]).code(5).says(&["nothing in it is recognised"]);
    Ok(())
}

#[test]
fn what_lies_in_folders_inside_is_loaded_where_the_definition_says_so() -> Done {
    let world = quay()?;
    fs::create_dir_all(world.path("parts/old"))?;
    zip(&world, "parts/old/deep.part")?;
    world.write("parts/deep.conf", "fog = 1\n")?;
    world.run(&["adopt"]).code(0).says(&["deep on parts/old/deep.part"]);
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    // Its settings file is no stranger.
    let check = world.run(&["check"]);
    assert!(!check.out.contains("deep.conf"), "{}", check.out);
    Ok(())
}

#[test]
fn a_map_may_be_a_folder() -> Done {
    let world = quay()?;
    world.write("piers/north/pier.conf", "planks = 12\n")?;
    world.write("piers/south/pier.conf", "planks = 3\n")?;
    world.run(&["adopt"]).code(0);
    world.run(&["maps"]).code(0).says(&["plays north", "south"]);
    world.run(&["maps", "play", "south", "--yes"]).code(0);
    assert!(world.read("quay.conf")?.contains("pier = south"));
    world.run(&["maps", "play", "east"]).code(2).says(&["there is no map east here"]);
    Ok(())
}

#[test]
fn a_definition_is_used_once_before_it_is_called_good() -> Done {
    let world = World::empty()?;
    let refused = |from: &str, to: &str, says: &[&str]| -> Done {
        world.write("quay.toml", &QUAY.replace(from, to))?;
        world.run(&["game", "check", "quay.toml"]).code(2).says(says);
        Ok(())
    };
    world.write("quay.toml", QUAY)?;
    world.run(&["game", "check", "quay.toml"]).code(0).says(&["the definition quay is good"]);
    refused(
        "register = [",
        "register = [{ list = \"quay.conf#\", as = \"lines\", item = \"x\" }, ",
        &["[kind.part]", "quay.conf is read as lines here, and as properties in [maps]"],
    )?;
    refused(
        "{{ content.id }}.conf",
        "{{ content.id | upper }}.conf",
        &["[kind.part]", "filter upper is unknown"],
    )?;
    refused("quay.conf#/parts", "quay.conf#/pier", &["[kind.part]", "is what [maps] writes"])?;
    refused(
        "[maps]",
        "[[reference]]\neach = \"{{ folder }}/*.conf#/x\"\nis = { words = [\"y\"] }\n[maps]",
        &["templates are not filled in a reference"],
    )
}

#[test]
fn a_server_without_catalogues_says_how_to_get_one() -> Done {
    let world = quay()?;
    world.run(&["adopt"]).code(0);
    world
        .run(&["add", "lamp"])
        .code(2)
        .says(&["no catalogue has a content called lamp", "yalotheca catalogue add"]);
    Ok(())
}

/// A game whose parts are known by a ticket, signed, and of which the first counts.
const FERRY: &str = r#"
format = 1
name = "ferry"
title = "Ferry"
[values]
compiler = { default = "compile-decks" }
[recognise]
all = ["ferry.yml"]
[run]
command = ["ferry-server"]
stop = "TERM"
ready = "open"
[kind.deck]
shape = "folder"
marker = "ticket.txt"
facts = { ticket = { own-name = '^deck-(?<fact>\w+)$' }, cabins = { folders = "cabins/*" } }
id = "deck-{{ fact.ticket }}"
place = [
  { into = "decks/deck-{{ fact.ticket }}/" },
  { also = true, take = "seals/*", strip = 1, into = "trusted/" },
]
register = [
  { list = "ferry.yml#/decks", item = "{{ fact.ticket }}", ordered = true },
  { list = "ferry.yml#/cabins", item = "{{ it }}", for-each = "cabins" },
]
[[link]]
match = '^ticket-(?<ticket>\w+)$'
queue = { list = "ferry.yml#/wanted", item = "{{ ticket }}" }
[maps]
folders = "routes/*"
play = { at = "ferry.yml#/route" }
with = { list = "ferry.yml#/calls", item = "port of {{ it }}" }
saves = "logbook/{{ it }}"
[assets]
files = ["decks/*/paint/*"]
inside = ["decks/*/signs.pak"]
members = ["signs/**"]
wins = "first"
[signatures]
scheme = "ed25519"
parts = "decks/*/hull.bin"
signature = "{{ part }}@{{ key }}"
keys = "trusted/*"
[[tool]]
after = ["decks/**"]
reads = ["decks/**"]
run = ["{{ values.compiler }}", "{{ folder }}"]
writes = "decks.idx"
"#;

/// An archive of signs, one of which is a deck's own.
fn signs(deck: &str) -> Result<Vec<u8>, Box<dyn std::error::Error>> {
    let mut bytes = std::io::Cursor::new(Vec::new());
    let mut zip = zip::ZipWriter::new(&mut bytes);
    for (name, text) in [("signs/exit.png", deck), ("signs/fire.png", "fire"), ("readme", deck)] {
        zip.start_file(name, zip::write::SimpleFileOptions::default())?;
        std::io::Write::write_all(&mut zip, text.as_bytes())?;
    }
    zip.finish()?;
    Ok(bytes.into_inner())
}

#[test]
fn another_game_says_the_same_in_the_same_words() -> Done {
    let world = World::empty()?;
    world.write("games/ferry.toml", FERRY)?;
    world.write("ferry.yml", "decks: []\n")?;
    // The tool lies with the server.
    let tool = world.path("compile-decks");
    fs::write(&tool, "#!/bin/sh\ncd \"$1\" && ls decks > decks.idx\n")?;
    fs::set_permissions(&tool, std::os::unix::fs::PermissionsExt::from_mode(0o755))?;
    for (deck, paint) in [("deck-north", "white"), ("deck-south", "green")] {
        let folder = world.root().join(deck);
        for part in ["paint", "seals", "cabins/lounge"] {
            fs::create_dir_all(folder.join(part))?;
        }
        fs::write(folder.join("ticket.txt"), "")?;
        fs::write(folder.join("hull.bin"), deck)?;
        fs::write(folder.join("cabins/lounge/chairs"), deck)?;
        fs::write(folder.join("paint/railing"), paint)?;
        fs::write(folder.join("signs.pak"), signs(deck)?)?;
        fs::write(folder.join("seals/yard.pub"), yalotheca_standin::moor::key_file("yard")?)?;
        let signature = yalotheca_standin::moor::signature_file("yard", deck.as_bytes())?;
        fs::write(folder.join("hull.bin@yard"), signature)?;
    }
    world.run(&["game", "trust", "ferry", "--yes"]).code(0);
    world.run(&["adopt", "--set", "compiler=./compile-decks"]).code(0);
    world.run(&["game", "trust", "ferry", "--yes"]).code(0);
    let (north, south) = (world.root().join("deck-north"), world.root().join("deck-south"));
    world
        .run(&["add", &north.display().to_string(), "--yes"])
        .code(0)
        .says(&["decks.idx will be rebuilt by compile-decks"]);
    world.run(&["add", &south.display().to_string(), "--yes"]).code(0);
    let settings = world.read("ferry.yml")?;
    assert!(
        settings.contains("north") && settings.contains("south") && settings.contains("lounge"),
        "{settings}"
    );
    assert_eq!(world.read("decks.idx")?, "deck-north\ndeck-south\n");
    world.run(&["keys"]).code(0).says(&[
        "signed by yard",
        "trusted/yard.pub",
        "signs deck-north, deck-south",
    ]);
    // Both decks differ in a loose file and in one inside an archive; what is alike in both, or no sign at all, does not matter.
    let clashes = world.run(&["clashes"]).code(1);
    assert!(!clashes.out.contains("readme"), "{}", clashes.out);
    clashes.says(&[
        "2 assets in different versions",
        "players see those of deck-north",
        "railing",
        "signs/exit.png inside archives",
        "1 more asset with the same bytes",
        "yalotheca order NAME --after OTHER",
    ]);
    world
        .run(&["clashes", "keep", "signs/exit.png", "--from", "deck-south", "--yes"])
        .code(5)
        .says(&["is inside archives", "yalotheca order deck-south"]);
    world.run(&["check"]).says(&["deck-south and deck-north each have", "signs/exit.png"]);
    world.run(&["drop", "deck-north", "--yes"]).code(0);
    assert_eq!(world.read("decks.idx")?, "deck-south\n");
    assert!(world.path("trusted/yard.pub").exists());
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(world.read("decks.idx")?, "deck-north\ndeck-south\n");
    // A map is a folder of another depth here, and something else goes with it.
    fs::create_dir_all(world.path("routes/skerry"))?;
    fs::create_dir_all(world.path("logbook/skerry"))?;
    world.write("logbook/skerry/monday", "fog")?;
    world
        .run(&["maps", "play", "skerry", "--yes"])
        .code(0)
        .says(&["skerry continues from its saves in logbook/skerry/"]);
    let settings = world.read("ferry.yml")?;
    assert!(settings.contains("route: skerry") && settings.contains("- port of skerry"), "{settings}");
    world.run(&["maps"]).code(0).says(&["plays skerry", "saves 3 B"]);
    world.run(&["undo", "--yes"]).code(0);
    assert!(!world.read("ferry.yml")?.contains("skerry"));
    Ok(())
}

#[test]
fn what_the_server_itself_fetches_is_queued_fetched_and_taken_over() -> Done {
    let world = World::empty()?;
    world.write("games/ferry.toml", FERRY)?;
    world.write("ferry.yml", "decks: []\n")?;
    // The server fetches what is wanted from the yard, each time that it starts.
    let yard = world.root().join("yard/deck-east");
    fs::create_dir_all(&yard)?;
    fs::write(yard.join("ticket.txt"), "")?;
    fs::write(yard.join("hull.bin"), "hull")?;
    let server = "#!/bin/sh\nmkdir -p decks\nfor one in $(sed -n '/^wanted:/,$ s/^ *- *//p' ferry.yml); do\n\
        if [ -d \"../yard/deck-$one\" ]; then cp -r \"../yard/deck-$one\" decks/; else echo \"nothing called $one\"; fi\ndone\n\
        echo open\ntrap 'exit 0' TERM\nwhile :; do sleep 0.05; done\n";
    for (name, text) in [
        ("ferry-server", server),
        ("compile-decks", "#!/bin/sh\ncd \"$1\" && { echo idx; ls decks; } > decks.idx\n"),
    ] {
        fs::write(world.path(name), text)?;
        fs::set_permissions(world.path(name), std::os::unix::fs::PermissionsExt::from_mode(0o755))?;
    }
    let definition = FERRY.replace("command = [\"ferry-server\"]", "command = [\"./ferry-server\"]");
    world.write(
        "games/ferry.toml",
        &definition.replace("ready = \"open\"", "ready = \"open\"\ntrouble = ['(?<what>nothing called .*)']"),
    )?;
    world.run(&["game", "trust", "ferry", "--yes"]).code(0);
    world.run(&["adopt", "--set", "compiler=./compile-decks"]).code(0);
    world.run(&["game", "trust", "ferry", "--yes"]).code(0);
    let before = world.digests()?;
    world.run(&["add", "ticket-east"]).code(5).says(&["needs confirmation"]);
    world
        .run(&["add", "ticket-west", "--yes"])
        .code(5)
        .says(&["did not download ticket-west: nothing called west"]);
    assert!(!world.read("ferry.yml")?.contains("west"));
    world.run(&["add", "ticket-east", "--yes"]).code(0).says(&["deck-east", "ferry.yml add east"]);
    let settings = world.read("ferry.yml")?;
    assert!(settings.contains("[east]") && !settings.contains("wanted"), "{settings}");
    assert_eq!(world.read("decks.idx")?, "idx\ndeck-east\n");
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    // Again it is the same one, and nothing is started for it.
    world.run(&["add", "ticket-east", "--yes"]).code(0).says(&["nothing to do"]);
    world.run(&["drop", "deck-east", "--yes"]).code(0);
    // The file that is compiled stays, and has nothing in it.
    assert_eq!(world.read("decks.idx")?, "idx\n");
    let mut after = world.digests()?;
    after.remove("decks.idx");
    after.remove("decks");
    assert_eq!(after, before);
    Ok(())
}
