//! A pack of a server, brought to an empty second one, makes it the same: what is installed and why, what is off, settings, order,
//! findings. On the three made-up games, and on the voxel server with ninety mods.

use std::{error::Error, fs, path::Path};

use serde_json::Value;

use crate::{
    harness::{Done, World, free_port},
    ninety,
};
use yalotheca_standin::{kites, moor, quayside};

/// What must be the same on both.
fn state(world: &World, folder: &Path) -> Result<Vec<(&'static str, Value)>, Box<dyn Error>> {
    let json = |words: &[&str]| -> Result<Value, Box<dyn Error>> {
        let mut json = world.run_in(folder, words).json()?;
        // Each has a place of its own.
        if let Some(map) = json.as_object_mut() {
            map.remove("server");
            map.remove("files");
        }
        Ok(json)
    };
    let mut check = json(&["check", "--json"])?;
    if let Some(findings) = check["findings"].as_array_mut() {
        // What was never started has that to be told; what Yalotheca does not manage stays where it is.
        findings.retain(|one| {
            !["first-start", "unowned", "second", "terms"].contains(&one["code"].as_str().unwrap_or_default())
        });
    }
    Ok(vec![("list", json(&["list", "--json"])?), ("order", json(&["order", "--json"])?), ("check", check)])
}

/// What `yalotheca.toml` asks for, without where the server and its catalogues are.
fn asked(folder: &Path) -> Result<toml::Table, Box<dyn Error>> {
    let mut wants: toml::Table = fs::read_to_string(folder.join("yalotheca.toml"))?.parse()?;
    for own in ["server", "catalogue", "format"] {
        wants.remove(own);
    }
    if let Some(wants) = wants.get_mut("wants").and_then(toml::Value::as_table_mut) {
        for (_, want) in wants.iter_mut() {
            // What was given as a file comes by its name.
            if want.get("file").is_some() {
                *want = toml::Value::String("*".into());
            }
        }
    }
    Ok(wants)
}

fn round_trip(world: &World, second: &Path, adopt: &[&str]) -> Done {
    let pack = world.root().join("whole.zip").display().to_string();
    world.run(&["modpack", "export", &pack]).code(0);
    let bytes = fs::read(&pack)?;
    world.run_in(second, adopt).code(0);
    let before = fs::read_to_string(second.join("yalotheca.toml"))?;
    // Without a yes nothing is left behind.
    world.run_in(second, &["modpack", "import", &pack]).code(5);
    assert_eq!(fs::read_to_string(second.join("yalotheca.toml"))?, before);
    let id = Path::new(&pack).file_stem().ok_or("a name")?.to_owned();
    assert!(!second.join(".yalotheca/packs").join(&id).exists());
    world.run_in(second, &["modpack", "import", &pack, "--yes"]).code(0);
    for ((name, one), (_, two)) in state(world, &world.server())?.iter().zip(&state(world, second)?) {
        assert_eq!(one, two, "{name}");
    }
    assert_eq!(asked(&world.server())?, asked(second)?);
    // A pack of the second one is the same pack.
    let again = world.root().join("again/whole.zip");
    fs::create_dir_all(world.root().join("again"))?;
    world.run_in(second, &["modpack", "export", &again.display().to_string()]).code(0);
    assert!(fs::read(again)? == bytes, "the same server gives the same pack");
    Ok(())
}

fn second(world: &World) -> Result<std::path::PathBuf, Box<dyn Error>> {
    let folder = world.root().join("second");
    fs::create_dir_all(&folder)?;
    Ok(folder)
}

#[test]
fn a_harbour() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "night-lamps", "gull-chat@>=1.0", "tidebell@=1.4.0", "--yes"]).code(0);
    world.run(&["order", "gull-chat", "--after", "night-lamps", "--yes"]).code(0);
    world.run(&["settings", "server", "name=Festival", "--yes"]).code(0);
    let folder = second(&world)?;
    quayside::write_fresh_server(&folder, free_port()?)?;
    let program = format!("program={}", world.root().join("saltwick-server").display());
    round_trip(&world, &folder, &["adopt", "--name", "Second", "--set", &program])
}

