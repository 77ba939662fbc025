//! What people type every day: what is installed, off and on, fix, catalogues, and what a shell needs.

use std::fs;

use crate::harness::{Done, World};

#[test]
fn list_says_what_is_installed_and_in_which_state() -> Done {
    let world = World::left_behind()?;
    world.run(&["list"]).code(0).says(&[
        "2 contents",
        "cobbles 1.0 datapack on you want it",
        "night-lamps 1.2.0 plugin on you want it",
    ]);
    world.run(&["fix", "--yes"]).code(0);
    world.run(&["off", "cobbles", "--because", "too slippery", "--yes"]).code(0).says(&["off cobbles"]);
    world.run(&["list"]).code(0).says(&["1 of them off", "cobbles 1.0 datapack off too slippery"]);
    let json = world.run(&["list", "--fresh", "--json"]).code(0).json()?;
    let of = |id: &str| {
        let mut all = json["contents"].as_array().into_iter().flatten();
        all.find(|line| line["id"] == id).cloned().unwrap_or_default()
    };
    assert_eq!((&of("cobbles")["state"], &of("lamp-oil")["state"]), (&"off".into(), &"on".into()));
    assert_eq!(of("gull-chat")["newer"], "1.1.0", "{json:#}");
    assert_eq!(of("lamp-oil")["why"], "night-lamps needs it");
    Ok(())
}

#[test]
fn what_is_off_stays_there_and_is_not_loaded() -> Done {
    let world = World::left_behind()?;
    world.run(&["fix", "--yes"]).code(0);
    world.run(&["trial"]).code(0);
    let before = world.digests()?;
    let wants = world.read("yalotheca.toml")?;
    world.run(&["off", "cobbles", "--yes"]).code(0);
    assert_eq!(world.read("towns/brinewick/packs.json")?.split_whitespace().collect::<String>(), "[]");
    assert!(world.path("towns/brinewick/packs/cobbles-1.0.zip").exists());
    assert!(world.read("yalotheca.toml")?.contains("[off]\ncobbles = true"));
    world.run(&["check"]).code(0);
    let trial = world.run(&["trial", "--json"]).code(0).json()?;
    assert!(!trial["contents"].to_string().contains("cobbles"), "{trial:#}");
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    world.run(&["off", "cobbles"]).code(2).says(&["cobbles is off already", "yalotheca on cobbles"]);
    world.run(&["add", "cobbles", "--yes"]).code(2).says(&["installed and switched off"]);
    // It is not brought up to date, and an update leaves it off.
    world.run(&["update", "--yes"]).code(0);
    assert!(world.path("towns/brinewick/packs/cobbles-1.0.zip").exists());
    world.run(&["undo", "--yes"]).code(0);
    world.run(&["on", "cobbles", "--yes"]).code(0).says(&["on cobbles"]);
    assert_eq!(world.read("yalotheca.toml")?, wants);
    world.run(&["on", "cobbles"]).code(2).says(&["cobbles is on already"]);
    world.run(&["undo", "--yes"]).code(0);
    world.run(&["undo", "--yes"]).code(0);
    for (path, digest) in before.iter().filter(|(path, _)| !path.starts_with("logs")) {
        assert_eq!(world.digests()?.get(path), Some(digest), "{path}");
    }
    // What is dropped is no longer off either.
    world.run(&["off", "cobbles", "--later"]).code(0).says(&["cobbles off"]);
    world.run(&["check"]).code(1).says(&["yalotheca.toml says that cobbles is off"]);
    world.run(&["drop", "cobbles", "--yes"]).code(0);
    assert!(!world.read("yalotheca.toml")?.contains("cobbles"));
    Ok(())
}

