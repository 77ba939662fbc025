//! Taking charge of empty, fresh and lived-in folders.

use std::fs;

use yalotheca_standin::quayside;

use crate::harness::{Done, World};

#[test]
fn an_empty_folder_needs_to_be_told_its_game() -> Done {
    let world = World::empty()?;
    world
        .adopt()
        .code(2)
        .says(&["looks like no server of a known game", "--game luanti or --game mossgarrow"]);
    let program = format!("program={}", world.root().join("saltwick-server").display());
    world
        .run(&["adopt", "--game", "saltwick", "--set", &program])
        .code(0)
        .says(&["none yet", "Nothing on the server was changed"]);
    assert!(world.digests()?.len() == 1, "only the folder itself");
    Ok(())
}

#[test]
fn a_fresh_folder_is_recognised_and_not_changed() -> Done {
    let world = World::empty()?;
    quayside::write_fresh_server(&world.server(), world.port)?;
    let before = world.digests()?;
    world.adopt().code(0).says(&["Saltwick harbour server", "engine 2.4, runtime 6", "none yet"]);
    assert_eq!(world.digests()?, before);
    world.run(&["check"]).code(0).says(&["no problems"]);
    Ok(())
}

#[test]
fn a_lived_in_folder_is_recognised_and_not_changed() -> Done {
    let world = World::empty()?;
    quayside::write_left_behind_server(&world.server(), world.port)?;
    let before = world.digests()?;
    let answer = world.adopt().code(0).says(&[
        "gull-chat lies at plugins/plugins/gull-chat-1.0.0.swp, where the server does not look; it belongs at plugins/gull-chat-1.0.0.swp",
        "Not recognised, and left alone plugins/notes from last year.txt plugins/tidebell-beta.swp.part",
    ]);
    assert!(!answer.out.contains("in no catalogue"), "all are known by digest: {}", answer.out);
    assert_eq!(world.digests()?, before);
    let wants = world.read("yalotheca.toml")?;
    for (name, is_there) in [("cobbles", true), ("gull-chat", false), ("night-lamps", true)] {
        assert_eq!(wants.contains(&format!("{name} = \"*\"")), is_there, "{wants}");
    }
    assert!(world.read("yalotheca.lock")?.contains("catalogue = \"quayside\""));
    world.adopt().code(5).says(&["has a yalotheca.toml already"]);
    Ok(())
}

#[test]
fn what_no_catalogue_knows_is_taken_over_and_can_be_dropped() -> Done {
    let world = World::empty()?;
    quayside::write_left_behind_server(&world.server(), world.port)?;
    let program = format!("program={}", world.root().join("saltwick-server").display());
    world.run(&["adopt", "--set", &program]).code(0).says(&["(in no catalogue)"]);
    // Nothing else moves along with it.
    let dropped = world.run(&["drop", "night-lamps", "--yes"]).code(0).says(&["you dropped it"]);
    assert!(!dropped.out.contains("gull-chat"), "{}", dropped.out);
    let too_deep = "plugins/plugins/gull-chat-1.0.0.swp";
    assert!(world.path(too_deep).exists());
    assert_eq!(world.read("plugins/order.txt")?, "# the order for the festival week\ngull-chat\n");
    // Its bytes lie on the server, so it can be moved to where it belongs without any catalogue.
    world.run(&["fix", "--yes"]).code(0).says(&["What this fixes gull-chat lies at", "move"]);
    assert!(world.path("plugins/gull-chat-1.0.0.swp").exists() && !world.path(too_deep).exists());
    assert_eq!(world.read("plugins/order.txt")?, "# the order for the festival week\ngull-chat\n");
    world.run(&["check"]).code(0);
    world.run(&["undo", "--yes"]).code(0);
    assert!(world.path(too_deep).exists());
    Ok(())
}

#[test]
fn a_second_file_of_one_id_is_named() -> Done {
    let world = World::empty()?;
    quayside::write_left_behind_server(&world.server(), world.port)?;
    fs::copy(world.path("plugins/plugins/gull-chat-1.0.0.swp"), world.path("plugins/gull-chat-1.0.0.swp"))?;
    world.adopt().code(0).says(&["gull-chat 1.0.0 on plugins/gull-chat-1.0.0.swp"]);
    let second = "plugins/plugins/gull-chat-1.0.0.swp";
    world
        .run(&["check"])
        .says(&[&format!("{second} is a second copy of gull-chat, where the server does not look")]);
    // It does no harm, so it is set aside only if it is named.
    world.run(&["fix", "--yes"]).code(0);
    assert!(world.path(second).exists());
    world.run(&["fix", second, "--yes"]).code(0).says(&["set aside"]);
    assert!(!world.path(second).exists() && world.path("plugins/gull-chat-1.0.0.swp").exists());
    Ok(())
}

#[test]
fn a_damaged_archive_and_a_bad_descriptor_are_named() -> Done {
    let world = World::empty()?;
    quayside::write_fresh_server(&world.server(), world.port)?;
    let (_, bytes) = quayside::release("tidebell", "1.4.0")?;
    fs::create_dir_all(world.path("plugins"))?;
    fs::write(world.path("plugins/cut.swp"), &bytes[..bytes.len() / 2])?;
    world.adopt().code(0).says(&["plugins/cut.swp: a damaged archive"]);
    world.run(&["check"]).code(1).says(&["plugins/cut.swp cannot be read"]);
    Ok(())
}

#[test]
fn wrong_options_are_told() -> Done {
    let world = World::empty()?;
    quayside::write_fresh_server(&world.server(), world.port)?;
    world.run(&["adopt", "--set", "prt=1"]).code(2).says(&["have no value \"prt\"", "did you mean port?"]);
    world.run(&["adopt", "--catalogue", "x"]).code(2).says(&["has no '='"]);
    world.run(&["adopt", "--game", "saltwik"]).code(2).says(&["did you mean saltwick?"]);
    assert!(!world.path("yalotheca.toml").exists());
    Ok(())
}
