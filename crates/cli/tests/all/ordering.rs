//! `order` and `why`: the load order with its reasons, places that are asked for, and why contents are there.

use std::{fs, io::Write};

use crate::harness::{Done, World};

fn order_file(world: &World) -> Result<Vec<String>, Box<dyn std::error::Error>> {
    Ok(world.read("plugins/order.txt")?.lines().map(str::to_owned).collect())
}

fn lamps() -> Result<World, Box<dyn std::error::Error>> {
    let world = World::fresh()?;
    world.run(&["add", "tidebell", "night-lamps", "gull-chat", "--yes"]).code(0);
    Ok(world)
}

#[test]
fn the_order_is_shown_with_its_reasons() -> Done {
    let world = lamps()?;
    world.run(&["order"]).code(0).says(&[
        "Load order of Larkspur Harbour",
        "tidebell 1.4.0 after harbour-core, which it needs; after gull-chat, which it welcomes",
        "night-lamps 1.2.0 after lamp-oil, which it needs; after gull-chat, as it asks",
    ]);
    let json = world.run(&["order", "--json"]).code(0).json()?;
    let ids: Vec<&str> =
        json["order"].as_array().into_iter().flatten().filter_map(|placed| placed["id"].as_str()).collect();
    assert_eq!(ids, order_file(&world)?);
    let gave_way = &json["gave_way"][0];
    assert_eq!((&gave_way["bond"], &gave_way["by"]), (&"wishes".into(), &"gull-chat".into()));
    assert_eq!(gave_way["against"][0]["by"], "night-lamps");
    Ok(())
}

#[test]
fn a_circle_names_what_to_override_and_the_override_is_followed() -> Done {
    let world = lamps()?;
    let before = order_file(&world)?;
    let place = |order: &[String], name: &str| order.iter().position(|other| other == name);
    assert!(place(&before, "gull-chat") < place(&before, "night-lamps"));
    world.run(&["order"]).code(0).says(&[
        "gull-chat and night-lamps each ask to be loaded after the other; gull-chat goes first.",
        "To have it anyway: yalotheca order gull-chat --after night-lamps",
    ]);
    world.run(&["order", "gull-chat", "--after", "night-lamps", "--yes"]).code(0).says(&["move gull-chat"]);
    let after = order_file(&world)?;
    assert!(place(&after, "night-lamps") < place(&after, "gull-chat"));
    assert!(place(&after, "gull-chat") < place(&after, "tidebell"), "tidebell welcomes it");
    assert!(world.read("yalotheca.toml")?.contains("[order]\ngull-chat = { after = [\"night-lamps\"] }\n"));
    world.run(&["order"]).code(0).says(&[
        "gull-chat 1.1.0 after night-lamps, as you asked",
        "night-lamps asks to be loaded after gull-chat; that cannot be kept, because you asked for gull-chat after",
    ]);
    world.run(&["check"]).code(0);
    world.run(&["trial"]).code(0);
    // The opposite takes its place, and the files come back with an undo.
    world.run(&["order", "gull-chat", "--before", "night-lamps", "--yes"]).code(0);
    assert!(world.read("yalotheca.toml")?.contains("gull-chat = { before = [\"night-lamps\"] }"));
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(order_file(&world)?, after);
    world.run(&["order", "gull-chat", "--free", "--yes"]).code(0);
    assert!(!world.read("yalotheca.toml")?.contains("[order]"));
    Ok(())
}

#[test]
fn what_cannot_be_is_refused_and_not_noted() -> Done {
    let world = lamps()?;
    let before = world.digests()?;
    for (words, says) in [
        (
            vec!["tidebell", "--before", "harbour-core"],
            "tidebell cannot be loaded before harbour-core: tidebell needs",
        ),
        (
            vec!["lamp-oil", "--after", "night-lamps"],
            "what is needed is always loaded first; nothing was noted",
        ),
        (vec!["tidebell", "--after", "tidebell"], "tidebell cannot be loaded before or after itself"),
        (vec!["tidebell", "--after", "gul-chat"], "did you mean gull-chat?"),
        (vec!["regatta", "--after", "tidebell"], "install it: yalotheca add regatta"),
        (vec!["tidebell"], "nothing is asked of tidebell"),
    ] {
        world.run(&[vec!["order"], words.clone(), vec!["--yes"]].concat()).code(2).says(&[says]);
    }
    assert_eq!(world.digests()?, before);
    world.run(&["order", "tidebell", "--after", "lamp-oil", "--yes"]).code(0);
    world
        .run(&["order", "lamp-oil", "--after", "tidebell", "--yes"])
        .code(2)
        .says(&["yalotheca order tidebell --free forgets what was asked before"]);
    // A place that somebody wrote by hand and that cannot be stands in nobody else's way.
    let wants = world.read("yalotheca.toml")?;
    world.write("yalotheca.toml", &format!("{wants}harbour-core = {{ after = [\"tidebell\"] }}\n"))?;
    world.run(&["order", "gull-chat", "--after", "night-lamps", "--yes"]).code(0);
    world
        .run(&["order"])
        .code(0)
        .says(&["you asked for harbour-core after tidebell; that cannot be kept, because"]);
    Ok(())
}

