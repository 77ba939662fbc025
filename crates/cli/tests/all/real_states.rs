//! Real servers in the states in which people leave them: adopting changes nothing, and a clean check means a clean start.

use std::{fs, path::Path};

use serde_json::Value;

use crate::{
    harness::{Answer, Done, World},
    real_bzfs, real_luanti, real_teeworlds,
};

/// A state, what makes it, and what check must say of it, if anything is wrong.
struct State {
    name: &'static str,
    make: fn(&World) -> Done,
    says: &'static [&'static str],
    /// Whether fix puts it right.
    is_fixable: bool,
}

/// Adopts a server in a state, and holds the laws against it.
fn hold(world: &World, state: &State) -> Done {
    (state.make)(world)?;
    let before = world.digests()?;
    let name = state.name;
    world.run(&["adopt"]).code(0);
    assert_eq!(world.digests()?, before, "{name}: adopt changes nothing");
    let preview = world.run(&["preview", "--json"]).code(0).json()?;
    for part in ["contents", "files", "config"] {
        assert_eq!(preview[part], Value::Array(Vec::new()), "{name}: {part}");
    }
    let check = world.run(&["check"]).says(state.says);
    let trial = start(world);
    if check.code == 0 {
        assert_eq!(trial.code, 0, "{name}: clean, and it does not start so\n{}{}", check.out, trial.out);
    } else {
        assert_ne!(trial.code, 0, "{name}: nothing was wrong with it\n{}{}", check.out, trial.out);
    }
    assert_eq!(check.code != 0, !state.says.is_empty(), "{name}\n{}", check.out);
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    if state.is_fixable {
        let found = world.digests()?;
        world.run(&["fix", "--yes"]).code(0);
        world.run(&["check"]).code(0);
        start(world).code(0);
        let fixed = world.run(&["undo", "--yes"]);
        assert_eq!(fixed.code, 0, "{name}\n{}{}", fixed.out, fixed.err);
        for path in found.keys().filter(|path| !path.contains("sqlite") && !path.starts_with("debug")) {
            assert!(world.digests()?.contains_key(path), "{name}: {path} is back");
        }
    }
    Ok(())
}

/// Starts the server. Its port may be in use for a moment, since other tests start theirs meanwhile.
fn start(world: &World) -> Answer {
    for _ in 0..5 {
        let trial = world.run(&["trial"]);
        if !trial.out.contains("something else listens") {
            return trial;
        }
        std::thread::sleep(std::time::Duration::from_secs(2));
    }
    world.run(&["trial"])
}

/// Puts a mod into a folder.
fn put_mod(world: &World, folder: &str, conf: &str) -> Done {
    world.write(&format!("{folder}/mod.conf"), conf)?;
    world.write(&format!("{folder}/init.lua"), "-- quay\n")
}

fn enable(world: &World, lines: &str) -> Done {
    let text = world.read("world/world.mt")?;
    world.write("world/world.mt", &format!("{text}{lines}"))
}

const MODS: &str = "home/.minetest/mods";

