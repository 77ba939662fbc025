//! Campaigns of a Mossgarrow server: folders that are maps, with their region on the ground and saves of their own.

use std::{
    fs,
    time::{Duration, SystemTime},
};

use crate::{harness::Done, moor::Moor};

#[test]
fn a_campaign_is_played_there_and_back() -> Done {
    let moor = Moor::new()?;
    let world = &moor.world;
    world.run(&["add", "4410188", "--yes"]).code(0);
    for (file, text) in [("saves/Basemarsh/open/day-1", "one"), ("saves/Heronry/long/day-9", "nine")] {
        fs::create_dir_all(world.path(file).parent().ok_or("no folder")?)?;
        fs::write(world.path(file), text)?;
    }
    let before = world.digests()?;
    world.run(&["maps"]).code(0).says(&[
        "plays Basemarsh/open",
        "saves 3 B",
        "Reedfen/open",
        "Saves of maps that are not installed",
        "saves/Heronry/long/ (1 file, 4 B)",
    ]);
    world.run(&["maps", "play", "Reedfen/opne", "--yes"]).code(2).says(&["did you mean Reedfen/open?"]);
    world.run(&["maps", "play", "Reedfen/open", "--yes"]).code(0).says(&[
        "plays = Reedfen/open",
        "The saves of Basemarsh/open stay in saves/Basemarsh/open/",
        "Reedfen/open starts fresh: there are no saves in saves/Reedfen/open/",
    ]);
    assert!(world.read("garrow.ini")?.contains("ground = Reedfen; Basemarsh"));
    world.run(&["check"]).code(0);
    world.run(&["trial"]).code(0);
    world
        .run(&["drop", "Reedfen", "--yes"])
        .code(2)
        .says(&["Reedfen contains Reedfen/open, the map being played"]);
    world.run(&["off", "Reedfen", "--yes"]).code(2).says(&["the map being played"]);
    let json = world.run(&["maps", "--json"]).code(0).json()?;
    assert_eq!(
        (&json["maps"][0]["name"], &json["maps"][0]["id"]),
        (&"Reedfen/open".into(), &"Reedfen".into())
    );
    // The same by its setting.
    world
        .run(&["settings", "server", "/host/story/plays=Basemarsh/open", "--yes"])
        .code(0)
        .says(&["+ plays \"Basemarsh/open\""]);
    let after = world.digests()?;
    for (path, bytes) in before.iter().filter(|(path, _)| path.as_str() != "garrow.ini") {
        assert_eq!(after.get(path), Some(bytes), "{path}");
    }
    Ok(())
}

#[test]
fn a_campaign_tried_leaves_the_one_that_plays() -> Done {
    let moor = Moor::new()?;
    let world = &moor.world;
    world.run(&["maps", "try", "4410188", "--yes"]).code(0).says(&[
        "Reedfen/open works: the server starts with Basemarsh/open, and it starts with Reedfen/open",
        "Basemarsh/open still plays",
    ]);
    assert!(world.read("garrow.def")?.contains("\"Basemarsh/open\""));
    assert!(world.path("campaigns/Reedfen/open").is_dir());
    Ok(())
}

#[test]
fn a_region_by_hand_is_put_on_the_ground_and_nothing_else_is_taken_off() -> Done {
    let moor = Moor::unmanaged()?;
    let world = &moor.world;
    moor.start_by_hand()?;
    // Somebody copied a region and its campaign, and plays it; the ground was forgotten.
    for folder in ["regions", "campaigns"] {
        let from = world.path(&format!("{folder}/Basemarsh"));
        let to = world.path(&format!("{folder}/Saltings"));
        copy(&from, &to)?;
    }
    let text = |file: &str, from: &str, to: &str| -> Done {
        let text = world.read(file)?;
        assert!(text.contains(from), "{text}");
        world.write(file, &text.replace(from, to))
    };
    text("garrow.def", "Basemarsh/open", "Saltings/open")?;
    text("regions.index", "1: Basemarsh", "1: Basemarsh\n2: Saltings")?;
    text(
        "spawn.tbl",
        "spawn = {",
        "spawn = {\n    [\"Saltings\"] = { weight = 5, points = \"regions/Saltings/spawn.pts\" },",
    )?;
    let earlier = SystemTime::now() - Duration::from_secs(60);
    fs::File::options().write(true).open(world.path("regions.bin"))?.set_modified(earlier)?;
    let before = world.digests()?;
    moor.adopt()?;
    assert_eq!(world.digests()?, before);
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    world.run(&["check"]).code(1).says(&["Saltings/open is played, but garrow.ini does not list Saltings"]);
    world.run(&["fix", "map-without", "--yes"]).code(0).says(&["garrow.ini add Saltings"]);
    assert!(
        world.read("garrow.ini")?.contains("ground = Saltings; Basemarsh"),
        "{}",
        world.read("garrow.ini")?
    );
    world.run(&["fix", "--yes"]);
    world.run(&["check"]).code(0);
    world.run(&["trial"]).code(0);
    // What was put there for it goes with it; what others put there stays.
    world.run(&["maps", "play", "Basemarsh/open", "--yes"]).code(0).says(&["garrow.ini take out Saltings"]);
    text("garrow.ini", "ground = Basemarsh", "ground = Saltings; Basemarsh")?;
    world.run(&["maps", "play", "Saltings/open", "--yes"]).code(0);
    world.run(&["maps", "play", "Basemarsh/open", "--yes"]).code(0);
    assert!(world.read("garrow.ini")?.contains("ground = Saltings; Basemarsh"));
    Ok(())
}

fn copy(from: &std::path::Path, to: &std::path::Path) -> Done {
    fs::create_dir_all(to)?;
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let inner = to.join(entry.file_name());
        if entry.file_type()?.is_dir() {
            copy(&entry.path(), &inner)?;
        } else {
            fs::copy(entry.path(), inner)?;
        }
    }
    Ok(())
}
