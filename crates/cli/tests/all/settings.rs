//! Settings: shown, judged, set, kept through updates, and merged with new defaults.

use std::fs;

use crate::harness::{Done, World};

/// A harbour that has started once with fishing in its first release.
fn fishing() -> Result<World, Box<dyn std::error::Error>> {
    let world = World::fresh()?;
    world.run(&["settle", "--accept-terms", "--yes"]).code(0);
    world.run(&["add", "net-and-line@=1.0", "--yes"]).code(0);
    Ok(world)
}

const FILE: &str = "plugins/net-and-line/settings.yml";

#[test]
fn many_are_set_at_once_and_wait_for_the_first_start() -> Done {
    let world = fishing()?;
    world
        .run(&["settings"])
        .code(0)
        .says(&["server boot.json 4 settings how it starts", "pending: the server"]);
    let set = world.run(&["settings", "net-and-line", "/multipliers/*=2", "--yes"]).code(0);
    set.says(&["Waits for the first start", "4 settings of net-and-line", "/multipliers/* means 4 places"]);
    assert!(
        world
            .read("yalotheca.toml")?
            .contains("[settings.net-and-line.\"settings.yml\"]\n\"/multipliers/cod\" = 2\n")
    );
    world.run(&["settings", "net-and-line"]).code(0).says(&["/multipliers/cod 2 (waits)"]);
    world.run(&["check"]).code(0);
    assert!(!world.path(FILE).exists());
    // The trial starts it, sets what waited, and starts it again.
    world.run(&["trial"]).code(0).says(&["4 settings could be set after the first start", "no problems"]);
    assert!(
        world
            .read(FILE)?
            .starts_with("# What one cast brings, times this.\nmultipliers:\n  cod: 2\n  herring: 2\n")
    );
    world.run(&["check"]).code(0).says(&["no problems"]);
    let json = world.run(&["settings", "net-and-line", "--json"]).code(0).json()?;
    let first = &json["files"][0]["settings"][0];
    assert_eq!(
        (&first["at"], &first["value"], &first["default"]),
        (&"/multipliers/cod".into(), &2.into(), &1.into())
    );
    assert_eq!(first["yours"], true);
    // Dropped and added again, it is as it was.
    world.run(&["drop", "net-and-line", "--yes"]).code(0);
    fs::remove_dir_all(world.path("plugins/net-and-line"))?;
    world.run(&["add", "net-and-line@=1.0", "--yes"]).code(0).says(&["Waits for the first start"]);
    world.run(&["trial"]).code(0);
    assert!(world.read(FILE)?.contains("  cod: 2\n"));
    world
        .run(&["settings", "net-and-line", "--reset", "/multipliers/cod", "--yes"])
        .code(0)
        .says(&["+ cod: 1"]);
    Ok(())
}

#[test]
fn what_does_not_fit_is_refused_before_anything_is_written() -> Done {
    let world = fishing()?;
    world.run(&["trial"]).code(0);
    let before = world.digests()?;
    let wants = world.read("yalotheca.toml")?;
    for (words, code, says) in [
        (vec!["net-and-line", "/season=wintr"], 5, "did you mean winter?"),
        (vec!["net-and-line", "/multipliers/cod=25"], 5, "it takes a number from 0 to 20"),
        (vec!["net-and-line", "/multiplier/cod=2"], 5, "did you mean /multipliers/cod"),
        (vec!["net-and-line", "/limit=many"], 5, "it takes a whole number from 1 to 500"),
        (vec!["net-and-line", "/limit"], 2, "is not a place and a value"),
        (vec!["net-and-line", "--reset", "/limit"], 2, "/limit is not set in yalotheca.toml"),
        (vec!["net-and-lin", "/limit=3"], 2, "did you mean net-and-line?"),
        (vec!["net-and-line", "/limit=3", "--file", "setings.yml"], 2, "did you mean settings.yml?"),
        (vec!["server", "/port=70000"], 5, "from 1 to 65535"),
        (vec!["server", "/memory_mb=64"], 5, "boot.json: /memory_mb cannot be \"64\""),
        (vec!["gull-chat"], 2, "gull-chat is not on this server"),
    ] {
        let words = [&["settings", "--yes"], words.as_slice()].concat();
        world.run(&words).code(code).says(&[says]);
    }
    assert_eq!((world.digests()?, world.read("yalotheca.toml")?), (before, wants));
    world.run(&["settings", "net-and-line", "/fog=true", "--force", "--yes"]).code(0).says(&["+fog: true"]);
    world.run(&["undo", "--yes"]).code(0);
    world.run(&["settings", "server", "/memory_mb=2048", "--yes"]).code(0).says(&["boot.json"]);
    assert!(world.read("boot.json")?.contains("2048"));
    world.run(&["trial"]).code(0);
    Ok(())
}

