//! The real voxel server, with real mods from Debian's packages, unpacked and not installed.
//!
//! Where the server or the mods are missing the test says that it was skipped; with `YALOTHECA_REAL=1` that is a
//! failure.

use std::{
    fs,
    io::{BufRead, BufReader},
    path::{Path, PathBuf},
    process::{Command, Stdio},
    sync::OnceLock,
};

use crate::harness::{Done, World, free_port, skipped};

const PACKAGES: &[&str] = &[
    "minetest-mod-3d-armor",
    "minetest-mod-basic-materials",
    "minetest-mod-character-creator",
    "minetest-mod-craftguide",
    "minetest-mod-currency",
    "minetest-mod-ethereal",
    "minetest-mod-homedecor",
    "minetest-mod-infinite-chest",
    "minetest-mod-lucky-block",
    "minetest-mod-maidroid",
    "minetest-mod-mesecons",
    "minetest-mod-meshport",
    "minetest-mod-mobs-redo",
    "minetest-mod-moreblocks",
    "minetest-mod-moreores",
    "minetest-mod-nether",
    "minetest-mod-pipeworks",
    "minetest-mod-protector",
    "minetest-mod-pycraft",
    "minetest-mod-quartz",
    "minetest-mod-skyblock",
    "minetest-mod-throwing",
    "minetest-mod-throwing-arrows",
    "minetest-mod-unified-inventory",
    "minetest-mod-unifieddyes",
    "minetest-mod-worldedit",
    "minetest-mod-xdecor",
];

/// Unpacks the mods into a cache below the build folder, once; other tests wait for it.
fn mods() -> Option<PathBuf> {
    static MODS: OnceLock<Option<PathBuf>> = OnceLock::new();
    MODS.get_or_init(unpacked_mods).clone()
}

fn unpacked_mods() -> Option<PathBuf> {
    let cache = Path::new(env!("CARGO_TARGET_TMPDIR")).join("luanti-mods-27");
    let mods = cache.join("usr/share/games/minetest/mods");
    if cache.join("complete").exists() {
        return Some(mods);
    }
    fs::create_dir_all(&cache).ok()?;
    let got = Command::new("apt-get").arg("download").args(PACKAGES).current_dir(&cache).output().ok()?;
    if !got.status.success() {
        return None;
    }
    for entry in fs::read_dir(&cache).ok()?.flatten() {
        if entry.path().extension().is_some_and(|suffix| suffix == "deb") {
            let status = Command::new("dpkg-deb").arg("-x").arg(entry.path()).arg(&cache).status().ok()?;
            status.success().then_some(())?;
        }
    }
    fs::write(cache.join("complete"), "").ok()?;
    Some(mods)
}

fn world_file(world: &World) -> Result<Vec<String>, Box<dyn std::error::Error>> {
    Ok(world.read("world/world.mt")?.lines().map(str::to_owned).collect())
}

/// Runs the server until it listens, and returns the mods in the order in which it loaded them.
fn loading_order(folder: &Path) -> Result<Vec<String>, Box<dyn std::error::Error>> {
    let program = ["/usr/games/minetestserver", "/usr/bin/minetestserver"];
    let program = program.iter().find(|path| Path::new(path).exists()).ok_or("the server")?;
    let mut server = Command::new("timeout")
        .args(["60", program, "--config", "minetest.conf", "--world", "world", "--color", "never", "--info"])
        .current_dir(folder)
        .env("HOME", folder.join("home"))
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()?;
    let lines = BufReader::new(server.stderr.take().ok_or("its log")?).lines();
    let mut loaded = Vec::new();
    for line in lines {
        let line = line?;
        let name = line.split_once("Mod \"").and_then(|(_, rest)| rest.split_once("\" loaded"));
        loaded.extend(name.map(|(name, _)| name.to_owned()));
        if line.contains("listening on") {
            break;
        }
    }
    // The one that ended the reading writes on into a closed pipe for a moment; that is no matter.
    Command::new("kill").args(["-INT", &server.id().to_string()]).status()?;
    server.wait()?;
    Ok(loaded)
}

/// The server's own order agrees with ours in everything that one content says of another, optional needs included.
fn same_order(world: &World) -> Done {
    let loaded = loading_order(&world.server())?;
    let json = world.run(&["order", "--json"]).code(0).json()?;
    let mut welcomed = 0;
    for placed in json["order"].as_array().ok_or("our order")? {
        for reason in placed["after"].as_array().into_iter().flatten() {
            let at = |id: &serde_json::Value| loaded.iter().position(|name| id == name);
            let (Some(first), Some(later)) = (at(&reason["id"]), at(&placed["id"])) else { continue };
            assert!(first < later, "{} before {} in {loaded:?}", placed["id"], reason["id"]);
            welcomed += usize::from(reason["bond"] == "welcomes");
        }
    }
    assert!(welcomed > 0, "an optional need takes part in the order: {json:#}");
    Ok(())
}

