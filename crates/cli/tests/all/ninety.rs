//! A voxel server as people leave it: all of Debian's mods, about ninety of them, in folders that were doubled, linked, renamed, put one
//! too deep and edited. What a person does on it in a day, read by exit code and JSON as a script would.

use std::{
    error::Error,
    fs,
    os::unix::fs::symlink,
    path::{Path, PathBuf},
    process::Command,
    sync::OnceLock,
};

use serde_json::Value;

use crate::{
    harness::{Answer, Done, World, digests_of, free_port, program},
    real_luanti,
};

/// Publishes releases of a content, each a folder that is delivered as a zip.
fn publish(catalogue: &Path, id: &str, kind: &str, releases: &[(&str, &Path)]) -> Done {
    fs::create_dir_all(catalogue.join("contents"))?;
    fs::create_dir_all(catalogue.join("files"))?;
    let mut told = Vec::new();
    for (version, folder) in releases {
        let name = format!("{id}-{version}.zip");
        let file = catalogue.join("files").join(&name);
        fs::remove_file(&file).ok();
        let inner = folder.file_name().ok_or("a folder")?;
        let above = folder.parent().ok_or("a folder")?;
        let zip = Command::new("zip").arg("-qr").arg(&file).arg(inner).current_dir(above).status()?;
        assert!(zip.success());
        let bytes = fs::read(&file)?;
        let digest = blake3::hash(&bytes).to_hex().to_string();
        told.push(serde_json::json!({"version": version, "kind": kind,
            "files": [{"name": name, "size": bytes.len(), "blake3": digest}]}));
    }
    let content =
        serde_json::json!({"format": 1, "id": id, "title": id, "about": "", "releases": told}).to_string();
    fs::write(catalogue.join(format!("contents/{id}.json")), &content)?;
    let digest = blake3::hash(content.as_bytes()).to_hex().to_string();
    let entry = serde_json::json!({"title": id, "about": "", "kind": kind, "digest": digest});
    let index = serde_json::json!({"format": 1, "name": "gates", "about": "", "contents": {id: entry}});
    Ok(fs::write(catalogue.join("catalogue.json"), index.to_string())?)
}

/// Copies folders with their links.
pub(crate) fn copy(from: &Path, to: &Path) -> Done {
    let status = Command::new("cp").arg("-a").arg(from).arg(to).status()?;
    if status.success() { Ok(()) } else { Err(format!("{} was not copied", from.display()).into()) }
}

fn put(path: &Path, text: &str) -> Done {
    path.parent().map_or(Ok(()), fs::create_dir_all)?;
    Ok(fs::write(path, text)?)
}

fn append(path: &Path, text: &str) -> Done {
    let before = fs::read_to_string(path)?;
    Ok(fs::write(path, before + text)?)
}

/// The names of the mods below a folder, by their descriptors or else their folders.
fn mods_below(folder: &Path) -> Result<Vec<String>, Box<dyn Error>> {
    let mut names = Vec::new();
    let mut next = vec![folder.to_owned()];
    while let Some(folder) = next.pop() {
        if !folder.join("init.lua").is_file()
            || folder.join("modpack.txt").exists()
            || folder.join("modpack.conf").exists()
        {
            for entry in fs::read_dir(&folder)?.flatten().filter(|entry| entry.path().is_dir()) {
                next.push(entry.path());
            }
            continue;
        }
        let told = fs::read_to_string(folder.join("mod.conf")).unwrap_or_default();
        let name = told.lines().find_map(|line| line.strip_prefix("name")?.trim_start().strip_prefix('='));
        let own = folder.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned());
        names.push(name.map_or(own, |name| name.trim().to_owned()));
    }
    names.sort();
    names.dedup();
    Ok(names)
}

/// Makes the server's folder once for all tests.
fn base(mods: &Path) -> Result<PathBuf, Box<dyn Error>> {
    static BASE: OnceLock<Result<tempfile::TempDir, String>> = OnceLock::new();
    let made = BASE.get_or_init(|| {
        let folder = tempfile::tempdir().map_err(|error| error.to_string())?;
        make(&folder.path().join("harbour"), mods).map_err(|error| error.to_string())?;
        Ok(folder)
    });
    Ok(made.as_ref().map_err(Clone::clone)?.path().join("harbour"))
}

