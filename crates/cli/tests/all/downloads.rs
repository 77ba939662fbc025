//! A folder of downloads as a catalogue: archives, folders, nested packs, wrapper folders. The game is the voxel
//! server's, with a program that only tells its version.

use std::{
    fs,
    io::Write,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
};

use yalotheca_standin::quayside;

use crate::harness::{Done, World};

fn put(folder: &Path, name: &str, text: &str) -> Done {
    let path = folder.join(name);
    path.parent().map_or(Ok(()), fs::create_dir_all)?;
    Ok(fs::write(path, text)?)
}

fn zip(path: &Path, files: &[(&str, &str)]) -> Done {
    let mut zip = zip::ZipWriter::new(fs::File::create(path)?);
    for (name, text) in files {
        zip.start_file(*name, zip::write::SimpleFileOptions::default())?;
        zip.write_all(text.as_bytes())?;
    }
    zip.finish()?;
    Ok(())
}

/// A voxel world with a folder of downloads beside it.
pub(crate) fn voxel() -> Result<(World, PathBuf), Box<dyn std::error::Error>> {
    let world = World::empty()?;
    put(&world.server(), "minetest.conf", "port = 1\n")?;
    put(&world.server(), "world/world.mt", "gameid = minetest\n# ours\nload_mod_other = false\n")?;
    let program = world.root().join("version-only");
    fs::write(&program, "#!/bin/sh\necho Luanti 5.6.1\n")?;
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755))?;
    let downloads = world.root().join("downloads");
    put(
        &downloads,
        "lamps/mod.conf",
        "name = lamps\ndepends = default, oil\nmin_minetest_version = 5.2.0\n",
    )?;
    put(&downloads, "lamps/init.lua", "")?;
    put(&downloads, "old oil/init.lua", "-- oil")?;
    put(&downloads, "old oil/mod.conf", "name = oil\n")?;
    put(&downloads, "deep/deeper/too new/mod.conf", "name = too_new\nmin_minetest_version = 5.9\n")?;
    zip(
        &downloads.join("wrapped.zip"),
        &[("bells-main/mod.conf", "name = bells\noptional_depends = lamps"), ("bells-main/init.lua", "x")],
    )?;
    zip(
        &downloads.join("harbour.zip"),
        &[
            ("modpack.conf", "title = Harbour"),
            ("quay/init.lua", ""),
            ("quay/depends.txt", "oil\nbells?\n"),
            ("inner/modpack.txt", ""),
            ("inner/harbour/init.lua", ""),
            ("inner/harbour/depends.txt", "quay\n"),
        ],
    )?;
    put(&downloads, "read me.txt", "hello")?;
    let share = world.root().join("share");
    put(&share, "games/minetest_game/mods/default/mod.conf", "name = default")?;
    let set = |name: &str, path: &Path| format!("{name}={}", path.display());
    world
        .run(&[
            "adopt",
            "--catalogue",
            "downloads=../downloads",
            "--set",
            &set("program", &program),
            "--set",
            &set("share", &share),
        ])
        .code(0)
        .says(&["luanti 5.6.1", "the base game provides 1 content"]);
    Ok((world, downloads))
}

