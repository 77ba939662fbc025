//! Ways to break the start of real servers: each is made, told in our words, and mended by what is said.
//!
//! The table in docs/when-it-does-not-start.md is made of these cases (`YALOTHECA_WRITE_DOCS=1` writes it).

use std::{
    fs,
    net::{TcpListener, UdpSocket},
    path::Path,
    time::Duration,
};

use crate::{
    harness::{Done, World},
    real_bzfs::{PLUGINS, lab},
    real_luanti::quay,
    real_teeworlds::{DATA, arena},
};

/// What holds a port while a server is started.
type Held = Vec<Box<dyn Send>>;
type Act = fn(&World, &mut Held) -> Done;

/// One way to break a start.
struct Case {
    /// What happened, as a sentence's end: "somebody …".
    happened: &'static str,
    /// What the trial says, in part.
    says: &'static str,
    /// What mends it, as the documentation gives it.
    remedy: &'static str,
    breaks: Act,
    mends: Act,
}

/// Breaks, tries, mends and tries again, for each case.
fn run(world: &World, cases: &[Case]) -> Done {
    world.run(&["trial"]).code(0).says(&["no problems"]);
    for case in cases {
        let mut held = Held::new();
        (case.breaks)(world, &mut held).map_err(|error| format!("{}: {error}", case.happened))?;
        let answer = world.run(&["trial", "--patience", "20"]);
        let flat = format!("{} {}", answer.out, answer.err);
        let flat = flat.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(
            answer.code != 0 && flat.contains(case.says),
            "{}: {:?} is not in {answer:#?}",
            case.happened,
            case.says
        );
        assert!(
            answer.out.lines().chain(answer.err.lines()).all(|line| line.chars().count() <= 100),
            "{}",
            answer.out
        );
        (case.mends)(world, &mut held).map_err(|error| format!("mending {}: {error}", case.happened))?;
        drop(held);
        let answer = world.run(&["trial"]);
        assert!(answer.code == 0, "{} is not mended: {answer:#?}", case.happened);
    }
    Ok(())
}

fn replace(world: &World, file: &str, from: &str, to: &str) -> Done {
    let text = world.read(file)?;
    assert!(text.contains(from), "{file} has no {from:?}: {text}");
    world.write(file, &text.replace(from, to))
}

fn yes(world: &World, words: &[&str]) -> Done {
    match world.run(&[words, &["--yes"]].concat()) {
        answer if answer.code == 0 => Ok(()),
        answer => Err(format!("{words:?}: {answer:?}").into()),
    }
}

const INIT: &str = "home/.minetest/mods/quay/init.lua";

