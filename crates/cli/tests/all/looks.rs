//! How results look: widths, JSON, colours, closed pipes.

use std::{
    io::{BufRead, BufReader},
    process::Stdio,
};

use crate::harness::{Done, World};

#[test]
fn nothing_is_wider_than_the_terminal() -> Done {
    let world = World::left_behind()?;
    for columns in ["80", "100"] {
        for words in [
            vec!["check"],
            vec!["list"],
            vec!["fix"],
            vec!["preview"],
            vec!["find"],
            vec!["about", "tidebell"],
            vec!["history"],
            vec!["order"],
            vec!["why", "gull-chat"],
            vec!["why", "nobody"],
            vec!["order", "gull-chat", "--after", "night-lamps"],
            vec!["add", "quiet-bells", "tidebell@>=1.3", "--yes"],
            vec!["game", "list"],
        ] {
            let answer = world.run_with(&words, &[("COLUMNS", columns)]);
            let limit: usize = columns.parse()?;
            for line in answer.out.lines().chain(answer.err.lines()) {
                let spaced = line.trim().contains(' ');
                assert!(line.chars().count() <= limit || !spaced, "{words:?} at {columns}: {line}");
                assert_eq!(line, line.trim_end(), "{words:?}: white space at the end");
                assert!(!line.contains('\u{1b}'), "{words:?}: colours without a terminal");
            }
        }
    }
    Ok(())
}

#[test]
fn what_is_told_of_files_links_and_maps_fits_and_is_json_too() -> Done {
    let world = World::kites()?;
    let commands: Vec<(Vec<&str>, i32, &str)> = vec![
        (vec!["add", "../files/gull-cliffs-2.zip", "../files/windmill.zip", "--yes"], 0, "left_out"),
        (vec!["add", "../files/two-lofts.zip", "--yes"], 2, "error"),
        (vec!["add", "../files/half_moon.kmap", "--yes"], 5, "error"),
        (vec!["maps"], 0, "maps"),
        (vec!["maps", "rotate", "gull_cliffs", "pier_lights", "--yes"], 0, "config"),
        (vec!["maps", "play", "nothing", "--yes"], 2, "error"),
        (vec!["maps", "try", "windmill_row", "--yes"], 0, "fault"),
        (vec!["links"], 0, "links"),
        (vec!["links", "--check"], 0, "links"),
        (vec!["modpack", "export", "../files/kites.zip"], 0, "bundled"),
        (vec!["settle", "--clean-first", "--yes"], 0, "files"),
        (vec!["catalogue", "sweep"], 0, "files"),
        (vec!["trial"], 0, "verdict"),
    ];
    for columns in ["80", "100"] {
        let world = World::kites()?;
        for (words, code, _) in &commands {
            let answer = world.run_with(words, &[("COLUMNS", columns)]).code(*code);
            let limit: usize = columns.parse()?;
            for line in answer.out.lines().chain(answer.err.lines()) {
                // A path or an address is never broken.
                let width = line.chars().count();
                assert!(
                    width <= limit || !line.trim().contains(' ') || line.contains('/'),
                    "{words:?}: {line:?}"
                );
            }
        }
    }
    for (words, code, key) in &commands {
        let answer = world.run(&[words.clone(), vec!["--json"]].concat()).code(*code);
        assert!(answer.json()?.get(*key).is_some(), "{words:?}: {}", answer.out);
    }
    Ok(())
}

