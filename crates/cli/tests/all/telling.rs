//! What `find`, `about`, `update` and `history` tell.

use crate::harness::{Done, World};

fn lines_with(text: &str, word: &str) -> Vec<String> {
    text.lines()
        .filter(|line| line.contains(word))
        .map(|line| line.split_whitespace().collect::<Vec<_>>().join(" "))
        .collect()
}

#[test]
fn find_tells_what_fits_what_is_here_and_why_not() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "lamp-oil", "--yes"]).code(0);
    let all = world.run(&["find"]).code(0);
    assert_eq!(lines_with(&all.out, "lamp-oil"), ["lamp-oil 1.0.2 is here Burns and is sold; lamps need it"]);
    assert_eq!(lines_with(&all.out, "tidebell"), ["tidebell 1.4.0 Rings the hour, the tide and the storm"]);
    assert_eq!(lines_with(&all.out, "evening-tide"), ["evening-tide 1.1 Longer evenings and a slower sea"]);
    assert!(lines_with(&all.out, "fog-signal")[0].starts_with("fog-signal does not fit A horn"));
    assert!(all.out.contains("15 contents; the versions are for Larkspur Harbour"));
    Ok(())
}

#[test]
fn find_looks_at_names_titles_and_descriptions() -> Done {
    let world = World::fresh()?;
    for (words, expected) in [
        (vec!["bell"], vec!["quiet-bells", "tidebell"]),
        (vec!["TIDE", "bell"], vec!["tidebell"]),
        (vec!["timetable"], vec!["ferry-lines"]),
        (vec!["Coin Purse"], vec!["coin-purse"]),
    ] {
        let json = world.run(&[vec!["find", "--json"], words.clone()].concat()).code(0).json()?;
        let found: Vec<&str> =
            json["found"].as_array().into_iter().flatten().filter_map(|line| line["id"].as_str()).collect();
        assert_eq!(found, expected, "{words:?}");
    }
    world.run(&["find", "zeppelin"]).code(0).says(&["No catalogue has such a content."]);
    Ok(())
}

#[test]
fn find_in_json_tells_the_version_and_the_reason() -> Done {
    let world = World::fresh()?;
    let json = world.run(&["find", "fog", "--json"]).code(0).json()?;
    let line = &json["found"][0];
    assert_eq!(line["id"], "fog-signal");
    assert!(line["fits"].is_null() && line["here"].is_null());
    assert_eq!(line["why_not"], "needs engine 3 or newer, and this server has engine 2.4");
    let json = world.run(&["find", "market", "--json"]).code(0).json()?;
    assert_eq!(json["found"][0]["fits"], "2.1.0");
    Ok(())
}

#[test]
fn about_tells_each_release_with_its_verdict() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "harbour-core", "--yes"]).code(0);
    world.run(&["about", "harbour-core"]).code(0).says(&[
        "Harbour Core What most harbour plugins build on",
        "here 2.3.0: you want it",
        "from catalogue quayside",
        "kind plugin",
        "runs on engine 2.2 or newer, below 3",
        "3.0.0 27 KB needs engine 3 or newer, and this server has engine 2.4",
        "2.3.0 27 KB is here",
        "2.0.4 27 KB fits",
        "1.9.0 27 KB fits",
    ]);
    world
        .run(&["about", "coin-purse"])
        .code(0)
        .says(&["1.4.0 24 KB withdrawn by its author", "1.3.0 24 KB fits"]);
    world.run(&["about", "lamp-oil"]).code(0).says(&["1.1.0-beta.1 20 KB fits (a pre-release)"]);
    world.run(&["about", "quiet-bells"]).code(0).says(&["refuses tidebell 1.3 or newer"]);
    let json = world.run(&["about", "lantern-parade", "--json"]).code(0).json()?;
    assert_eq!(json["releases"][0]["fits"], false);
    assert_eq!(
        json["releases"][0]["verdict"],
        "lantern-parade 1.0.0 needs night-lamps 2 or newer, and the only night-lamps is 1.2.0"
    );
    Ok(())
}

#[test]
fn about_looks_at_what_is_wanted_already() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "tidebell@>=1.4", "--yes"]).code(0);
    world
        .run(&["about", "quiet-bells"])
        .code(0)
        .says(&["1.0.0", "quiet-bells 1.0.0 refuses to run beside tidebell 1.3 or newer"]);
    Ok(())
}

#[test]
fn reasons_are_told_for_each_content() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "regatta", "harbour-market", "tidebell@=1.2.0", "ferry-lines@>=1", "--yes"]).code(3);
    world
        .run(&["add", "regatta", "harbour-market", "gull-chat@=1.0.0", "ferry-lines@>=1", "--yes"])
        .code(0)
        .says(&[
            "coin-purse 1.3.0 harbour-market needs it",
            "gull-chat 1.0.0 you hold it at 1.0.0",
            "ferry-lines 1.0.0 you want 1 or newer",
            "regatta 1.0.0 you want it",
            "lamp-oil 1.0.2 night-lamps needs it",
            "tidebell ferry-lines welcomes it: yalotheca add tidebell",
        ]);
    Ok(())
}