#[test]
fn new_defaults_are_merged_and_what_is_yours_stays() -> Done {
    let world = fishing()?;
    world.run(&["trial"]).code(0);
    world.run(&["settings", "net-and-line", "/limit=55", "--yes"]).code(0);
    // Changed by hand, without a word to anybody.
    world.write(FILE, &world.read(FILE)?.replace("season: summer", "season: spring # we like it"))?;
    let mut before = world.digests()?;
    before.remove("logs/latest.log");
    world.run(&["add", "net-and-line@*", "--later"]).code(0);
    world.run(&["update", "net-and-line", "--yes"]).code(0).says(&[
        "2 new defaults taken",
        "season spring the new default is autumn",
        "old_boot 1 the new release does not know it any more",
    ]);
    assert_eq!(
        world.read(FILE)?,
        "# What one cast brings, times this.\nmultipliers:\n  cod: 1\n  herring: 2\n  mackerel: 1\n  old_boot: 1\n  sprat: 1\n\
         season: spring # we like it\nlimit: 55\n"
    );
    assert!(
        world.read(&format!("{FILE}.defaults"))?.contains("season: autumn"),
        "the new defaults lie beside it"
    );
    world.run(&["trial"]).code(0);
    world.run(&["undo", "--yes"]).code(0);
    let mut now = world.digests()?;
    now.remove("logs/latest.log");
    assert_eq!(now, before);
    Ok(())
}

#[test]
fn a_broken_file_is_told_and_never_written_over() -> Done {
    let world = fishing()?;
    world.run(&["trial"]).code(0);
    world.run(&["settings", "net-and-line", "/limit=55", "--yes"]).code(0);
    let broken = "multipliers:\n  cod: [1\nseason: summer\n";
    world.write(FILE, broken)?;
    world.run(&["check"]).code(1).says(&["plugins/net-and-line/settings.yml, line"]);
    world.run(&["settings"]).code(0).says(&["broken at line"]);
    world
        .run(&["settings", "net-and-line", "/limit=60", "--yes"])
        .code(5)
        .says(&["cannot be read", "correct line"]);
    world.run(&["add", "gull-chat", "--yes"]).code(5).says(&["--skip-broken"]);
    assert!(!world.path("plugins/gull-chat-1.1.0.swp").exists());
    world.run(&["add", "gull-chat", "--later"]).code(0);
    world.run(&["settle", "--skip-broken", "--yes"]).code(0).says(&["it is left as it is"]);
    assert!(world.path("plugins/gull-chat-1.1.0.swp").exists());
    assert_eq!(world.read(FILE)?, broken);
    // Mended, it is ours again.
    world.write(FILE, "multipliers:\n  cod: 1\nseason: summer\nlimit: 40\n")?;
    world.run(&["check"]).code(1).says(&["should say limit = 55"]);
    world.run(&["settle", "--yes"]).code(0);
    assert!(world.read(FILE)?.contains("limit: 55\n"));
    Ok(())
}

