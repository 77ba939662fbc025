//! The real tank server: native plugins of its own package, registered as repeated options in their order.

use std::{fs, path::Path};

use crate::harness::{Done, World, free_port, skipped};

pub(crate) const PLUGINS: &str = "/usr/lib/bzflag-server";

const LAB: &str = "world\n  size 200\nend\nbox\n  position 0 0 0\n  size 5 5 5\nend\n";

/// A server with a world and nothing else, not adopted; nothing where the program is missing.
pub(crate) fn lab() -> Result<Option<World>, Box<dyn std::error::Error>> {
    if !Path::new("/usr/games/bzfs").exists() || !Path::new(PLUGINS).is_dir() {
        return skipped("bzflag-server").map(|()| None);
    }
    let world = World::empty()?;
    world.write(
        "server.conf",
        &format!("# the crew's tanks\n-i 127.0.0.1\n-p {}\n-world maps/lab.bzw\n", free_port()?),
    )?;
    world.write("maps/lab.bzw", LAB)?;
    Ok(Some(world))
}

fn tanks() -> Result<Option<World>, Box<dyn std::error::Error>> {
    let Some(world) = lab()? else { return Ok(None) };
    fs::create_dir_all(world.files())?;
    for name in ["TimeLimit.so", "chathistory.so", "killall.so"] {
        fs::copy(Path::new(PLUGINS).join(name), world.files().join(name))?;
    }
    world
        .run(&["adopt", "--name", "Larkspur Tanks", "--catalogue", "downloads=../files"])
        .code(0)
        .says(&["bzfs 2.4"]);
    Ok(Some(world))
}

#[test]
fn the_real_tanks_load_their_plugins_in_order() -> Done {
    let Some(world) = tanks()? else { return Ok(()) };
    world.run(&["trial"]).code(0).says(&["no problems"]);
    let before = world.digests()?;
    world.run(&["add", "killall", "TimeLimit", "--yes"]).code(0);
    world.run(&["order", "TimeLimit", "--before", "killall", "--yes"]).code(0);
    let options = |text: &str| {
        text.lines().filter(|line| line.starts_with("-loadplugin")).map(str::to_owned).collect::<Vec<_>>()
    };
    assert_eq!(
        options(&world.read("server.conf")?),
        ["-loadplugin plugins/TimeLimit.so", "-loadplugin plugins/killall.so"]
    );
    world.run(&["trial"]).code(0).says(&["TimeLimit loaded", "killall loaded"]);
    // Arguments that somebody wrote behind a comma stay, and are no second entry.
    world.write("server.conf", &world.read("server.conf")?.replace("killall.so", "killall.so,7"))?;
    world.run(&["check"]).code(0).says(&["no problems"]);
    world.run(&["add", "chathistory", "--yes"]).code(0);
    assert_eq!(options(&world.read("server.conf")?).len(), 3);
    assert!(world.read("server.conf")?.contains("killall.so,7\n"));
    troubles(&world)?;
    world.run(&["drop", "killall", "TimeLimit", "chathistory", "--yes"]).code(0);
    assert_eq!(world.digests()?, before);
    Ok(())
}

/// What goes wrong is found before the start, or told by the trial.
fn troubles(world: &World) -> Done {
    let good = world.read("server.conf")?;
    fs::remove_file(world.path("plugins/TimeLimit.so"))?;
    world.run(&["check"]).code(1).says(&["plugins/TimeLimit.so of TimeLimit is gone"]);
    world.run(&["trial"]).code(1).says(&[
        "server.conf loads plugins/TimeLimit.so, and there is no such file",
        "TimeLimit failed, as told above",
    ]);
    // Once that is accepted it is folded, so the contents say why; unless all is asked for.
    world.run(&["trial"]).code(1).says(&["but something is wrong"]);
    world
        .run(&["trial", "--accept"])
        .code(0)
        .says(&["with 2 accepted problems", "TimeLimit failed: server.conf loads plugins/TimeLimit.so"]);
    world
        .run(&["trial", "--all"])
        .code(0)
        .says(&["with 2 accepted problems", "TimeLimit failed, as told above"]);
    world.run(&["settle", "--yes"]).code(0);
    world.write("server.conf", &format!("{good}-wrld x\n"))?;
    world
        .run(&["trial"])
        .code(1)
        .says(&["server.conf has the option -wrld, which this server does not know"]);
    world.write("server.conf", &good.replace("lab.bzw", "lb.bzw"))?;
    world.run(&["check"]).code(1).says(&["the world maps/lb.bzw is not there", "did you mean maps/lab.bzw?"]);
    world
        .run(&["trial"])
        .code(1)
        .says(&["server.conf names the world maps/lb.bzw, and there is no such file"]);
    world.run(&["settings", "server", "world=maps/lab.bzw", "--yes"]).code(0).says(&["+-world maps/lab.bzw"]);
    assert_eq!(world.read("server.conf")?, good);
    world.write("maps/lab.bzw", "box\n  position 0 0 0\n")?;
    world.run(&["trial"]).code(1).says(&["the world maps/lab.bzw is broken at line"]);
    world.write("maps/lab.bzw", LAB)?;
    world.run(&["trial"]).code(0);
    // A zip under a plugin's name is no plugin.
    fs::write(world.files().join("sneaky.so"), b"PK\x03\x04 and so on")?;
    world.run(&["add", "../files/sneaky.so", "--yes"]).code(5).says(&["sneaky.so is damaged"]);
    world.write("server.conf", &good)
}
