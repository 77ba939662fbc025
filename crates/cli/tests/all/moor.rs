//! Items of a Mossgarrow server: numbers, names, keys, regions, clashes, and the file that is compiled from grids.

use std::{
    fs,
    os::unix::fs::{PermissionsExt, symlink},
    process::{Command, Stdio},
};

use yalotheca_standin::{
    catalogue_host::CatalogueHost,
    moor::{self, ITEMS},
    mossgarrow::player,
};

use crate::{
    harness::{Done, World, program},
    remote::{Far, Ssh, encoded},
};

/// A moor whose server has started once, with an item host and the game's tool.
pub(crate) struct Moor {
    pub(crate) world: World,
    host: CatalogueHost,
}

impl Moor {
    pub(crate) fn new() -> Result<Self, Box<dyn std::error::Error>> {
        let moor = Self::unmanaged()?;
        moor.adopt()?;
        moor.world.run(&["trial"]).code(0);
        Ok(moor)
    }

    /// The same, without anything of ours.
    pub(crate) fn unmanaged() -> Result<Self, Box<dyn std::error::Error>> {
        let world = World::empty()?;
        moor::write_server(&world.server(), crate::harness::free_port()?)?;
        let pages = world.root().join("item-host");
        moor::write_item_host(&pages)?;
        let host = CatalogueHost::start(pages)?;
        let ini =
            world.read("garrow.ini")?.replace("item_host =", &format!("item_host = {}", host.address()));
        world.write("garrow.ini", ini.trim_end_matches('/'))?;
        let tool = world.root().join("mossgarrow-index");
        fs::write(
            &tool,
            format!("#!/bin/sh\nexec '{}' stand-in mossgarrow-index \"$@\"\n", program().display()),
        )?;
        fs::set_permissions(&tool, fs::Permissions::from_mode(0o755))?;
        Ok(Self { world, host })
    }

    /// Starts the server once, as its owner does.
    pub(crate) fn start_by_hand(&self) -> Done {
        let server = self.world.server();
        let first = Command::new(program()).args(["stand-in", "mossgarrow"]).arg(server).output()?;
        assert!(first.status.success());
        Ok(())
    }

    pub(crate) fn adopt(&self) -> Done {
        let server = format!("program={}", self.world.stand_in("mossgarrow")?.display());
        let index = format!("index={}", self.world.root().join("mossgarrow-index").display());
        self.world.run(&["adopt", "--name", "Larkspur Moor", "--set", &server, "--set", &index]).code(0);
        self.world.run(&["game", "trust", "mossgarrow", "--yes"]).code(0);
        Ok(())
    }
}

impl Moor {
    /// What a player sees who joins the server.
    fn joins(&self) -> Result<String, Box<dyn std::error::Error>> {
        let mut server = Command::new(program());
        server.args(["stand-in", "mossgarrow"]).arg(self.world.server());
        server.stdin(Stdio::null()).stdout(Stdio::null());
        let mut server = server.spawn()?;
        let args = self.world.read("launch.args")?;
        let port = args.split("--port ").nth(1).and_then(|rest| rest.split_whitespace().next());
        let port = port.ok_or("no port")?.parse()?;
        let mut seen = player::join(port);
        for _ in 0..200 {
            if seen.is_ok() {
                break;
            }
            std::thread::sleep(std::time::Duration::from_millis(20));
            seen = player::join(port);
        }
        // As its owner stops it: it keeps what players did.
        Command::new("kill").args(["-TERM", &server.id().to_string()]).status()?;
        server.wait()?;
        Ok(seen?)
    }

    /// The fen again, signed by another key that is called the same; returns its folder.
    fn signed_anew(&self, by: &str) -> Result<String, Box<dyn std::error::Error>> {
        let item = self.world.root().join("downloads/4410188");
        ITEMS[1].write(&self.world.root().join("downloads"))?;
        fs::write(item.join("Reedfen/keys/bulrush.mkey"), moor::key_file(by)?)?;
        let part = item.join("Reedfen/parts/fen.mpk");
        let signature = moor::signature_file(by, &fs::read(&part)?)?;
        fs::write(format!("{}.bulrush.sig", part.display()), signature)?;
        Ok(item.display().to_string())
    }
}

