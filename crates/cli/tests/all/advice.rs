//! What a message tells people to type is typed: it is accepted, and what it was about is gone. Advice that harms or leads nowhere is
//! worse than none.

use std::{error::Error, fs, path::Path};

use serde_json::Value;

use crate::{
    harness::{Answer, Done, World},
    ninety,
};

/// Splits a command as a shell does, as far as the program quotes: by spaces, with single quotes.
fn words(line: &str) -> Vec<String> {
    let (mut words, mut word, mut is_quoted, mut is_begun) = (Vec::new(), String::new(), false, false);
    for c in line.chars() {
        match c {
            '\'' => (is_quoted, is_begun) = (!is_quoted, true),
            ' ' if !is_quoted => {
                if is_begun {
                    words.push(std::mem::take(&mut word));
                }
                is_begun = false;
            }
            c => {
                word.push(c);
                is_begun = true;
            }
        }
    }
    if is_begun {
        words.push(word);
    }
    words
}

/// The first command in a piece of advice.
fn command(advice: &str) -> Option<Vec<String>> {
    // What a sentence goes on with is no part of the command.
    const GO_ON: &[&str] = &[
        "leaves", "takes", "says", "shows", "puts", "lists", "looks", "ends", "adds", "removes", "restores",
        "brings", "is", "to", "and", "or", "asks", "tells", "makes", "starts", "gives", "goes", "allows",
        "accepts",
    ];
    let rest = &advice[advice.find("yalotheca ")?..];
    let end = rest.find([';', ',', ')']).unwrap_or(rest.len());
    let mut words = words(&rest[..end]);
    words.remove(0);
    if let Some(at) = words.iter().position(|word| GO_ON.contains(&word.as_str())) {
        words.truncate(at);
    }
    (!words.is_empty()).then_some(words)
}

/// Runs a command in a copy of a server's folder, which lies beside it.
fn run_in_copy(world: &World, words: &[String], then: &[&str]) -> Result<(Answer, Answer), Box<dyn Error>> {
    let copy = world.root().join("harbour-copy");
    fs::remove_dir_all(&copy).ok();
    ninety::copy(&world.server(), &copy)?;
    let mut line: Vec<&str> = words.iter().map(String::as_str).collect();
    line.push("--yes");
    let answer = world.run_in(&copy, &line);
    Ok((answer, world.run_in(&copy, then)))
}

/// Types what each finding of a check suggests, and looks whether the finding is gone then.
fn try_findings(world: &World) -> Result<usize, Box<dyn Error>> {
    let json = world.run(&["check", "--json"]).json()?;
    let mut tried = 0;
    for finding in json["findings"].as_array().ok_or("findings")? {
        let Some(command) = finding["fix"].as_str().and_then(command) else { continue };
        let (answer, after) = run_in_copy(world, &command, &["check", "--json"])?;
        assert_ne!(answer.code, 2, "{command:?} for {finding:#}: {}{}", answer.out, answer.err);
        let text = format!("{}{}", answer.out, answer.err);
        let is_same =
            |other: &Value| (&other["code"], &other["about"]) == (&finding["code"], &finding["about"]);
        let is_there = after.json()?["findings"].as_array().into_iter().flatten().any(is_same);
        // Or it says at once that, and why, this cannot be put right.
        let says_why = text.contains("No combination of versions") || [3, 4, 5].contains(&answer.code);
        assert!(!is_there || says_why, "{command:?} leaves {finding:#}: {text}");
        tried += 1;
    }
    Ok(tried)
}

#[test]
fn what_check_suggests_on_the_made_up_servers_is_accepted_and_helps() -> Done {
    let mut tried = 0;
    let harbour = World::left_behind()?;
    tried += try_findings(&harbour)?;
    // Others in a mess.
    let harbour = World::fresh()?;
    harbour.run(&["add", "night-lamps", "gull-chat", "--yes"]).code(0);
    fs::remove_file(harbour.path("plugins/night-lamps-1.2.0.swp")).ok();
    harbour.write("plugins/order.txt", "gull-chat\nghost\n")?;
    tried += try_findings(&harbour)?;
    let kites = World::kites()?;
    kites.write("rotation.list", "pier_lights\nnowhere\n")?;
    kites.write(
        "host.cfg",
        &kites.read("host.cfg")?.replace("start_map \"pier_lights\"", "start_map \"pier_light\""),
    )?;
    tried += try_findings(&kites)?;
    tried += try_findings(&World::moor()?)?;
    assert!(tried >= 8, "{tried}");
    Ok(())
}

