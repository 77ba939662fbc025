//! Adding, dropping, updating, settling and undoing: and that the server is as it was afterwards.

use std::fs;

use crate::harness::{Done, World};

#[test]
fn add_and_drop_leave_every_byte_as_it_was() -> Done {
    let world = World::left_behind()?;
    world.run(&["fix", "--yes"]).code(0);
    let before = world.digests()?;
    for names in [vec!["tidebell"], vec!["regatta", "harbour-market"], vec!["evening-tide"]] {
        let words = |verb| [vec![verb], names.clone(), vec!["--yes"]].concat();
        world.run(&words("add")).code(0);
        assert_ne!(world.digests()?, before);
        world.run(&words("drop")).code(0);
        assert_eq!(world.digests()?, before, "{names:?}");
    }
    Ok(())
}

#[test]
fn settle_and_undo_leave_every_byte_as_it_was() -> Done {
    let world = World::left_behind()?;
    let before = world.digests()?;
    let wants = world.read("yalotheca.toml")?;
    let lock = world.read("yalotheca.lock")?;
    world.run(&["fix", "--yes"]).code(0);
    world.run(&["add", "regatta", "evening-tide", "--yes"]).code(0);
    world.run(&["update", "--yes"]).code(0).says(&["gull-chat 1.1.0 (was 1.0.0)"]);
    for number in [3, 2, 1] {
        world.run(&["undo", "--yes"]).code(0).says(&[&format!("Change {number}:")]);
    }
    assert_eq!(world.digests()?, before);
    assert_eq!(world.read("yalotheca.toml")?, wants);
    assert_eq!(world.read("yalotheca.lock")?, lock);
    world.run(&["undo", "--yes"]).code(2).says(&["there is no change to take back"]);
    world.run(&["history"]).code(0).says(&["change 3 taken back", "taken back: "]);
    Ok(())
}

#[test]
fn what_the_server_writes_is_neither_drift_nor_lost() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "tidebell", "--yes"]).code(0);
    world.run(&["trial"]).code(0);
    assert!(world.read("plugins/tidebell/settings.yml")?.contains("volume: 5"), "the server wrote it");
    world.run(&["check"]).code(0);
    world.run(&["settle", "--yes"]).code(0).says(&["nothing to do"]);
    world.run(&["drop", "tidebell", "--yes"]).code(0);
    assert!(world.path("plugins/tidebell/settings.yml").exists(), "what we did not write stays");
    assert!(world.read("saltwick.conf")?.contains("look.must = no"), "and so do the server's own keys");
    Ok(())
}

#[test]
fn undo_after_somebody_wrote_takes_back_only_ours() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "lamp-oil", "--yes"]).code(0);
    world.run(&["add", "coin-purse", "--yes"]).code(0);
    world.write("plugins/order.txt", "lamp-oil\nby-hand # mine\ncoin-purse\n")?;
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(world.read("plugins/order.txt")?, "lamp-oil\nby-hand # mine\n");
    assert!(!world.path("plugins/coin-purse-1.3.0.swp").exists());
    Ok(())
}

#[test]
fn undo_keeps_what_was_edited_since_and_takes_the_rest_back() -> Done {
    let world = World::fresh()?;
    let before = world.read("yalotheca.toml")?;
    world.run(&["add", "lamp-oil", "--yes"]).code(0);
    let edited = world.read("yalotheca.toml")?.replace("format = 1", "# by hand\nformat = 1");
    world.write("yalotheca.toml", &edited)?;
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(world.read("yalotheca.toml")?, before.replace("format = 1", "# by hand\nformat = 1"));
    assert!(!world.path("plugins/lamp-oil-1.0.2.swp").exists());
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    // An edit of the very same lines is reported as a conflict.
    world.run(&["redo", "--yes"]).code(0);
    let edited = world.read("yalotheca.toml")?.replace("lamp-oil = \"*\"", "lamp-oil = \"=1.0.2\"");
    world.write("yalotheca.toml", &edited)?;
    world.run(&["undo", "--yes"]).code(0).says(&["lines of yalotheca.toml were edited since"]);
    assert_eq!(world.read("yalotheca.toml")?, edited);
    Ok(())
}