const VOXEL: &[State] = &[
    State {
        name: "a mod behind a link out of the folder, and one that needs it",
        make: |world| {
            put_mod(world, "../outside/bells", "name = bells\n")?;
            put_mod(world, &format!("{MODS}/quay"), "name = quay\ndepends = bells\n")?;
            std::os::unix::fs::symlink(
                world.path("../outside/bells").canonicalize()?,
                world.path(&format!("{MODS}/bells")),
            )?;
            enable(world, "load_mod_quay = true\nload_mod_bells = true\n")
        },
        says: &[],
        is_fixable: false,
    },
    State {
        name: "a mod in a folder of another name",
        make: |world| {
            put_mod(world, &format!("{MODS}/bells_redo"), "name = bells\n")?;
            enable(world, "load_mod_bells = true\n")
        },
        says: &[],
        is_fixable: false,
    },
    State {
        name: "a mod that was switched off for a reason",
        make: |world| {
            put_mod(world, &format!("{MODS}/fog"), "name = fog\ndepends = cloud_maps\n")?;
            enable(world, "# crashes at night\nload_mod_fog = false\n")
        },
        says: &[],
        is_fixable: false,
    },
    State {
        name: "a mod that no line speaks of",
        make: |world| put_mod(world, &format!("{MODS}/fog"), "name = fog\n"),
        says: &[],
        is_fixable: false,
    },
    State {
        name: "a pack, partly on",
        make: |world| {
            world.write(&format!("{MODS}/quay/modpack.conf"), "name = quay\n")?;
            put_mod(world, &format!("{MODS}/quay/quay_lamps"), "name = quay_lamps\n")?;
            put_mod(world, &format!("{MODS}/quay/quay_fog"), "name = quay_fog\n")?;
            enable(world, "load_mod_quay_lamps = true\nload_mod_quay_fog = false\n")
        },
        says: &[],
        is_fixable: false,
    },
    State {
        name: "worldmods are always on",
        make: |world| {
            put_mod(world, "world/worldmods/tide", "name = tide\n")?;
            enable(world, "load_mod_tide = false\n")
        },
        says: &[],
        is_fixable: false,
    },
    State {
        name: "two folders with one name",
        make: |world| {
            put_mod(world, &format!("{MODS}/lamps"), "name = lamps\n")?;
            put_mod(world, &format!("{MODS}/lamps-old"), "name = lamps\n")?;
            enable(world, "load_mod_lamps = true\n")
        },
        says: &["second", "home/.minetest/mods/lamps-old is a second lamps"],
        is_fixable: true,
    },
    State {
        name: "a need that is not met",
        make: |world| {
            put_mod(world, &format!("{MODS}/ferry"), "name = ferry\ndepends = cloud_maps\n")?;
            enable(world, "load_mod_ferry = true\n")
        },
        says: &["needs", "ferry needs cloud_maps"],
        is_fixable: false,
    },
    State {
        name: "enabled, and not there",
        make: |world| enable(world, "load_mod_ghost = true\n"),
        says: &["listed-missing", "world/world.mt, line 6 enables ghost"],
        is_fixable: true,
    },
    State {
        name: "one folder too deep",
        make: |world| {
            put_mod(world, &format!("{MODS}/tide-master/tide"), "name = tide\n")?;
            enable(world, "load_mod_tide = true\n")
        },
        says: &["wrong-folder", "tide lies at home/.minetest/mods/tide-master/tide"],
        is_fixable: true,
    },
    State {
        name: "a pack's own name enabled",
        make: |world| {
            world.write(&format!("{MODS}/quay/modpack.txt"), "")?;
            put_mod(world, &format!("{MODS}/quay/quay_lamps"), "name = quay_lamps\n")?;
            enable(world, "load_mod_quay = true\nload_mod_quay_lamps = true\n")
        },
        says: &["listed-missing", "enables quay"],
        is_fixable: true,
    },
    State {
        name: "a line in a descriptor that is none",
        make: |world| {
            put_mod(world, &format!("{MODS}/tide"), "name = tide\n??? what is this\n")?;
            enable(world, "load_mod_tide = true\n")
        },
        says: &[],
        is_fixable: false,
    },
    State {
        name: "no base game named",
        make: |world| {
            let text = world.read("world/world.mt")?;
            world.write("world/world.mt", &text.replace("gameid = minetest\n", ""))
        },
        says: &["gameid"],
        is_fixable: false,
    },
    State {
        name: "lines that mean nothing",
        make: |world| {
            enable(world, "what is this\n")?;
            put_mod(world, &format!("{MODS}/pier"), "name = pier\nand this?\n")?;
            enable(world, "load_mod_pier = true\n")
        },
        says: &[],
        is_fixable: false,
    },
    State {
        name: "a name that the server does not take",
        make: |world| {
            world.write(&format!("{MODS}/chest-1.0/init.lua"), "-- quay\n")?;
            enable(world, "load_mod_chest-1.0 = true\n")
        },
        says: &["bad-name", "chest-1.0"],
        is_fixable: false,
    },
];

#[test]
fn the_real_voxel_server_as_people_leave_it() -> Done {
    for state in VOXEL {
        let Some((world, ..)) = real_luanti::quay()? else { return Ok(()) };
        hold(&world, state).map_err(|error| format!("{}: {error}", state.name))?;
    }
    Ok(())
}