fn make(server: &Path, mods: &Path) -> Done {
    let home = server.join("home/.minetest/mods");
    fs::create_dir_all(&home)?;
    for entry in fs::read_dir(mods)?.flatten() {
        copy(&entry.path(), &home)?;
    }
    // Renamed, linked, doubled, too deep, edited.
    fs::rename(home.join("mobs_redo"), home.join("mobs_redo_2016"))?;
    fs::rename(home.join("lucky-block"), home.join("lucky_block_old"))?;
    fs::create_dir_all(server.join("mods_store"))?;
    fs::rename(home.join("protector"), server.join("mods_store/protector"))?;
    symlink("../../../mods_store/protector", home.join("protector"))?;
    copy(&home.join("quartz"), &home.join("quartz_off"))?;
    fs::create_dir_all(home.join("unpacked_twice"))?;
    fs::rename(home.join("throwing"), home.join("unpacked_twice/throwing"))?;
    fs::create_dir_all(server.join("world/worldmods"))?;
    copy(&home.join("currency"), &server.join("world/worldmods"))?;
    append(&home.join("moreores/init.lua"), "-- tuned by hand\n")?;
    let mut enabled = mods_below(&home)?;
    // What does not run with this base game somebody has switched off long ago.
    let is_off = |name: &String| {
        ["moreblocks", "pycraft", "meshport", "quartz_off"].contains(&name.as_str())
            || name.starts_with("skyblock")
    };
    enabled.push("ghost".into());
    let lines = enabled.iter().map(|name| format!("load_mod_{name} = {}\n", !is_off(name)));
    let head = "gameid = minetest\nbackend = sqlite3\nplayer_backend = sqlite3\nauth_backend = sqlite3\n\
                mod_storage_backend = sqlite3\n";
    put(&server.join("world/world.mt"), &(head.to_owned() + &lines.collect::<String>()))
}

/// A lived-in server that is not managed yet, and Debian's mods; nothing where something is missing.
pub(crate) fn left_behind() -> Result<Option<(World, PathBuf)>, Box<dyn Error>> {
    let Some((world, mods, port)) = real_luanti::quay()? else { return Ok(None) };
    fs::remove_dir_all(world.server())?;
    copy(&base(&mods)?, world.root())?;
    let conf = format!(
        "# the quay, since 2016\nname = admin\nserver_announce = false\nbind_address = 127.0.0.1\nport = {port}\n\
         default_password = seagull\n"
    );
    world.write("minetest.conf", &conf)?;
    Ok(Some((world, mods)))
}

/// The same, adopted, and put right as far as that can be done; its folder of downloads is `dl`.
pub(crate) fn put_right() -> Result<Option<(World, PathBuf)>, Box<dyn Error>> {
    let Some((world, mods)) = left_behind()? else { return Ok(None) };
    fs::create_dir_all(world.root().join("dl"))?;
    world.run(&["adopt", "--name", "Quay 2016", "--catalogue", "dl=../dl"]).code(0);
    world.run(&["fix", "--yes"]).code(0);
    Ok(Some((world, mods)))
}

/// Puts another edition of a mod into the folder of downloads, and returns its path.
fn other_edition(world: &World, mods: &Path, name: &str) -> Result<PathBuf, Box<dyn Error>> {
    let folder = world.root().join("dl");
    copy(&mods.join(name), &folder)?;
    append(&folder.join(name).join("init.lua"), "-- another edition\n")?;
    Ok(folder.join(name))
}

fn line<'j>(json: &'j Value, list: &str, id: &str) -> Result<&'j Value, String> {
    let found = json[list].as_array().into_iter().flatten().find(|line| line["id"] == id);
    found.ok_or_else(|| format!("{id} is not in {list} of {json:#}"))
}

/// Ends whatever a test has left running.
struct Running<'w>(&'w World);

impl Drop for Running<'_> {
    fn drop(&mut self) {
        self.0.run(&["stop"]);
    }
}

#[test]
fn day_01_adopting_is_neutral_and_a_link_inside_is_no_second_copy() -> Done {
    let Some((world, _)) = left_behind()? else { return Ok(()) };
    let before = digests_of(&world.server())?;
    world.run(&["adopt", "--name", "Quay 2016"]).code(0);
    assert_eq!(digests_of(&world.server())?, before);
    let preview = world.run(&["preview", "--json"]).code(0).json()?;
    assert_eq!(preview["contents"], Value::Array(vec![]));
    assert_eq!(preview["server"]["name"], "Quay 2016");
    let check = world.run(&["check", "--json"]).code(1).json()?;
    let about: Vec<&str> =
        check["findings"].as_array().into_iter().flatten().filter_map(|one| one["about"].as_str()).collect();
    assert!(!about.iter().any(|about| about.contains("protector")), "{about:?}");
    for known in ["world/worldmods/currency", "throwing", "ghost"] {
        assert!(about.contains(&known), "{known}: {about:?}");
    }
    world.run(&["fix", "mods_store/protector", "--yes"]).code(2);
    assert!(world.path("mods_store/protector/init.lua").exists());
    Ok(())
}