#[test]
fn a_file_keeps_its_encoding_and_its_line_endings() -> Done {
    let world = World::fresh()?;
    world.run(&["settle", "--accept-terms", "--yes"]).code(0);
    world.run(&["trial"]).code(0);
    let text = world.read("saltwick.conf")?.replace('\n', "\r\n");
    let latin = [b"# L\xe4rkspur\r\n".as_slice(), text.as_bytes()].concat();
    fs::write(world.path("saltwick.conf"), &latin)?;
    world.run(&["settings", "server", "/look.must=yes", "--yes"]).code(0);
    let now = fs::read(world.path("saltwick.conf"))?;
    let expected = String::from_utf8_lossy(&latin).replace("look.must = no", "look.must = yes");
    assert_eq!(String::from_utf8_lossy(&now), expected);
    assert!(now.starts_with(b"# L\xe4rkspur\r\n"));
    world
        .run(&["settings", "server", "/name=Hafen €", "--yes"])
        .code(5)
        .says(&["Latin-1", "convert saltwick.conf"]);
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(fs::read(world.path("saltwick.conf"))?, latin);
    Ok(())
}

#[test]
fn secrets_are_neither_shown_nor_noted() -> Done {
    let world = World::kites()?;
    for words in [vec!["settings", "server"], vec!["settings", "server", "--json"]] {
        let shown = world.run(&words).code(0).says(&["/console_pass", "(a secret)"]);
        assert!(!shown.out.contains("larkspur"), "{}", shown.out);
    }
    for force in [None, Some("--force")] {
        let words: Vec<&str> =
            ["settings", "server", "/console_pass=gull", "--yes"].into_iter().chain(force).collect();
        world.run(&words).code(5).says(&["is a secret", "write it into host.cfg yourself"]);
    }
    let near = world.run(&["settings", "server", "console_port=5999", "--yes"]).code(0);
    assert!(
        near.out.contains(" console_pass \"(a secret)\"") && !near.out.contains("larkspur"),
        "{}",
        near.out
    );
    world.run(&["settings", "server", "fetch_cap_mb=48", "--yes"]).code(0).says(&["+fetch_cap_mb \"48\""]);
    assert!(!world.read("yalotheca.toml")?.contains("gull\""));
    Ok(())
}

#[test]
fn launch_settings_agree_or_check_says_so() -> Done {
    let world = World::fresh()?;
    world.run(&["settle", "--accept-terms", "--yes"]).code(0);
    world.run(&["settings", "server", "/engine=saltwick-2.5.swe", "--yes"]).code(0);
    world
        .run(&["check"])
        .code(1)
        .says(&["boot.json starts the engine saltwick-2.5.swe, and there is no such file"]);
    world.run(&["settings", "server", "--reset", "/engine", "--yes"]).code(0);
    world.run(&["settings", "server", "/runtime=4", "--yes"]).code(0);
    world.run(&["check"]).code(1).says(&["this engine needs runtime 6, and boot.json starts it on 4"]);
    world.run(&["trial"]).code(1).says(&["needs runtime 6"]);
    world.run(&["settings", "server", "--reset", "/runtime", "--yes"]).code(0);
    world.run(&["trial"]).code(0);
    Ok(())
}

#[test]
fn terms_are_shown_at_the_trial_and_accepted_by_an_act() -> Done {
    let world = World::fresh()?;
    world.write("terms.txt", "terms = undecided\n")?;
    world.run(&["trial"]).code(1).says(&["The terms", "terms = undecided"]);
    world.run(&["settle", "--yes"]).code(0);
    assert!(world.read("terms.txt")?.contains("undecided"), "a yes accepts nothing");
    world.run(&["settle", "--accept-terms", "--yes"]).code(0);
    world.run(&["trial"]).code(0);
    world.run(&["history"]).code(0).says(&["--accept-terms"]);
    Ok(())
}