const TANKS: &[State] = &[
    State {
        name: "plugins in an order of their own, with arguments, and parked ones",
        make: |world| {
            fs::create_dir_all(world.path("plugins/old"))?;
            for (name, to) in [
                ("killall.so", "plugins/killall.so"),
                ("TimeLimit.so", "plugins/TimeLimit.so"),
                ("chathistory.so", "plugins/old/chathistory.so"),
                ("customflagsample.so", "plugins/customflagsample.so"),
            ] {
                fs::copy(Path::new(real_bzfs::PLUGINS).join(name), world.path(to))?;
            }
            let conf = world.read("server.conf")?;
            world.write(
                "server.conf",
                &format!("{conf}-loadplugin plugins/killall.so\n# ten minutes\n-loadplugin plugins/TimeLimit.so,10\n-publictitle \"The Quay\"\n"),
            )
        },
        says: &[],
        is_fixable: false,
    },
    State {
        name: "a plugin that is not there",
        make: |world| {
            let conf = world.read("server.conf")?;
            world.write("server.conf", &format!("{conf}-loadplugin plugins/ghost.so\n"))
        },
        says: &["plugins/ghost.so is not there"],
        is_fixable: false,
    },
];

#[test]
fn the_real_tanks_as_people_leave_them() -> Done {
    for state in TANKS {
        let Some(world) = real_bzfs::lab()? else { return Ok(()) };
        hold(&world, state).map_err(|error| format!("{}: {error}", state.name))?;
    }
    Ok(())
}

const ARENA: &[State] = &[
    State {
        name: "maps of the crew, one of them in turn",
        make: |world| {
            fs::create_dir_all(world.path("maps"))?;
            for (name, own) in [("lms1", "quay"), ("ctf5", "breakwater")] {
                fs::copy(
                    Path::new(real_teeworlds::DATA).join(format!("{name}.map")),
                    world.path(&format!("maps/{own}.map")),
                )?;
            }
            let config = world.read("server.cfg")?;
            world.write("server.cfg", &format!("{config}sv_maprotation quay dm1\n"))
        },
        says: &[],
        is_fixable: false,
    },
    State {
        name: "a map with a space in its name, which is played",
        make: |world| {
            fs::create_dir_all(world.path("maps"))?;
            fs::copy(Path::new(real_teeworlds::DATA).join("lms1.map"), world.path("maps/old harbour.map"))?;
            let config = world.read("server.cfg")?;
            world.write("server.cfg", &config.replace("sv_map dm1", "sv_map \"old harbour\""))
        },
        says: &[],
        is_fixable: false,
    },
    State {
        name: "a map that was cut short",
        make: |world| {
            fs::create_dir_all(world.path("maps"))?;
            let bytes = fs::read(Path::new(real_teeworlds::DATA).join("lms1.map"))?;
            fs::write(world.path("maps/quay.map"), &bytes[..bytes.len() / 2])?;
            let config = world.read("server.cfg")?;
            world.write("server.cfg", &config.replace("sv_map dm1", "sv_map quay"))
        },
        says: &["maps/quay.map"],
        is_fixable: false,
    },
];

#[test]
fn the_real_arena_as_people_leave_it() -> Done {
    for state in ARENA {
        let Some(world) = real_teeworlds::ground()? else { return Ok(()) };
        hold(&world, state).map_err(|error| format!("{}: {error}", state.name))?;
    }
    Ok(())
}