#[test]
fn day_02_what_fix_puts_right_starts_well_and_is_stopped_again() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    world.run(&["check"]).code(0);
    world.run(&["trial"]).code(0).says(&["ready", "It was stopped again."]);
    assert!(!runs(&world)?);
    Ok(())
}

#[test]
fn day_03_another_edition_without_a_version_is_installed_and_known_by_its_bytes() -> Done {
    let Some((world, mods)) = put_right()? else { return Ok(()) };
    let before = digests_of(&world.server())?;
    let given = other_edition(&world, &mods, "unifieddyes")?;
    let json = world.run(&["list", "--json"]).code(0).json()?;
    let here = line(&json, "contents", "unifieddyes")?["version"].clone();
    // Before anything is done, list and update agree that there is another one.
    let json = world.run(&["list", "--fresh", "--json"]).code(0).json()?;
    let newer = line(&json, "contents", "unifieddyes")?["newer"].clone();
    assert!(newer.is_string() && newer != here, "{json:#}");
    let preview = world.run(&["update", "--preview", "--json"]).code(0).json()?;
    assert_eq!(line(&preview, "contents", "unifieddyes")?["to"], newer, "{preview:#}");
    let given = given.display().to_string();
    let change = world.run(&["add", &given, "--yes", "--json"]).code(0).json()?;
    let told = line(&change, "contents", "unifieddyes")?;
    assert_eq!((&told["act"], &told["from"], &told["to"]), (&"changed".into(), &here, &newer), "{change:#}");
    assert!(world.read("home/.minetest/mods/unifieddyes/init.lua")?.ends_with("-- another edition\n"));
    world.run(&["undo", "--yes"]).code(0);
    // Noted for later it is no less another edition.
    world.run(&["add", &given, "--later"]).code(0);
    let change = world.run(&["settle", "--yes", "--json"]).code(0).json()?;
    assert_eq!(line(&change, "contents", "unifieddyes")?["act"], "changed", "{change:#}");
    world.run(&["settle", "--replace", "**", "--yes"]).code(0).says(&["nothing to do"]);
    // The same once more is nothing, and says so rightly.
    world.run(&["add", &given, "--yes"]).code(0).says(&["nothing to do"]);
    world.run(&["update", "--yes"]).code(0).says(&["nothing to do"]);
    world.run(&["undo", "--yes"]).code(0);
    world.run(&["undo", "--yes"]);
    assert_eq!(digests_of(&world.server())?, before);
    Ok(())
}

#[test]
fn day_04_a_link_whose_file_changed_is_an_update() -> Done {
    let Some((world, mods)) = put_right()? else { return Ok(()) };
    let served = world.root().join("quayside/throwing.zip");
    let pack = |folder: &Path| -> Done {
        fs::remove_file(&served).ok();
        let zip = Command::new("zip").arg("-qr").arg(&served).arg("throwing").current_dir(folder).status()?;
        if zip.success() { Ok(()) } else { Err("zip failed".into()) }
    };
    pack(&mods)?;
    let link = format!("{}throwing.zip", world.host.address());
    world.run(&["add", &link, "--yes"]).code(0);
    world.run(&["links", "--check"]).code(0);
    world.run(&["update", "--yes"]).code(0).says(&["nothing to do"]);
    let given = other_edition(&world, &mods, "throwing")?;
    pack(given.parent().ok_or("its folder")?)?;
    fs::remove_dir_all(given)?;
    world.run(&["links", "--check"]).code(1).says(&["it gives another file now"]);
    let json = world.run(&["list", "--fresh", "--json"]).code(0).json()?;
    assert!(line(&json, "contents", "throwing")?["newer"].is_string(), "{json:#}");
    let change = world.run(&["update", "--yes", "--json"]).code(0).json()?;
    assert_eq!(line(&change, "contents", "throwing")?["act"], "changed", "{change:#}");
    assert!(world.read("home/.minetest/mods/throwing/init.lua")?.ends_with("-- another edition\n"));
    world.run(&["links", "--check"]).code(0);
    Ok(())
}