#[test]
fn a_whole_life_on_the_moor() -> Done {
    let moor = Moor::new()?;
    let world = &moor.world;
    let before = world.digests()?;
    let page = format!("{}item/4410188-the-reed-fen", moor.host.address());
    // A number and a page; what the page says that it needs comes along.
    world.run(&["add", "4410021", "--yes"]).code(0).says(&["Heronry"]);
    let added = world.run(&["add", &page, "--yes"]).code(0);
    let added_out = added.out.clone();
    added.says(&[
        "needs 4410300, which is installed with it",
        "Rushlight",
        "2: Reedfen",
        "spawn/Reedfen",
        "regions.bin will be rebuilt",
    ]);
    assert!(!added_out.contains("would break"), "{added_out}");
    assert!(world.read("launch.args")?.contains("--carry Heronry --carry Reedfen --carry Rushlight"));
    let ini = world.read("garrow.ini")?;
    assert!(ini.contains("carried = Heronry; Reedfen; Rushlight"), "{ini}");
    assert!(ini.contains("ground = Reedfen; Basemarsh"), "{ini}");
    assert!(world.read("regions.bin")?.contains("2 Reedfen"));
    assert!(world.path("keys/bulrush.mkey").exists() && world.path("campaigns/Reedfen/open").is_dir());
    world.run(&["keys"]).code(0).says(&[
        "every part is signed",
        "signs Heronry, Rushlight",
        "the game's own",
    ]);
    // One asset is in two versions, another one twice the same.
    world.run(&["clashes"]).code(1).says(&[
        "1 asset in different versions",
        "pier_04.tile",
        "players see those of Reedfen",
    ]);
    world.run(&["trial"]).code(1).says(&["pier_04.tile comes from Heronry and Reedfen"]);
    world.run(&["clashes", "keep", "pier_04.tile", "--from", "Heronry", "--yes"]).code(0);
    world.run(&["clashes", "keep", "reeds_01.tile", "--from", "Heronry", "--yes"]).code(0);
    world.run(&["clashes"]).code(0).says(&["from Heronry"]);
    world.run(&["check"]).code(0);
    world.run(&["trial"]).code(0).says(&["Heronry", "loaded"]);
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    assert_eq!(moor.joins()?, "came in on Basemarsh");
    world.run(&["maps", "play", "Reedfen/open", "--yes"]).code(0);
    assert_eq!(moor.joins()?, "came in on Reedfen");
    world.run(&["maps", "play", "Basemarsh/open", "--yes"]).code(0);
    // One item comes again, by its author's new key.
    let again = moor.signed_anew("rushes")?;
    world
        .run(&["add", &again, "--yes"])
        .code(5)
        .says(&["would be replaced by another key", "--accept-key bulrush"]);
    world.run(&["add", &again, "--yes", "--accept-key", "bulrush"]).code(0);
    world.run(&["keys"]).code(0);
    assert_eq!(moor.joins()?, "came in on Basemarsh");
    fs::remove_file(world.path("keys/bulrush.mkey"))?;
    assert_eq!(moor.joins()?, "turned away: Reedfen: part fen.mpk has no accepted signature");
    world.run(&["fix", "--yes"]).code(0);
    // The keeper goes: the other's copy comes back. One of two with the same key goes: the key stays.
    world.run(&["drop", "Heronry", "--yes"]).code(0);
    assert!(world.path("items/4410188/Reedfen/stream/shore/pier_04.tile").exists());
    assert!(world.path("keys/sedge.mkey").exists(), "Rushlight is signed by it as well");
    world.run(&["undo", "--yes"]).code(0);
    assert!(!world.path("items/4410188/Reedfen/stream/shore/pier_04.tile").exists());
    // All of it goes, and nothing is left of it.
    world.run(&["drop", "Heronry", "Reedfen", "Rushlight", "--yes"]).code(0);
    let after = world.digests()?;
    for (path, bytes) in &after {
        // The server itself rewrites its settings at each stop.
        if path != "garrow.ini" && !path.starts_with("saves") {
            assert_eq!(before.get(path), Some(bytes), "{path}");
        }
    }
    let saved = ["saves", "saves/Basemarsh", "saves/Basemarsh/open", "saves/Basemarsh/open/visits"];
    let saved = saved.len() + ["saves/Reedfen", "saves/Reedfen/open", "saves/Reedfen/open/visits"].len();
    assert_eq!(before.len() + saved, after.len(), "{:?}", after.keys());
    world
        .run(&["maps"])
        .code(0)
        .says(&["Saves of maps that are not installed", "saves/Reedfen/open/ (1 file, 2 B)"]);
    world.run(&["trial"]).code(0);
    Ok(())
}

