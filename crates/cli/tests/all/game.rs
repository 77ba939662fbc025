//! Game definitions.

use std::fs;

use crate::harness::{Done, World};

#[test]
fn list_show_and_check() -> Done {
    let world = World::fresh()?;
    world
        .run(&["game", "list"])
        .code(0)
        .says(&["luanti Luanti voxel server built in", "saltwick Saltwick harbour server built in"]);
    let text = world.run(&["game", "show", "saltwick"]).code(0).out;
    let file = world.root().join("mine.toml");
    fs::write(&file, &text)?;
    let shown = file.display().to_string();
    world.run(&["game", "check", &shown]).code(0).says(&["the definition saltwick is good; 5 content kinds"]);
    world.run(&["add", "tidebell", "--yes"]).code(0);
    let folder = world.server().display().to_string();
    let before = world.digests()?;
    world.run(&["game", "check", &shown, "--on", &folder]).code(0).says(&[
        "The folder is recognised",
        "engine 2.4",
        "plugins/tidebell-1.4.0.swp: tidebell 1.4.0",
    ]);
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn mistakes_have_a_line_a_column_and_a_suggestion() -> Done {
    let world = World::fresh()?;
    let text = world.run(&["game", "show", "saltwick"]).code(0).out;
    let file = world.root().join("mine.toml");
    let shown = file.display().to_string();
    for (from, to, says) in [
        ("[recognise]", "[recognize]", vec!["unknown field `recognize`", "did you mean recognise?"]),
        (
            "values.engine }}\"\nnamed",
            "values.engin }}\"\nnamed",
            vec!["values.engin, which is not known here", "did you mean values.engine"],
        ),
        ("'harbour closed: (?<what>.*)'", "'harbour closed: (?<what>'", vec!["the pattern is wrong"]),
    ] {
        let broken = text.replacen(from, to, 1);
        assert_ne!(broken, text);
        fs::write(&file, broken)?;
        world.run(&["game", "check", &shown]).code(2).says(&[&format!("{shown}:")]).says(&says);
    }
    world.run(&["game", "show", "saltwik"]).code(2).says(&["did you mean saltwick?"]);
    Ok(())
}

#[test]
fn a_definition_in_the_control_folder_comes_first() -> Done {
    let world = World::fresh()?;
    let text = world.run(&["game", "show", "saltwick"]).code(0).out;
    world.write("games/saltwick.toml", &text.replace("Saltwick harbour server", "Our own harbour"))?;
    world.run(&["game", "list"]).code(0).says(&["Our own harbour", "games/saltwick.toml"]);
    Ok(())
}

#[test]
fn a_definition_that_came_with_a_folder_runs_nothing_before_it_is_trusted() -> Done {
    let world = World::fresh()?;
    let text = world.run(&["game", "show", "saltwick"]).code(0).out;
    let marker = world.root().join("it ran");
    let evil = text.replace(
        "[platform]\n",
        &format!(
            "[platform]\nevil = {{ command = [\"touch\", \"{}\"], match = '(?<version>x)' }}\n",
            marker.display()
        ),
    );
    world.write("games/saltwick.toml", &evil)?;
    world
        .run(&["check"])
        .code(5)
        .says(&["is new here, and it would run: /usr/bin/touch", "yalotheca game trust saltwick"]);
    std::fs::remove_file(world.path("yalotheca.toml"))?;
    world.run(&["adopt", "--game", "saltwick"]).code(5).says(&["is new here"]);
    world.adopt().code(2).says(&["looks like no server of a known game"]);
    assert!(!marker.exists(), "nothing of it was run");
    world.run(&["game", "trust", "saltwick"]).code(5).says(&["touch", "this needs confirmation"]);
    world.run(&["game", "trust", "saltwick", "--yes"]).code(0).says(&["Allowed"]);
    world.adopt().code(0);
    assert!(marker.exists());
    world.write("games/saltwick.toml", &format!("{evil}\n# changed\n"))?;
    world.run(&["check"]).code(5).says(&["is new here"]);
    Ok(())
}
