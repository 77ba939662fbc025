//! Supervised starts of the Saltwick stand-in.

use std::net::TcpListener;

use crate::harness::{Done, World, program};

#[test]
fn each_failure_is_told_in_our_words() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "night-lamps", "--yes"]).code(0);
    world.run(&["trial"]).code(0).says(&["no problems", "night-lamps 1.2.0 loaded"]);
    let boot = world.read("boot.json")?;

    world.write("boot.json", &boot.replace('6', "4"))?;
    world.run(&["trial"]).code(1).says(&[
        "the start failed: engine 2.4 needs runtime 6, and boot.json starts it on 4.",
        "It ended with exit code 1.",
        "needs runtime 6, and boot.json starts it on 4",
        "set \"runtime\" to 6",
    ]);
    world.write("boot.json", &boot.replace("2.4.swe", "2.5.swe"))?;
    world.run(&["trial"]).code(1).says(&["names the engine saltwick-2.5.swe, and there is no such file"]);
    world.write("boot.json", &boot)?;

    world.write("terms.txt", "terms = undecided\n")?;
    world.run(&["trial"]).code(1).says(&["terms have not been accepted", "yalotheca settle --accept-terms"]);
    world.write("terms.txt", "terms = agreed\n")?;

    let taken = TcpListener::bind(("127.0.0.1", world.port))?;
    world.run(&["trial"]).code(1).says(&[&format!("listens on port {}", world.port), "(process "]);
    drop(taken);

    world.write("plugins/night-lamps/settings.yml", "dusk: 19\n\tnight: [\n")?;
    world.run(&["trial"]).code(1).says(&[
        "ready after",
        "something is wrong",
        "the settings of night-lamps are broken at line",
    ]);
    world.write("plugins/night-lamps/settings.yml", "dusk: 18\n")?;
    world.run(&["trial"]).code(0);
    Ok(())
}

#[test]
fn ready_with_trouble_is_not_clean() -> Done {
    let world = World::left_behind()?;
    let answer = world.run(&["trial", "--json"]).code(1);
    let json = answer.json()?;
    assert_eq!(json["verdict"], "ready-with-trouble");
    assert_eq!(json["port_answers"], true);
    let state = |id: &str| {
        let contents = json["contents"].as_array().cloned().unwrap_or_default();
        contents.iter().find(|line| line["id"] == id).map(|line| line["state"].clone())
    };
    assert_eq!(state("night-lamps"), Some("failed".into()));
    assert_eq!(state("gull-chat"), None, "it is not loaded, and so it was not taken over");
    assert_eq!(state("cobbles"), Some("loaded".into()));
    assert!(
        json["troubles"].to_string().contains("night-lamps needs lamp-oil >=1, which is not loaded"),
        "{json:#}"
    );
    Ok(())
}

#[test]
fn a_server_that_is_never_ready_is_given_up() -> Done {
    let world = World::fresh()?;
    let sleeper = world.root().join("saltwick-server");
    std::fs::write(&sleeper, "#!/bin/sh\necho nothing yet\nexec sleep 60\n")?;
    world.trust();
    world.run(&["trial", "--patience", "1"]).code(1).says(&["it was not ready within 1 s", "nothing yet"]);
    std::fs::remove_file(&sleeper)?;
    world.run(&["trial"]).code(4).says(&["saltwick-server", "No such file", "[server.values]"]);
    Ok(())
}

#[test]
fn a_ready_line_that_lies_is_found_out_by_the_port() -> Done {
    let world = World::fresh()?;
    let liar = world.root().join("saltwick-server");
    std::fs::write(&liar, "#!/bin/sh\necho '[00:00:00] info harbour open on port 1'\nexec sleep 60\n")?;
    world.trust();
    world
        .run(&["trial"])
        .code(1)
        .says(&["It said that it was ready, but it was not", "nothing answers on the server's port"]);
    Ok(())
}