const VOXEL: &[Case] = &[
    Case {
        happened: "switched off a mod that another one needs, in world.mt",
        says: "quay needs lamp, which is not enabled here",
        remedy: "`yalotheca settle` (or `yalotheca on lamp`)",
        breaks: |world, _| replace(world, "world/world.mt", "load_mod_lamp = true", "load_mod_lamp = false"),
        mends: |world, _| yes(world, &["settle"]),
    },
    Case {
        happened: "enabled a mod that is not there",
        says: "enabled but missing: ghost",
        remedy: "`yalotheca fix`",
        breaks: |world, _| {
            world
                .write("world/world.mt", &format!("{}load_mod_ghost = true\n", world.read("world/world.mt")?))
        },
        mends: |world, _| yes(world, &["fix"]),
    },
    Case {
        happened: "edited a script so that it fails",
        says: "home/.minetest/mods/quay/init.lua:2: attempt to index",
        remedy: "put the file back, or `yalotheca off quay`; the line is shown",
        breaks: |world, _| world.write(INIT, "local x = nil\nlocal y = x.z\n"),
        mends: |world, _| world.write(INIT, "return true\n"),
    },
    Case {
        happened: "edited a script so that it is not Lua any more",
        says: "home/.minetest/mods/quay/init.lua:1:",
        remedy: "correct the line that is shown",
        breaks: |world, _| world.write(INIT, "local = (\n"),
        mends: |world, _| world.write(INIT, "return true\n"),
    },
    Case {
        happened: "left the game out of world.mt",
        says: "world.mt names no game that is installed",
        remedy: "set `gameid` in world.mt",
        breaks: |world, _| replace(world, "world/world.mt", "gameid = minetest\n", ""),
        mends: |world, _| {
            world.write("world/world.mt", &format!("gameid = minetest\n{}", world.read("world/world.mt")?))
        },
    },
    Case {
        happened: "named a game that is not installed",
        says: "world.mt names no game that is installed",
        remedy: "install the game, or correct `gameid` in world.mt",
        breaks: |world, _| replace(world, "world/world.mt", "gameid = minetest", "gameid = harbourgame"),
        mends: |world, _| replace(world, "world/world.mt", "gameid = harbourgame", "gameid = minetest"),
    },
    Case {
        happened: "copied a mod's folder beside itself",
        says: "two folders hold a mod called quay",
        remedy: "`yalotheca fix`, or remove one of the folders",
        breaks: |world, _| {
            fs::create_dir_all(world.path("home/.minetest/mods/quay-old"))?;
            world.write("home/.minetest/mods/quay-old/mod.conf", "name = quay\n")?;
            world.write("home/.minetest/mods/quay-old/init.lua", "return true\n")
        },
        mends: |world, _| Ok(fs::remove_dir_all(world.path("home/.minetest/mods/quay-old"))?),
    },
    Case {
        happened: "gave a mod a name that the server does not allow",
        says: "may not have that name",
        remedy: "correct `name` in its mod.conf: a-z, 0-9 and _",
        breaks: |world, _| {
            world.write("home/.minetest/mods/odd/mod.conf", "name = Odd Mod\n")?;
            world.write("home/.minetest/mods/odd/init.lua", "return true\n")?;
            world.write(
                "world/world.mt",
                &format!("{}load_mod_Odd Mod = true\n", world.read("world/world.mt")?),
            )
        },
        mends: |world, _| {
            fs::remove_dir_all(world.path("home/.minetest/mods/odd"))?;
            replace(world, "world/world.mt", "load_mod_Odd Mod = true\n", "")
        },
    },
    Case {
        happened: "started the server a second time, so that its port is taken",
        says: "listens on port",
        remedy: "stop the program that is named",
        breaks: |world, held| {
            let text = world.read("minetest.conf")?;
            let port = text.lines().find_map(|line| line.strip_prefix("port = ")).ok_or("no port")?;
            let socket = UdpSocket::bind(("127.0.0.1", port.trim().parse()?))?;
            let answering = socket.try_clone()?;
            std::thread::spawn(move || {
                let mut buffer = [0; 2048];
                while let Ok((length, from)) = answering.recv_from(&mut buffer) {
                    if length == 0 || answering.send_to(b"yes", from).is_err() {
                        return;
                    }
                }
            });
            held.push(Box::new(Ender(socket.local_addr()?.port())));
            held.push(Box::new(socket));
            Ok(())
        },
        mends: |_, held| {
            held.clear();
            std::thread::sleep(Duration::from_millis(200));
            Ok(())
        },
    },
    Case {
        happened: "set an address that the machine does not have",
        says: "an address that this machine does not have",
        remedy: "correct `bind_address` in minetest.conf",
        breaks: |world, _| {
            replace(world, "minetest.conf", "bind_address = 127.0.0.1", "bind_address = 10.99.98.97")
        },
        mends: |world, _| {
            replace(world, "minetest.conf", "bind_address = 10.99.98.97", "bind_address = 127.0.0.1")
        },
    },
    Case {
        happened: "damaged one of the world's databases",
        says: "a database of the server is damaged",
        remedy: "put a backup of the world back",
        breaks: |world, _| {
            fs::copy(world.path("world/mod_storage.sqlite"), world.root().join("storage.backup"))?;
            world.write("world/mod_storage.sqlite", &"this is no database\n".repeat(200))
        },
        mends: |world, _| {
            fs::copy(world.root().join("storage.backup"), world.path("world/mod_storage.sqlite"))
                .map(drop)
                .map_err(Into::into)
        },
    },
];

/// Ends the thread that answers at a port.
struct Ender(u16);

impl Drop for Ender {
    fn drop(&mut self) {
        let told =
            UdpSocket::bind("127.0.0.1:0").and_then(|socket| socket.send_to(b"", ("127.0.0.1", self.0)));
        drop(told);
    }
}