#[test]
fn day_05_of_two_editions_in_one_folder_the_newer_counts_and_that_is_told() -> Done {
    let Some((world, mods)) = put_right()? else { return Ok(()) };
    let given = other_edition(&world, &mods, "unifieddyes")?;
    fs::rename(&given, world.root().join("dl/unifieddyes-old"))?;
    other_edition(&world, &mods, "unifieddyes")?;
    append(&world.root().join("dl/unifieddyes/init.lua"), "-- the newer one\n")?;
    let change = world.run(&["update", "--yes", "--json"]).code(0).json()?;
    let notes = change["notes"].to_string();
    assert!(notes.contains("unifieddyes-old"), "{change:#}");
    assert!(world.read("home/.minetest/mods/unifieddyes/init.lua")?.ends_with("-- the newer one\n"));
    Ok(())
}

#[test]
fn day_06_an_archive_that_a_catalogue_delivers_is_opened() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    let catalogue = world.root().join("gates-catalogue");
    put(&world.root().join("src/gates/mod.conf"), "name = gates\n")?;
    put(&world.root().join("src/gates/init.lua"), "minetest.log('action', 'gates')\n")?;
    publish(&catalogue, "gates", "mod", &[("1.0", &world.root().join("src/gates"))])?;
    world.run(&["catalogue", "add", "gates", "../gates-catalogue"]).code(0);
    world.run(&["add", "gates", "--yes"]).code(0).says(&["home/.minetest/mods/gates/init.lua"]);
    assert!(world.path("home/.minetest/mods/gates/init.lua").is_file());
    world.run(&["check"]).code(0);
    world.run(&["trial"]).code(0).says(&["gates 1.0 loaded"]);
    // The lock is enough: with the file in the cache, the catalogue may be gone.
    fs::remove_dir_all(&catalogue)?;
    fs::remove_file(world.path("home/.minetest/mods/gates/init.lua"))?;
    world.run(&["settle", "--yes"]).code(0);
    assert!(world.path("home/.minetest/mods/gates/init.lua").is_file());
    Ok(())
}

/// A published mod, installed in an edition that works; a second edition ends the server.
fn with_a_bad_update(world: &World) -> Done {
    let catalogue = world.root().join("gates-catalogue");
    let (good, bad) = (world.root().join("good/gates"), world.root().join("bad/gates"));
    put(&good.join("mod.conf"), "name = gates\n")?;
    put(&good.join("init.lua"), "minetest.log('action', 'gates')\n")?;
    put(&bad.join("mod.conf"), "name = gates\n")?;
    put(&bad.join("init.lua"), "error('boom')\n")?;
    publish(&catalogue, "gates", "mod", &[("1.0", &good)])?;
    world.run(&["catalogue", "add", "gates", "../gates-catalogue"]).code(0);
    world.run(&["add", "gates", "--yes"]).code(0);
    publish(&catalogue, "gates", "mod", &[("1.0", &good), ("1.1", &bad)])
}

/// What a nightly script does: it reads the exit code and the JSON, and nothing else.
fn nightly(world: &World, words: &[&str]) -> Result<(i32, Value), Box<dyn Error>> {
    let answer = world.run(&[words, &["--yes", "--json"]].concat());
    let json = answer.json().map_err(|error| format!("{error}: {}{}", answer.out, answer.err))?;
    Ok((answer.code, json))
}

fn runs(world: &World) -> Result<bool, Box<dyn Error>> {
    Ok(world.run(&["status", "--json"]).json()?["state"] == "running")
}

#[test]
fn day_07_a_nightly_update_never_leaves_a_dead_server_unnoticed() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    with_a_bad_update(&world)?;
    let _running = Running(&world);
    world.run(&["start"]).code(0);
    let (code, json) = nightly(&world, &["update", "--restart"])?;
    assert_eq!(
        (code, &json["settled"], &json["restart"]["is_good"]),
        (1, &true.into(), &false.into()),
        "{json:#}"
    );
    assert!(json["restart"]["trial"]["troubles"][0]["says"].to_string().contains("boom"), "{json:#}");
    assert!(!runs(&world)?);
    // Undo starts what was running before.
    let (code, json) = nightly(&world, &["undo", "--restart"])?;
    assert_eq!((code, &json["restart"]["is_good"]), (0, &true.into()), "{json:#}");
    assert!(runs(&world)?);
    // Or the command itself takes it back.
    let (code, json) = nightly(&world, &["update", "--restart", "--else-undo"])?;
    assert_eq!((code, &json["taken_back"]["restart"]["is_good"]), (1, &true.into()), "{json:#}");
    assert!(runs(&world)?);
    world.run(&["list"]).code(0).says(&["gates 1.0"]);
    // What was tried on a copy first changes nothing, and says why.
    let (code, json) = nightly(&world, &["update", "--restart", "--proved"])?;
    assert_eq!(
        (code, &json["settled"], &json["proof"]["is_good"]),
        (1, &false.into(), &false.into()),
        "{json:#}"
    );
    assert!(runs(&world)?);
    Ok(())
}

