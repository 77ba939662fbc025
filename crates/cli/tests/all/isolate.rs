//! Finding culprits, and trying changes, on copies of a server.

use std::{fs, thread, time::Duration};

use yalotheca_standin::kites::zipped;

use crate::{
    harness::{Done, World, digests_of},
    real_luanti::quay,
};

/// A Saltwick server with so many plugins, adopted, whose program fails when all of these plugins are there.
fn harbour(count: usize, culprits: &[&str]) -> Result<World, Box<dyn std::error::Error>> {
    let world = World::empty()?;
    yalotheca_standin::quayside::write_fresh_server(&world.server(), world.port)?;
    fs::create_dir_all(world.path("plugins"))?;
    for at in 0..count {
        let id = format!("chart-{at:03}");
        // Each tenth needs the one before it.
        let needs = if at % 10 == 9 { format!("\"chart-{:03}\": \"*\"", at - 1) } else { String::new() };
        let descriptor = format!(
            "{{\"id\": \"{id}\", \"title\": \"{id}\", \"version\": \"1.0\", \"needs\": {{{needs}}}}}"
        );
        let plugin = zipped(&[("plugin.json".into(), descriptor.into_bytes())])?;
        fs::write(world.path(&format!("plugins/{id}-1.0.swp")), plugin)?;
    }
    let order: String = (0..count).map(|at| format!("chart-{at:03}\n")).collect::<Vec<_>>().concat();
    world.write("plugins/order.txt", &order)?;
    world.write("terms.txt", "terms = agreed\n")?;
    let all_there: Vec<String> =
        culprits.iter().map(|id| format!("[ -e \"$1/plugins/{id}-1.0.swp\" ]")).collect();
    let stand_in = fs::read_to_string(world.stand_in("saltwick")?)?;
    let fails = format!(
        "if {}; then echo '[00:00:00] error harbour closed: the tide is out'; exit 1; fi\n",
        all_there.join(" && ")
    );
    fs::write(world.root().join("saltwick-server"), stand_in.replace("exec ", &format!("{fails}exec ")))?;
    world.adopt().code(0);
    world.trust();
    Ok(world)
}

#[test]
fn one_culprit_among_two_hundred_and_a_pair() -> Done {
    let world = harbour(200, &["chart-117"])?;
    let before = digests_of(&world.server())?;
    world.run(&["trial"]).code(1).says(&["the tide is out"]);
    let found = world.run(&["isolate", "--yes"]).code(1).says(&[
        "200 contents to search. One culprit takes about 10 starts",
        "it is chart-117",
        "the tide is out",
        "it fails with only this content, and works with all that loads before it",
        "yalotheca drop chart-117 leaves it out",
    ]);
    assert!(
        found.out.contains("found in 10 starts") || found.out.contains("found in 9 starts"),
        "{}",
        found.out
    );
    // The server is as it was, and no copy is left.
    let mut after = digests_of(&world.server())?;
    after.retain(|path, _| !path.starts_with("logs"));
    let mut expected = before;
    expected.retain(|path, _| !path.starts_with("logs"));
    assert_eq!(after, expected);
    let left = fs::read_dir(world.root())?
        .flatten()
        .any(|entry| entry.file_name().to_string_lossy().contains("copy"));
    assert!(!left, "a copy is left");
    // What it has learned is remembered: only the confirming start is made again.
    world.run(&["isolate", "--yes"]).code(1).says(&["of them made already", "it is chart-117"]);
    let pair = harbour(200, &["chart-030", "chart-171"])?;
    let json = pair.run(&["isolate", "--yes", "--json"]).code(1).json()?;
    assert_eq!(json["ids"], serde_json::json!(["chart-030", "chart-171"]), "{json}");
    assert!(json["starts"].as_u64().is_some_and(|starts| starts <= 40), "{json}");
    Ok(())
}

