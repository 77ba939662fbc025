//! The demo.

use crate::harness::{Done, World, program};

#[test]
fn the_story_runs_through() -> Done {
    let world = World::empty()?;
    let answer = world.run(&["demo"]).code(0).says(&[
        "where the server does not look",
        "night-lamps 1.2.0 needs lamp-oil 1 or newer",
        "no problems",
        "exit code 3: no versions fit together",
        "tidebell 2.0.0 is out; 1.4.0 stays",
        "taken back",
        "no problems",
    ]);
    assert!(!answer.out.contains('\u{1b}'), "no colours where there is no terminal");
    Ok(())
}

#[test]
fn its_world_can_be_kept_and_used() -> Done {
    let world = World::empty()?;
    let into = world.root().join("kept");
    let into_text = into.display().to_string();
    world.run(&["demo", "--into", &into_text]).code(0).says(&["The demo's world is yours now"]);
    world.run(&["demo", "--into", &into_text]).code(5).says(&["is not empty"]);
    let at = into.join("harbour").display().to_string();
    let run = |words: &[&str]| world.run(&[&["--at", at.as_str()], words].concat());
    run(&["check", "--json"]).code(0).json()?;
    run(&["find"]).code(0).says(&["tidebell"]);
    run(&["about", "tidebell"])
        .code(0)
        .says(&["1.4.0", "tidebell 2.0.0 needs harbour-core 3 or newer, which needs engine 3"]);
    run(&["add", "ferry-lines", "--yes"]).code(0);
    run(&["trial"]).code(0).says(&["ferry-lines 1.0.0 loaded"]);
    run(&["drop", "ferry-lines", "--yes"]).code(0);
    run(&["undo", "--yes"]).code(0);
    assert!(into.join("harbour/plugins/ferry-lines-1.0.0.swp").exists());
    assert!(program().exists());
    Ok(())
}

#[test]
fn its_first_chapter_is_short_and_a_script_can_read_it() -> Done {
    let world = World::empty()?;
    let answer = world.run(&["demo", "--quick", "--json"]).code(0).json()?;
    let acts = answer["acts"].as_array().ok_or("a list")?;
    assert_eq!(acts.len(), 3);
    assert_eq!((&acts[1]["command"], &acts[1]["exit_code"]), (&"yalotheca check".into(), &1.into()));
    world
        .run(&["demo", "--quick"])
        .code(0)
        .says(&["Nothing outside the demo's own folder is touched", "yalotheca fix --yes"]);
    Ok(())
}