#[test]
fn day_08_the_same_where_commands_of_its_own_start_the_server() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    with_a_bad_update(&world)?;
    let panel = world.root().join("panel");
    let server = world.server();
    let text = format!(
        "#!/bin/sh\ncd '{}' || exit 1\npid=../pid\ncase $1 in\n\
         start) HOME=\"$PWD/home\" PATH=$PATH:/usr/games minetestserver --config \"$PWD/minetest.conf\" --world \"$PWD/world\" --logfile \"$PWD/debug.txt\" --color never --info >/dev/null 2>&1 & echo $! >$pid;;\n\
         stop) kill -INT $(cat $pid); while kill -0 $(cat $pid) 2>/dev/null; do sleep 0.1; done;;\n\
         status) kill -0 $(cat $pid) 2>/dev/null;;\nesac\n",
        server.display()
    );
    put(&panel, &text)?;
    Command::new("chmod").arg("+x").arg(&panel).status()?;
    let wants = world.read("yalotheca.toml")?;
    let shown = panel.display();
    world.write(
        "yalotheca.toml",
        &format!("{wants}\n[server.process]\nstart = [\"{shown}\", \"start\"]\nstop = [\"{shown}\", \"stop\"]\nstatus = [\"{shown}\", \"status\"]\n"),
    )?;
    // Each of the three is agreed to once.
    world.run_in_terminal(&["start"], "yes\nyes\nyes\nyes\n", &[]).code(0).says(&["ready"]);
    let agreed = world.run_in_terminal(&["stop"], "yes\nyes\nyes\n", &[]).code(0);
    assert!(!runs(&world)?, "{}", agreed.out);
    world.run(&["start"]).code(0);
    assert!(runs(&world)?);
    let (code, json) = nightly(&world, &["update", "--restart"])?;
    assert_eq!((code, &json["restart"]["is_good"]), (1, &false.into()), "{json:#}");
    // On a busy machine it takes a moment to end after it has said why.
    let ends = std::time::Instant::now() + std::time::Duration::from_secs(30);
    while runs(&world)? {
        assert!(std::time::Instant::now() < ends, "it is dead");
        std::thread::sleep(std::time::Duration::from_millis(200));
    }
    let (code, json) = nightly(&world, &["undo", "--restart"])?;
    assert_eq!((code, &json["restart"]["is_good"]), (0, &true.into()), "{json:#}");
    assert!(runs(&world)?);
    world.run(&["stop"]).code(0);
    assert!(!runs(&world)?);
    Ok(())
}

#[test]
fn day_09_catalogues_that_do_not_answer_are_told() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    let port = free_port()?;
    world.run(&["catalogue", "add", "silent", &format!("http://127.0.0.1:{port}/")]);
    let wants = world.read("yalotheca.toml")?;
    if !wants.contains("silent") {
        let silent =
            format!("[[catalogue]]\nname = \"silent\"\nat = \"http://127.0.0.1:{port}/\"\n\n[wants]");
        world.write("yalotheca.toml", &wants.replace("[wants]", &silent))?;
    }
    let (code, json) = nightly(&world, &["update"])?;
    assert_eq!(code, 0, "{json:#}");
    assert!(json["notes"].to_string().contains("silent"), "{json:#}");
    fs::remove_dir_all(world.root().join("dl"))?;
    let (code, json) = nightly(&world, &["update"])?;
    assert_eq!(code, 4, "{json:#}");
    assert!(
        json["notes"].to_string().contains("silent") && json["notes"].to_string().contains("dl"),
        "{json:#}"
    );
    Ok(())
}

