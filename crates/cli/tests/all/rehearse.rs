//! Joining as a player before players do: what would get them turned away, and whether the remedy lets them in.

use std::{
    fs,
    process::{Child, Command, Stdio},
    thread,
    time::Duration,
};

use yalotheca_standin::{
    file_host::FileHost,
    kitehollow::maps,
    kites::{self, zipped},
};

use crate::{
    harness::{Done, World, program},
    moor::Moor,
};

struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        self.0.kill().ok();
        self.0.wait().ok();
    }
}

/// Starts the world's server.
fn started(world: &World, game: &str) -> Result<Running, std::io::Error> {
    let mut server = Command::new(program());
    server.args(["stand-in", game]).arg(world.server()).stdin(Stdio::null());
    let running = Running(server.stdout(Stdio::null()).stderr(Stdio::null()).spawn()?);
    for _ in 0..100 {
        if world.run(&["rehearse"]).code != 4 {
            break;
        }
        thread::sleep(Duration::from_millis(20));
    }
    Ok(running)
}

#[test]
fn a_map_comes_from_the_server_from_the_mirror_or_from_the_player() -> Done {
    let world = World::kites()?;
    let words = ["add", "../files/gull-cliffs-2.zip", "../files/dusk_harbour.ksky", "--yes"];
    world.run(&words).code(0);
    world.run(&["maps", "play", "gull_cliffs", "--yes"]).code(0);
    world.run(&["rehearse"]).code(4).says(&["does not answer players", "trial --keep"]);
    let server = started(&world, "kitehollow")?;
    world.run(&["rehearse"]).code(0).says(&["map gull_cliffs the server sends it (181 KB)", "Admitted."]);
    // A player's own copy of another release.
    let own = world.root().join("player");
    fs::create_dir_all(own.join("maps"))?;
    fs::write(own.join("maps/gull_cliffs.kmap"), maps::build("gull_cliffs", 170_000))?;
    let with_own = ["rehearse", "--as", "../player"];
    world
        .run(&with_own)
        .code(1)
        .says(&["Turned away: map differs from the server's", "removes maps/gull_cliffs.kmap"]);
    fs::copy(world.path("maps/gull_cliffs.kmap"), own.join("maps/gull_cliffs.kmap"))?;
    world.run(&with_own).code(0).says(&["the player has it: maps/gull_cliffs.kmap", "Admitted."]);
    drop(server);
    // A mirror with an old copy, which has the same name.
    let web = world.root().join("web");
    let host = FileHost::start(web.clone())?;
    let address = host.at("f/");
    world.run(&["mirror", "build", "../web"]).code(0);
    world.run(&["mirror", "address", &address, "--yes"]).code(0);
    let server = started(&world, "kitehollow")?;
    world.run(&["rehearse"]).code(0).says(&["gull_cliffs downloaded from", "Admitted."]);
    // The game puts names right behind the address.
    drop(server);
    let whole = world.read("host.cfg")?;
    world.write("host.cfg", &whole.replace(&address, address.trim_end_matches('/')))?;
    let server = started(&world, "kitehollow")?;
    world.run(&["rehearse"]).code(1).says(&["Turned away: missing map", "must end in /", "mirror address"]);
    drop(server);
    world.write("host.cfg", &whole)?;
    let server = started(&world, "kitehollow")?;
    fs::remove_file(web.join("maps/gull_cliffs.kmap.bz2"))?;
    fs::write(web.join("maps/gull_cliffs.kmap"), maps::build("gull_cliffs", 170_000))?;
    world.run(&["rehearse"]).code(1).says(&["Turned away: map differs from the server's", "mirror publish"]);
    fs::remove_file(web.join("maps/gull_cliffs.kmap"))?;
    let (sky, _) = kites::sky("dusk_harbour");
    fs::remove_file(web.join(format!("sky/{sky}")))?;
    fs::remove_file(web.join(format!("sky/{sky}.bz2")))?;
    let answer =
        world.run(&["rehearse"]).code(1).says(&["Turned away: missing map", "lacks sky"]).out.clone();
    assert!(answer.lines().all(|line| line.chars().count() <= 100), "{answer}");
    world.run(&["mirror", "build"]).code(0);
    world.run(&["rehearse"]).code(0).says(&["Admitted."]);
    drop(server);
    Ok(())
}

#[test]
fn a_server_that_sends_less_than_the_map_turns_players_away() -> Done {
    let world = World::kites()?;
    fs::write(world.path("maps/great_arch.kmap"), maps::build("great_arch", 1_500_000))?;
    world.run(&["settings", "server", "fetch_cap_mb=1", "--yes"]).code(0);
    world.run(&["maps", "play", "great_arch", "--yes"]).code(0);
    let server = started(&world, "kitehollow")?;
    world.run(&["rehearse"]).code(1).says(&["Turned away: missing map", "it has 1.5 MB", "fetch_cap_mb=2"]);
    drop(server);
    world.run(&["settings", "server", "fetch_cap_mb=2", "--yes"]).code(0);
    let _server = started(&world, "kitehollow")?;
    world.run(&["rehearse"]).code(0).says(&["Admitted."]);
    Ok(())
}