pub(crate) type Quay = Option<(World, PathBuf, u16)>;

/// A voxel world, a folder with Debian's mods, and the port; nothing where something is missing.
pub(crate) fn quay() -> Result<Quay, Box<dyn std::error::Error>> {
    let server = ["/usr/games/minetestserver", "/usr/bin/minetestserver"];
    if !server.iter().any(|path| Path::new(path).exists()) {
        return skipped("minetestserver").map(|()| None);
    }
    let Some(mods) = mods() else {
        return skipped("a way to get Debian's mod packages").map(|()| None);
    };
    let world = World::empty()?;
    let port = free_port()?;
    world.write(
        "minetest.conf",
        &format!("name = admin\nserver_announce = false\nbind_address = 127.0.0.1\nport = {port}\n"),
    )?;
    world.write(
        "world/world.mt",
        "gameid = minetest\nbackend = sqlite3\nplayer_backend = sqlite3\nauth_backend = sqlite3\n\
         mod_storage_backend = sqlite3\n",
    )?;
    Ok(Some((world, mods, port)))
}

#[test]
fn the_real_server_with_mods_from_archives() -> Done {
    let Some((world, mods, _)) = quay()? else { return Ok(()) };
    fs::create_dir_all(world.files().join("pipeworks-2022.1"))?;
    let run = |words: &[&str], folder: &Path| -> Done {
        let output = Command::new(words[0]).args(&words[1..]).current_dir(folder).output()?;
        assert!(output.status.success(), "{words:?}: {}", String::from_utf8_lossy(&output.stderr));
        Ok(())
    };
    // A wrapper folder with a version in its name around the mod, and a read-me beside it.
    run(&["cp", "-r", &mods.join("pipeworks").display().to_string(), "pipeworks-2022.1/"], &world.files())?;
    fs::write(world.files().join("pipeworks-2022.1/README.first"), "hello")?;
    run(&["tar", "-czf", "pipeworks.tar.gz", "pipeworks-2022.1"], &world.files())?;
    fs::remove_dir_all(world.files().join("pipeworks-2022.1"))?;
    let zip = world.files().join("mesecons.zip");
    run(&["zip", "-qr", &zip.display().to_string(), "mesecons"], &mods)?;
    let catalogue = format!("mods={}", mods.display());
    world.run(&["adopt", "--name", "Voxel Quay", "--catalogue", &catalogue]).code(0);
    world
        .run(&["add", "../files/pipeworks.tar.gz", "../files/mesecons.zip", "--yes"])
        .code(0)
        .says(&["basic_materials pipeworks needs it", "for people to read pipeworks-2022.1/README.first"]);
    assert!(world.path("home/.minetest/mods/pipeworks/init.lua").exists(), "no folder too deep");
    let enabled = world_file(&world)?;
    for name in ["pipeworks", "basic_materials", "mesecons_lamp"] {
        assert!(enabled.contains(&format!("load_mod_{name} = true")), "{name}: {enabled:?}");
    }
    let trial = world.run(&["trial", "--json"]).code(0).json()?;
    assert_eq!(trial["verdict"], "ready", "{trial:#}");
    world.run(&["check"]).code(0);
    Ok(())
}

#[test]
fn a_real_mod_reads_what_is_set() -> Done {
    let Some((world, _, port)) = quay()? else { return Ok(()) };
    let bell = world.files().join("quay_bell");
    fs::create_dir_all(&bell)?;
    fs::write(bell.join("mod.conf"), "name = quay_bell\n")?;
    let script = "minetest.log(\"action\", \"bell volume \" .. (minetest.settings:get(\"quay_bell.volume\") or \"none\"))\n";
    fs::write(bell.join("init.lua"), script)?;
    world.run(&["adopt", "--name", "Voxel Quay", "--catalogue", "own=../files"]).code(0);
    world.run(&["add", "quay_bell", "--yes"]).code(0);
    world.run(&["trial", "--verbose"]).code(0).says(&["bell volume none"]);
    let conf = world.read("minetest.conf")?;
    world.run(&["settings", "server", "quay_bell.volume=7", "max_users=12", "--yes"]).code(0);
    assert_eq!(world.read("minetest.conf")?, format!("{conf}max_users = 12\nquay_bell.volume = 7\n"));
    world.run(&["settings", "server", "max_users=many", "--yes"]).code(5).says(&["a whole number"]);
    world.run(&["trial", "--verbose"]).code(0).says(&["bell volume 7"]);
    // Lines that stand there twice are the server's to put right; nothing of ours is lost or doubled by it.
    let doubled =
        format!("{}load_mod_quay_bell = true\nload_mod_quay_bell = true\n", world.read("world/world.mt")?);
    world.write("world/world.mt", &doubled)?;
    world.run(&["check"]).code(0);
    // It writes the file anew when it sees a mod that is not in it.
    let unseen = world.path("home/.minetest/mods/unseen");
    fs::create_dir_all(&unseen)?;
    fs::write(unseen.join("init.lua"), "")?;
    world.run(&["trial"]).code(0);
    fs::remove_dir_all(unseen)?;
    let lines = world_file(&world)?;
    assert!(lines.contains(&"load_mod_unseen = false".to_owned()), "{lines:?}");
    assert!(lines.contains(&"load_mod_quay_bell = true".to_owned()), "{lines:?}");
    world.run(&["check"]).code(0);
    world.run(&["settle", "--yes"]).code(0).says(&["nothing to do"]);
    world.run(&["settings", "server", "--reset", "*", "--yes"]).code(0);
    assert_eq!(world.read("minetest.conf")?, conf);
    assert!(conf.contains(&port.to_string()));
    Ok(())
}

