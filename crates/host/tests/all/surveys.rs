//! Looking at servers.

use std::{collections::BTreeMap, fs, path::Path};

use yalotheca_core::{
    game::{BUILT_IN, Game, load},
    id::TreePath,
};
use yalotheca_host::{
    games,
    store::Store,
    survey::{self, Queries},
    tree::LocalTree,
    trust,
};
use yalotheca_standin::quayside;

use crate::Done;

fn built_in(name: &str) -> Result<Game, Box<dyn std::error::Error>> {
    let (name, text) = BUILT_IN.iter().find(|(known, _)| *known == name).ok_or("a built-in game")?;
    Ok(load(name, text)?)
}

fn put(folder: &Path, name: &str, text: &str) -> Done {
    let path = folder.join(name);
    path.parent().map_or(Ok(()), fs::create_dir_all)?;
    Ok(fs::write(path, text)?)
}

#[test]
fn values_come_from_files_defaults_and_the_administrator() -> Done {
    let folder = tempfile::tempdir()?;
    let tree = LocalTree::new(folder.path());
    let game = built_in("saltwick")?;
    let none = BTreeMap::new();
    let value = |name: &str, given: &BTreeMap<String, String>| -> Result<String, survey::SurveyError> {
        Ok(survey::values(&tree, &game, given)?.values[name].clone())
    };
    assert_eq!(value("town", &none)?, "brinewick", "the default");
    put(folder.path(), "saltwick.conf", "# ours\ntown = gullhaven\nport =\n")?;
    assert_eq!(value("town", &none)?, "gullhaven", "the file");
    assert_eq!(value("port", &none)?, "7710", "an empty value is none");
    let given = [("town".to_string(), "elsewhere".to_string())].into();
    assert_eq!(value("town", &given)?, "elsewhere", "the administrator");
    put(folder.path(), "saltwick.conf", "town gullhaven\n")?;
    let error = survey::values(&tree, &game, &none).err().ok_or("a broken file")?;
    assert!(error.to_string().starts_with("saltwick.conf: line 1, column 1"), "{error}");
    Ok(())
}

#[test]
fn values_of_values() -> Done {
    let folder = tempfile::tempdir()?;
    let tree = LocalTree::new(folder.path());
    let game = built_in("luanti")?;
    put(folder.path(), "worlds/quay/world.mt", "gameid = harbour\n")?;
    let given = [("world".to_string(), "worlds/quay".to_string())].into();
    assert_eq!(survey::values(&tree, &game, &given)?.values["game"], "harbour");
    Ok(())
}

#[test]
fn the_platform_is_read_and_what_is_missing_is_missing() -> Done {
    let folder = tempfile::tempdir()?;
    let tree = LocalTree::new(folder.path());
    let game = built_in("saltwick")?;
    let parts = || -> Result<Vec<String>, survey::SurveyError> {
        let platform =
            survey::survey(&tree, &game, &BTreeMap::new(), (Queries::Remembered, &Store::at(folder.path())))?
                .platform;
        Ok(platform.parts.iter().map(|(part, version)| format!("{part} {version}")).collect())
    };
    assert!(parts()?.is_empty());
    quayside::write_fresh_server(folder.path(), 7710)?;
    assert_eq!(parts()?, ["engine 2.4", "runtime 6"]);
    fs::rename(folder.path().join("saltwick-2.4.swe"), folder.path().join("moved.swe"))?;
    assert_eq!(parts()?, ["runtime 6"], "the engine that boot.json names is not there");
    put(folder.path(), "boot.json", "{\"engine\": \"terms.txt\", \"runtime\": 6}")?;
    assert_eq!(parts()?, ["runtime 6"], "that is no archive");
    Ok(())
}