#[test]
fn members_of_a_pack_are_switched_one_by_one() -> Done {
    let Some((world, ..)) = real_luanti::quay()? else { return Ok(()) };
    world.write(&format!("{MODS}/quay/modpack.conf"), "name = quay\n")?;
    put_mod(&world, &format!("{MODS}/quay/quay_lamps"), "name = quay_lamps\n")?;
    put_mod(&world, &format!("{MODS}/quay/quay_fog"), "name = quay_fog\ndepends = tide\n")?;
    // One that is called as the pack is, and one that no line names.
    put_mod(&world, &format!("{MODS}/quay/quay"), "name = quay\n")?;
    put_mod(&world, &format!("{MODS}/quay/quay_moss"), "name = quay_moss\n")?;
    let lines = "load_mod_quay = true\nload_mod_quay_lamps = true\n# too thick\nload_mod_quay_fog = false\n";
    enable(&world, lines)?;
    world.write("../files/tide/mod.conf", "name = tide\n")?;
    world.write("../files/tide/init.lua", "-- tide\n")?;
    world
        .run(&["adopt", "--catalogue", "own=../files"])
        .code(0)
        .says(&["partly on", "off: quay_fog, quay_moss"]);
    assert!(world.read("yalotheca.toml")?.contains("quay_fog = \"too thick\""));
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    // What only a member needs that is off is not missing.
    world.run(&["check"]).code(0);
    world.run(&["list"]).code(0).says(&["quay modpack partly on", "off: quay_fog"]);
    let before = world.digests()?;
    world.run(&["on", "quay_fog", "--yes"]).code(0).says(&["tide", "load_mod_quay_fog"]);
    start(&world).code(0).says(&["quay loaded", "tide loaded"]);
    world.run(&["check"]).code(0);
    world.run(&["off", "tide", "--yes"]).code(5).says(&["quay needs tide"]);
    world.run(&["off", "quay_fog", "--yes"]).code(0).says(&["gone tide"]);
    world.run(&["check"]).code(0);
    world.run(&["undo", "--yes"]).code(0);
    world.run(&["undo", "--yes"]).code(0);
    for (path, digest) in before.iter().filter(|(path, _)| path.starts_with("home")) {
        assert_eq!(world.digests()?.get(path), Some(digest), "{path}");
    }
    // A pack as a whole.
    world.run(&["off", "quay", "--yes"]).code(0);
    let lines = world.read("world/world.mt")?;
    assert!(!lines.contains("load_mod_quay_lamps = true") && world.path(&format!("{MODS}/quay")).exists());
    start(&world).code(0);
    world.run(&["check"]).code(0);
    Ok(())
}

#[test]
fn what_the_voxel_server_skips_is_told() -> Done {
    let Some((world, ..)) = real_luanti::quay()? else { return Ok(()) };
    enable(&world, "what is this\n")?;
    put_mod(&world, &format!("{MODS}/pier"), "name = pier\nand this?\n")?;
    world.write(&format!("{MODS}/pier/settingtypes.txt"), "pier_planks (Planks) int 12 1 99\n")?;
    enable(&world, "load_mod_pier = true\n")?;
    world.run(&["adopt"]).code(0);
    world.run(&["check"]).code(0).says(&["stray-line", "the server skips it"]);
    // A mod's own description of its settings: the server's file holds them.
    world.run(&["settings", "pier"]).code(0).says(&["/pier_planks", "a whole number from 1 to 99"]);
    world.run(&["settings", "pier", "/pier_planks=100"]).code(5).says(&["from 1 to 99"]);
    world.run(&["settings", "pier", "/pier_plank=3"]).code(5).says(&["did you mean /pier_planks?"]);
    world.run(&["settings", "pier", "/pier_planks=30", "--yes"]).code(0);
    assert!(world.read("minetest.conf")?.contains("pier_planks = 30"));
    world.run(&["settings", "server", "/max_user=9", "--yes"]).code(0).says(&["did you mean /max_users?"]);
    world.run(&["undo", "--yes"]).code(0);
    start(&world).code(0);
    world.run(&["drop", "pier", "--yes"]).code(0);
    assert!(!world.read("minetest.conf")?.contains("pier_planks"));
    assert!(world.read("world/world.mt")?.contains("what is this"));
    Ok(())
}

