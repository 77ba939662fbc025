//! What an engine runs on: which are installed, which fits, and which one the launch settings name.

use std::{fs, os::unix::fs::PermissionsExt};

use crate::harness::{Done, World};

/// A server whose engine needs a runtime that is found in folders beside it.
fn tide(names: &str) -> Result<World, Box<dyn std::error::Error>> {
    let world = World::empty()?;
    let program = world.root().join("tide-server");
    fs::write(&program, "#!/bin/sh\necho ready\nexec sleep 600\n")?;
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755))?;
    let root = world.root().display();
    let games = world.root().join(".config/yalotheca/games");
    fs::create_dir_all(&games)?;
    let definition = format!(
        "format = 1\nname = \"tide\"\ntitle = \"Tide\"\n[recognise]\nall = [\"launch.conf\"]\n\
         [[settings]]\nfile = \"launch.conf\"\ntitle = \"how it starts\"\nlaunch = true\n[settings.keys]\n\"/runtime\" = {{ sort = \"text\" }}\n\
         [[runtime]]\ntitle = \"tide runtime\"\nneeds = \"engine.json#/runtime\"\nsetting = \"launch.conf#/runtime\"\nnames = \"{names}\"\n\
         paths = [\"{root}/runtimes/tide-*\"]\nmatch = 'tide-(?<version>[0-9.]+)$'\n\
         [run]\ncommand = [\"{root}/tide-server\"]\nstop = \"TERM\"\nready = 'ready'\nquiet = \"50ms\"\n"
    );
    fs::write(games.join("tide.toml"), definition)?;
    world.write("launch.conf", "runtime = /opt/tide-4/bin/tide\nmemory = 512\n")?;
    world.write("engine.json", "{\"runtime\": 6}\n")?;
    world.run(&["adopt", "--game", "tide"]).code(0);
    Ok(world)
}

#[test]
fn the_launch_setting_names_the_runtime_that_fits() -> Done {
    let world = tide("path")?;
    world
        .run(&["check"])
        .code(1)
        .says(&["needs tide runtime 6, and none is installed here", "install tide runtime 6"]);
    for name in ["tide-4", "tide-6.2", "tide-7"] {
        fs::create_dir_all(world.root().join("runtimes").join(name).join("bin"))?;
    }
    let path = world.root().join("runtimes/tide-6.2").display().to_string();
    // A start that fails tells it as well.
    let program = world.root().join("tide-server");
    let healthy = fs::read_to_string(&program)?;
    fs::write(&program, "#!/bin/sh\nexit 1\n")?;
    world.run(&["game", "trust", "tide", "--yes"]).code(0);
    world
        .run(&["trial"])
        .code(1)
        .says(&["the start failed: the server needs tide runtime 6", "launch.conf names /opt/tide-4"]);
    fs::write(&program, healthy)?;
    world
        .run(&["check"])
        .code(1)
        .says(&["launch.conf names /opt/tide-4/bin/tide", "yalotheca fix launch.conf"]);
    world.run(&["fix", "--yes"]).code(0);
    assert_eq!(world.read("launch.conf")?, format!("runtime = {path}\nmemory = 512\n"));
    world.run(&["check"]).code(0);
    // A program in it is good as well, and a newer one is not asked for.
    world.write("launch.conf", &format!("runtime = {path}/bin/tide\nmemory = 512\n"))?;
    let answer = world.run(&["check"]);
    assert!(!answer.out.contains("tide runtime"), "{answer:?}");
    fs::remove_dir_all(world.root().join("runtimes/tide-6.2"))?;
    world.run(&["check"]).code(1).says(&["needs tide runtime 6, and only 4 and 7 are installed here"]);
    Ok(())
}

#[test]
fn files_that_must_say_the_same_are_put_in_step() -> Done {
    let world = World::fresh()?;
    world.run(&["settle", "--accept-terms", "--yes"]);
    world.write("boot.json", &world.read("boot.json")?.replace("\"runtime\": 6", "\"runtime\": 4"))?;
    world
        .run(&["check"])
        .code(1)
        .says(&["this engine needs runtime 6, and boot.json starts it on 4", "yalotheca fix boot.json"]);
    world.run(&["fix", "boot.json", "--yes"]).code(0);
    assert!(world.read("boot.json")?.contains("\"runtime\": 6"));
    world.run(&["trial"]).code(0);
    Ok(())
}