#[test]
fn changes_are_taken_back_in_a_row_and_done_again() -> Done {
    let world = World::fresh()?;
    let state = || {
        Ok::<_, Box<dyn std::error::Error>>((
            world.digests()?,
            world.read("yalotheca.toml")?,
            world.read("yalotheca.lock")?,
            world.read(".yalotheca/receipt.json")?,
        ))
    };
    let mut states = vec![state()?];
    for words in [
        &["add", "lamp-oil", "--yes"][..],
        &["add", "tidebell", "--later"],
        &["settle", "--yes"],
        &["drop", "tidebell", "--later"],
    ] {
        world.run(words).code(0);
        states.push(state()?);
    }
    // Undoing a change of the wants alone changes the wants alone: no content is installed without its want or removed.
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(state()?, states[3]);
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    world.run(&["redo", "--yes"]).code(0);
    assert_eq!(state()?, states[4]);
    world.run(&["undo", "2", "--yes"]).code(0).says(&["Takes back 4, 3, 2"]);
    assert_eq!(state()?, states[1]);
    world.run(&["undo", "2", "--yes"]).code(2).says(&["there is no change 2 to take back"]);
    world.run(&["redo", "--yes"]).code(0);
    assert_eq!(state()?, states[2]);
    world.run(&["redo", "--yes"]).code(0);
    assert_eq!(state()?, states[3]);
    world.run(&["add", "cobbles", "--yes"]).code(0);
    world.run(&["redo", "--yes"]).code(2).says(&["was made since the last undo"]);
    Ok(())
}

#[test]
fn later_only_notes_and_preview_only_shows() -> Done {
    let world = World::fresh()?;
    let before = world.digests()?;
    world.run(&["add", "tidebell", "--later"]).code(0).says(&["Noted in yalotheca.toml: tidebell"]);
    let preview = world
        .run(&["preview"])
        .code(0)
        .says(&["harbour-core 2.3.0 tidebell needs it", "tidebell 1.4.0 you want it"]);
    assert!(preview.out.contains("put"), "{}", preview.out);
    world.run(&["check"]).code(1).says(&["tidebell is in yalotheca.toml and not installed yet"]);
    assert_eq!(world.digests()?, before);
    world.run(&["settle", "--yes"]).code(0);
    assert_eq!(world.read("plugins/order.txt")?, "harbour-core\ntidebell\n");
    Ok(())
}

#[test]
fn without_a_yes_and_a_terminal_nothing_happens() -> Done {
    let world = World::fresh()?;
    let before = world.digests()?;
    world.run(&["add", "tidebell"]).code(5).says(&["this needs confirmation", "nothing was changed"]);
    assert_eq!(world.digests()?, before);
    assert!(!world.read("yalotheca.toml")?.contains("tidebell"));
    Ok(())
}

#[test]
fn drop_takes_dependencies_along_and_keeps_what_is_needed() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "tidebell", "ferry-lines", "--yes"]).code(0);
    world.run(&["drop", "harbour-core", "--yes"]).code(2).says(&["it is installed because"]);
    world.run(&["drop", "tidebell", "--yes"]).code(0);
    assert!(world.path("plugins/harbour-core-2.3.0.swp").exists());
    world.run(&["drop", "ferry-lines", "--yes"]).code(0);
    assert!(!world.path("plugins/harbour-core-2.3.0.swp").exists());
    Ok(())
}