#[test]
fn what_is_no_content_is_said_and_what_does_not_fail() -> Done {
    let world = harbour(6, &[])?;
    // Every start fails.
    world.run(&["isolate", "--yes"]).code(1).says(&["fails without any content"]);
    let program = world.root().join("saltwick-server");
    let text = fs::read_to_string(&program)?;
    let healthy: Vec<&str> = text.lines().filter(|line| !line.starts_with("if ")).collect();
    fs::write(&program, healthy.join("\n"))?;
    world.trust();
    world.run(&["isolate", "--yes", "--again"]).code(1).says(&["a copy with everything does not fail"]);
    // A line of the log that is no failure.
    world
        .run(&["isolate", "--yes", "--line", "plugin chart-004 1.0 loaded"])
        .code(1)
        .says(&["it is chart-004"]);
    Ok(())
}

#[test]
fn a_change_is_tried_on_a_copy_while_the_server_runs() -> Done {
    let world = World::fresh()?;
    world.run(&["settle", "--accept-terms", "--yes"]);
    world.run(&["add", "tidebell", "--yes"]).code(0);
    world.run(&["trial", "--keep"]).code(0);
    let before = digests_of(&world.server())?;
    // The server runs on its port, the copy on another one.
    world.run(&["trial", "--on-copy"]).code(0).says(&["a copy of Larkspur Harbour", "ready", "no problems"]);
    world.run(&["add", "night-lamps", "--later"]).code(0);
    world.run(&["trial", "--on-copy"]).code(0).says(&["night-lamps", "loaded"]);
    world.run(&["status"]).code(0);
    let mut after = digests_of(&world.server())?;
    after.retain(|path, _| !path.starts_with("logs"));
    let mut expected = before;
    expected.retain(|path, _| !path.starts_with("logs"));
    assert_eq!(after, expected);
    world.run(&["stop"]).code(0);
    // A change that would keep the server from starting is not made.
    let boot = world.read("boot.json")?;
    world
        .run(&["settings", "server", "runtime=4", "--proved", "--yes"])
        .code(1)
        .says(&["the start failed: engine 2.4 needs runtime 6", "Nothing was changed"]);
    assert_eq!(world.read("boot.json")?, boot);
    world
        .run(&["settings", "tidebell", "volume=7", "--proved", "--yes"])
        .code(0)
        .says(&["starts well", "Settled"]);
    assert!(world.read("plugins/tidebell/settings.yml")?.contains('7'));
    Ok(())
}

#[test]
fn an_interrupted_search_leaves_nothing_and_goes_on() -> Done {
    let world = harbour(64, &["chart-050"])?;
    let mut child = world
        .command(&["isolate", "--yes"])
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()?;
    for _ in 0..200 {
        thread::sleep(Duration::from_millis(50));
        if fs::read_to_string(world.path(".yalotheca/isolate.json"))
            .is_ok_and(|text| text.matches("true").count() + text.matches("false").count() >= 2)
        {
            break;
        }
    }
    let pid = child.id().to_string();
    std::process::Command::new("kill").args(["-INT", &pid]).status()?;
    child.wait()?;
    let left = || {
        fs::read_dir(world.root()).map(|all| {
            all.flatten().filter(|entry| entry.file_name().to_string_lossy().contains("copy")).count()
        })
    };
    assert_eq!(left()?, 0, "a copy is left");
    world.run(&["isolate", "--yes"]).code(1).says(&["of them made already", "it is chart-050"]);
    assert_eq!(left()?, 0, "a copy is left");
    Ok(())
}

