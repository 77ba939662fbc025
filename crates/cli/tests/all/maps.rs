//! Maps: what is installed, what plays, what is in turn and offered; and a map tried against the known one.

use std::fs;

use yalotheca_standin::kites;

use crate::harness::{Done, World};

fn two_maps() -> Result<World, Box<dyn std::error::Error>> {
    let world = World::kites()?;
    world.run(&["add", "../files/windmill.zip", "../files/gull-cliffs-2.zip", "--yes"]).code(0);
    Ok(world)
}

#[test]
fn adopting_takes_over_what_plays() -> Done {
    let world = World::kites()?;
    let wants = world.read("yalotheca.toml")?;
    assert!(
        wants.ends_with(
            "[maps]\nplay = \"pier_lights\"\nrotate = [\"pier_lights\"]\noffer = [\"pier_lights\"]\n"
        ),
        "{wants}"
    );
    world.run(&["maps"]).code(0).says(&["plays pier_lights turn 1 offered 97 KB"]);
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    Ok(())
}

#[test]
fn one_plays_some_are_in_turn_and_some_are_offered() -> Done {
    let world = two_maps()?;
    let before = world.digests()?;
    world.run(&["maps", "rotate", "windmill_row.kmap", "pier_lights", "--yes"]).code(0);
    assert_eq!(
        world.read("rotation.list")?,
        "windmill_row\npier_lights\n",
        "names without the suffix, in that order"
    );
    world.run(&["maps", "rotate", "pier_lights", "windmill_row", "--yes"]).code(0);
    assert_eq!(world.read("rotation.list")?, "pier_lights\nwindmill_row\n");
    world.run(&["maps", "offer", "gull_cliffs", "--yes"]).code(0).says(&["take out pier_lights"]);
    assert_eq!(world.read("offered.list")?, "gull_cliffs\n");
    world.run(&["maps", "play", "gull_cliffs", "--yes"]).code(0).says(&["start_map = gull_cliffs"]);
    assert!(world.read("host.cfg")?.contains("start_map \"gull_cliffs\"\n"));
    let json = world.run(&["maps", "--json"]).code(0).json()?;
    assert_eq!((&json["maps"][0]["name"], &json["maps"][0]["plays"]), (&"gull_cliffs".into(), &true.into()));
    assert_eq!(json["maps"][0]["notes"][0], "it names dusk_harbour, which is not here");
    world.run(&["trial"]).code(0);
    for _ in 0..4 {
        world.run(&["undo", "--yes"]).code(0);
    }
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn only_what_is_here_and_whole_can_be_played() -> Done {
    let world = two_maps()?;
    let before = world.digests()?;
    world.run(&["maps", "play", "gull_clifs", "--yes"]).code(2).says(&["did you mean gull_cliffs?"]);
    fs::copy(world.files().join("half_moon.kmap"), world.path("maps/half_moon.kmap"))?;
    world
        .run(&["maps", "rotate", "half_moon", "--yes"])
        .code(5)
        .says(&["half_moon cannot be played", "truncated"]);
    world
        .run(&["maps"])
        .code(1)
        .says(&["half_moon 60 KB added by hand", "it is truncated: 60000 of 90016 bytes"]);
    world.run(&["check"]).code(1).says(&["maps/half_moon.kmap cannot be read: it is truncated"]);
    fs::remove_file(world.path("maps/half_moon.kmap"))?;
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn a_map_that_goes_leaves_the_lists() -> Done {
    let world = two_maps()?;
    world.run(&["maps", "rotate", "windmill_row", "pier_lights", "--yes"]).code(0);
    world.run(&["maps", "offer", "windmill_row", "--yes"]).code(0);
    world.run(&["drop", "pier_lights", "--yes"]).code(2).says(&["is the map that plays", "maps play NAME"]);
    world.run(&["drop", "windmill_row", "--yes"]).code(0).says(&["rotation.list take out windmill_row"]);
    assert_eq!(world.read("rotation.list")?, "pier_lights\n");
    world.run(&["check"]).code(0);
    world.run(&["maps", "play", "gull_cliffs", "--yes"]).code(0);
    world.run(&["drop", "pier_lights", "--yes"]).code(2).says(&["the only map in the rotation"]);
    Ok(())
}

#[test]
fn what_is_named_and_missing_is_found_before_and_after_the_start() -> Done {
    let world = two_maps()?;
    world.write("rotation.list", "pier_lights\nnight_ferry\n")?;
    world.run(&["check"]).code(1).says(&[
        "there is no map night_ferry, and it is in the rotation",
        "add night_ferry, or rotate only the others: yalotheca maps rotate pier_lights",
    ]);
    world.run(&["trial"]).code(1).says(&["rotation.list names night_ferry, and there is no such map"]);
    world.write("rotation.list", "pier_lights\n")?;
    let offered = world.read("offered.list")?;
    world.write("offered.list", "pier_lights\nnight_ferry\n")?;
    world.run(&["check"]).code(1).says(&[
        "there is no map night_ferry, and players may choose it",
        "add night_ferry, or offer only the others: yalotheca maps offer pier_lights",
    ]);
    world.write("offered.list", "night_ferry\n")?;
    world.run(&["check"]).code(1).says(&["or offer others: yalotheca maps offer NAME…"]);
    world.write("offered.list", &offered)?;
    let map = world.path("maps/gull_cliffs.kmap");
    let whole = fs::read(&map)?;
    world.run(&["maps", "rotate", "pier_lights", "gull_cliffs", "--yes"]).code(0);
    for (bytes, found, told) in [
        (&whole[..9000], "truncated: 9000 of 180016 bytes", "the map gull_cliffs is cut short"),
        (b"PK\x03\x04zip", "it is a zip archive under another name", "the map gull_cliffs cannot be read"),
    ] {
        fs::write(&map, bytes)?;
        world.run(&["check"]).code(1).says(&[found]);
        world.run(&["trial"]).code(1).says(&[told]);
    }
    world.run(&["settle", "--replace", "maps/*", "--yes"]).code(0);
    world.run(&["check"]).code(0);
    fs::remove_file(world.path("maps/pier_lights.kmap"))?;
    world.run(&["trial"]).code(1).says(&["the server starts with the map pier_lights: no such map"]);
    Ok(())
}

#[test]
fn a_fault_is_known_to_be_the_maps() -> Done {
    let world = World::kites()?;
    let before = world.digests()?;
    world
        .run(&["maps", "try", "../files/windmill.zip", "--yes"])
        .code(0)
        .says(&["windmill_row works", "pier_lights still plays"]);
    assert!(world.path("maps/windmill_row.kmap").exists());
    assert!(world.read("host.cfg")?.contains("start_map \"pier_lights\""));
    // One change, however often the server was started for it.
    let history = world.run(&["history", "--json"]).json()?;
    assert_eq!(history["history"].as_array().map_or(0, Vec::len), 1, "{history}");
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(world.digests()?, before);
    // Whole, as far as can be seen, and wrong inside.
    let mut bytes = kites::map("rope_walk")[0].1.clone();
    bytes[500] ^= 1;
    fs::write(world.files().join("rope_walk.kmap"), &bytes)?;
    world.run(&["maps", "try", "../files/rope_walk.kmap", "--yes"]).code(1).says(&[
        "The fault is rope_walk's",
        "the map rope_walk cannot be read: damaged",
        "Everything is as it was before",
    ]);
    assert_eq!(world.digests()?, before);
    // Killed halfway, it leaves nothing behind.
    for point in ["3", "5", "7"] {
        let killed =
            world.run_with(&["maps", "try", "../files/windmill.zip", "--yes"], &[("YALOTHECA_FAULT", point)]);
        assert_eq!(killed.code, -1, "{point}: {}", killed.err);
        world.run(&["check"]).code(0);
        assert_eq!(world.digests()?, before, "{point}");
    }
    world.run(&["maps", "try", "pier_lights", "--yes"]).code(2).says(&["plays now"]);
    // The server itself is broken.
    fs::remove_file(world.path("maps/pier_lights.kmap"))?;
    world
        .run(&["maps", "try", "../files/windmill.zip", "--yes"])
        .code(1)
        .says(&["The fault is not windmill_row's"]);
    assert!(!world.path("maps/windmill_row.kmap").exists());
    Ok(())
}

#[test]
fn games_without_maps_say_so() -> Done {
    let world = World::fresh()?;
    world.run(&["maps"]).code(2).says(&["has no maps to choose from"]);
    Ok(())
}