#[test]
fn kites_with_maps_in_turn() -> Done {
    let world = World::kites()?;
    world.run(&["add", "../files/gull-cliffs-2.zip", "../files/windmill.zip", "--yes"]).code(0);
    world.run(&["maps", "rotate", "gull_cliffs", "pier_lights", "--yes"]).code(0);
    world.run(&["settings", "server", "fetch_cap_mb=48", "--yes"]).code(0);
    let folder = second(&world)?;
    kites::write_server(&folder, free_port()?, free_port()?)?;
    let program = format!("program={}", world.root().join("kitehollow-server").display());
    round_trip(&world, &folder, &["adopt", "--name", "Second", "--set", &program])
}

#[test]
fn a_moor_with_tweaks() -> Done {
    let world = World::moor()?;
    world.run(&["trial"]);
    let found = world.run(&["find", "--json"]).json()?;
    let tweak = found["found"]
        .as_array()
        .and_then(|all| all.first())
        .and_then(|one| one["id"].as_str().map(str::to_owned));
    let tweak = tweak.ok_or_else(|| format!("a tweak in {found:#}"))?;
    world.run(&["add", &tweak, "--set", "place=1,2,3", "--yes"]).code(0);
    let folder = second(&world)?;
    moor::write_server(&folder, free_port()?)?;
    let program = format!("program={}", world.root().join("mossgarrow-server").display());
    world.run_in(&folder, &["adopt", "--name", "Second", "--set", &program]).code(0);
    world.run_in(&folder, &["trial"]);
    fs::remove_file(folder.join("yalotheca.toml"))?;
    fs::remove_file(folder.join("yalotheca.lock")).ok();
    fs::remove_dir_all(folder.join(".yalotheca"))?;
    round_trip(&world, &folder, &["adopt", "--name", "Second", "--set", &program])
}

#[test]
fn the_voxel_server_with_ninety_mods() -> Done {
    let Some((world, _)) = ninety::put_right()? else { return Ok(()) };
    world.run(&["settings", "server", "motd=welcome", "--yes"]).code(0);
    world.run(&["off", "xdecor", "--because", "too many chairs", "--yes"]).code(0);
    let folder = second(&world)?;
    fs::create_dir_all(folder.join("world"))?;
    fs::write(
        folder.join("minetest.conf"),
        format!("name = admin\nserver_announce = false\nport = {}\n", free_port()?),
    )?;
    fs::write(
        folder.join("world/world.mt"),
        "gameid = minetest\nbackend = sqlite3\nplayer_backend = sqlite3\n",
    )?;
    round_trip(&world, &folder, &["adopt", "--name", "Second"])
}

#[test]
fn a_password_stays_where_it_is() -> Done {
    let world = World::kites()?;
    let wants = world.read("yalotheca.toml")?;
    world.write(
        "yalotheca.toml",
        &format!("{wants}\n[settings.server.\"host.cfg\"]\n\"/crew_token\" = \"puffin-rock\"\n"),
    )?;
    let pack = world.root().join("open.zip").display().to_string();
    let told = |words: &[&str]| -> Result<String, Box<dyn Error>> {
        world.run(&[&["modpack", "export", &pack, "--force"], words].concat()).code(0);
        let mut zip = zip::ZipArchive::new(fs::File::open(&pack)?)?;
        let mut text = String::new();
        std::io::Read::read_to_string(&mut zip.by_name("yalotheca-pack.toml")?, &mut text)?;
        Ok(text)
    };
    assert!(!told(&[])?.contains("puffin-rock"));
    assert!(told(&["--with-secrets"])?.contains("puffin-rock"));
    Ok(())
}