const ARENA: &[Case] = &[
    Case {
        happened: "wrote the name of a map that is not there",
        says: "the server looks for the map nowhere, and there is none",
        remedy: "`yalotheca maps play dm1`",
        breaks: |world, _| replace(world, "server.cfg", "sv_map quay", "sv_map nowhere"),
        mends: |world, _| yes(world, &["maps", "play", "quay"]),
    },
    Case {
        happened: "uploaded half of a map",
        says: "the map is cut short",
        remedy: "`yalotheca settle --replace maps/quay.map`",
        breaks: |world, _| {
            let bytes = fs::read(world.path("maps/quay.map"))?;
            Ok(fs::write(world.path("maps/quay.map"), &bytes[..bytes.len() / 2])?)
        },
        mends: |world, _| yes(world, &["settle", "--replace", "maps/quay.map"]),
    },
    Case {
        happened: "uploaded an archive under a map's name",
        says: "called .map and is something else",
        remedy: "`yalotheca settle --replace maps/quay.map`",
        breaks: |world, _| {
            world.write("maps/quay.map", "PK\u{3}\u{4} and much more of what an archive has in it")
        },
        mends: |world, _| yes(world, &["settle", "--replace", "maps/quay.map"]),
    },
    Case {
        happened: "uploaded a map of another version of the game",
        says: "made for another version of the game",
        remedy: "`yalotheca settle --replace maps/quay.map`, and look for a release that fits",
        breaks: |world, _| {
            let mut bytes = fs::read(Path::new(DATA).join("dm1.map"))?;
            bytes[4] = 9;
            Ok(fs::write(world.path("maps/quay.map"), bytes)?)
        },
        mends: |world, _| yes(world, &["settle", "--replace", "maps/quay.map"]),
    },
    Case {
        happened: "misspelt a setting",
        says: "server.cfg sets sv_maxclients, which the server does not know",
        remedy: "correct its name in server.cfg",
        breaks: |world, _| {
            world.write("server.cfg", &format!("{}sv_maxclients 8\n", world.read("server.cfg")?))
        },
        mends: |world, _| replace(world, "server.cfg", "sv_maxclients 8\n", ""),
    },
    Case {
        happened: "started another server on its port",
        says: "something else listens on the server's port",
        remedy: "stop that one, or choose another `sv_port`",
        breaks: |world, held| {
            let text = world.read("server.cfg")?;
            let port = text.lines().find_map(|line| line.strip_prefix("sv_port ")).ok_or("no port")?;
            held.push(Box::new(UdpSocket::bind(("127.0.0.1", port.trim().parse()?))?));
            Ok(())
        },
        mends: |_, held| {
            held.clear();
            Ok(())
        },
    },
    Case {
        happened: "removed the folder of the played map",
        says: "the server looks for the map quay, and there is none",
        remedy: "`yalotheca settle`",
        breaks: |world, _| Ok(fs::remove_dir_all(world.path("maps"))?),
        mends: |world, _| yes(world, &["settle"]),
    },
    Case {
        happened: "named a program that is not installed",
        says: "no-such-server",
        remedy: "correct `program` in yalotheca.toml, or install it",
        breaks: |world, _| {
            let text = world.read("yalotheca.toml")?;
            world.write("yalotheca.toml", &format!("{text}\n[server.values]\nprogram = \"no-such-server\"\n"))
        },
        mends: |world, _| {
            replace(world, "yalotheca.toml", "\n[server.values]\nprogram = \"no-such-server\"\n", "")
        },
    },
];

const TANKS: &[Case] = &[
    Case {
        happened: "removed a plugin's file",
        says: "server.conf loads plugins/TimeLimit.so, and there is no such file",
        remedy: "`yalotheca settle`",
        breaks: |world, _| Ok(fs::remove_file(world.path("plugins/TimeLimit.so"))?),
        mends: |world, _| yes(world, &["settle"]),
    },
    Case {
        happened: "uploaded an archive under a plugin's name",
        says: "plugins/TimeLimit.so is no plugin that this server can load",
        remedy: "`yalotheca settle --replace plugins/TimeLimit.so`",
        breaks: |world, _| world.write("plugins/TimeLimit.so", "PK\u{3}\u{4} and much more"),
        mends: |world, _| yes(world, &["settle", "--replace", "plugins/TimeLimit.so"]),
    },
    Case {
        happened: "uploaded half of a plugin",
        says: "the server crashed (signal 7, bus error)",
        remedy: "`yalotheca settle --replace plugins/TimeLimit.so`",
        breaks: |world, _| {
            let bytes = fs::read(Path::new(PLUGINS).join("TimeLimit.so"))?;
            Ok(fs::write(world.path("plugins/TimeLimit.so"), &bytes[..2_000])?)
        },
        mends: |world, _| yes(world, &["settle", "--replace", "plugins/TimeLimit.so"]),
    },
    Case {
        happened: "loaded a plugin by a name that is not there",
        says: "server.conf loads plugins/ghost.so, and there is no such file",
        remedy: "`yalotheca fix`, or remove the line",
        breaks: |world, _| {
            world.write(
                "server.conf",
                &format!("{}-loadplugin plugins/ghost.so\n", world.read("server.conf")?),
            )
        },
        mends: |world, _| replace(world, "server.conf", "-loadplugin plugins/ghost.so\n", ""),
    },
    Case {
        happened: "named a world that is not there",
        says: "server.conf names the world maps/nowhere.bzw, and there is no such file",
        remedy: "name one that is there",
        breaks: |world, _| replace(world, "server.conf", "maps/lab.bzw", "maps/nowhere.bzw"),
        mends: |world, _| replace(world, "server.conf", "maps/nowhere.bzw", "maps/lab.bzw"),
    },
    Case {
        happened: "edited a world so that it is not well-formed",
        says: "the world maps/lab.bzw is broken at line",
        remedy: "correct the line that is shown",
        breaks: |world, _| replace(world, "maps/lab.bzw", "size 5 5 5\nend\n", "size 5 5 5\n"),
        mends: |world, _| replace(world, "maps/lab.bzw", "size 5 5 5\n", "size 5 5 5\nend\n"),
    },
    Case {
        happened: "misspelt an option",
        says: "server.conf has the option -portt, which this server does not know",
        remedy: "correct it in server.conf",
        breaks: |world, _| world.write("server.conf", &format!("{}-portt 1\n", world.read("server.conf")?)),
        mends: |world, _| replace(world, "server.conf", "-portt 1\n", ""),
    },
    Case {
        happened: "left another program on its port",
        says: "listens on port",
        remedy: "stop the program that is named",
        breaks: |world, held| {
            let text = world.read("server.conf")?;
            let port = text.lines().find_map(|line| line.strip_prefix("-p ")).ok_or("no port")?;
            held.push(Box::new(TcpListener::bind(("127.0.0.1", port.trim().parse()?))?));
            Ok(())
        },
        mends: |_, held| {
            held.clear();
            Ok(())
        },
    },
];