#[test]
fn the_real_server_with_real_mods() -> Done {
    let Some((world, mods, port)) = quay()? else { return Ok(()) };
    let fresh = world.digests()?;
    let catalogue = format!("mods={}", mods.display());
    world
        .run(&["adopt", "--name", "Voxel Quay", "--catalogue", &catalogue])
        .code(0)
        .says(&["luanti 5.", "the base game provides"]);
    assert_eq!(world.digests()?, fresh);

    // What it needs comes along, what the base game provides does not, and companions are offered.
    let added = world.run(&["add", "pipeworks", "--yes"]).code(0);
    let added = added.says(&[
        "basic_materials",
        "pipeworks needs it",
        "mesecons pipeworks welcomes it: yalotheca add mesecons",
    ]);
    assert!(!added.out.contains("screwdriver"), "{}", added.out);
    let two = world.run(&["add", "homedecor", "--yes"]).code(0).says(&[
        "unifieddyes",
        "homedecor needs it",
        "and 30 more",
    ]);
    assert!(!two.out.contains("new  basic_materials"), "it is there already");
    world.run(&["add", "mesecons", "--yes"]).code(0).says(&["load_mod_mesecons = true"]);
    assert!(world.path("home/.minetest/mods/mesecons/mesecons/init.lua").exists());
    world.run(&["about", "mesecons"]).code(0).says(&["needs default; doors; dye"]);
    let settled = world.digests()?;

    let trial = world.run(&["trial", "--json"]).code(0).json()?;
    assert_eq!(trial["verdict"], "ready");
    let contents = trial["contents"].as_array().cloned().unwrap_or_default();
    assert_eq!(contents.len(), 5);
    assert!(contents.iter().all(|content| content["state"] == "loaded"), "{trial:#}");
    same_order(&world)?;
    // The server has written what it likes; that is no drift.
    world.run(&["check"]).code(0);
    let unseen = world.path("world/worldmods/unseen");
    fs::create_dir_all(&unseen)?;
    fs::write(unseen.join("init.lua"), "")?;
    world.run(&["trial"]).code(0).says(&["no problems"]);
    fs::remove_dir_all(world.path("world/worldmods"))?;
    world.run(&["check"]).code(0);
    world.run(&["settle", "--yes"]).code(0).says(&["nothing to do"]);

    // A needed mod is deleted by hand.
    fs::remove_dir_all(world.path("home/.minetest/mods/basic_materials"))?;
    world.run(&["check"]).code(1).says(&["files of basic_materials are gone", "yalotheca settle"]);
    world.run(&["trial"]).code(1).says(&[
        "something is wrong",
        "enabled but missing: basic_materials",
        "pipeworks failed: needs basic_materials, which is not enabled here",
        "yalotheca settle restores what it installed",
    ]);
    world.run(&["settle", "--yes"]).code(0).says(&["put back"]);
    world.run(&["trial"]).code(0).says(&["no problems"]);

    // Everything goes: the world's files are as before, but for what the server itself wrote.
    let lines = world_file(&world)?;
    world.run(&["drop", "pipeworks", "homedecor", "mesecons", "--yes"]).code(0);
    let left = world_file(&world)?;
    assert!(
        left.iter().all(|line| lines.contains(line)) && !left.iter().any(|line| line.ends_with("= true")),
        "{left:?}"
    );
    assert!(!world.path("home/.minetest").exists(), "folders of ours go as well");
    assert_eq!(
        fs::read(world.path("minetest.conf"))?,
        format!("name = admin\nserver_announce = false\nbind_address = 127.0.0.1\nport = {port}\n")
            .as_bytes()
    );
    world.run(&["undo", "--yes"]).code(0);
    let back = world.digests()?;
    let of_mods = |all: &std::collections::BTreeMap<String, String>| {
        all.iter()
            .filter(|(name, _)| name.starts_with("home/.minetest/mods"))
            .map(|(n, d)| (n.clone(), d.clone()))
            .collect::<Vec<_>>()
    };
    assert_eq!(of_mods(&back), of_mods(&settled));
    world.run(&["trial"]).code(0).says(&["no problems"]);
    Ok(())
}
