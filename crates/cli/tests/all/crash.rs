//! Killed at every step of a settle, the server is as before or as after, once any command has run again.

use std::process::Stdio;

use crate::{
    downloads::voxel,
    harness::{Done, World},
};

/// Runs a command again and again, killed one step later each time, until it comes through.
fn kill_everywhere(make: impl Fn() -> Result<World, Box<dyn std::error::Error>>, words: &[&str]) -> Done {
    let mut states = (0, 0);
    for point in 1.. {
        let world = make()?;
        let before = (world.digests()?, world.read("yalotheca.toml")?, world.read("yalotheca.lock")?);
        let number = point.to_string();
        let killed = world.run_with(words, &[("YALOTHECA_FAULT", &number)]);
        if killed.code == 0 {
            assert!(point > 8, "only {point} points; is this a release build?");
            assert!(states.0 > 0 && states.1 > 0, "both outcomes must have been seen: {states:?}");
            return Ok(());
        }
        assert_eq!(killed.code, -1, "killed by a signal: {}", killed.err);
        let next = world.run(&["check", "--json"]);
        let after = (world.digests()?, world.read("yalotheca.toml")?, world.read("yalotheca.lock")?);
        if after == before {
            states.0 += 1;
        } else {
            states.1 += 1;
            let whole = make()?;
            whole.run(words).code(0);
            // Each world has a port of its own.
            let (mut here, mut there) = (after.0, whole.digests()?);
            here.remove("saltwick.conf");
            there.remove("saltwick.conf");
            assert_eq!(here, there, "point {point}");
            assert_eq!(after.2, whole.read("yalotheca.lock")?, "point {point}");
            next.code(0);
        }
        // Nothing is half done: the next settle goes through, and its undo comes back.
        world.run(words).code(0);
        world.run(&["check"]).code(0);
        for journal in std::fs::read_dir(world.path(".yalotheca/journal"))? {
            assert!(!journal?.path().join("staged").exists(), "point {point} leaves litter");
        }
        assert!(point < 200, "it never comes through");
    }
    Ok(())
}

#[test]
fn a_settle_killed_at_each_step() -> Done {
    kill_everywhere(
        || {
            let world = World::left_behind()?;
            // A state in which check finds nothing, whichever way it ends.
            world.run(&["fix", "--yes"]).code(0);
            Ok(world)
        },
        &["add", "tidebell", "evening-tide", "--yes"],
    )
}

#[test]
fn a_settle_of_new_folders_killed_at_each_step() -> Done {
    kill_everywhere(|| Ok(voxel()?.0), &["add", "harbour", "--yes"])
}

#[test]
fn the_command_that_finishes_or_takes_back_says_so() -> Done {
    let world = World::fresh()?;
    let killed_at = |point| world.run_with(&["add", "tidebell", "--yes"], &[("YALOTHECA_FAULT", point)]).code;
    assert_eq!(killed_at("1"), -1);
    let next = world.run(&["preview"]).code(0);
    assert!(!next.err.contains("interrupted"), "not even its plan was there: {}", next.err);
    assert_eq!(killed_at("2"), -1);
    world.run(&["preview"]).code(0).says(&["interrupted before it touched the server", "taken back"]);
    assert_eq!(killed_at("5"), -1);
    world.run(&["preview"]).code(0).says(&["was interrupted", "finished", "nothing to do"]);
    assert!(world.read("yalotheca.toml")?.contains("tidebell"));
    Ok(())
}

#[test]
fn files_that_the_machine_took_down_with_it_are_told_and_put_again() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "tidebell", "--yes"]).code(0);
    let whole = world.digests()?;
    // As it is after a large settle whose files had not all been written when the power went.
    std::fs::write(world.path(".yalotheca/journal/0001/unwritten"), "another run of the machine")?;
    let plugins = std::fs::read_dir(world.path("plugins"))?.map(|entry| entry.map(|entry| entry.path()));
    let plugins: Vec<_> = plugins.collect::<Result<_, _>>()?;
    let tidebell = plugins
        .iter()
        .find(|path| path.to_string_lossy().contains("tidebell-"))
        .ok_or("the plugin was placed")?;
    std::fs::write(tidebell, "")?;
    let told =
        ["The machine went down before an earlier change was wholly on the disk (yalotheca add tidebell)"];
    world.run(&["check"]).code(1).says(&told).says(&["is damaged", "yalotheca settle --replace"]);
    let again = world.run(&["settle", "--replace", "**", "--yes"]).code(0);
    assert!(!again.err.contains("went down"), "once is enough: {}", again.err);
    assert_eq!(world.digests()?, whole);
    Ok(())
}

#[test]
fn two_at_once_do_not_mix() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "lamp-oil", "--yes"]).code(0);
    let hold = |heard: u64, boot: &str| -> Done {
        let owner = format!(
            r#"{{"who": "brigitta@quay", "boot": "{boot}", "space": "", "process": 7, "started": "1", "since": {heard}, "heard": {heard}}}"#
        );
        std::fs::create_dir_all(world.path(".yalotheca/lock"))?;
        Ok(std::fs::write(world.path(".yalotheca/lock/owner-1"), owner)?)
    };
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH)?.as_secs();
    hold(now - 70, "elsewhere")?;
    let told = ["another yalotheca is at work there", "brigitta@quay, process 7, for 1 minute"];
    world.run(&["add", "tidebell", "--yes"]).code(5).says(&told);
    world.run(&["check"]).code(0);
    world.run(&["preview"]).code(0);
    world.run(&["repair", "--unlock"]).code(5).says(&["at work there"]);
    // A lock whose owner's lease has run out is reported, and broken only on request.
    hold(now - 700, "elsewhere")?;
    let told = ["is locked by brigitta@quay, who has not been heard of for 11 minutes", "repair --unlock"];
    world.run(&["add", "tidebell", "--yes"]).code(5).says(&told);
    world.run(&["repair", "--unlock"]).code(0).says(&["Took the lock away."]);
    assert!(!world.path(".yalotheca/lock").exists());
    // An empty lock, left by a command that died while making it, blocks no later command.
    std::fs::create_dir_all(world.path(".yalotheca/lock"))?;
    world.run(&["add", "gull-chat", "--yes"]).code(0);
    assert!(!world.path(".yalotheca/lock").exists());
    let mut children = Vec::new();
    for name in ["tidebell", "coin-purse", "cobbles"] {
        children.push(
            world.command(&["add", name, "--yes"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn()?,
        );
    }
    for child in &mut children {
        child.wait()?;
    }
    // Whoever came second was refused or came after; never half of each.
    world.run(&["settle", "--yes"]).code(0);
    world.run(&["check"]).code(0);
    Ok(())
}