fn swm(version: &str) -> Result<Vec<u8>, std::io::Error> {
    let text = format!(
        "id = \"rope-bridges\"\nversion = \"{version}\"\nengine = \">=2\"\nloader = \"pontoon >=3\"\nside = \"both\"\n"
    );
    zipped(&[("mod.toml".into(), text.into_bytes())])
}

fn look(says: &str) -> Result<Vec<u8>, std::io::Error> {
    let descriptor = format!("{{\"name\": \"lanterns\", \"format\": 3, \"says\": \"{says}\"}}");
    zipped(&[("look.json".into(), descriptor.into_bytes())])
}

#[test]
fn mods_are_compared_by_version_and_the_look_by_its_digest() -> Done {
    let world = World::fresh()?;
    let files = world.files();
    fs::create_dir_all(&files)?;
    let loader = br#"{"name": "pontoon", "version": "3.1", "engine": ">=2 <3"}"#.to_vec();
    fs::write(files.join("pontoon-3.1.swl"), zipped(&[("loader.json".into(), loader)])?)?;
    fs::write(files.join("rope-bridges-0.4.swm"), swm("0.4")?)?;
    fs::write(files.join("lanterns.zip"), look("first")?)?;
    world.run(&["add", "../files/pontoon-3.1.swl", "../files/rope-bridges-0.4.swm", "--yes"]).code(0);
    let host = FileHost::start(files.clone())?;
    world.run(&["players", "pack", &host.at("f/lanterns.zip"), "--must", "--yes"]).code(0);
    world.run(&["settle", "--accept-terms", "--yes"]);
    world.write("terms.txt", "terms = agreed\n")?;
    let _server = started(&world, "saltwick")?;
    world.run(&["rehearse"]).code(0).says(&["mod rope-bridges the handout lists 0.4", "look", "Admitted."]);
    let own = world.root().join("player");
    fs::create_dir_all(own.join("mods"))?;
    let with_own = ["rehearse", "--as", "../player"];
    world.run(&with_own).code(1).says(&["Turned away: the mod rope-bridges is missing", "yalotheca handout"]);
    fs::write(own.join("mods/bridges.swm"), swm("0.3")?)?;
    world.run(&with_own).code(1).says(&["the player has 0.3, the server 0.4"]);
    fs::write(own.join("mods/bridges.swm"), swm("0.4")?)?;
    world.run(&with_own).code(0).says(&["Admitted."]);
    // The file at the link is replaced, then gone.
    fs::write(files.join("lanterns.zip"), look("second")?)?;
    world.run(&["rehearse"]).code(1).says(&[
        "Turned away: the look",
        "differs from the server's",
        "yalotheca fix",
    ]);
    fs::remove_file(files.join("lanterns.zip"))?;
    world.run(&["rehearse"]).code(1).says(&["Turned away: the look", "is missing"]);
    Ok(())
}

#[test]
fn parts_are_compared_and_their_signatures_too() -> Done {
    let moor = Moor::new()?;
    let world = &moor.world;
    world.run(&["add", "4410021", "--yes"]).code(0);
    let server = started(world, "mossgarrow")?;
    world.run(&["rehearse"]).code(0).says(&["part", "as in items/4410021/Heronry/parts", "Admitted."]);
    // A player's own items, named by number, with one part of an older release.
    let own = world.root().join("player");
    fs::create_dir_all(&own)?;
    let copied = Command::new("cp").arg("-r").arg(world.path("items/4410021")).arg(&own).status()?;
    assert!(copied.success());
    let with_own = ["rehearse", "--as", "../player"];
    world.run(&with_own).code(0).says(&["the player has it: 4410021/Heronry/parts", "Admitted."]);
    let parts = own.join("4410021/Heronry/parts");
    let part = fs::read_dir(&parts)?.flatten().map(|entry| entry.path());
    let part = part.into_iter().find(|path| path.extension().is_some_and(|suffix| suffix == "mpk"));
    let part = part.ok_or("a part")?;
    fs::write(&part, "older")?;
    world.run(&with_own).code(1).says(&["Turned away: the part", "differs from the server's"]);
    fs::remove_file(&part)?;
    world.run(&with_own).code(1).says(&["is missing", "yalotheca handout"]);
    world.run(&["handout"]).code(0).says(&["Heron"]);
    drop(server);
    // The key is gone: the server turns everybody away.
    let keys = fs::read_dir(world.path("keys"))?.flatten().map(|entry| entry.path());
    for key in keys.filter(|path| path.file_stem().is_some_and(|name| name != "base")) {
        fs::remove_file(key)?;
    }
    let _server = started(world, "mossgarrow")?;
    world.run(&["rehearse"]).code(1).says(&["signature", "Turned away:"]);
    Ok(())
}