#[test]
fn each_fault_of_keys_and_signatures_is_told() -> Done {
    let moor = Moor::new()?;
    let world = &moor.world;
    world.run(&["add", "4410021", "4410300", "--yes"]).code(0);
    let parts = "items/4410021/Heronry/parts";
    let whole = fs::read(world.path("keys/sedge.mkey"))?;
    // The key is not there.
    fs::remove_file(world.path("keys/sedge.mkey"))?;
    world.run(&["keys"]).code(1).says(&["signed by sedge, whose key is not here", "3 of 3 parts"]);
    world.run(&["check"]).code(1).says(&["key-missing"]);
    world.run(&["trial"]).code(1).says(&["is signed by no key in keys/"]);
    world.run(&["fix", "--yes"]).code(0);
    assert_eq!(fs::read(world.path("keys/sedge.mkey"))?, whole);
    world.run(&["keys"]).code(0);
    // A part was edited.
    let part = fs::read(world.path(&format!("{parts}/marsh.mpk")))?;
    fs::write(world.path(&format!("{parts}/marsh.mpk")), "edited")?;
    world.run(&["keys"]).code(1).says(&["changed since sedge signed it", "marsh.mpk"]);
    fs::write(world.path(&format!("{parts}/marsh.mpk")), &part)?;
    // The signature is another part's; then there is none.
    let signature = world.path(&format!("{parts}/marsh.mpk.sedge.sig"));
    let good = fs::read(&signature)?;
    fs::copy(world.path(&format!("{parts}/nests.mpk.sedge.sig")), &signature)?;
    world.run(&["keys"]).code(1).says(&["the signature by sedge is wrong"]);
    fs::remove_file(&signature)?;
    world.run(&["keys"]).code(1).says(&["not signed"]);
    fs::write(&signature, good)?;
    world.run(&["keys"]).code(0);
    // A key that signs nothing, a file that holds no key, and a second key of the same name.
    fs::write(world.path("keys/stranger.mkey"), moor::key_file("stranger")?)?;
    fs::write(world.path("keys/noise.mkey"), "not Base64!")?;
    fs::create_dir_all(world.path("keys/old"))?;
    fs::write(world.path("keys/old/sedge.mkey"), moor::key_file("impostor")?)?;
    world.run(&["keys"]).code(1).says(&[
        "signs nothing that is on",
        "holds no key",
        "another file of that name holds another key",
    ]);
    world.run(&["check"]).code(1).says(&["key-orphaned", "key-broken", "key-doubled"]);
    Ok(())
}