#[test]
fn what_cannot_be_off_is_told() -> Done {
    let world = World::left_behind()?;
    world
        .run(&["off", "night-lamps", "--yes"])
        .code(2)
        .says(&["loads every plugin that is there", "yalotheca drop night-lamps"]);
    world.run(&["off", "ghost"]).code(2).says(&["ghost is not on this server"]);
    world.run(&["on", "coblbes"]).code(2).says(&["not among what is switched off"]);
    let wants = world.read("yalotheca.toml")?;
    world.write("yalotheca.toml", &format!("{wants}\n[off]\nnight-lamps = true\n"))?;
    world.run(&["preview"]).code(2).says(&["[off] in yalotheca.toml names night-lamps"]);
    Ok(())
}

#[test]
fn fix_takes_names_and_codes() -> Done {
    let world = World::left_behind()?;
    world.run(&["fix", "order"]).code(2).says(&["check has found nothing called order"]);
    world.run(&["fix", "unowned"]).code(2).says(&["fix does nothing about this"]);
    let before = world.digests()?;
    world.run(&["fix", "wrong-folder", "--yes"]).code(0).says(&["What this fixes gull-chat lies at"]);
    world.run(&["check"]).code(1).says(&["needs night-lamps 1.2.0 needs lamp-oil"]);
    world.run(&["fix", "night-lamps", "--yes"]).code(0).says(&["new lamp-oil"]);
    world.run(&["check"]).code(0).says(&["no problems"]);
    world.run(&["fix"]).code(0).says(&["nothing to fix"]);
    // An entry for what is not there.
    let order = world.read("plugins/order.txt")?;
    world.write("plugins/order.txt", &format!("{order}ghost\n"))?;
    world.run(&["check"]).code(1).says(&["listed-missing", "enables ghost", "yalotheca fix"]);
    world.run(&["fix", "ghost", "--yes"]).code(0).says(&["plugins/order.txt take out ghost"]);
    assert_eq!(world.read("plugins/order.txt")?, order);
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(world.read("plugins/order.txt")?, format!("{order}ghost\n"));
    world.write("plugins/order.txt", &order)?;
    world.run(&["undo", "--yes"]).code(0);
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(world.digests()?, before);
    // What is noted and not installed yet may be in a list already.
    world.write("plugins/order.txt", &format!("{}tidebell\n", world.read("plugins/order.txt")?))?;
    world.run(&["add", "tidebell", "--later"]).code(0);
    let findings = world.run(&["check", "--json"]).code(1).json()?["findings"].clone();
    let of_tidebell: Vec<_> =
        findings.as_array().into_iter().flatten().filter(|finding| finding["about"] == "tidebell").collect();
    assert!(matches!(of_tidebell.as_slice(), [one] if one["code"] == "not-settled"), "{findings:#}");
    world.run(&["undo", "--yes"]).code(0);
    world.write("plugins/order.txt", "# the order for the festival week\ngull-chat\nnight-lamps\n")?;
    // Without a yes nothing happens.
    world.run(&["fix"]).code(5).says(&["needs confirmation", "add --yes"]);
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn what_cannot_be_fixed_does_not_stop_the_rest() -> Done {
    let world = World::empty()?;
    yalotheca_standin::quayside::write_left_behind_server(&world.server(), world.port)?;
    // Without a catalogue nothing meets the need.
    let program = format!("program={}", world.root().join("saltwick-server").display());
    world.run(&["adopt", "--set", &program]).code(0);
    world.run(&["fix", "--yes"]).code(0).says(&[
        "night-lamps 1.2.0 needs lamp-oil 1 or newer, which is not installed. No combination",
        "What this fixes gull-chat lies at",
    ]);
    world.run(&["fix", "night-lamps", "--yes"]).code(3).says(&["no catalogue has it"]);
    world.run(&["fix", "--yes"]).code(1).says(&["yalotheca fix night-lamps says why"]);
    Ok(())
}

#[test]
fn an_order_by_hand_stays_until_it_is_asked_about() -> Done {
    let world = World::empty()?;
    yalotheca_standin::quayside::write_left_behind_server(&world.server(), world.port)?;
    let files = world.root().join("quayside/files");
    for name in ["harbour-core-2.3.0", "tidebell-1.4.0"] {
        fs::copy(files.join(format!("{name}.swp")), world.path(&format!("plugins/{name}.swp")))?;
    }
    world.write("plugins/order.txt", "# ours\ntidebell\nharbour-core\nnight-lamps\n")?;
    world.adopt().code(0);
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    world.run(&["check"]).code(1).says(&["order tidebell needs harbour-core, which is loaded after it"]);
    // Other changes leave it as it is.
    world.run(&["add", "coin-purse", "--yes"]).code(0);
    assert!(world.read("plugins/order.txt")?.starts_with("# ours\ntidebell\nharbour-core\nnight-lamps\n"));
    world.run(&["fix", "order", "--yes"]).code(0);
    assert!(world.read("plugins/order.txt")?.starts_with("# ours\nharbour-core\ntidebell\n"));
    Ok(())
}

#[test]
fn drop_leaves_no_entry_behind() -> Done {
    let world = World::fresh()?;
    // The line was there before the content came.
    world.write("plugins/order.txt", "tidebell\n")?;
    world.run(&["add", "tidebell", "--yes"]).code(0);
    world.run(&["drop", "tidebell", "--yes"]).code(0);
    assert_eq!(world.read("plugins/order.txt")?, "");
    world.run(&["undo", "--yes"]).code(0);
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(world.read("plugins/order.txt")?, "tidebell\n");
    Ok(())
}

#[test]
fn catalogues_come_and_go_by_command() -> Done {
    let world = World::fresh()?;
    let wants = world.read("yalotheca.toml")?;
    world.run(&["catalogue", "list"]).code(0).says(&["quayside", "15 contents"]);
    world
        .run(&["catalogue", "add", "crew", "../quayside"])
        .code(0)
        .says(&["Added the catalogue crew: 15 contents"]);
    assert!(world.read("yalotheca.toml")?.contains("name = \"crew\"\nat = \"../quayside\""));
    world.run(&["catalogue", "add", "crew", "../quayside"]).code(2).says(&["called crew already"]);
    world.run(&["catalogue", "add", "gone", "http://127.0.0.1:9/"]).code(4).says(&["catalogue gone"]);
    world.run(&["catalogue", "drop", "crw"]).code(2).says(&["did you mean crew?"]);
    world.run(&["catalogue", "drop", "crew"]).code(0);
    assert_eq!(world.read("yalotheca.toml")?, wants);
    Ok(())
}

#[test]
fn common_words_lead_to_the_command() -> Done {
    let world = World::fresh()?;
    for (word, says) in
        [("install", "yalotheca add NAME"), ("remove", "yalotheca drop NAME"), ("verify", "check")]
    {
        world.run(&[word]).code(2).says(&[&format!("there is no command {word}"), says]);
    }
    let json = world.run(&["install", "--json"]).code(2).json()?;
    assert!(json["error"].as_str().is_some_and(|error| error.contains("yalotheca add NAME")));
    let json = world.run(&["check", "--nothing", "--json"]).code(2).json()?;
    assert!(json["error"].as_str().is_some_and(|error| error.contains("--nothing")));
    world.run(&["chekc"]).code(2).says(&["check"]);
    Ok(())
}

#[test]
fn what_nobody_has_is_not_noted() -> Done {
    let world = World::fresh()?;
    let wants = world.read("yalotheca.toml")?;
    world
        .run(&["add", "tidebell@9", "--later"])
        .code(2)
        .says(&["no release of tidebell is 9", "2.0.0, 1.4.0"]);
    world.run(&["add", "tidebel", "--later"]).code(2).says(&["did you mean tidebell?"]);
    assert_eq!(world.read("yalotheca.toml")?, wants);
    Ok(())
}

#[test]
fn a_shell_and_its_reader_get_what_they_need() -> Done {
    let world = World::fresh()?;
    world.run(&["add", "tidebell", "--yes"]).code(0);
    for shell in ["bash", "zsh", "fish", "powershell", "elvish"] {
        let text = world.run(&["completions", shell]).code(0).out;
        assert!(text.contains("YALOTHECA_COMPLETE"), "{shell}: {text}");
    }
    let asked = [("YALOTHECA_COMPLETE", "bash"), ("_CLAP_COMPLETE_INDEX", "2"), ("_CLAP_IFS", "\n")];
    let names = world.run_with(&["--", "yalotheca", "drop", "t"], &asked).out;
    assert_eq!(names.trim(), "tidebell");
    let owners = world.run_with(&["--", "yalotheca", "settings", "t"], &asked).out;
    assert_eq!(owners.trim(), "tidebell");
    let asked = [("YALOTHECA_COMPLETE", "bash"), ("_CLAP_COMPLETE_INDEX", "3"), ("_CLAP_IFS", "\n")];
    let places = world.run_with(&["--", "yalotheca", "settings", "tidebell", "/"], &asked).out;
    assert!(places.contains("/volume"), "{places}");
    let kites = World::kites()?;
    let maps = kites.run_with(&["--", "yalotheca", "maps", "play", ""], &asked).out;
    assert!(maps.lines().any(|map| map == "pier_lights"), "{maps}");
    let man = world.root().join("man");
    world.run(&["man", "--into", &man.display().to_string()]).code(0).says(&["manual pages"]);
    let page = fs::read_to_string(man.join("yalotheca-fix.1"))?;
    assert!(page.contains("Do what check suggests") && man.join("yalotheca.1").exists());
    assert!(!man.join("yalotheca-stand-in.1").exists(), "what is hidden has no page");
    Ok(())
}

#[test]
fn a_folder_inside_a_managed_server_is_no_server() -> Done {
    let world = World::fresh()?;
    let inside = world.path("towns/brinewick");
    fs::create_dir_all(&inside)?;
    let inside = inside.display().to_string();
    world.run(&["adopt", &inside, "--game", "saltwick"]).code(5).says(&["which Yalotheca manages already"]);
    let other = world.root().join("other");
    fs::create_dir_all(&other)?;
    world.run(&["adopt", &other.display().to_string(), "--game", "kitehollow"]).code(0);
    assert!(other.join("yalotheca.toml").exists());
    Ok(())
}

#[test]
fn history_says_who_borrowed_root() -> Done {
    let world = World::fresh()?;
    let who = [("USER", "root"), ("SUDO_USER", "wren"), ("SSH_CONNECTION", "10.0.0.7 5000 10.0.0.1 22")];
    world.run_with(&["add", "lamp-oil", "--yes"], &who);
    world.run(&["history"]).code(0).says(&["wren as root", "from 10.0.0.7"]);
    world.run(&["catalogue", "add", "by hand", "../quayside"]).code(0);
    world.run(&["history"]).code(0).says(&["yalotheca catalogue add 'by hand' ../quayside"]);
    Ok(())
}

#[test]
fn a_pack_replaces_no_file_unasked() -> Done {
    let world = World::fresh()?;
    let file = world.root().join("ours.zip").display().to_string();
    world.run(&["modpack", "export", &file]).code(2).says(&["this pack would be empty"]);
    world.run(&["add", "lamp-oil", "--yes"]).code(0);
    world.run(&["modpack", "export", &file]).code(0);
    let bytes = fs::read(&file)?;
    world.run(&["modpack", "export", &file]).code(5).says(&["is there already", "--force"]);
    assert_eq!(fs::read(&file)?, bytes);
    world.run(&["modpack", "export", &file, "--force"]).code(0);
    let mode = std::os::unix::fs::PermissionsExt::mode(&fs::metadata(&file)?.permissions());
    assert_eq!(mode & 0o777, 0o644);
    Ok(())
}
