//! Supervised starts of the Saltwick stand-in.

use std::net::TcpListener;

use crate::harness::{Done, World};

#[test]
fn each_failure_is_told_in_our_words() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "night-lamps", "--yes"]).code(0);
    world.run(&["trial"]).code(0).says(&["nothing troubling", "night-lamps 1.2.0 loaded"]);
    let boot = world.read("boot.json")?;

    world.write("boot.json", &boot.replace('6', "4"))?;
    world.run(&["trial"]).code(1).says(&[
        "the start failed; it ended with exit code 1",
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
    world.run(&["trial"]).code(1).says(&[&format!("something else listens on port {}", world.port)]);
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
    assert_eq!(state("gull-chat"), Some("not-seen".into()));
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
    world.trust()?;
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
    world.trust()?;
    world.run(&["trial"]).code(1).says(&["it said ready and is not", "nothing answers on the server's port"]);
    Ok(())
}

#[test]
fn what_a_server_says_last_is_heard_though_it_has_ended() -> Done {
    let world = World::fresh()?;
    let hasty = world.root().join("saltwick-server");
    // What it says comes a while after its end, and the last line has none.
    let words = "(sleep 0.4; printf '[00:00:00] info going\\n[00:00:00] error harbour closed: the tide is out') &\nexit 3\n";
    std::fs::write(&hasty, format!("#!/bin/sh\n{words}"))?;
    world.trust()?;
    world.run(&["trial"]).code(1).says(&["the tide is out", "exit code 3"]);
    std::fs::write(&hasty, "#!/bin/sh\nprintf '[00:00:00] error harbour closed: the tide is out'\nexit 3\n")?;
    world.trust()?;
    world.run(&["trial", "--keep"]).code(1).says(&["the tide is out", "exit code 3"]);
    // Something that the server leaves behind is ended with it.
    let holder = world.root().join("holder");
    let holds = format!("sleep 600 &\necho $! > '{}'\nexit 3\n", holder.display());
    std::fs::write(&hasty, format!("#!/bin/sh\necho '[00:00:00] error harbour closed: fog'\n{holds}"))?;
    world.trust()?;
    world.run(&["trial"]).code(1).says(&["fog"]);
    let pid = std::fs::read_to_string(&holder)?;
    assert!(!std::path::Path::new(&format!("/proc/{}", pid.trim())).exists(), "it is still there");
    Ok(())
}