#[test]
fn a_moor_that_others_set_up_is_taken_over_as_it_is() -> Done {
    let moor = Moor::unmanaged()?;
    let world = &moor.world;
    // Set up by hand: three items are there, one is carried by no list, one is listed only in one, a key was forgotten.
    for item in ITEMS {
        item.write(&world.path("items"))?;
    }
    world.write("content.json", "{\n    \"items\": {\"4410021\": {\"load\": true}, \"4410300\": {\"load\": true}},\n    \"ask_again_hours\": 6\n}\n")?;
    let arguments = world.read("launch.args")?;
    world.write("launch.args", &format!("{} --carry Rushlight --carry Heronry\n", arguments.trim_end()))?;
    let ini = world.read("garrow.ini")?.replace("carried =", "carried = Heronry");
    world.write("garrow.ini", &ini)?;
    moor.start_by_hand()?;
    moor.adopt()?;
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    world.run(&["list"]).code(0).says(&["Reedfen", "off", "Heronry", "Rushlight"]);
    let check = world.run(&["check"]).code(1);
    check.says(&["Rushlight is only partly enabled", "garrow.ini", "keys/sedge.mkey", "key-missing"]);
    world.run(&["order"]).code(0).says(&["1 Rushlight", "2 Heronry"]);
    let before = world.digests()?;
    world.run(&["fix", "--yes"]).code(0);
    assert!(world.read("garrow.ini")?.contains("Rushlight"));
    assert!(world.path("keys/sedge.mkey").exists());
    world.run(&["check"]).code(0);
    world.run(&["undo", "--yes"]).code(0);
    let after = world.digests()?;
    assert_eq!(before, after);
    Ok(())
}

#[test]
fn an_authors_list_decides_and_unknown_names_are_reported() -> Done {
    let moor = Moor::new()?;
    let world = &moor.world;
    world.run(&["add", "4410021", "4410188", "--yes"]).code(0);
    world
        .run(&["clashes", "keep", "pier_05.tile", "--from", "Heronry"])
        .code(2)
        .says(&["did you mean pier_04.tile"]);
    world.run(&["clashes", "keep", "pier_04.tile", "--from", "Nobody"]).code(2).says(&["not on this server"]);
    fs::write(world.root().join("list.txt"), "* stream/shore/pier_04.tile\n- 'sluice.hull'\n\nghost.tile\n")?;
    let list = world.root().join("list.txt").display().to_string();
    let owns = world.run(&["clashes", "owns", &list, "--for", "Reedfen", "--yes"]).code(0);
    owns.says(&[
        "Reedfen has none of these names: ghost.tile",
        "items/4410021/Heronry/stream/shore/pier_04.tile",
    ]);
    assert!(world.read("yalotheca.toml")?.contains("\"pier_04.tile\" = \"Reedfen\""));
    assert!(!world.path("items/4410021/Heronry/stream/shore/pier_04.tile").exists());
    world.run(&["clashes", "free", "pier_04.tile", "--yes"]).code(0);
    assert!(world.path("items/4410021/Heronry/stream/shore/pier_04.tile").exists());
    let json = world.run(&["clashes", "--json"]).code(1).json()?;
    assert_eq!(json["clashes"][0]["name"], "pier_04.tile");
    assert_eq!(json["kept"]["sluice.hull"], "Reedfen");
    Ok(())
}