#[test]
fn what_a_server_says_last_is_heard_though_it_has_ended() -> Done {
    let world = World::fresh()?;
    let hasty = world.root().join("saltwick-server");
    // What it says comes a while after its end, and the last line has none.
    let words = "(sleep 0.4; printf '[00:00:00] info going\\n[00:00:00] error harbour closed: the tide is out') &\nexit 3\n";
    std::fs::write(&hasty, format!("#!/bin/sh\n{words}"))?;
    world.trust();
    world.run(&["trial"]).code(1).says(&["the tide is out", "exit code 3"]);
    std::fs::write(&hasty, "#!/bin/sh\nprintf '[00:00:00] error harbour closed: the tide is out'\nexit 3\n")?;
    world.trust();
    world.run(&["trial", "--keep"]).code(1).says(&["the tide is out", "exit code 3"]);
    // Something that the server leaves behind is ended with it.
    let holder = world.root().join("holder");
    let holds = format!("sleep 600 &\necho $! > '{}'\nexit 3\n", holder.display());
    std::fs::write(&hasty, format!("#!/bin/sh\necho '[00:00:00] error harbour closed: fog'\n{holds}"))?;
    world.trust();
    world.run(&["trial"]).code(1).says(&["fog"]);
    let pid = std::fs::read_to_string(&holder)?;
    assert!(!std::path::Path::new(&format!("/proc/{}", pid.trim())).exists(), "it is still there");
    Ok(())
}

/// A server's program, as a script.
fn scripted(world: &World, text: &str) -> Done {
    let program = world.root().join("saltwick-server");
    std::fs::write(&program, format!("#!/bin/sh\n{text}\n"))?;
    world.trust();
    Ok(())
}

fn is_there(pid: &str) -> bool {
    let stat = std::fs::read_to_string(format!("/proc/{}/stat", pid.trim())).unwrap_or_default();
    !(stat.is_empty() || stat.contains(") Z "))
}

/// The most memory that a command took, in kilobytes.
fn peak(mut child: std::process::Child) -> Result<(u64, i32), Box<dyn std::error::Error>> {
    let mut most = 0;
    loop {
        let status = std::fs::read_to_string(format!("/proc/{}/status", child.id())).unwrap_or_default();
        let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        most = most.max(line.and_then(|line| line.split_whitespace().next()?.parse().ok()).unwrap_or(0));
        if let Some(status) = child.try_wait()? {
            return Ok((most, status.code().unwrap_or(-1)));
        }
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
}

#[test]
fn a_flood_of_output_neither_fills_memory_nor_holds_up_the_clock() -> Done {
    for (flood, keep) in [("yes harbour", false), ("tr '\\0' x < /dev/zero", false), ("yes harbour", true)] {
        let world = World::fresh()?;
        scripted(&world, &format!("exec sh -c \"{flood}\""))?;
        let start = std::time::Instant::now();
        let mut words = vec!["trial", "--patience", "2"];
        words.extend(keep.then_some("--keep"));
        let child = world
            .command(&words)
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()?;
        let (memory, code) = peak(child)?;
        assert_eq!(code, 1, "{flood}");
        assert!(start.elapsed().as_secs() < 20, "{flood}: {:?}", start.elapsed());
        assert!(memory < 120_000, "{flood}: {memory} KB");
        let log = std::fs::metadata(world.path(".yalotheca/server.log")).map_or(0, |log| log.len());
        // It grows between two looks, on a quick disk by a few hundred megabytes.
        assert!(log < 2 << 30, "{flood}: {log}");
        std::fs::remove_file(world.path(".yalotheca/server.log")).ok();
    }
    Ok(())
}

#[test]
fn whoever_ends_a_trial_ends_the_server_with_it() -> Done {
    // Started without exec, with a child of its own, and one that leaves its group.
    let ways = [
        "echo $$ > \"$1/pid\"; sleep 300",
        "sleep 300 & echo $! > \"$1/pid\"; wait",
        "setsid sleep 300 & echo $! > \"$1/pid\"; wait",
        "(sleep 300 & echo $! > \"$1/pid\"); sleep 300",
    ];
    for (way, signal) in
        ways.iter().flat_map(|way| ["INT", "TERM", "HUP", "QUIT"].map(|signal| (*way, signal)))
    {
        let world = World::fresh()?;
        scripted(&world, way)?;
        let mut child = world
            .command(&["trial"])
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::piped())
            .spawn()?;
        let pid = wait_for(&world)?;
        std::process::Command::new("kill").arg(format!("-{signal}")).arg(child.id().to_string()).status()?;
        let code = child.wait()?.code();
        assert!(matches!(code, Some(129..=143)), "{way}: {signal}: {code:?}");
        assert!(!is_there(&pid), "{way}: {signal} leaves it running");
        assert!(!world.path(".yalotheca/process").exists(), "{way}: {signal}");
    }
    Ok(())
}

