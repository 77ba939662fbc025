//! The real arena server, with maps from its own data package as a folder catalogue.

use std::{fs, path::Path, process::Command};

use crate::harness::{Done, World, free_port, skipped};

pub(crate) const DATA: &str = "/usr/share/games/teeworlds/data/maps";

/// A server with nothing but its configuration, not adopted; nothing where the program is missing.
pub(crate) fn ground() -> Result<Option<World>, Box<dyn std::error::Error>> {
    if !Path::new("/usr/games/teeworlds-server").exists() || !Path::new(DATA).is_dir() {
        return skipped("teeworlds-server").map(|()| None);
    }
    let world = World::empty()?;
    world.write("storage.cfg", "add_path $CURRENTDIR\nadd_path $DATADIR\n")?;
    let (port, console) = (free_port()?, free_port()?);
    world.write(
        "server.cfg",
        &format!(
            "# the crew's arena\nsv_name Larkspur\nsv_register 0\nbindaddr 127.0.0.1\nsv_port {port}\nsv_map dm1\n\
             ec_bindaddr 127.0.0.1\nec_port {console}\nec_password larkspur\nec_output_level 2\n"
        ),
    )?;
    Ok(Some(world))
}

pub(crate) fn arena() -> Result<Option<World>, Box<dyn std::error::Error>> {
    let Some(world) = ground()? else { return Ok(None) };
    fs::create_dir_all(world.path("maps"))?;
    fs::create_dir_all(world.files())?;
    // The package's maps under names of their own, so that the package does not stand in for them.
    for (name, own) in [("lms1", "quay"), ("ctf5", "breakwater")] {
        fs::copy(Path::new(DATA).join(format!("{name}.map")), world.files().join(format!("{own}.map")))?;
    }
    world
        .run(&["adopt", "--name", "Larkspur Arena", "--catalogue", "downloads=../files"])
        .code(0)
        .says(&["Teeworlds"]);
    Ok(Some(world))
}

#[test]
fn the_real_arena_plays_what_it_is_told() -> Done {
    let Some(world) = arena()? else { return Ok(()) };
    world.run(&["trial", "--keep"]).code(0).says(&["no problems"]);
    world.run(&["rehearse"]).code(0).says(&["answers players", "Admitted."]);
    world.run(&["stop"]).code(0);
    world.run(&["rehearse"]).code(4).says(&["does not answer players"]);
    let before = world.digests()?;
    world.run(&["add", "quay", "breakwater", "--yes"]).code(0).says(&["maps/quay.map"]);
    world.run(&["maps", "rotate", "dm1", "quay", "breakwater", "--yes"]).code(0);
    world.run(&["maps", "play", "quay", "--yes"]).code(0);
    let config = world.read("server.cfg")?;
    assert!(
        config.contains("sv_map quay\n") && config.ends_with("sv_maprotation dm1 quay breakwater\n"),
        "{config}"
    );
    world.run(&["maps"]).code(0).says(&["plays quay turn 2", "dm1 turn 1 the game's own"]);
    // The clean stop is the console's: the server ends by itself, with exit code 0.
    let json = world.run(&["trial", "--json"]).code(0).json()?;
    assert_eq!(json["verdict"], "ready", "{json}");
    broken(&world)?;
    // A map that works, and one that is whole at its ends and wrong inside, tried against the one that plays.
    world
        .run(&["maps", "try", "breakwater", "--yes"])
        .code(0)
        .says(&["breakwater works", "quay still plays"]);
    let mut bytes = fs::read(world.files().join("breakwater.map"))?;
    bytes[20..80].fill(0xff);
    fs::write(world.files().join("ghost_ship.map"), &bytes)?;
    world
        .run(&["maps", "try", "../files/ghost_ship.map", "--yes"])
        .code(1)
        .says(&["The fault is ghost_ship's"]);
    assert!(!world.path("maps/ghost_ship.map").exists());
    world.run(&["maps", "play", "dm1", "--yes"]).code(0);
    world.run(&["maps", "rotate", "dm1", "--yes"]).code(0);
    world.run(&["drop", "quay", "breakwater", "--yes"]).code(0);
    assert_eq!(
        world.read("server.cfg")?.lines().count(),
        11,
        "only the rotation is left, which was asked for"
    );
    for _ in 0..3 {
        world.run(&["undo", "--yes"]).code(0);
    }
    assert!(world.path("maps/quay.map").exists());
    while world.digests()? != before {
        world.run(&["undo", "--yes"]).code(0);
    }
    Ok(())
}

/// A truncated map, an archive named .map, and a map that is missing: found before the start, and explained by the trial.
fn broken(world: &World) -> Done {
    let map = world.path("maps/quay.map");
    let whole = fs::read(&map)?;
    let zipped = world.root().join("quay.zip");
    let output = Command::new("zip").arg("-jq").arg(&zipped).arg(&map).output()?;
    assert!(output.status.success(), "zip is there where teeworlds is");
    for (bytes, found, told) in [
        (whole[..2000].to_vec(), "it is truncated: 2000 of", "the map is cut short"),
        (
            fs::read(&zipped)?,
            "it is a zip archive under another name",
            "is called .map and is something else",
        ),
    ] {
        fs::write(&map, bytes)?;
        world.run(&["check"]).code(1).says(&[found]);
        world.run(&["trial"]).code(1).says(&[told, "the server could not start on the map quay"]);
    }
    fs::remove_file(&map)?;
    world.run(&["check"]).code(1).says(&["maps/quay.map of quay is gone"]);
    world.run(&["trial"]).code(1).says(&["the server looks for the map quay, and there is none"]);
    world.run(&["settle", "--yes"]).code(0);
    world.run(&["trial"]).code(0);
    // The archive is a way in all the same.
    fs::copy(&zipped, world.files().join("pier.map"))?;
    world
        .run(&["add", "../files/pier.map", "--yes"])
        .says(&["pier.map is a zip archive, whatever its name says"]);
    Ok(())
}