#[test]
fn the_real_voxel_server() -> Done {
    let Some((world, ..)) = quay()? else { return Ok(()) };
    for (name, more) in [("lamp", ""), ("quay", "depends = lamp\n")] {
        world.write(&format!("home/.minetest/mods/{name}/mod.conf"), &format!("name = {name}\n{more}"))?;
        world.write(&format!("home/.minetest/mods/{name}/init.lua"), "return true\n")?;
    }
    let enabled = format!("{}load_mod_lamp = true\nload_mod_quay = true\n", world.read("world/world.mt")?);
    world.write("world/world.mt", &enabled)?;
    world.run(&["adopt"]).code(0);
    run(&world, VOXEL)
}

#[test]
fn the_real_arena_server() -> Done {
    let Some(world) = arena()? else { return Ok(()) };
    yes(&world, &["add", "quay"])?;
    yes(&world, &["maps", "play", "quay"])?;
    run(&world, ARENA)
}

#[test]
fn the_real_tank_server() -> Done {
    let Some(world) = lab()? else { return Ok(()) };
    fs::create_dir_all(world.files())?;
    fs::copy(Path::new(PLUGINS).join("TimeLimit.so"), world.files().join("TimeLimit.so"))?;
    world.run(&["adopt", "--catalogue", "downloads=../files"]).code(0);
    yes(&world, &["add", "TimeLimit"])?;
    run(&world, TANKS)
}

/// The table of all cases.
fn table() -> String {
    let mut text = String::from("| somebody … | `trial` says | what mends it |\n|---|---|---|\n");
    for (server, cases) in [("voxel", VOXEL), ("arena", ARENA), ("tank", TANKS)] {
        for case in cases {
            let row = [case.happened, case.says, case.remedy].join(" | ");
            text.push_str("| ");
            text.push_str(&row);
            text.push_str(" (");
            text.push_str(server);
            text.push_str(" server) |\n");
        }
    }
    text
}

#[test]
fn the_documentation_lists_them() -> Done {
    const BEGIN: &str = "<!-- made by tests/all/broken_starts.rs -->\n";
    const END: &str = "<!-- end -->\n";
    let page = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/when-it-does-not-start.md");
    let text = fs::read_to_string(&page)?;
    let (head, rest) = text.split_once(BEGIN).ok_or("the table's place is gone")?;
    let (now, tail) = rest.split_once(END).ok_or("the table's end is gone")?;
    assert!(VOXEL.len() + ARENA.len() + TANKS.len() >= 25);
    if now != table() {
        if std::env::var_os("YALOTHECA_WRITE_DOCS").is_some() {
            return Ok(fs::write(&page, format!("{head}{BEGIN}{}{END}{tail}", table()))?);
        }
        return Err("the table in docs/when-it-does-not-start.md is older than the cases: YALOTHECA_WRITE_DOCS=1 writes it".into());
    }
    Ok(())
}