#[test]
fn what_is_told_of_a_server_that_runs_fits_and_is_json_too() -> Done {
    let commands: Vec<(Vec<&str>, i32, &str)> = vec![
        (vec!["start"], 0, "is_good"),
        (vec!["start"], 5, "error"),
        (vec!["status"], 0, "state"),
        (vec!["log"], 0, "lines"),
        (vec!["add", "../files/gull-cliffs-2.zip", "--yes", "--restart"], 0, "restart"),
        (vec!["restart"], 0, "by"),
        (vec!["stop"], 0, "stopped"),
        (vec!["update", "--preview"], 0, "contents"),
        (vec!["trial", "--accept"], 0, "is_good"),
        (vec!["maps", "rotate", "--add", "gull_cliffs", "--yes"], 0, "config"),
        (vec!["maps", "rotate", "--remove", "gull_cliffs", "--yes"], 0, "config"),
        (vec!["drop", "gull_cliffs"], 5, "error"),
        (vec!["modpack", "export", "../again.zip", "--force"], 0, "bundled"),
        (vec!["undo", "--yes"], 0, "takes_back"),
        (vec!["redo", "--all", "--yes"], 0, "takes_back"),
        (vec!["about", "pier_lights"], 0, "server"),
        (vec!["why", "pier_lights"], 0, "server"),
    ];
    for columns in ["80", "100"] {
        let world = World::kites()?;
        for (words, code, _) in &commands {
            let answer = world.run_with(words, &[("COLUMNS", columns)]).code(*code);
            let limit: usize = columns.parse()?;
            for line in answer.out.lines().chain(answer.err.lines()) {
                let short = line.chars().count() <= limit || !line.trim().contains(' ') || line.contains('/');
                assert!(short || words[0] == "log", "{words:?} at {columns}: {line:?}");
                assert_eq!(line, line.trim_end(), "{words:?}: white space at the end");
            }
        }
        world.run(&["stop"]).code(0);
    }
    let world = World::kites()?;
    for (words, code, key) in &commands {
        let answer = world.run(&[words.clone(), vec!["--json"]].concat()).code(*code);
        let json = answer.json()?;
        let told = json.get(*key).is_some_and(|value| !value.is_null());
        assert!(told, "{words:?}: {}", answer.out);
        // Every report names the server in one way.
        if *key != "error" && words[0] != "modpack" {
            assert_eq!(json["server"]["game"], "kitehollow", "{words:?}: {}", answer.out);
        }
    }
    world.run(&["stop"]).code(0);
    Ok(())
}

#[test]
fn what_is_told_of_configuration_fits_and_is_json_too() -> Done {
    let world = World::moor()?;
    let commands: Vec<(Vec<&str>, i32, &str)> = vec![
        (vec!["check"], 0, "findings"),
        (vec!["trial"], 0, "first"),
        (vec!["add", "lantern-seller"], 2, "error"),
        (vec!["add", "lantern-seller", "reed-burst", "--set", "place=1,2,3", "--yes"], 0, "config"),
        (vec!["settings"], 0, "files"),
        (vec!["settings", "lantern-seller"], 0, "files"),
        (vec!["settings", "server"], 0, "files"),
        (vec!["settings", "server", "/host/places=200"], 5, "error"),
        (vec!["settings", "server", "/Hosting/ground=Basmarsh", "--later"], 0, "noted"),
        (vec!["preview", "--diff"], 0, "breaks"),
        (vec!["settings", "server", "--reset", "/Hosting/ground", "--later"], 0, "noted"),
        (vec!["settings", "lantern-seller", "price=20", "--yes"], 0, "config"),
        (vec!["game", "check", "../tweaks/lantern-seller.tweak.toml"], 0, "fragments"),
        (vec!["drop", "lantern-seller", "reed-burst", "--yes"], 0, "config"),
    ];
    for columns in ["80", "100"] {
        let world = World::moor()?;
        for (words, code, _) in &commands {
            let answer = world.run_with(words, &[("COLUMNS", columns)]).code(*code);
            let limit: usize = columns.parse()?;
            for line in answer.out.lines().chain(answer.err.lines()) {
                let short = line.chars().count() <= limit || !line.trim().contains(' ') || line.contains('/');
                assert!(short, "{words:?} at {columns}: {line:?}");
                assert_eq!(line, line.trim_end(), "{words:?}: white space at the end");
            }
        }
    }
    for (words, code, key) in &commands {
        let answer = world.run(&[words.clone(), vec!["--json"]].concat()).code(*code);
        assert!(answer.json()?.get(*key).is_some(), "{words:?}: {}", answer.out);
    }
    Ok(())
}