#[test]
fn contents_are_recognised_by_what_is_inside() -> Done {
    let (world, _) = voxel()?;
    world.run(&["find"]).code(0).says(&[
        "bells",
        "harbour",
        "lamps",
        "oil",
        "too_new",
        "does not fit",
        "needs luanti 5.9 or newer",
    ]);
    let before = world.digests()?;
    world.run(&["add", "lamps", "--yes"]).code(0).says(&["oil lamps needs it", "load_mod_lamps = true"]);
    assert!(
        world.path("home/.minetest/mods/oil/init.lua").exists(),
        "the name is the descriptor's, not the folder's"
    );
    world.run(&["drop", "lamps", "--yes"]).code(0);
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn packs_nest_and_a_member_may_bear_the_packs_name() -> Done {
    let (world, _) = voxel()?;
    let before = world.digests()?;
    world.run(&["add", "harbour", "--yes"]).code(0).says(&[
        "oil harbour needs it",
        "load_mod_harbour = true, load_mod_quay = true",
        "bells harbour welcomes it: yalotheca add bells",
    ]);
    assert!(world.path("home/.minetest/mods/harbour/inner/harbour/init.lua").exists());
    world.run(&["check"]).code(0);
    world.run(&["add", "bells", "--yes"]).code(0);
    assert!(world.path("home/.minetest/mods/bells/mod.conf").exists(), "the wrapper folder is left out");
    world.run(&["about", "harbour"]).code(0).says(&["holds harbour, quay", "welcomes bells"]);
    fs::remove_dir_all(world.path("home/.minetest/mods/harbour"))?;
    world.run(&["check"]).code(1).says(&["6 files of harbour are gone"]);
    world.run(&["settle", "--yes"]).code(0);
    world.run(&["check"]).code(0);
    world.run(&["drop", "harbour", "bells", "--yes"]).code(0);
    assert_eq!(world.digests()?, before);
    for _ in 0..3 {
        world.run(&["undo", "--yes"]).code(0);
    }
    world.run(&["undo", "--yes"]).code(0);
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn a_download_that_changed_is_not_taken_for_the_locked_one() -> Done {
    let (world, downloads) = voxel()?;
    world.run(&["add", "oil", "--yes"]).code(0);
    put(&downloads, "old oil/init.lua", "-- newer oil")?;
    world.run(&["check"]).code(0);
    fs::remove_file(world.path("home/.minetest/mods/oil/init.lua"))?;
    world
        .run(&["settle", "--yes"])
        .code(4)
        .says(&["oil has changed since it was locked", "yalotheca update oil"]);
    world.run(&["update", "oil", "--yes"]).code(0).says(&["changed oil"]);
    assert_eq!(world.read("home/.minetest/mods/oil/init.lua")?, "-- newer oil");
    Ok(())
}

#[test]
fn unreadable_downloads_are_named_and_do_not_stand_in_the_way() -> Done {
    let world = World::empty()?;
    quayside::write_fresh_server(&world.server(), world.port)?;
    let downloads = world.root().join("downloads");
    fs::create_dir_all(&downloads)?;
    for version in ["1.2.0", "1.4.0"] {
        let (name, bytes) = quayside::release("tidebell", version)?;
        fs::write(downloads.join(name), bytes)?;
    }
    let (name, bytes) = quayside::release("harbour-core", "2.3.0")?;
    fs::write(downloads.join(name), bytes)?;
    zip(&downloads.join("broken.swp"), &[("plugin.json", "{\"id\": \"broken\"")])?;
    world.run(&["adopt", "--catalogue", "downloads=../downloads"]).code(0);
    world.run(&["find"]).code(0).says(&["broken.swp: plugin.json: it is not JSON", "tidebell 1.4.0"]);
    world.run(&["add", "tidebell", "--yes"]).code(0).says(&["harbour-core 2.3.0", "tidebell 1.4.0"]);
    world.run(&["find", "tidebell"]).code(0).says(&["1.4.0 is here"]);
    fs::remove_dir_all(&downloads)?;
    world.run(&["find"]).code(4).says(&["the folder", "is not there", "[[catalogue]]"]);
    world.run(&["check"]).code(0);
    Ok(())
}

#[test]
fn a_lived_in_world_is_taken_over_as_it_is() -> Done {
    let (world, _) = voxel()?;
    world.run(&["add", "harbour", "lamps", "--yes"]).code(0);
    let lived_in = world.digests()?;
    let wants = world.read("yalotheca.toml")?;
    // Somebody made all that by hand, as far as anybody can tell.
    fs::remove_dir_all(world.path(".yalotheca"))?;
    fs::remove_file(world.path("yalotheca.toml"))?;
    fs::remove_file(world.path("yalotheca.lock"))?;
    fs::rename(world.path("home/.minetest/mods/lamps"), world.path("home/.minetest/mods/lamps-master"))?;
    let values: Vec<String> = wants
        .lines()
        .filter(|line| line.starts_with("program") || line.starts_with("share"))
        .map(|line| line.replace(" = ", "=").replace('"', ""))
        .collect();
    world
        .run(&["adopt", "--catalogue", "downloads=../downloads", "--set", &values[0], "--set", &values[1]])
        .code(0)
        .says(&["harbour on home/.minetest/mods/harbour", "lamps on home/.minetest/mods/lamps-master"]);
    // The server knows a mod by its name and not by its folder's: nothing is wrong with it, and it stays there.
    world.run(&["check"]).code(0).says(&["no problems"]);
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    assert_ne!(world.digests()?, lived_in);
    world.run(&["drop", "harbour", "lamps", "oil", "--yes"]).code(0);
    assert_eq!(world.read("world/world.mt")?, "gameid = minetest\n# ours\nload_mod_other = false\n");
    assert!(!world.path("home/.minetest/mods/oil").exists());
    Ok(())
}