#[test]
fn the_real_voxel_server_fails_only_with_two_mods_together() -> Done {
    let Some((world, ..)) = quay()? else { return Ok(()) };
    let mods = world.path("home/.minetest/mods");
    let mut enabled = world.read("world/world.mt")?;
    for name in ["gull", "heron", "kite", "moor", "reed", "tern"] {
        fs::create_dir_all(mods.join(name))?;
        fs::write(mods.join(name).join("mod.conf"), format!("name = {name}\n"))?;
        fs::write(mods.join(name).join("init.lua"), "return true\n")?;
        enabled = format!("{enabled}load_mod_{name} = true\n");
    }
    fs::write(mods.join("reed/mod.conf"), "name = reed\noptional_depends = gull\n")?;
    fs::write(
        mods.join("reed/init.lua"),
        "if minetest.get_modpath(\"gull\") then error(\"reed and gull\") end\n",
    )?;
    world.write("world/world.mt", &enabled)?;
    world.run(&["adopt"]).code(0);
    let database = |world: &World| fs::read(world.path("world/map.sqlite")).ok();
    let before = database(&world);
    world.run(&["isolate", "--yes"]).code(1).says(&[
        "it fails with gull and reed together",
        "reed and gull",
        "yalotheca off reed",
    ]);
    assert_eq!(database(&world), before, "the world was not touched");
    // What it suggests helps, and is proved: the copy does not look in the log for what the change switches off.
    world.run(&["off", "reed", "--proved", "--yes"]).code(0).says(&["starts well", "Settled"]);
    world.run(&["trial"]).code(0);
    Ok(())
}

#[test]
fn links_of_a_copy_do_not_lead_back() -> Done {
    let world = World::fresh()?;
    world.run(&["settle", "--accept-terms", "--yes"]);
    world.run(&["add", "tidebell", "night-lamps", "--yes"]).code(0);
    world.run(&["trial"]).code(0);
    // Links out and back in, up, in a circle, and out; an edited file; a content that somebody removed.
    let outside = world.root().join("outside");
    fs::create_dir_all(&outside)?;
    fs::write(outside.join("kept"), "one")?;
    std::os::unix::fs::symlink("../harbour/towns", world.path("round"))?;
    std::os::unix::fs::symlink("..", world.path("up"))?;
    std::os::unix::fs::symlink(&outside, outside.join("again"))?;
    std::os::unix::fs::symlink(&outside, world.path("out"))?;
    let server = fs::read_to_string(world.root().join("saltwick-server"))?;
    let writes = "echo changed > \"$1/out/kept\"; echo changed > \"$1/round/changed\"\n";
    fs::write(world.root().join("saltwick-server"), server.replace("exec ", &format!("{writes}exec ")))?;
    world.trust();
    world.run(&["trial", "--on-copy"]).says(&["ready"]);
    assert_eq!(fs::read_to_string(outside.join("kept"))?, "one");
    assert!(!world.path("towns/changed").exists(), "the copy wrote to the server");
    Ok(())
}

#[test]
fn damaged_records_do_not_take_the_report_away() -> Done {
    let world = World::fresh()?;
    world.run(&["settle", "--accept-terms", "--yes"]);
    world.run(&["add", "tidebell", "--yes"]).code(0);
    world.run(&["trial"]).code(0);
    world.write(".yalotheca/good-start.json", "{\"format\": 1, \"when\"")?;
    world.run(&["trial"]).code(0).says(&["no problems"]);
    fs::remove_file(world.path(".yalotheca/good-start.json"))?;
    fs::create_dir(world.path(".yalotheca/good-start.json"))?;
    world.run(&["trial"]).code(0).says(&["no problems"]);
    world.write("boot.json", &world.read("boot.json")?.replace("\"runtime\": 6", "\"runtime\": 4"))?;
    world.run(&["trial"]).code(1).says(&["the start failed: engine 2.4 needs runtime 6"]);
    Ok(())
}

#[test]
fn a_moor_with_a_compiled_index_is_searched_too() -> Done {
    let world = World::moor()?;
    world.run(&["trial"]).code(0);
    // Not every start fails, so there is nothing to find; the game's own tool runs on the copy.
    let before = digests_of(&world.server())?;
    let answer = world.run(&["isolate", "--yes"]);
    assert!([1, 2].contains(&answer.code), "{answer:?}");
    assert_eq!(digests_of(&world.server())?, before);
    Ok(())
}