#[test]
fn day_10_what_needs_what_cannot_be_had_is_held_back_and_the_rest_is_updated() -> Done {
    let Some((world, mods)) = put_right()? else { return Ok(()) };
    other_edition(&world, &mods, "unifieddyes")?;
    let held = other_edition(&world, &mods, "throwing")?;
    append(&held.join("mod.conf"), "\n")?;
    let conf = fs::read_to_string(held.join("mod.conf"))?;
    let conf = conf.lines().filter(|line| !line.starts_with("depends")).collect::<Vec<_>>().join("\n");
    fs::write(held.join("mod.conf"), format!("{conf}\ndepends = default, unobtainium\n"))?;
    let (code, json) = nightly(&world, &["update"])?;
    assert_eq!(code, 0, "{json:#}");
    assert_eq!(line(&json, "contents", "unifieddyes")?["act"], "changed", "{json:#}");
    assert!(line(&json, "held_back", "throwing")?["because"].to_string().contains("unobtainium"), "{json:#}");
    assert!(!world.read("home/.minetest/mods/throwing/init.lua")?.contains("another edition"));
    Ok(())
}

#[test]
fn day_11_what_is_dropped_and_still_needed_is_told() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    let (code, json) = nightly(&world, &["drop", "basic_materials"])?;
    assert_eq!(code, 0, "{json:#}");
    assert!(json["notes"].to_string().contains("basic_materials stays installed"), "{json:#}");
    assert_eq!(json["noted"][0], "without basic_materials", "{json:#}");
    assert!(world.path("home/.minetest/mods/basic_materials/init.lua").exists());
    Ok(())
}

#[test]
fn day_12_slow_is_not_broken() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    let bell = world.root().join("dl/slow_bell");
    put(&bell.join("mod.conf"), "name = slow_bell\n")?;
    put(
        &bell.join("init.lua"),
        "local t = os.time() + 4\nminetest.log('action', 'casting the bell')\nwhile os.time() < t do end\n",
    )?;
    world.run(&["add", "slow_bell", "--yes"]).code(0);
    let json = world.run(&["trial", "--patience", "2", "--json"]).code(1).json()?;
    assert_eq!(json["troubles"][0]["means"], "slow start", "{json:#}");
    assert!(json["troubles"][0]["says"].to_string().contains("the last thing it said"), "{json:#}");
    assert_eq!(json["was_killed"], false, "{json:#}");
    world.run(&["trial"]).code(0);
    // Three times what it took is given the next time; nothing has to be said.
    world.run(&["off", "slow_bell", "--proved", "--yes"]).code(0);
    Ok(())
}

#[test]
fn day_13_what_nobody_manages_is_found_to_be_the_culprit() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    let lurker = world.path("world/worldmods/lurker");
    put(&lurker.join("mod.conf"), "name = lurker\n")?;
    put(&lurker.join("init.lua"), "error('lurking')\n")?;
    // A second fault, that shows only without the first one.
    put(&world.root().join("dl/zz_second/mod.conf"), "name = zz_second\noptional_depends = lurker\n")?;
    put(&world.root().join("dl/zz_second/init.lua"), "error('second')\n")?;
    world.run(&["add", "zz_second", "--yes"]).code(0);
    let json = world.run(&["isolate", "--yes", "--json"]).code(1).json()?;
    assert_eq!(
        (&json["ids"][0], json["ids"].as_array().map(Vec::len)),
        (&"lurker".into(), Some(1)),
        "{json:#}"
    );
    assert_eq!(json["unmanaged"]["lurker"], "world/worldmods/lurker", "{json:#}");
    assert!(json["why"].to_string().contains("lurking"), "the second fault does not replace it: {json:#}");
    assert!(json["other_faults"].to_string().contains("second"), "{json:#}");
    Ok(())
}

#[test]
fn day_14_an_older_release_is_tried_before_anything_is_left_out() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    with_a_bad_update(&world)?;
    world.run(&["update", "gates", "--yes"]).code(0);
    let answer = world.run(&["isolate", "--yes"]).code(1);
    let answer =
        answer.says(&["it is gates", "with gates 1.0 the server starts", "yalotheca add 'gates@=1.0'"]);
    assert!(!answer.out.contains("none of them"), "{}", answer.out);
    world.run(&["add", "gates@=1.0", "--yes"]).code(0);
    world.run(&["trial"]).code(0);
    Ok(())
}