#[test]
fn a_tool_that_fails_or_is_not_there_changes_nothing() -> Done {
    let moor = Moor::new()?;
    let world = &moor.world;
    let tool = world.root().join("mossgarrow-index");
    let before = world.digests()?;
    for (text, says) in [("exit 3", "exit code 3"), ("exit 0", "has not written regions.bin")] {
        // One that says nothing of its own leaves what it was given.
        fs::write(
            &tool,
            format!("#!/bin/sh\nrm -f \"$1/regions.bin\"\necho the fog is too thick\n{text}\n"),
        )?;
        world.run(&["game", "trust", "mossgarrow", "--yes"]).code(0);
        let failed = world.run(&["add", "4410188", "--yes"]);
        assert!(
            failed.code != 0 && (failed.out.contains(says) || failed.err.contains(says)),
            "{}{}",
            failed.out,
            failed.err
        );
        assert_eq!(world.digests()?, before);
    }
    fs::remove_file(&tool)?;
    world.run(&["add", "4410188", "--yes"]).code(5).says(&["there is no such program"]);
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn a_compiled_file_that_is_out_of_date_is_found_and_rebuilt() -> Done {
    let moor = Moor::new()?;
    let world = &moor.world;
    world.run(&["add", "4410188", "--yes"]).code(0);
    world.run(&["check"]).code(0);
    // The base region, which no content brings, was edited much later.
    let old = std::time::SystemTime::now() - std::time::Duration::from_secs(100_000);
    fs::File::options().append(true).open(world.path("regions.bin"))?.set_modified(old)?;
    world.write("regions/Basemarsh/region.grid", "marsh, with a dike\n")?;
    world.run(&["check"]).code(1).says(&["compiled-old", "regions.bin is older than regions/"]);
    world.run(&["trial"]).code(1).says(&["regions.bin was compiled before the grid of Basemarsh"]);
    let before = fs::read(world.path("regions.bin"))?;
    world.run(&["fix", "--yes"]).code(0).says(&["regions.bin is older than"]);
    world.run(&["check"]).code(0);
    world.run(&["trial"]).code(0);
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(fs::read(world.path("regions.bin"))?, before);
    // What comes out is in the cache from long ago, and is dated now all the same.
    world.run(&["drop", "Reedfen", "--yes"]).code(0);
    fs::remove_file(world.path("regions.bin"))?;
    for kept in walkdir::WalkDir::new(world.root().join(".cache/yalotheca")) {
        let kept = kept?.into_path();
        if kept.is_file() {
            fs::File::options().append(true).open(kept)?.set_modified(old)?;
        }
    }
    world.run(&["add", "4410188", "--yes"]).code(0);
    world.run(&["check"]).code(0);
    Ok(())
}

#[test]
fn a_folder_of_a_players_items_is_a_catalogue() -> Done {
    let world = World::empty()?;
    moor::write_server(&world.server(), crate::harness::free_port()?)?;
    let kept = world.root().join("player");
    for item in ITEMS {
        item.write(&kept)?;
    }
    let server = format!("program={}", world.stand_in("mossgarrow")?.display());
    let from = format!("player={}", kept.display());
    world.run(&["adopt", "--set", &server, "--catalogue", &from]).code(0);
    world.run(&["trial"]).code(0);
    world.run(&["find"]).code(0).says(&["Heronry", "Reedfen", "Rushlight"]);
    world.run(&["add", "Heronry", "--yes"]).code(0).says(&["items/4410021/"]);
    assert!(world.read("content.json")?.contains("4410021"));
    // Taken from there by hand, it is the same item.
    let again = kept.join("4410021").display().to_string();
    world.run(&["add", &again, "--yes"]).code(0);
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    world.run(&["keys"]).code(0);
    // A number, or a page, of what lies in the folder is that.
    world.run(&["add", "4410300", "--yes"]).code(0).says(&["Rushlight", "items/4410300/"]);
    world.run(&["undo", "--yes"]).code(0);
    let page = "https://items.example/item/4410300-rush-lights";
    world.run(&["add", page, "--yes"]).code(0).says(&["Rushlight"]);
    // The server does not say from where it fetches others.
    world.run(&["add", "4410999"]).code(2).says(&["do not name the host", "/files/4410999.zip"]);
    Ok(())
}

#[test]
fn a_copy_that_was_set_aside_comes_back_though_its_sources_are_gone() -> Done {
    let moor = Moor::new()?;
    let world = &moor.world;
    let files: Vec<String> = [4_410_021, 4_410_188]
        .map(|number| world.root().join(format!("item-host/files/{number}.zip")))
        .iter()
        .map(|path| path.display().to_string())
        .collect();
    world.run(&["add", &files[0], &files[1], "--yes"]).code(0);
    let tile = "items/4410188/Reedfen/stream/shore/pier_04.tile";
    let whole = fs::read(world.path(tile))?;
    world.run(&["clashes", "keep", "pier_04.tile", "--from", "Heronry", "--yes"]).code(0);
    fs::remove_dir_all(world.root().join("item-host"))?;
    fs::remove_dir_all(world.root().join(".cache/yalotheca"))?;
    world.run(&["clashes", "free", "pier_04.tile", "--yes"]).code(0);
    assert_eq!(fs::read(world.path(tile))?, whole);
    world.run(&["undo", "2", "--yes"]).code(0);
    world.run(&["check"]).code(0);
    Ok(())
}

#[test]
fn a_new_key_of_a_known_author_is_never_taken_without_a_word() -> Done {
    let moor = Moor::new()?;
    let world = &moor.world;
    world.run(&["add", "4410021", "--yes"]).code(0);
    let old = fs::read(world.path("keys/sedge.mkey"))?;
    // The item comes again, signed by another key that is called the same.
    let item = world.root().join("again/4410021");
    ITEMS[0].write(&world.root().join("again"))?;
    fs::write(item.join("Heronry/keys/sedge.mkey"), moor::key_file("sedge the second")?)?;
    for part in ["marsh", "nests"] {
        let part = item.join(format!("Heronry/parts/{part}.mpk"));
        let signature = moor::signature_file("sedge the second", &fs::read(&part)?)?;
        fs::write(format!("{}.sedge.sig", part.display()), signature)?;
    }
    let again = item.display().to_string();
    let before = world.digests()?;
    let refused = world.run(&["add", &again, "--yes"]).code(5);
    refused
        .says(&["keys/sedge.mkey would be replaced by another key: it is 5435 3f18", "--accept-key sedge"]);
    assert_eq!(world.digests()?, before);
    world.run(&["add", &again, "--yes", "--accept-key", "sedge"]).code(0);
    assert_ne!(fs::read(world.path("keys/sedge.mkey"))?, old);
    world.run(&["keys"]).code(0);
    world.run(&["trial"]).code(0);
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(fs::read(world.path("keys/sedge.mkey"))?, old);
    // Known is who was met once, also after everything of theirs has gone.
    world.run(&["drop", "Heronry", "--yes"]).code(0);
    assert!(!world.path("keys/sedge.mkey").exists());
    world.run(&["add", &again, "--yes"]).code(5).says(&[
        "keys/sedge.mkey would not be the same key as before: it was 5435 3f18",
        "--accept-key sedge",
    ]);
    // A key that somebody replaced by hand is told, and taken once it was compared.
    world.run(&["add", "4410021", "--yes"]).code(0);
    fs::write(world.path("keys/base.mkey"), moor::key_file("somebody")?)?;
    world
        .run(&["check"])
        .code(1)
        .says(&["keys/base.mkey is not the same key as before", "settle --accept-key base"]);
    world.run(&["settle", "--accept-key", "base", "--yes"]).code(0);
    world.run(&["check"]).code(0);
    Ok(())
}

#[test]
fn of_forty_items_the_three_that_are_wrong_are_named() -> Done {
    let moor = Moor::unmanaged()?;
    let world = &moor.world;
    let mut listed = Vec::new();
    let mut names = Vec::new();
    for at in 0..40_u64 {
        let name: &'static str = Box::leak(format!("Islet{at:02}").into_boxed_str());
        let item = moor::Item { number: 5_500_000 + at, name, streams: &[], owns: &[], ..ITEMS[0].clone() };
        item.write(&world.path("items"))?;
        listed.push(format!("    \"{}\": {{\"load\": true}}", item.number));
        names.push(name);
    }
    fs::write(world.path("keys/sedge.mkey"), moor::key_file("sedge")?)?;
    // One number belongs to no item, one name is in the wrong case, one part was changed after it was signed.
    listed.push("    \"5599999\": {\"load\": true}".to_owned());
    let carried: Vec<String> = names
        .iter()
        .map(|name| if *name == "Islet07" { "islet07".to_owned() } else { (*name).to_owned() })
        .collect();
    fs::write(world.path("items/5500011/Islet11/parts/marsh.mpk"), "changed")?;
    world.write(
        "content.json",
        &format!("{{\n  \"items\": {{\n{}\n  }},\n  \"ask_again_hours\": 6\n}}\n", listed.join(",\n")),
    )?;
    let arguments = world.read("launch.args")?;
    world
        .write("launch.args", &format!("{} --carry {}\n", arguments.trim_end(), carried.join(" --carry ")))?;
    let ini = world.read("garrow.ini")?.replace("carried =", &format!("carried = {}", names.join("; ")));
    world.write("garrow.ini", &ini)?;
    moor.start_by_hand()?;
    moor.adopt()?;
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    let json = world.run(&["check", "--json"]).code(1).json()?;
    let troubles = json["findings"]
        .as_array()
        .ok_or("findings")?
        .iter()
        .filter(|finding| finding["weight"] == "trouble");
    let says: Vec<String> =
        troubles.map(|finding| finding["says"].as_str().unwrap_or_default().to_owned()).collect();
    let about = |word: &str| says.iter().filter(|says| says.contains(word)).count();
    assert!(about("5599999") > 0 && about("slet07") > 0 && about("Islet11") > 0, "{says:#?}");
    assert_eq!(says.len(), about("5599999") + about("slet07") + about("Islet11"), "{says:#?}");
    assert!(json.to_string().contains("did you mean Islet07"), "{json:#}");
    Ok(())
}

#[test]
fn a_need_that_only_the_item_host_states_is_told_by_a_check() -> Done {
    let moor = Moor::new()?;
    let world = &moor.world;
    world.run(&["add", "4410188", "--yes"]).code(0).says(&["4410300, which is installed with it"]);
    world.run(&["off", "Rushlight", "--yes"]).code(0);
    world.run(&["check"]).code(1).says(&["Reedfen needs 4410300 (Rushlight), which is switched off"]);
    world.run(&["undo", "--yes"]).code(0);
    world.run(&["drop", "Rushlight", "--yes"]).code(0);
    let check = world.run(&["check"]).code(1);
    check.says(&["Reedfen needs 4410300, which is not installed", "yalotheca add 4410300"]);
    world.run(&["add", "4410300", "--yes"]).code(0);
    world.run(&["check"]).code(0);
    Ok(())
}

#[test]
fn items_are_added_over_sftp_and_a_check_fetches_no_part() -> Done {
    let Some(ssh) = Ssh::start(None)? else { return Ok(()) };
    let moor = Moor::unmanaged()?;
    moor.start_by_hand()?;
    let Moor { world, host } = moor;
    let mut far = Far::around(world)?;
    far.env.push(("YALOTHECA_SSH_OPTIONS".into(), ssh.options("user")));
    let address = format!("sftp://127.0.0.1:{}{}", ssh.port(), encoded(&far.world.server()));
    let index = format!("index={}", far.world.root().join("mossgarrow-index").display());
    far.run(&["adopt", &address, "--name", "Larkspur Moor", "--set", &index]).code(0);
    far.run(&["game", "trust", "mossgarrow", "--yes"]).code(0);
    let before = far.world.digests()?;
    let page = format!("{}item/4410188-the-reed-fen", host.address());
    far.run(&["add", "4410021", &page, "--yes"]).code(0).says(&["regions.bin will be rebuilt"]);
    let built = far.world.read("regions.bin")?;
    assert!(built.contains("2 Reedfen"), "{built} {}", far.world.read("garrow.ini")?);
    far.run(&["keys"]).code(0).says(&["every part is signed"]);
    far.run(&["clashes"]).code(1).says(&["pier_04.tile"]);
    far.run(&["check"]).code(0).says(&["pier_04.tile"]);
    far.run(&["clashes", "keep", "pier_04.tile", "--from", "Heronry", "--yes"]).code(0);
    far.run(&["check"]).code(0);
    // With nothing kept on this machine, a check does not fetch parts to verify them: those that cannot be read do not matter to it.
    fs::remove_dir_all(far.world.root().join(".cache/yalotheca"))?;
    far.run(&["check"]).code(0);
    fs::remove_file(far.world.path("keys/sedge.mkey"))?;
    far.run(&["check"]).code(1).says(&["key-missing"]);
    far.run(&["fix", "--yes"]).code(0);
    for _ in 0..3 {
        far.run(&["undo", "--yes"]).code(0);
    }
    assert_eq!(far.world.digests()?, before);
    Ok(())
}

#[test]
fn nothing_untrue_is_said_of_what_lies_behind_a_link_or_twice_or_too_deep() -> Done {
    let moor = Moor::unmanaged()?;
    let world = &moor.world;
    for item in ITEMS {
        item.write(&world.path("items"))?;
    }
    // One item is there under a second number, one is a folder too deep, and one lies behind a link.
    let copied = Command::new("cp")
        .arg("-r")
        .args([world.path("items/4410021"), world.path("items/4410999")])
        .status()?;
    assert!(copied.success());
    fs::rename(world.path("items/4410300"), world.path("items/deep"))?;
    fs::create_dir(world.path("items/4410300"))?;
    fs::rename(world.path("items/deep"), world.path("items/4410300/4410300"))?;
    let elsewhere = world.root().join("elsewhere");
    fs::rename(world.path("items/4410188"), &elsewhere)?;
    symlink(&elsewhere, world.path("items/4410188"))?;
    world.write(
        "content.json",
        "{\n    \"items\": {\"4410021\": {\"load\": true}, \"4410188\": {\"load\": true}},\n    \"ask_again_hours\": 6\n}\n",
    )?;
    let arguments = world.read("launch.args")?;
    world.write("launch.args", &format!("{} --carry Reedfen --carry Heronry\n", arguments.trim_end()))?;
    let ini = world.read("garrow.ini")?.replace("carried =", "carried = Heronry; Reedfen");
    world.write("garrow.ini", &ini)?;
    fs::write(world.path("keys/sedge.mkey"), moor::key_file("sedge")?)?;
    moor.start_by_hand()?;
    moor.adopt()?;
    let before = world.digests()?;
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    let check = world.run(&["check"]).code(0);
    assert!(!check.out.contains("Reedfen"), "the server finds it there: {}", check.out);
    check.says(&[
        "second copy of Heronry",
        "Rushlight lies at items/4410300/4410300",
        "items/4410188 is a symbolic link",
    ]);
    world.run(&["settle", "--clean-first", "--yes"]).code(0).says(&["set aside", "items/4410999/item.info"]);
    assert!(elsewhere.join("item.info").exists() && world.path("items/4410188").is_symlink());
    world.run(&["undo", "--yes"]).code(0).says(&["put back 51 B items/4410999/item.info", "14 files"]);
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn what_the_first_start_makes_is_not_missing_before_it() -> Done {
    let moor = Moor::unmanaged()?;
    moor.adopt()?;
    let world = &moor.world;
    let ini = world.read("garrow.ini")?;
    let before = world.run(&["check"]).code(0).says(&[
        "no problems",
        "the server has not been started yet; its first start makes regions/Basemarsh, campaigns/Basemarsh/open",
        "yalotheca trial starts it for the first time",
    ]);
    assert!(!before.out.contains("take it out"), "{}", before.out);
    // What it does not make is missing.
    world.write("garrow.ini", &ini.replace("ground = Basemarsh", "ground = Reedfen; Basemarsh"))?;
    let missing = world.run(&["check"]).code(1).says(&["the region Reedfen is not there"]);
    assert!(!missing.out.contains("the region Basemarsh"), "{}", missing.out);
    world.write("garrow.ini", &ini)?;
    world.run(&["trial"]).code(0);
    let after = world.run(&["check"]).code(0).says(&["no problems"]);
    assert!(!after.out.contains("first-start"), "{}", after.out);
    // From then on it counts as missing.
    fs::remove_dir_all(world.path("campaigns/Basemarsh"))?;
    world.run(&["check"]).code(1).says(&["the campaign Basemarsh/open is not there"]);
    Ok(())
}
