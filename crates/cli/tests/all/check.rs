//! Everything that can be found without starting.

use std::fs;

use crate::harness::{Done, World};

#[test]
fn each_kind_of_trouble_is_found_and_settle_mends_it() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "tidebell", "evening-tide", "--yes"]).code(0);
    let good = world.digests()?;
    world.run(&["check"]).code(0);

    fs::remove_file(world.path("plugins/harbour-core-2.3.0.swp"))?;
    world
        .run(&["check"])
        .code(1)
        .says(&["missing-file", "plugins/harbour-core-2.3.0.swp of harbour-core is gone"]);
    world.run(&["settle", "--yes"]).code(0).says(&["put back"]);

    fs::write(world.path("plugins/tidebell-1.4.0.swp"), "half")?;
    world.run(&["check"]).code(1).says(&[
        "altered-file",
        "was edited since Yalotheca installed it",
        "no zip archive",
    ]);
    world.run(&["settle", "--yes"]).code(0).says(&["nothing to do", "Edited since"]);
    world.run(&["settle", "--replace", "plugins/tidebell-1.4.0.swp", "--yes"]).code(0).says(&["replace"]);

    world.write("plugins/order.txt", "harbour-core\n")?;
    world.run(&["check"]).code(1).says(&["not-registered", "plugins/order.txt lacks tidebell"]);
    world.run(&["settle", "--yes"]).code(0);

    world.write("towns/brinewick/packs.json", "[\"evening-tide\"")?;
    world.run(&["check"]).code(1).says(&["broken-file", "packs.json, line 1"]);
    world
        .run(&["settle", "--yes"])
        .code(5)
        .says(&["towns/brinewick/packs.json: line 1", "settle --skip-broken"]);
    world.write("towns/brinewick/packs.json", "[\"evening-tide\"]\n")?;

    assert_eq!(world.digests()?, good);
    world.run(&["check"]).code(0);
    Ok(())
}

#[test]
fn engine_runtime_and_terms_must_agree() -> Done {
    let world = World::fresh()?;
    world.write("boot.json", "{\"engine\": \"saltwick-2.4.swe\", \"runtime\": 4}\n")?;
    world
        .run(&["check"])
        .code(1)
        .says(&["this engine needs runtime 6, and boot.json starts it on 4", "yalotheca fix boot.json"]);
    world.write("boot.json", "{\"engine\": \"saltwick-2.5.swe\", \"runtime\": 6}\n")?;
    world.run(&["check"]).code(1).says(&["there is no such file", "name saltwick-2.4.swe in boot.json"]);
    world.write("boot.json", "{\"engine\": \"saltwick-2.4.swe\", \"runtime\": 6}\n")?;
    world.write("terms.txt", "# read me\nterms = undecided\n")?;
    world.run(&["check"]).code(1).says(&["yalotheca settle --accept-terms"]);
    world.run(&["settle", "--yes"]).code(0);
    assert!(world.read("terms.txt")?.contains("undecided"), "--yes accepts no terms");
    world.run(&["settle", "--accept-terms", "--yes"]).code(0);
    assert_eq!(world.read("terms.txt")?, "# read me\nterms = agreed\n");
    world.run(&["check"]).code(0);
    world.run(&["history"]).says(&["settle --accept-terms"]);
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(world.read("terms.txt")?, "# read me\nterms = undecided\n");
    Ok(())
}

#[test]
fn findings_are_json_too() -> Done {
    let world = World::left_behind()?;
    let json = world.run(&["check", "--json"]).code(1).json()?;
    let sorts: Vec<&str> =
        json["findings"].as_array().into_iter().flatten().filter_map(|f| f["code"].as_str()).collect();
    assert_eq!(sorts, ["needs", "wrong-folder", "unowned", "unowned"]);
    assert_eq!(json["findings"][0]["about"], "night-lamps");
    assert_eq!(json["findings"][0]["fix"], "yalotheca fix");
    Ok(())
}

#[test]
fn a_second_file_of_a_content_is_a_trouble_and_can_be_set_aside() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "gull-chat", "--yes"]).code(0);
    world.run(&["check"]).code(0);
    let older = "plugins/gull-chat-1.0.0.swp";
    std::fs::copy(world.root().join("quayside/files/gull-chat-1.0.0.swp"), world.path(older))?;
    world.run(&["check"]).code(1).says(&[
        &format!("{older} is a second gull-chat, beside plugins/gull-chat-1.1.0.swp"),
        "yalotheca fix",
    ]);
    // It is another release: nothing is lost without a question.
    world.run(&["fix", "--yes"]).code(1).says(&["differs from the gull-chat that is installed"]);
    world.run(&["settle", "--clean-first", "--yes"]).code(0);
    assert!(!world.path(older).exists());
    world.run(&["check"]).code(0);
    Ok(())
}