#[test]
fn day_15_problems_become_normal_only_when_somebody_says_so() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    append(&world.path("world/world.mt"), "load_mod_ghost = true\n")?;
    for _ in 0..2 {
        world.run(&["trial"]).code(1).says(&["enabled but missing: ghost"]);
    }
    let json = world.run(&["trial", "--accept", "--json"]).code(0).json()?;
    assert!(json["accepted"].to_string().contains("ghost"), "{json:#}");
    world.run(&["trial"]).code(0).says(&["with 1 accepted problem", "enabled but missing: ghost"]);
    append(&world.path("world/world.mt"), "load_mod_spectre = true\n")?;
    world.run(&["trial"]).code(1).says(&["spectre"]);
    Ok(())
}

#[test]
fn day_16_the_server_orders_by_needs_and_a_circle_is_a_problem() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    world.run(&["order"]).code(0).says(&["The server orders contents by itself"]);
    world
        .run(&["order", "mesecons", "--after", "mobs", "--yes"])
        .code(5)
        .says(&["orders contents by itself"]);
    for (one, other) in [("hen", "egg"), ("egg", "hen")] {
        put(&world.root().join(format!("dl/{one}/mod.conf")), &format!("name = {one}\ndepends = {other}\n"))?;
        put(&world.root().join(format!("dl/{one}/init.lua")), "")?;
    }
    world.run(&["add", "hen", "--yes"]).code(0).says(&["need one another in a circle"]);
    let json = world.run(&["check", "--json"]).code(1).json()?;
    let codes: Vec<&Value> =
        json["findings"].as_array().into_iter().flatten().map(|one| &one["code"]).collect();
    assert!(codes.contains(&&"circle".into()), "{json:#}");
    Ok(())
}

#[test]
fn day_17_a_pack_of_other_people_is_one_thing() -> Done {
    let Some((world, mods)) = put_right()? else { return Ok(()) };
    let before = digests_of(&world.server())?;
    let pack = |edition: &str, names: &[&str]| -> Result<String, Box<dyn Error>> {
        let folder = world.root().join("packing");
        fs::remove_dir_all(&folder).ok();
        for name in names {
            put(&folder.join(name).join("mod.conf"), &format!("name = {name}\n"))?;
            put(&folder.join(name).join("init.lua"), &format!("-- {name} of {edition}\n"))?;
        }
        put(&folder.join("overrides/world/bells.conf"), &format!("edition = {edition}\n"))?;
        put(&folder.join("overrides/world/force_loaded.txt"), "{}")?;
        let file = world.root().join(format!("harbour-pack-{edition}.zip"));
        let zip = Command::new("zip").arg("-qr").arg(&file).arg(".").current_dir(&folder).status()?;
        assert!(zip.success());
        Ok(file.display().to_string())
    };
    let names = ["bell_a", "bell_b", "bell_c", "bell_d"];
    let one = pack("1.0", &names)?;
    let (code, json) = nightly(&world, &["add", &one])?;
    assert_eq!(code, 0, "{json:#}");
    assert_eq!(line(&json, "contents", "harbour-pack")?["to"], "1.0", "{json:#}");
    assert_eq!(world.read("world/bells.conf")?, "edition = 1.0\n");
    assert!(!world.path("world/force_loaded.txt").exists(), "a world's data is no setting");
    let wants = world.read("yalotheca.toml")?;
    assert!(wants.contains("harbour-pack") && !wants.contains("bell_a"), "one thing is wanted: {wants}");
    // The second edition brings one more, and one no longer.
    let two = pack("2.0", &["bell_a", "bell_b", "bell_c", "bell_e"])?;
    let (code, json) = nightly(&world, &["add", &two])?;
    assert_eq!(code, 0, "{json:#}");
    assert_eq!(line(&json, "contents", "harbour-pack")?["act"], "newer", "{json:#}");
    assert_eq!(line(&json, "contents", "bell_d")?["act"], "gone", "{json:#}");
    assert_eq!(line(&json, "contents", "bell_a")?["act"], "changed", "{json:#}");
    assert!(json["notes"].to_string().contains("world/bells.conf is there already; yours stays"), "{json:#}");
    let (code, json) = nightly(&world, &["drop", "harbour-pack"])?;
    assert_eq!(code, 0, "{json:#}");
    fs::remove_file(world.path("world/bells.conf"))?;
    assert_eq!(digests_of(&world.server())?, before);
    drop(mods);
    Ok(())
}

#[test]
fn day_18_a_pack_of_this_server_can_be_made_at_all() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    // Mods with files of one name in several folders.
    let answer = world.run(&["modpack", "export", "../quay.zip"]).code(0);
    assert!(!answer.err.contains("Duplicate"), "{}", answer.err);
    let listed = Command::new("unzip").args(["-l"]).arg(world.root().join("quay.zip")).output();
    if let Ok(listed) = listed {
        assert!(String::from_utf8_lossy(&listed.stdout).contains("members/homedecor.zip"));
    }
    Ok(())
}