#[test]
fn what_cannot_load_may_stay_off_and_what_fails_is_named() -> Done {
    let Some((world, ..)) = real_luanti::quay()? else { return Ok(()) };
    put_mod(&world, &format!("{MODS}/lamp"), "name = lamp\n")?;
    put_mod(&world, &format!("{MODS}/crash"), "name = crash\n")?;
    put_mod(&world, &format!("{MODS}/bad"), "name = bad\ndepends = nothere\n")?;
    world.write("home/.minetest/mods/crash/init.lua", "error('boom')\n")?;
    enable(&world, "load_mod_lamp = true\nload_mod_ghost = true\n")?;
    world.run(&["adopt"]).code(0);
    // A problem does not become normal by itself; once it is accepted, it is no reason to blame a change.
    world.run(&["trial"]).code(1).says(&["enabled but missing: ghost"]);
    world.run(&["trial"]).code(1).says(&["enabled but missing: ghost", "trial --accept"]);
    world.run(&["trial", "--accept"]).code(0).says(&["with 1 accepted problem."]);
    let again =
        world.run(&["trial"]).code(0).says(&["with 1 accepted problem.", "enabled but missing: ghost"]);
    assert!(!again.out.contains("Since the last good start"), "{}", again.out);
    // What was off can stay off; its files are not to be removed.
    let refused = world.run(&["on", "bad", "--yes"]).code(3).says(&["leave bad off"]);
    assert!(!refused.err.contains("yalotheca drop"), "{}", refused.err);
    world.run(&["on", "crash", "bad", "--yes"]).code(3).says(&["leave bad off", "yalotheca on crash"]);
    world.run(&["on", "crash", "--yes"]).code(0);
    world.run(&["trial"]).code(1).says(&["yalotheca off crash leaves it out", "crash failed, as told above"]);
    // The path of the copy is not shown.
    let found = world.run(&["isolate", "--yes"]).code(1).says(&[
        "it is crash",
        "a script of a mod fails: home/.minetest/mods/crash/init.lua:1: boom",
        "fails in the same way",
    ]);
    assert!(!found.out.contains("copy") && !found.err.contains("-copy-"), "{found:#?}");
    world.run(&["console", "status"]).code(2).says(&["does not know a console"]);
    Ok(())
}

#[test]
fn maps_of_the_arena_may_have_spaces_in_their_names() -> Done {
    let Some(world) = real_teeworlds::ground()? else { return Ok(()) };
    fs::create_dir_all(world.path("maps"))?;
    fs::create_dir_all(world.files())?;
    for to in [world.path("maps/old harbour.map"), world.files().join("new harbour.map")] {
        fs::copy(Path::new(real_teeworlds::DATA).join("lms1.map"), to)?;
    }
    let config = world.read("server.cfg")?;
    world.write("server.cfg", &format!("{config}sv_maprotation dm1 old harbour\n"))?;
    world.run(&["adopt"]).code(0);
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    // The server reads the name as two.
    world.run(&["check"]).code(1).says(&["there is no map old", "there is no map harbour"]);
    world
        .run(&["maps", "rotate", "dm1", "old harbour", "--yes"])
        .code(2)
        .says(&["between its names", "rename"]);
    world.run(&["maps", "rotate", "dm1", "--yes"]).code(0);
    world.run(&["check"]).code(0);
    // By its content's id as well.
    world.run(&["maps", "play", "old-harbour", "--yes"]).code(0);
    assert!(
        world.read("server.cfg")?.contains("sv_map \"old harbour\"")
            || world.read("server.cfg")?.contains("sv_map old harbour")
    );
    world.run(&["maps"]).code(0).says(&["plays old harbour"]);
    start(&world).code(0);
    world
        .run(&["maps", "try", "../files/new harbour.map", "--yes"])
        .code(0)
        .says(&["new harbour works", "yalotheca maps play 'new harbour' puts it on"]);
    world.run(&["check"]).code(0);
    Ok(())
}

#[test]
fn a_mod_without_a_name_of_its_own_is_asked_about() -> Done {
    let Some((world, ..)) = real_luanti::quay()? else { return Ok(()) };
    world.run(&["adopt"]).code(0);
    world.write("../files/infinite_chest_1.0.1/init.lua", "-- chest\n")?;
    world
        .run(&["add", "../files/infinite_chest_1.0.1", "--yes"])
        .code(2)
        .says(&["infinite_chest_1.0.1 is not a name that the server takes for a mod", "--id infinite_chest"]);
    world.write("../files/quartz-master/init.lua", "-- quartz\n")?;
    world.run(&["add", "../files/quartz-master", "--yes"]).code(2).says(&["--id quartz"]);
    world.run(&["add", "../files/quartz-master", "--id", "quartz", "--yes"]).code(0);
    assert!(world.read("world/world.mt")?.contains("load_mod_quartz = true"));
    world.run(&["check"]).code(0);
    start(&world).code(0).says(&["quartz loaded"]);
    Ok(())
}