#[test]
fn groups_of_a_game_definition_come_in_their_order() -> Done {
    let world = lamps()?;
    let text = world.run(&["game", "show", "saltwick"]).code(0).out;
    let groups = "[order]\ngroups = [[\"lamp-*\"], [\"*\"], [\"harbour-*\", \"tide*\"]]\n\n[recognise]";
    world.write("games/saltwick.toml", &text.replacen("[recognise]", groups, 1))?;
    world.run(&["game", "trust", "saltwick", "--yes"]).code(0);
    world.run(&["preview"]).code(0).says(&["plugins/order.txt move"]);
    world.run(&["settle", "--yes"]).code(0);
    assert_eq!(order_file(&world)?, ["lamp-oil", "gull-chat", "night-lamps", "harbour-core", "tidebell"]);
    world
        .run(&["order"])
        .code(0)
        .says(&["lamp-oil 1.0.2 in the group lamp-*", "in the group harbour-*, tide*"]);
    let wrong = text.replacen("[recognise]", "[order]\ngroups = [[\"[\"]]\n\n[recognise]", 1);
    world.write("games/saltwick.toml", &wrong)?;
    world.run(&["preview"]).code(2).says(&["games/saltwick.toml:", "the pattern is wrong"]);
    Ok(())
}

#[test]
fn why_tells_who_needs_it_and_what_keeps_it_from_being_newer() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "tidebell", "ferry-lines@<1", "quiet-bells@*", "tidebell@<1.3", "--yes"]).code(0);
    world.run(&["why", "harbour-core"]).code(0).says(&[
        "Why harbour-core 2.3.0 is here",
        "tidebell 1.2.0 needs it: 1.9 or newer, below 3",
        "ferry-lines 0.9.0 needs it: 1.9 or newer, below 3",
        "harbour-core 3.0.0 is out and does not fit",
        "harbour-core 3.0.0 needs engine 3 or newer, and this server has engine 2.4",
    ]);
    world.run(&["why", "ferry-lines"]).code(0).says(&[
        "You want below 1.",
        "ferry-lines 1.0.0 is out",
        "You want below 1, so it stays.",
        "yalotheca add 'ferry-lines@*' lets it go on.",
    ]);
    world.run(&["why", "quiet-bells"]).code(0).says(&["You want it.", "Nothing newer is out"]);
    world.run(&["add", "ferry-lines@*", "--later"]).code(0);
    world.run(&["why", "ferry-lines"]).code(0).says(&[
        "ferry-lines 1.0.0 is out and does not fit",
        "yalotheca.toml asks for ferry-lines 1.0.0 and tidebell below 1.3",
        "ferry-lines 1.0.0 goes with tidebell 1.4 or newer only",
    ]);
    world.run(&["add", "tidebell@*", "quiet-bells@*", "--later"]).code(0);
    world.run(&["drop", "quiet-bells", "--later"]).code(0);
    world.run(&["why", "ferry-lines"]).code(0).says(&["yalotheca update ferry-lines takes it."]);
    let newer = world.run(&["why", "tidebell", "--json"]).code(0).json()?;
    assert_eq!(newer["newer"]["version"], "2.0.0");
    assert_eq!(newer["newer"]["fits"], false);
    let because = newer["newer"]["because"]["because"].to_string();
    assert!(because.contains("which needs engine 3 or newer"), "{because}");
    world.run(&["add", "tidebell@=1.2.0", "--yes"]).code(0);
    world.run(&["why", "tidebell"]).code(0).says(&["You hold it at 1.2.0."]);
    world.run(&["why", "tidebel"]).code(2).says(&["did you mean tidebell?"]);
    world.run(&["why", "regatta"]).code(2).says(&["see whether it would fit: yalotheca about regatta"]);
    Ok(())
}

/// Returns the data packs that the server enables, in their order.
fn enabled(world: &World) -> Result<Vec<String>, Box<dyn std::error::Error>> {
    let list = "towns/brinewick/packs.json";
    // The list was made for the first entry and goes with the last.
    if world.path(list).exists() { Ok(serde_json::from_str(&world.read(list)?)?) } else { Ok(Vec::new()) }
}

#[test]
fn what_comes_back_has_its_old_place() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "cobbles", "evening-tide@=1.0", "--yes"]).code(0);
    for name in ["awnings", "bollards"] {
        let file = fs::File::create(world.path(&format!("../{name}.zip")))?;
        let mut zip = zip::ZipWriter::new(file);
        zip.start_file("datapack.json", zip::write::SimpleFileOptions::default())?;
        write!(zip, r#"{{"name": "{name}", "version": "1.0", "format": 4}}"#)?;
        zip.finish()?;
        world.run(&["add", &format!("../{name}.zip"), "--yes"]).code(0);
    }
    let before = enabled(&world)?;
    assert_eq!(before.len(), 4);
    for off in [&before[..1], &before[1..3], &before[3..], &before[..]] {
        let off: Vec<&str> = off.iter().map(String::as_str).collect();
        world.run(&[&["off"], off.as_slice(), &["--yes"]].concat()).code(0);
        let left: Vec<&String> = before.iter().filter(|name| !off.contains(&name.as_str())).collect();
        assert_eq!(enabled(&world)?.iter().collect::<Vec<_>>(), left, "without {off:?}");
        // One by one, the last first.
        for name in off.iter().rev() {
            world.run(&["on", name, "--yes"]).code(0);
        }
        assert_eq!(enabled(&world)?, before, "{off:?} came back");
    }
    Ok(())
}