#[test]
fn day_19_passwords_are_shown_nowhere() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    append(&world.path("minetest.conf"), "harbour_api.token = tern-and-gull\n")?;
    let mut told: Vec<Answer> = Vec::new();
    for words in [
        &["settings", "server"][..],
        &["settings", "server", "--json"],
        &["settings", "server", "motd=hello", "--yes"],
        &["preview", "--diff"],
        &["check", "--json"],
        &["trial", "--report", "../report.txt"],
        &["history", "--json"],
        &["undo", "--yes"],
    ] {
        told.push(world.run(words));
    }
    let refused = world.run(&["settings", "server", "default_password=hering", "--yes"]).code(5);
    told.push(refused);
    told.push(world.run(&["settings", "server", "harbour_api.token=hering", "--yes"]));
    let report = fs::read_to_string(world.root().join("report.txt"))?;
    for text in told
        .iter()
        .flat_map(|answer| [&answer.out, &answer.err])
        .chain([&report, &world.read("yalotheca.toml")?])
    {
        for secret in ["seagull", "tern-and-gull", "hering"] {
            assert!(!text.contains(secret), "{secret} in {text}");
        }
    }
    Ok(())
}

#[test]
fn day_20_settings_by_pattern_the_log_and_the_server_itself() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    let (code, json) = nightly(&world, &["settings", "server", "armor_material_*=false"])?;
    assert_eq!(code, 0, "{json:#}");
    assert_eq!(world.read("minetest.conf")?.matches("armor_material_").count(), 8);
    assert!(!world.read("minetest.conf")?.contains('*'));
    let _running = Running(&world);
    world.run(&["start"]).code(0).says(&["The server was started: ready"]);
    world.run(&["start"]).code(5).says(&["already"]);
    world.run(&["log", "--lines", "400"]).code(0).says(&["listening on"]);
    world.run(&["restart"]).code(0).says(&["The server was started again: ready"]);
    world.run(&["stop"]).code(0);
    assert!(!runs(&world)?);
    Ok(())
}

#[test]
fn day_22_a_mirror_has_what_the_base_game_brings_and_what_lies_behind_links() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    world.run(&["mirror", "build", "../mirror", "--yes"]).code(0);
    let mirrored = |folder: &Path| -> Result<usize, Box<dyn Error>> {
        let mut files = 0;
        for entry in walkdir::WalkDir::new(folder).follow_links(true).into_iter().flatten() {
            if entry.file_type().is_file() {
                let sum = Command::new("sha1sum").arg(entry.path()).output()?;
                let name = String::from_utf8_lossy(&sum.stdout).chars().take(40).collect::<String>();
                assert!(world.root().join("mirror").join(name).is_file(), "{}", entry.path().display());
                files += 1;
            }
        }
        Ok(files)
    };
    assert!(
        mirrored(Path::new("/usr/share/games/minetest/games/minetest_game/mods/default/textures"))? > 100
    );
    assert!(mirrored(&world.path("mods_store/protector/textures"))? > 3);
    Ok(())
}

#[test]
fn day_21_words_that_people_type_lead_somewhere_and_nothing_is_done_unasked() -> Done {
    let Some((world, _)) = put_right()? else { return Ok(()) };
    for word in ["reload", "doctor", "logs", "backup", "export", "diagnose", "install", "run"] {
        world.run(&[word]).code(2).says(&["here it is called yalotheca"]);
    }
    world.run(&["drop", "mobs"]).code(5).says(&["this needs confirmation"]);
    let man = world.root().join("man");
    world.run(&["man", "--into", &man.display().to_string()]).code(0);
    let pages: Vec<String> =
        fs::read_dir(&man)?.flatten().map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
    for page in &pages {
        let text = fs::read_to_string(man.join(page))?.replace("\\-", "-");
        assert!(page == "yalotheca.1" || text.contains("--json"), "{page} has the common options");
        for named in text.split("yalotheca-").skip(1).filter_map(|rest| rest.split_once("(1)")) {
            let name = format!("yalotheca-{}.1", named.0);
            assert!(named.0.contains(char::is_whitespace) || pages.contains(&name), "{page} names {name}");
        }
    }
    assert!(program().exists());
    Ok(())
}
