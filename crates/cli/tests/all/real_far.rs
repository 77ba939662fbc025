//! The real voxel server in the state in which administrators leave it, over SFTP and over FTP.

use std::{
    collections::BTreeMap,
    fs,
    os::unix::fs::symlink,
    path::Path,
    process::{Command, Stdio},
    thread,
    time::{Duration, Instant},
};

use crate::{
    harness::Done,
    real_luanti::quay,
    remote::{Far, Ssh, Vsftpd, encoded},
};

fn copied(from: &Path, to: &Path) -> Done {
    let done = Command::new("cp").arg("-r").arg(from).arg(to).status()?;
    assert!(done.success());
    Ok(())
}

/// Leaves the server as people do: a folder under another name, a pack of which some members are off, a mod switched off for a reason, an
/// entry for nothing, a zip, a link out, and a mod one folder too deep.
fn leave_behind(far: &Far, mods: &Path) -> Done {
    let world = &far.world;
    let here = world.path("home/.minetest/mods");
    fs::create_dir_all(&here)?;
    copied(&mods.join("pipeworks"), &here.join("pipeworks-2022"))?;
    copied(&mods.join("mesecons"), &here.join("mesecons"))?;
    copied(&mods.join("unifieddyes"), &here.join("unifieddyes"))?;
    fs::create_dir_all(here.join("parked/old"))?;
    copied(&mods.join("moreblocks"), &here.join("parked/old/moreblocks"))?;
    fs::write(here.join("homedecor.zip"), "PK\x03\x04 cut short")?;
    symlink("/usr/share/games", here.join("shared"))?;
    let lines = "# by hand, do not touch\nload_mod_pipeworks = true\nload_mod_mesecons = true\nload_mod_mesecons_lamp = true\n\
                 load_mod_unifieddyes = false\nload_mod_ghost = true\n";
    world.write("world/world.mt", &(world.read("world/world.mt")? + lines))?;
    fs::create_dir_all(world.path("world/players"))?;
    fs::write(world.path("world/map.sqlite"), "not really")?;
    Ok(())
}

/// What is not the same in two trees.
fn differences<'t>(
    one: &'t BTreeMap<String, String>,
    other: &'t BTreeMap<String, String>,
) -> Vec<&'t String> {
    one.keys().chain(other.keys()).filter(|path| one.get(*path) != other.get(*path)).collect()
}

fn live(far: &Far, mods: &Path, address: &str) -> Done {
    leave_behind(far, mods)?;
    let before = far.world.digests()?;
    let catalogue = format!("mods={}", mods.display());
    far.run(&["adopt", address, "--name", "Voxel Quay", "--catalogue", &catalogue]).code(0).says(&[
        "pipeworks",
        "unifieddyes",
        "off",
        "shared is a symbolic link to /usr/share/games",
    ]);
    assert_eq!(differences(&far.world.digests()?, &before), Vec::<&String>::new(), "looking changes nothing");
    far.run(&["preview"]).code(0).says(&["nothing to do"]);
    far.run(&["check"]).code(1).says(&["pipeworks needs basic_materials", "enables ghost"]);
    far.run(&["fix", "--yes"]).code(0).says(&["basic_materials", "1 configuration file"]);
    // Behind the link may lie what is named, so that is taken out only when somebody says so.
    far.run(&["fix", "ghost", "--yes"]).code(0).says(&["take out load_mod_ghost"]);
    assert!(far.world.path("home/.minetest/mods/basic_materials/init.lua").exists());
    let world_file = far.world.read("world/world.mt")?;
    assert!(world_file.contains("# by hand, do not touch\n"), "{world_file}");
    assert!(!world_file.contains("mesecons_alias"), "what is off stays off: {world_file}");
    far.run(&["where", "init.lua"]).code(0).says(&["home/.minetest/mods/parked/old/moreblocks/init.lua"]);
    for _ in 0..2 {
        far.run(&["undo", "--yes"]).code(0);
    }
    assert_eq!(differences(&far.world.digests()?, &before), Vec::<&String>::new(), "byte for byte");
    far.run(&["fix", "--yes"]).code(0);
    far.run(&["fix", "ghost", "--yes"]).code(0);
    far.run(&["check"]).code(0);
    // It is started by hand, and its log is followed.
    let folder = far.world.server();
    let starting = thread::spawn(move || {
        thread::sleep(Duration::from_millis(1_500));
        fs::remove_file(folder.join("world/map.sqlite"))?;
        let program = ["/usr/games/minetestserver", "/usr/bin/minetestserver"];
        let program =
            program.iter().find(|path| Path::new(path).exists()).ok_or(std::io::ErrorKind::NotFound)?;
        let log = folder.join("debug.txt").display().to_string();
        Command::new("timeout")
            .args([
                "60",
                program,
                "--config",
                "minetest.conf",
                "--world",
                "world",
                "--color",
                "never",
                "--info",
            ])
            .args(["--logfile", &log])
            .current_dir(&folder)
            .env("HOME", folder.join("home"))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
    });
    let watched = far.run(&["trial", "--watch"]);
    let mut server = starting.join().map_err(|_| "starting")??;
    let refused = far.run(&["drop", "pipeworks", "--yes"]);
    Command::new("kill").args(["-INT", &server.id().to_string()]).status()?;
    let until = Instant::now() + Duration::from_secs(20);
    while server.try_wait()?.is_none() {
        assert!(Instant::now() < until, "the server does not end");
        thread::sleep(Duration::from_millis(50));
    }
    watched.code(0).says(&["no problems"]);
    refused.code(5).says(&["it answers at port"]);
    far.run(&["drop", "pipeworks", "--yes"]).code(0);
    assert!(!far.world.path("home/.minetest/mods/pipeworks-2022").exists());
    far.run(&["check"]).code(0);
    Ok(())
}

#[test]
fn the_real_voxel_server_over_sftp() -> Done {
    let (Some((world, mods, _)), Some(host)) = (quay()?, Ssh::start(None)?) else { return Ok(()) };
    let mut far = Far::around(world)?;
    far.env.push(("YALOTHECA_SSH_OPTIONS".into(), host.options("user")));
    let address = format!("sftp://127.0.0.1:{}{}", host.port(), encoded(&far.world.server()));
    live(&far, &mods, &address)
}

#[test]
fn the_real_voxel_server_over_ftp() -> Done {
    let Some((world, mods, _)) = quay()? else { return Ok(()) };
    let far = Far::around(world)?;
    let Some(host) = Vsftpd::start(far.world.root(), false)? else { return Ok(()) };
    live(&far, &mods, &format!("ftp://127.0.0.1:{}/~/harbour", host.port))
}
