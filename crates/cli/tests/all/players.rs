//! What players get: the resource pack by its link, in step with its digest.

use std::{fs, process::Command};

use yalotheca_standin::{file_host::FileHost, kites::zipped, saltwick::player};

use crate::harness::{Done, World, program};

fn look(says: &str) -> Result<Vec<u8>, std::io::Error> {
    let descriptor = format!("{{\"name\": \"lanterns\", \"format\": 3, \"says\": \"{says}\"}}");
    zipped(&[("look.json".into(), descriptor.into_bytes()), ("pictures/lamp.png".into(), says.into())])
}

/// An adopted server, and a host with a pack on it.
fn offered() -> Result<(World, FileHost), Box<dyn std::error::Error>> {
    let world = World::fresh()?;
    fs::create_dir_all(world.files())?;
    fs::write(world.files().join("lanterns.zip"), look("first")?)?;
    let host = FileHost::start(world.files())?;
    Ok((world, host))
}

/// What a player sees who joins the server.
fn joins(world: &World) -> Result<String, Box<dyn std::error::Error>> {
    let mut server = Command::new(program());
    server.args(["stand-in", "saltwick"]).arg(world.server());
    let mut server = server.stdin(std::process::Stdio::null()).stdout(std::process::Stdio::null()).spawn()?;
    let mut seen = player::join(world.port);
    for _ in 0..200 {
        if seen.is_ok() {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(20));
        seen = player::join(world.port);
    }
    server.kill()?;
    server.wait()?;
    Ok(seen?)
}

#[test]
fn a_pack_is_offered_and_stays_in_step() -> Done {
    let (world, host) = offered()?;
    let before = world.digests()?;
    world.run(&["players", "pack"]).code(0).says(&["players are offered no resource pack"]);
    let link = host.at("f/lanterns.zip");
    world.run(&["players", "pack", &link, "--must", "--yes"]).code(0).says(&[
        "look.digest =",
        "look.link =",
        "look.must = yes",
        "gives the pack itself",
    ]);
    assert!(world.read("yalotheca.toml")?.contains("[pack]\nlinks = ["));
    world.run(&["players", "pack"]).code(0).says(&["The link gives it, and players are told the same"]);
    assert_eq!(joins(&world)?, "came in with the look");
    // A check asks whether it is the same, and does not fetch it again.
    world.run(&["check"]).code(0);
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    // The file at the link is replaced.
    fs::write(world.files().join("lanterns.zip"), look("second")?)?;
    assert_eq!(joins(&world)?, "turned away: the look's digest is another one");
    world.run(&["check"]).code(1).says(&["pack-digest", "players' games refuse the pack", "SHA-1"]);
    world.run(&["players", "pack"]).code(1).says(&["Players do not get it"]);
    world.run(&["fix", "--yes"]).code(0).says(&["look.digest ="]);
    assert_eq!(joins(&world)?, "came in with the look");
    world.run(&["check"]).code(0);
    fs::write(world.files().join("lanterns.zip"), look("third")?)?;
    world.run(&["update", "--yes"]).code(0).says(&["look.digest ="]);
    assert_eq!(joins(&world)?, "came in with the look");
    // Players may come without it; then there is none.
    world.run(&["players", "pack", "--may", "--yes"]).code(0).says(&["look.must = no"]);
    world.run(&["players", "pack", "--none", "--yes"]).code(0);
    assert_eq!(joins(&world)?, "came in");
    world.run(&["check"]).code(0);
    for _ in 0..5 {
        world.run(&["undo", "--yes"]).code(0);
    }
    let mut after = world.digests()?;
    // The server adds its own keys at each start.
    assert_eq!(after.remove("saltwick.conf").is_some(), before.contains_key("saltwick.conf"));
    Ok(())
}

#[test]
fn what_is_no_pack_is_never_offered() -> Done {
    let (world, host) = offered()?;
    let before = world.digests()?;
    fs::write(world.files().join("deep.zip"), zipped(&[("lanterns/look.json".into(), b"{}".to_vec())])?)?;
    fs::write(world.files().join("other.zip"), zipped(&[("pack.txt".into(), b"x".to_vec())])?)?;
    let whole = look("first")?;
    fs::write(world.files().join("short.zip"), &whole[..whole.len() / 2])?;
    fs::write(world.files().join("text.zip"), "no zip")?;
    for (path, says) in [
        ("s/lanterns.zip?view=1", "page"),
        ("login/lanterns.zip", "login"),
        ("f/none.zip", "404"),
        ("f/deep.zip", "lanterns/look.json, one folder too deep"),
        ("f/other.zip", "there is no look.json in it"),
        ("f/short.zip", "no whole zip archive"),
        ("f/text.zip", "no zip archive"),
    ] {
        let refused = world.run(&["players", "pack", &host.at(path), "--yes"]);
        assert!(matches!(refused.code, 4 | 5), "{path}: {} {}", refused.code, refused.err);
        assert!(refused.err.contains(says), "{path}: {}", refused.err);
    }
    // The first link that gives a pack counts, and a link that is passed on.
    world
        .run(&["players", "pack", &host.at("f/none.zip"), &host.at("moved/lanterns.zip"), "--yes"])
        .code(0)
        .says(&["moved/lanterns.zip"]);
    world.run(&["undo", "--yes"]).code(0);
    // The file here must be the one there.
    let here = world.root().join("mine.zip");
    fs::write(&here, look("mine")?)?;
    let (here, link) = (here.display().to_string(), host.at("f/lanterns.zip"));
    world.run(&["players", "pack", &here, "--yes"]).code(2).says(&["none was given"]);
    world.run(&["players", "pack", &here, &link, "--yes"]).code(5).says(&["gives another file"]);
    fs::write(world.files().join("lanterns.zip"), look("mine")?)?;
    world.run(&["players", "pack", &here, &link, "--yes"]).code(0);
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn a_pack_that_somebody_set_up_is_taken_over_and_watched() -> Done {
    let world = World::empty()?;
    yalotheca_standin::quayside::write_fresh_server(&world.server(), world.port)?;
    fs::create_dir_all(world.files())?;
    fs::write(world.files().join("lanterns.zip"), look("first")?)?;
    let host = FileHost::start(world.files())?;
    let link = host.at("f/lanterns.zip");
    let conf = world.read("saltwick.conf")?;
    world.write(
        "saltwick.conf",
        &format!("{conf}\n# the look\nlook.link = {link}\nlook.digest = 00ff\nlook.must = yes\n"),
    )?;
    let before = world.digests()?;
    world.adopt().code(0);
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    assert_eq!(world.digests()?, before);
    let found = world.run(&["check"]).code(1);
    found.says(&["pack-digest", "players are told 00ff"]);
    world.run(&["check", "--offline"]).code(0);
    world.run(&["fix", "--yes"]).code(0);
    assert_eq!(joins(&world)?, "came in with the look");
    // The host forgets it.
    fs::remove_file(world.files().join("lanterns.zip"))?;
    world.run(&["check"]).code(1).says(&[
        "pack-link",
        "there is nothing at that address",
        "yalotheca players pack LINK",
    ]);
    drop(host);
    world.run(&["check"]).code(0).says(&["pack-silent"]);
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    Ok(())
}

#[test]
fn games_without_a_pack_say_so() -> Done {
    World::kites()?.run(&["players", "pack"]).code(2).says(&["offers players no resource pack"]);
    Ok(())
}
