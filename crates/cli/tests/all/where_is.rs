//! `where`: finding files anywhere on the server.

use std::fs;

use crate::harness::{Done, World};

#[test]
fn files_are_found_from_the_root_with_their_owners() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "tidebell", "--yes"]).code(0);
    fs::create_dir_all(world.path("old/backup of plugins/.hidden"))?;
    world.write("old/backup of plugins/.hidden/Tidebell-0.9.swp", "old")?;
    std::os::unix::fs::symlink("/nowhere/tidebell", world.path("plugins/tidebell-link"))?;
    let found = world.run(&["where", "tidebell"]).code(0).says(&[
        "among",
        "old/backup of plugins/.hidden/Tidebell-0.9.swp",
        "plugins/tidebell-1.4.0.swp",
        "tidebell 1.4.0",
        "plugins/tidebell-link -> /nowhere/tidebell",
    ]);
    assert!(!found.out.contains(".yalotheca"), "{}", found.out);
    let json = world.run(&["where", "*.swp", "nothing-like-this", "--json"]).code(0).json()?;
    let all = json["found"].as_array().ok_or("a list")?;
    let one = |path: &str| all.iter().find(|one| one["path"] == path).ok_or(format!("{path} is not there"));
    let ours = one("plugins/tidebell-1.4.0.swp")?;
    assert_eq!((&ours["content"], &ours["version"]), (&"tidebell".into(), &"1.4.0".into()));
    assert_eq!(ours["size"].as_u64(), Some(fs::metadata(world.path("plugins/tidebell-1.4.0.swp"))?.len()));
    assert_eq!(ours["is_edited"], false);
    assert!(one("old/backup of plugins/.hidden/Tidebell-0.9.swp")?["content"].is_null());
    assert_eq!(json["not_found"], serde_json::json!(["nothing-like-this"]));
    // What comes, goes and is edited between two commands is seen.
    fs::write(world.path("plugins/tidebell-1.4.0.swp"), "patched")?;
    fs::remove_dir_all(world.path("old"))?;
    let found = world.run(&["where", "tidebell-"]).code(0).says(&["tidebell 1.4.0, edited since"]);
    assert!(!found.out.contains("backup"), "{}", found.out);
    world.run(&["where", "plugins/*.swp"]).code(0).says(&["harbour-core"]);
    Ok(())
}

#[test]
fn nothing_found_is_told_and_so_is_what_is_no_pattern() -> Done {
    let world = World::fresh()?;
    world.run(&["where", "no-such-file"]).code(1).says(&["0 found among", "Not found: no-such-file"]);
    world.run(&["where", "[a"]).code(2).says(&["\"[a\" is not a pattern", "a [ has no ]"]);
    world.run(&["where", "-"]).code(2).says(&["names nothing to look for"]);
    world.run(&["where"]).code(2);
    Ok(())
}

#[test]
fn very_many_are_shown_when_asked_for_and_names_come_from_standard_input() -> Done {
    let world = World::fresh()?;
    for at in 0..150 {
        world.write(&format!("towns/media/tile_{at:03}.png"), "x")?;
    }
    let few = world.run(&["where", "tile_"]).code(0).says(&["150 found", "and 50 more; --all shows them"]);
    assert!(few.out.contains("tile_099") && !few.out.contains("tile_100"), "{}", few.out);
    assert!(world.run(&["where", "tile_", "--all"]).code(0).out.contains("tile_149"));
    let json = world.run(&["where", "tile_", "--json"]).code(0).json()?;
    assert_eq!(json["found"].as_array().map(Vec::len), Some(150));
    let answer = world.run_with_input(&["where", "-"], "tile_007.png\n\n  tile_14?.png \n");
    answer.code(0).says(&["11 found", "tile_007.png", "tile_149.png"]);
    Ok(())
}