#[test]
fn update_takes_what_it_can_and_tells_the_rest() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "harbour-core@=2.0.4", "evening-tide@=1.0", "--yes"]).code(0);
    world
        .run(&["add", "harbour-core", "evening-tide", "--yes"])
        .code(0)
        .says(&["nothing changes on the server"]);
    let only = world.run(&["update", "evening-tide", "--yes"]).code(0);
    assert!(!only.out.contains("harbour-core"), "only what was named: {}", only.out);
    only.says(&["evening-tide 2.0 is out; 1.1 stays", "evening-tide 1.1 (was 1.0)"]);
    world
        .run(&["update", "--yes"])
        .code(0)
        .says(&["harbour-core 3.0.0 is out; 2.3.0 stays", "harbour-core 2.3.0 (was 2.0.4)"]);
    world.run(&["update", "--yes"]).code(0).says(&["Held back", "nothing to do"]);
    // The JSON output has it as well.
    let told = world.run(&["update", "--yes", "--json"]).code(0).json()?;
    assert_eq!(told["held_back"][0]["id"], "evening-tide", "{told:#}");
    assert_eq!(told["held_back"][1]["newest"], "3.0.0", "{told:#}");
    Ok(())
}

#[test]
fn a_downgrade_is_told_as_older() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "tidebell", "--yes"]).code(0);
    world.run(&["add", "tidebell@<1.4", "--yes"]).code(0).says(&["older tidebell 1.2.0 (was 1.4.0)"]);
    assert!(!world.path("plugins/tidebell-1.4.0.swp").exists());
    world.run(&["undo", "--yes"]).code(0).says(&["newer tidebell 1.4.0 (was 1.2.0)"]);
    assert!(world.read("yalotheca.toml")?.contains("tidebell = \"*\""));
    Ok(())
}

#[test]
fn history_tells_who_when_what_and_what_was_taken_back() -> Done {
    let world = World::fresh()?;
    world.run(&["history"]).code(0).says(&["nothing has been changed yet"]);
    world.run(&["add", "lamp-oil", "--yes"]).code(0);
    world.run(&["add", "coin-purse", "--yes"]).code(0);
    world.run(&["undo", "--yes"]).code(0);
    let json = world.run(&["history", "--json"]).code(0).json()?;
    let history = json["history"].as_array().cloned().unwrap_or_default();
    let told: Vec<(String, bool)> = history
        .iter()
        .map(|past| (past["command"].as_str().unwrap_or("").to_owned(), past["undone"] == true))
        .collect();
    assert_eq!(
        told,
        [
            ("yalotheca add lamp-oil".to_owned(), false),
            ("yalotheca add coin-purse".to_owned(), true),
            ("yalotheca undo".to_owned(), false),
        ]
    );
    assert!(history[0]["who"].as_str().unwrap_or("").starts_with("wren"));
    assert_eq!(history[0]["summary"], "lamp-oil 1.0.2 new");
    assert_eq!(history[2]["undoes"], 2);
    let when = history[0]["when"].as_str().unwrap_or("");
    assert!(when.starts_with("20") && when.ends_with('Z') && when.len() == 20, "{when}");
    Ok(())
}

#[test]
fn the_control_folder_may_be_elsewhere_and_is_found_from_below() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "lamp-oil", "--yes"]).code(0);
    let before = world.digests()?;
    let control = world.root().join("control");
    std::fs::create_dir_all(control.join("deep/down"))?;
    for name in ["yalotheca.toml", "yalotheca.lock"] {
        std::fs::rename(world.path(name), control.join(name))?;
    }
    let text = std::fs::read_to_string(control.join("yalotheca.toml"))?;
    std::fs::write(control.join("yalotheca.toml"), text.replace("at = \".\"", "at = \"../harbour\""))?;
    let at = control.display().to_string();
    world.run(&["--at", &at, "check"]).code(0);
    world.run(&["--at", &at, "add", "coin-purse", "--yes"]).code(0);
    assert!(world.path("plugins/coin-purse-1.3.0.swp").exists());
    assert!(std::fs::read_to_string(control.join("yalotheca.lock"))?.contains("coin-purse"));
    let below = control.join("deep/down");
    let output = world.command(&["undo", "--yes"]).current_dir(&below).output()?;
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn what_is_asked_of_whom_is_told_when_it_is_asked_for() -> Done {
    let world = World::fresh()?;
    let answer = world.run(&["-v", "add", "tidebell", "--yes"]).code(0);
    for told in ["GET http://127.0.0.1", "200 OK", "solved for 1 want", "steps in", "in all"] {
        assert!(answer.err.contains(told), "{told:?} is not in:\n{}", answer.err);
    }
    assert!(!world.run(&["add", "gull-chat", "--yes"]).code(0).err.contains("GET"));
    Ok(())
}

#[test]
fn an_interrupt_says_what_was_done() -> Done {
    use std::{
        io::Read,
        process::{Command, Stdio},
    };
    // A host that takes the call and says nothing.
    let silent = std::net::TcpListener::bind(("127.0.0.1", 0))?;
    let world = World::fresh()?;
    let at = format!("slow=http://{}", silent.local_addr()?);
    let wants = world.read("yalotheca.toml")?;
    let (name, at) = at.split_once('=').ok_or("an address")?;
    world.write("yalotheca.toml", &format!("{wants}\n[[catalogue]]\nname = \"{name}\"\nat = \"{at}/\"\n"))?;
    let mut child = Command::new(crate::harness::program())
        .args(["add", "tidebell", "--yes"])
        .current_dir(world.server())
        .env("XDG_CACHE_HOME", world.root().join("other-cache"))
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()?;
    drop(silent.accept()?);
    let pid = child.id().to_string();
    let sent = Command::new("kill").args(["-INT", &pid]).status()?;
    assert!(sent.success());
    let mut told = String::new();
    child.stderr.take().ok_or("its messages")?.read_to_string(&mut told)?;
    let status = child.wait()?;
    assert!(!status.success());
    assert!(told.contains("Nothing on the server was changed"), "{told}");
    Ok(())
}