fn wait_for(world: &World) -> Result<String, Box<dyn std::error::Error>> {
    for _ in 0..200 {
        if let Ok(pid) = world.read("pid")
            && pid.ends_with('\n')
            && world.path(".yalotheca/process").exists()
        {
            return Ok(pid);
        }
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    Err("the server never started".into())
}

#[test]
fn what_a_killed_trial_leaves_is_found_and_can_be_stopped() -> Done {
    let world = World::fresh()?;
    // What it started ends a while after it, in a group of its own.
    let slow = "setsid sh -c 'echo $$ > \"$1/pid\"; trap \"sleep 0.5; exit\" TERM; sleep 300 & wait' x \"$1\" & wait";
    scripted(&world, slow)?;
    let mut child = world
        .command(&["trial"])
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()?;
    let pid = wait_for(&world)?;
    child.kill()?;
    child.wait()?;
    assert!(is_there(&pid));
    world.run(&["add", "tidebell", "--yes"]).code(5).says(&["is running", "yalotheca stop"]);
    world.run(&["trial"]).code(5).says(&["yalotheca stop"]);
    world.run(&["stop"]).code(0).says(&["stopped"]);
    assert!(!is_there(&pid));
    world.run(&["stop"]).code(0).says(&["it was not running"]);
    world.run(&["add", "tidebell", "--yes"]).code(0);
    Ok(())
}

#[test]
fn a_port_that_another_server_has_is_told_before_the_start() -> Done {
    let world = World::fresh()?;
    let listener = std::net::TcpListener::bind(("127.0.0.1", world.port))?;
    let mark = world.root().join("it ran");
    scripted(
        &world,
        &format!("touch '{}'\necho '[00:00:00] info harbour open on port 1'\nexec sleep 60", mark.display()),
    )?;
    world.run(&["trial"]).code(1).says(&["listens on port", "was not started"]);
    assert!(!mark.exists());
    drop(listener);
    Ok(())
}

#[test]
fn a_fatal_line_ends_the_wait() -> Done {
    let world = World::fresh()?;
    scripted(&world, "echo '[00:00:00] error harbour closed: the tide is out'\nexec sleep 300")?;
    let start = std::time::Instant::now();
    world.run(&["trial"]).code(1).says(&["the tide is out"]);
    assert!(start.elapsed().as_secs() < 20, "{:?}", start.elapsed());
    Ok(())
}

/// A server that logs so many harmless lines, and then these; it keeps its port open until it is stopped.
fn noisy(world: &World, harmless: usize, more: &str) -> Done {
    let letter = |at: usize| char::from(b'a' + u8::try_from(at % 26).unwrap_or(0));
    let line = |at| {
        format!("echo '[00:00:0{}] error chart {}{} has no tide table'", at % 10, letter(at / 26), letter(at))
    };
    let lines = (0..harmless).map(line).collect::<Vec<_>>().join("\n");
    let serve = format!("exec '{}' stand-in saltwick \"$1\"", program().display());
    scripted(world, &format!("{lines}\n{more}\n{serve}"))
}

#[test]
fn one_new_line_among_three_hundred_is_what_is_read_first() -> Done {
    let world = World::fresh()?;
    world.run(&["settle", "--accept-terms", "--yes"]);
    noisy(&world, 300, "")?;
    let first =
        world.run(&["trial"]).code(1).says(&["ready", "something is wrong", "and 292 more", "--accept"]);
    assert!(first.out.lines().count() < 20, "{}", first.out);
    // Until it is accepted, it counts as wrong.
    world.run(&["trial"]).code(1).says(&["something is wrong"]);
    world.run(&["trial", "--accept"]).code(0).says(&["with 300 accepted problems"]);
    let usual = world
        .run(&["trial"])
        .code(0)
        .says(&["with 300 accepted problems.", "and 295 more (--all shows them)"]);
    assert!(usual.out.lines().count() < 18, "{}", usual.out);
    noisy(
        &world,
        300,
        "echo '[00:00:09] error tidebell: cannot read chimes.ogg'\necho '[00:00:09] info all is quiet'",
    )?;
    let answer = world.run(&["trial"]).code(1).says(&[
        "something is wrong",
        "tidebell: cannot read chimes.ogg (new)",
        "300 accepted problems besides",
        "lines of the log as in good starts; one new line looks harmless",
    ]);
    assert!(answer.out.lines().count() < 22, "{}", answer.out);
    assert!(world.run(&["trial", "--all"]).code(1).out.lines().count() > 300);
    let json = world.run(&["trial", "--json"]).code(1).json()?;
    assert!(json["noise"]["as_always"].as_u64().is_some_and(|lines| lines > 300), "{}", json["noise"]);
    Ok(())
}

#[test]
fn a_failed_start_tells_what_has_changed_since_the_last_good_one() -> Done {
    let world = World::fresh()?;
    world.run(&["settle", "--accept-terms", "--yes"]);
    world.run(&["add", "tidebell", "--yes"]).code(0);
    world.run(&["trial"]).code(0).says(&["no problems"]);
    // A file that somebody edits; the line is shown.
    let settings = world.read("plugins/tidebell/settings.yml")?;
    world.write("plugins/tidebell/settings.yml", "volume: 3\nstorm: }\nlate: 1\n")?;
    world.run(&["trial"]).code(1).says(&[
        "tidebell",
        "the settings of tidebell are broken at line 2",
        "plugins/tidebell/settings.yml, line 2:",
        "2 | storm: }",
        "Since the last good start",
        "different now: plugins/tidebell/settings.yml",
    ]);
    world.write("plugins/tidebell/settings.yml", &settings)?;
    // A change of ours, and the command that takes it back.
    world.run(&["settings", "server", "town=nowhere", "--yes"]);
    world.run(&["settings", "server", "runtime=4", "--yes"]).code(0);
    let answer = world
        .run(&["trial"])
        .code(1)
        .says(&["the start failed: engine 2.4 needs runtime 6", "Since the last good start"]);
    let answer = answer.says(&["yalotheca undo takes change"]);
    assert!(
        answer.out.contains("different now: boot.json") || answer.out.contains("boot.json"),
        "{}",
        answer.out
    );
    world.run(&["undo", "--yes"]).code(0);
    Ok(())
}

#[test]
fn how_a_server_ended_is_told_where_its_log_does_not() -> Done {
    let world = World::fresh()?;
    for (script, says) in [
        ("kill -SEGV $$", "the server crashed (signal 11, segmentation fault)"),
        ("kill -KILL $$", "something killed the server (signal 9)"),
        ("exec no-such-program", "calls a program that is not installed"),
        ("echo 'bind: Address already in use'; exit 1", "another program has a port"),
        ("echo 'plugins/tidebell/settings.yml:2: unexpected character'; exit 1", "line 2 is not well-formed"),
    ] {
        scripted(&world, script)?;
        world.run(&["trial"]).code(1).says(&["the start failed: ", says]);
    }
    // One that ignores the signal to stop.
    noisy(&world, 0, "")?;
    let script = world.root().join("saltwick-server");
    let text = std::fs::read_to_string(&script)?;
    let stubborn = text.trim_end().replace("exec ", "trap '' TERM\n") + " &\nwhile :; do sleep 1; done\n";
    std::fs::write(&script, stubborn)?;
    world.trust();
    let games = world.root().join(".config/yalotheca/games");
    std::fs::create_dir_all(&games)?;
    let definition =
        std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../core/games/saltwick.toml"))?;
    std::fs::write(games.join("saltwick.toml"), definition.replace("[run]\n", "[run]\ngrace = \"300ms\"\n"))?;
    world.trust();
    world.run(&["trial"]).says(&["It did not stop when it was told to, and was killed."]);
    Ok(())
}

#[test]
fn a_report_for_who_helps_has_no_passwords_and_no_addresses() -> Done {
    let world = World::fresh()?;
    world.run(&["settle", "--accept-terms", "--yes"]);
    world.run(&["add", "tidebell", "--yes"]).code(0);
    world.run(&["trial"]).code(0);
    let conf = world.read("saltwick.conf")?;
    let conf: Vec<&str> = conf.lines().filter(|line| !line.starts_with("console.")).collect();
    world.write(
        "saltwick.conf",
        &format!("{}\nconsole.port = 0\nconsole.secret = herring-gull\n", conf.join("\n")),
    )?;
    noisy(
        &world,
        3,
        "echo '[00:00:09] error tidebell: wren from 203.0.113.9 said herring-gull, in \"$1\"/plugins/x'",
    )?;
    world.run(&["trial", "--report", "../help.md"]).code(1).says(&["Wrote ../help.md"]);
    let text = std::fs::read_to_string(world.root().join("help.md"))?;
    for part in [
        "# A start of Larkspur Harbour",
        "## Problems",
        "wren from (an address) said (a secret)",
        "tidebell 1.4.0",
        "## yalotheca.toml",
    ] {
        assert!(text.contains(part), "{part:?} is not in {text}");
    }
    for part in ["herring", "203.0.113.9", &world.root().display().to_string()] {
        assert!(!text.contains(part), "{part:?} is in {text}");
    }
    Ok(())
}