#[test]
fn every_result_is_json_where_asked() -> Done {
    let world = World::left_behind()?;
    for (words, code, key) in [
        (vec!["check"], 1, "findings"),
        (vec!["preview"], 0, "contents"),
        (vec!["find"], 0, "found"),
        (vec!["about", "tidebell"], 0, "releases"),
        (vec!["list"], 0, "contents"),
        (vec!["fix", "--yes"], 0, "settled"),
        (vec!["fix"], 0, "left"),
        (vec!["trial"], 0, "verdict"),
        (vec!["history"], 0, "history"),
        (vec!["order"], 0, "order"),
        (vec!["order", "gull-chat", "--after", "nobody", "--yes"], 2, "error"),
        (vec!["why", "gull-chat"], 0, "newer"),
        (vec!["why", "nobody"], 2, "error"),
        (vec!["game", "list"], 0, "games"),
        (vec!["add", "lamp-oil", "--later"], 0, "noted"),
        (vec!["add", "tidebel"], 2, "error"),
        (vec!["add", "fog-signal", "--yes"], 3, "no_lineup"),
        (vec!["undo", "--yes"], 0, "takes_back"),
    ] {
        let answer = world.run(&[words.clone(), vec!["--json"]].concat()).code(code);
        let json = answer.json().map_err(|error| format!("{words:?}: {error}: {}", answer.out))?;
        assert!(!json[key].is_null(), "{words:?} has no {key}: {json:#}");
    }
    let json = world.run(&["add", "fog-signal", "--yes", "--json"]).json()?;
    assert_eq!(json["no_lineup"]["because"][1]["sort"], "platform");
    assert_eq!(json["no_lineup"]["left_out"], 0);
    assert_eq!(json["no_lineup"]["ways_out"][0]["change"], "do without fog-signal");
    Ok(())
}

#[test]
fn progress_goes_to_standard_error_and_quiet_is_quiet() -> Done {
    let world = World::fresh()?;
    let loud = world.run(&["trial"]).code(0);
    assert!(loud.err.contains("Starting") && !loud.out.contains("Starting"));
    assert!(world.run(&["trial", "--quiet"]).code(0).err.is_empty());
    let settled = world.run(&["add", "tidebell", "--yes", "--quiet"]).code(0);
    assert_eq!(settled.out, "Settled as change 1: 2 contents, 2 files, 1 configuration file.\n");
    assert!(world.run(&["trial", "--verbose"]).code(0).err.contains("harbour open on port"));
    Ok(())
}

#[test]
fn a_reader_that_goes_away_is_no_error() -> Done {
    let world = World::fresh()?;
    let mut child =
        world.command(&["game", "show", "saltwick"]).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn()?;
    let mut line = String::new();
    if let Some(stdout) = child.stdout.take() {
        BufReader::with_capacity(16, stdout).read_line(&mut line)?;
    }
    let output = child.wait_with_output()?;
    assert!(output.status.success() && output.stderr.is_empty(), "{output:?}");
    Ok(())
}

#[test]
fn the_fix_of_the_demo_data_stays_as_it_is() -> Done {
    let world = World::left_behind()?;
    let text = world.run(&["fix", "--yes"]).code(0).out;
    insta::assert_snapshot!(text, @r"
    What would change on Larkspur Harbour (saltwick, engine 2.4, runtime 6)

    What this fixes
      night-lamps 1.2.0 needs lamp-oil 1 or newer, which is not installed
      gull-chat lies at plugins/plugins/gull-chat-1.0.0.swp, where the server does not look; it belongs
        at plugins/gull-chat-1.0.0.swp

    Contents
      new  lamp-oil  1.0.2  night-lamps needs it

    Files
      move  22 KB  plugins/plugins/gull-chat-1.0.0.swp to plugins/gull-chat-1.0.0.swp
      put   20 KB  plugins/lamp-oil-1.0.2.swp

    Configuration
      plugins/order.txt  add lamp-oil

    In all: 1 content, 2 files, 1 configuration file.

    Settled as change 1: 1 content, 2 files, 1 configuration file.
    ");
    Ok(())
}

#[test]
fn a_catalogue_is_asked_only_whether_it_changed() -> Done {
    let world = World::fresh()?;
    world.run(&["find"]).code(0);
    let (whole, _) = world.host.counts();
    world.run(&["find"]).code(0);
    let (again, unchanged) = world.host.counts();
    assert_eq!(again, whole, "nothing is sent twice");
    assert!(unchanged > 0);
    Ok(())
}