#[test]
fn what_check_suggests_on_the_server_with_ninety_mods_is_accepted_and_helps() -> Done {
    let Some((world, mods)) = ninety::left_behind()? else { return Ok(()) };
    // An unmanaged mod in a folder of another name, and a link beside its target.
    put(&world.path("home/.minetest/mods/zz_folder/mod.conf"), "name = zz_helper\n")?;
    put(&world.path("home/.minetest/mods/zz_folder/init.lua"), "")?;
    world.run(&["adopt", "--name", "Quay 2016", "--catalogue", &format!("mods={}", mods.display())]).code(0);
    put(&world.path("home/.minetest/mods/yy_folder/mod.conf"), "name = yy_helper\n")?;
    put(&world.path("home/.minetest/mods/yy_folder/init.lua"), "")?;
    std::os::unix::fs::symlink("mobs_redo_2016", world.path("home/.minetest/mods/mobs"))?;
    let tried = try_findings(&world)?;
    assert!(tried >= 5, "{tried}");
    for name in ["yy_helper", "yy_folder", "home/.minetest/mods/yy_folder"] {
        let words: Vec<String> = ["fix", name].map(str::to_owned).into();
        let (answer, after) = run_in_copy(&world, &words, &["list"])?;
        answer.code(0);
        after.says(&["yy_helper"]);
    }
    // A link is never the reason to remove what it leads to.
    let check = world.run(&["check", "--json"]).json()?;
    let second = check["findings"]
        .as_array()
        .into_iter()
        .flatten()
        .find(|one| one["about"] == "home/.minetest/mods/mobs");
    let second = second.ok_or("a finding about the link")?;
    assert_eq!((&second["code"], &second["fixable"]), (&"second".into(), &false.into()), "{second:#}");
    Ok(())
}

fn put(path: &Path, text: &str) -> Done {
    path.parent().map_or(Ok(()), fs::create_dir_all)?;
    Ok(fs::write(path, text)?)
}

/// Types the command in an error's hint; returns how often there was one.
fn try_hint(world: &World, words: &[&str]) -> Result<usize, Box<dyn Error>> {
    let json = world.run(&[words, &["--json"]].concat()).json()?;
    let Some(command) = json["hint"].as_str().and_then(command) else { return Ok(0) };
    if command.iter().any(|word| word.chars().all(|c| c.is_ascii_uppercase())) {
        return Ok(0);
    }
    let (answer, _) = run_in_copy(world, &command, &["check"])?;
    assert_ne!(answer.code, 2, "{words:?} says {command:?}: {}{}", answer.out, answer.err);
    Ok(1)
}

#[test]
fn what_errors_suggest_is_accepted() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "night-lamps", "gull-chat", "--yes"]).code(0);
    let mut tried = 0;
    for words in [
        &["add", "night-lmps"][..],
        &["add", "no-such-thing"],
        &["drop", "gul-chat", "--yes"],
        &["update", "ferry-lines", "--yes"],
        &["on", "gull-chat", "--yes"],
        &["off", "ferry-lines", "--yes"],
        &["off", "gull-chat", "--yes"],
        &["order", "gull-chat", "--yes"],
        &["fix", "nonsense", "--yes"],
        &["settings", "gul-chat"],
        &["settings", "gull-chat", "/nothing=1", "--yes"],
        &["undo", "99", "--yes"],
        &["redo", "--yes"],
        &["why", "nobody"],
        &["about", "nobody"],
        &["find", "nothing-at-all"],
        &["maps"],
        &["game", "show", "saltwik"],
        &["add", "quiet-bells", "tidebell", "--yes"],
        &["stop"],
        &["console", "plugins"],
        &["status"],
    ] {
        tried += try_hint(&world, words)?;
    }
    let kites = World::kites()?;
    for words in [
        &["maps", "play", "nowhere", "--yes"][..],
        &["maps", "rotate", "nowhere", "--yes"],
        &["drop", "pier_lights", "--yes"],
        &["add", "../files/two-lofts.zip", "--yes"],
        &["add", "../files/half_moon.kmap", "--yes"],
    ] {
        tried += try_hint(&kites, words)?;
    }
    assert!(tried >= 8, "{tried}");
    Ok(())
}

#[test]
fn a_command_is_found_in_a_sentence() {
    let table = [
        ("yalotheca fix", Some(vec!["fix"])),
        ("yalotheca drop a, or drop b", Some(vec!["drop", "a"])),
        ("yalotheca off moss leaves it out; yalotheca update moss", Some(vec!["off", "moss"])),
        ("drop one of them: yalotheca drop hen", Some(vec!["drop", "hen"])),
        ("yalotheca add 'gates@=1.0' goes back", Some(vec!["add", "gates@=1.0"])),
        ("do it yourself", None),
    ];
    for (advice, expected) in table {
        let expected = expected.map(|words| words.into_iter().map(str::to_owned).collect());
        assert_eq!(command(advice), expected, "{advice}");
    }
}