#[test]
fn versions_are_chosen_held_and_let_go() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "tidebell@=1.2.0", "--yes"]).code(0).says(&["tidebell 1.2.0 you hold it at 1.2.0"]);
    world.run(&["update", "--yes"]).code(0).says(&["tidebell 2.0.0 is out; 1.2.0 stays", "you want 1.2.0"]);
    world.run(&["add", "tidebell@*", "--yes"]).code(0);
    world.run(&["update", "tidebell", "--yes"]).code(0).says(&["tidebell 1.4.0 (was 1.2.0)"]);
    // Pre-releases and withdrawn releases are not taken.
    world
        .run(&["add", "lamp-oil", "coin-purse", "--yes"])
        .code(0)
        .says(&["lamp-oil 1.0.2", "coin-purse 1.3.0"]);
    world
        .run(&["add", "lamp-oil@>=1.1.0-beta", "--yes"])
        .code(0)
        .says(&["lamp-oil 1.1.0-beta.1 (was 1.0.2)"]);
    Ok(())
}

#[test]
fn conflicts_name_the_ways_out() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "tidebell@>=1.4", "--yes"]).code(0);
    let before = world.digests()?;
    world.run(&["add", "quiet-bells", "--yes"]).code(3).says(&[
        "quiet-bells 1.0.0 refuses to run beside tidebell 1.3 or newer",
        "take tidebell 1.2.0 yalotheca add quiet-bells tidebell@=1.2.0",
        "do without quiet-bells",
        "do without tidebell yalotheca drop tidebell; yalotheca add quiet-bells",
    ]);
    world
        .run(&["add", "fog-signal", "--yes"])
        .code(3)
        .says(&["needs engine 3 or newer, and this server has engine 2.4"]);
    world
        .run(&["add", "lantern-parade", "--yes"])
        .code(3)
        .says(&["lantern-parade 1.0.0 needs night-lamps 2 or newer"]);
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn a_circle_of_wishes_in_the_order_is_told() -> Done {
    let world = World::fresh()?;
    let answer = world.run(&["add", "gull-chat", "night-lamps", "--yes"]).code(0);
    answer.says(&["gull-chat and night-lamps each ask to be loaded after the other; gull-chat goes first"]);
    world.run(&["trial"]).code(0);
    Ok(())
}

#[test]
fn order_by_hand_is_put_right_and_comments_stay() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "tidebell", "--yes"]).code(0);
    world.write("plugins/order.txt", "# mine\ntidebell\nharbour-core\nother\n")?;
    world.run(&["check"]).code(1).says(&["in the wrong place of the order"]);
    world.run(&["settle", "--yes"]).code(0);
    let text = world.read("plugins/order.txt")?;
    let at = |name: &str| text.find(name);
    assert!(
        at("harbour-core") < at("tidebell") && text.starts_with("# mine\n") && text.contains("other\n"),
        "{text}"
    );
    Ok(())
}

#[test]
fn permissions_of_replaced_files_stay() -> Done {
    use std::os::unix::fs::PermissionsExt;

    let world = World::left_behind()?;
    fs::set_permissions(world.path("plugins/order.txt"), fs::Permissions::from_mode(0o640))?;
    world.run(&["fix", "--yes"]).code(0);
    assert_eq!(fs::metadata(world.path("plugins/order.txt"))?.permissions().mode() & 0o777, 0o640);
    Ok(())
}

#[test]
fn a_link_stays_a_link() -> Done {
    let world = World::fresh()?;
    world.write("shared/order.txt", "# for all servers\n")?;
    fs::create_dir_all(world.path("plugins"))?;
    std::os::unix::fs::symlink("../shared/order.txt", world.path("plugins/order.txt"))?;
    let before = world.digests()?;
    world.run(&["add", "tidebell", "--yes"]).code(0);
    assert!(fs::symlink_metadata(world.path("plugins/order.txt"))?.is_symlink());
    assert_eq!(world.read("shared/order.txt")?, "# for all servers\nharbour-core\ntidebell\n");
    world.run(&["check"]).code(0);
    world.run(&["undo", "--yes"]).code(0);
    assert!(fs::symlink_metadata(world.path("plugins/order.txt"))?.is_symlink());
    assert_eq!(world.digests()?, before);
    Ok(())
}