#[test]
fn games_are_recognised_by_their_files() -> Done {
    let folder = tempfile::tempdir()?;
    let tree = LocalTree::new(folder.path());
    let games = [built_in("saltwick")?, built_in("luanti")?];
    let found = || -> Result<Vec<String>, survey::SurveyError> {
        let found = survey::recognise_game(&tree, &games, &BTreeMap::new())?;
        Ok(found.into_iter().map(|game| game.name.clone()).collect())
    };
    assert!(found()?.is_empty());
    put(folder.path(), "minetest.conf", "port = 1")?;
    assert!(found()?.is_empty(), "one of two files is not enough");
    put(folder.path(), "world/world.mt", "gameid = minetest")?;
    assert_eq!(found()?, ["luanti"]);
    put(folder.path(), "boot.json", "{oops")?;
    assert_eq!(found()?, ["luanti"]);
    put(folder.path(), "saltwick-2.4.swe", "")?;
    assert_eq!(found()?, ["saltwick", "luanti"], "a broken file does not hide what a server is");
    Ok(())
}

#[test]
fn an_inventory_finds_contents_anywhere_but_in_worlds() -> Done {
    let folder = tempfile::tempdir()?;
    let tree = LocalTree::new(folder.path());
    let game = built_in("saltwick")?;
    quayside::write_left_behind_server(folder.path(), 7710)?;
    let (name, bytes) = quayside::release("tidebell", "1.4.0")?;
    for place in ["deep/er/and/deeper", "towns/brinewick/chart", "logs", ".yalotheca/attic"] {
        fs::create_dir_all(folder.path().join(place))?;
        fs::write(folder.path().join(place).join(&name), &bytes)?;
    }
    let scope = survey::values(&tree, &game, &BTreeMap::new())?;
    let inventory = survey::inventory(&tree, &game, &scope)?;
    let found: Vec<String> =
        inventory.contents.iter().map(|found| format!("{} at {}", found.content.id, found.path)).collect();
    assert_eq!(
        found,
        [
            "cobbles at towns/brinewick/packs/cobbles-1.0.zip",
            "gull-chat at plugins/plugins/gull-chat-1.0.0.swp",
            "night-lamps at plugins/night-lamps-1.2.0.swp",
            "tidebell at deep/er/and/deeper/tidebell-1.4.0.swp",
        ]
    );
    let strangers: Vec<&str> = inventory.strangers.iter().map(TreePath::as_str).collect();
    assert_eq!(
        strangers,
        ["plugins/notes from last year.txt", "plugins/order.txt", "plugins/tidebell-beta.swp.part"]
    );
    let folders: Vec<String> =
        survey::content_folders(&game, &scope).into_iter().map(|path| path.to_string()).collect();
    assert_eq!(folders, ["mods", "plugins", "towns/brinewick/packs"]);
    Ok(())
}

#[test]
fn definitions_are_found_near_first() -> Done {
    let folder = tempfile::tempdir()?;
    let names = |control: Option<&Path>| -> Result<Vec<String>, games::FindGameError> {
        Ok(games::all(control)?.into_iter().map(|(name, origin, _)| format!("{name} {origin}")).collect())
    };
    assert!(names(Some(folder.path()))?.contains(&"saltwick built in".to_owned()));
    let text = BUILT_IN.iter().find(|(name, _)| *name == "saltwick").ok_or("saltwick")?.1;
    put(folder.path(), "games/saltwick.toml", &text.replace("Saltwick harbour server", "Ours"))?;
    put(folder.path(), "games/notes.txt", "no definition")?;
    let (game, origin, _) = games::find(Some(folder.path()), "saltwick")?;
    assert_eq!(game.title, "Ours");
    assert!(origin.to_string().ends_with("games/saltwick.toml"));
    put(folder.path(), "games/saltwick.toml", "format = 1\n")?;
    let error = games::find(Some(folder.path()), "saltwick").err().ok_or("a broken definition")?;
    assert!(error.to_string().contains("missing field"), "{error}");
    let error = games::find(None, "luant").err().ok_or("no such game")?;
    assert!(error.to_string().contains("no game definition called"), "{error}");
    Ok(())
}

#[test]
fn programs_are_found_on_the_path_and_in_the_games_folder() {
    assert!(trust::find_program("sh").is_absolute());
    assert_eq!(trust::find_program("./here/it/is"), Path::new("./here/it/is"));
    assert_eq!(trust::find_program("no-such-program"), Path::new("no-such-program"));
}
