//! Catalogues made by hand, with everything that the format can say.

use std::fs;

use serde_json::{Value, json};
use yalotheca_standin::quayside;

use crate::harness::{Done, World};

/// A catalogue in a folder beside the server: contents with their releases. Files hold their own names.
fn publish(world: &World, contents: &[(&str, Value)]) -> Done {
    let folder = world.root().join("ours");
    fs::create_dir_all(folder.join("contents"))?;
    fs::create_dir_all(folder.join("files"))?;
    let mut index = serde_json::Map::new();
    for (id, releases) in contents {
        let mut releases = releases.clone();
        let mut provides = Vec::new();
        for release in releases.as_array_mut().into_iter().flatten() {
            let name = format!("{id}-{}.swp", release["version"].as_str().unwrap_or("0"));
            fs::write(folder.join("files").join(&name), &name)?;
            release["kind"] = json!("plugin");
            let digest = blake3::hash(name.as_bytes()).to_hex().to_string();
            release["files"] = json!([{"name": name, "size": name.len(), "blake3": digest}]);
            provides.extend(release["provides"].as_object().into_iter().flatten().map(|(id, _)| id.clone()));
        }
        let text = json!({"format": 1, "id": id, "title": id, "about": "", "releases": releases}).to_string();
        fs::write(folder.join("contents").join(format!("{id}.json")), &text)?;
        let digest = blake3::hash(text.as_bytes()).to_hex().to_string();
        index.insert(
            (*id).into(),
            json!({"title": id, "about": "", "kind": "plugin", "digest": digest, "provides": provides}),
        );
    }
    let text = json!({"format": 1, "name": "ours", "contents": index}).to_string();
    Ok(fs::write(folder.join("catalogue.json"), text)?)
}

fn server(contents: &[(&str, Value)]) -> Result<World, Box<dyn std::error::Error>> {
    let world = World::empty()?;
    quayside::write_fresh_server(&world.server(), world.port)?;
    publish(&world, contents)?;
    world.run(&["adopt", "--catalogue", "ours=../ours"]).code(0);
    Ok(world)
}

fn order(world: &World) -> Result<Vec<String>, Box<dyn std::error::Error>> {
    Ok(world.read("plugins/order.txt")?.lines().map(str::to_owned).collect())
}

#[test]
fn a_diamond_takes_the_release_that_suits_both() -> Done {
    let world = server(&[
        ("top", json!([{"version": "1", "needs": {"left": "*", "right": "*"}}])),
        ("left", json!([{"version": "1", "needs": {"base": ">=1 <3"}}])),
        ("right", json!([{"version": "1", "needs": {"base": "<=2"}}])),
        ("base", json!([{"version": "1"}, {"version": "2"}, {"version": "3"}])),
    ])?;
    world.run(&["add", "top", "--yes"]).code(0).says(&["base 2 left and right need it"]);
    assert_eq!(order(&world)?, ["base", "left", "right", "top"]);
    Ok(())
}

#[test]
fn any_of_several_will_do_and_what_is_there_is_taken() -> Done {
    let contents = [
        ("lamps", json!([{"version": "1", "needs-any": [{"oil": "*", "gas": ">=2"}]}])),
        ("oil", json!([{"version": "1"}])),
        ("gas", json!([{"version": "2"}])),
    ];
    let world = server(&contents)?;
    world.run(&["add", "lamps", "--yes"]).code(0).says(&["lamps needs it"]);
    let world = server(&contents)?;
    world.run(&["add", "oil", "--yes"]).code(0);
    let answer = world.run(&["add", "lamps", "--yes"]).code(0);
    assert!(!answer.out.contains("gas"), "oil is there already: {}", answer.out);
    Ok(())
}

#[test]
fn a_stand_in_counts_for_what_it_provides() -> Done {
    let world = server(&[
        ("market", json!([{"version": "1", "needs": {"purse": ">=1.2"}}])),
        ("bank", json!([{"version": "3", "provides": {"purse": "1.5"}}])),
    ])?;
    world.run(&["add", "market", "--yes"]).code(0).says(&["bank 3 market needs it"]);
    assert_eq!(order(&world)?, ["bank", "market"]);
    world.run(&["check"]).code(0);
    world.run(&["drop", "market", "--yes"]).code(0).says(&["bank 3 nothing needs it any more"]);
    Ok(())
}

#[test]
fn several_platforms_any_of_which_will_do() -> Done {
    let world = server(&[
        ("both", json!([{"version": "1", "platforms": [{"engine": ">=3"}, {"engine": "2.*"}]}])),
        ("loader", json!([{"version": "1", "platforms": [{"engine": "2.*", "pontoon": ">=3"}]}])),
    ])?;
    world.run(&["add", "both", "--yes"]).code(0);
    world
        .run(&["add", "loader", "--yes"])
        .code(3)
        .says(&["loader 1 needs pontoon 3 or newer, and this server has no pontoon"]);
    Ok(())
}

#[test]
fn a_withdrawn_release_stays_where_it_is_locked() -> Done {
    let world = server(&[("bells", json!([{"version": "1"}, {"version": "2"}]))])?;
    world.run(&["add", "bells", "--yes"]).code(0).says(&["bells 2"]);
    publish(
        &world,
        &[
            ("bells", json!([{"version": "1"}, {"version": "2", "withdrawn": true}])),
            ("x", json!([{"version": "1"}])),
        ],
    )?;
    world.run(&["add", "x", "--yes"]).code(0);
    assert!(world.path("plugins/bells-2.swp").exists(), "it is locked");
    world.run(&["update", "--yes"]).code(0).says(&["older bells 1 (was 2)"]);
    Ok(())
}

#[test]
fn what_a_catalogue_forgot_stays_and_can_be_repaired_from_the_cache_only() -> Done {
    let world = server(&[("bells", json!([{"version": "1"}])), ("x", json!([{"version": "1"}]))])?;
    world.run(&["add", "bells", "--yes"]).code(0);
    publish(&world, &[("x", json!([{"version": "1"}]))])?;
    world.run(&["add", "x", "--yes"]).code(0);
    world.run(&["check"]).code(0);
    fs::remove_file(world.path("plugins/bells-1.swp"))?;
    world.run(&["settle", "--yes"]).code(0).says(&["put back"]);
    fs::remove_file(world.path("plugins/bells-1.swp"))?;
    fs::remove_file(world.root().join("ours/files/bells-1.swp"))?;
    world.run(&["settle", "--yes"]).code(4).says(&["catalogue ours:", "bells-1.swp"]);
    Ok(())
}

#[test]
fn before_after_and_needs_make_the_order() -> Done {
    let world = server(&[
        ("a", json!([{"version": "1", "after": ["z"]}])),
        ("m", json!([{"version": "1", "before": ["a"]}])),
        ("z", json!([{"version": "1", "needs": {"q": "*"}}])),
        ("q", json!([{"version": "1"}])),
    ])?;
    world.run(&["add", "a", "m", "z", "--yes"]).code(0);
    assert_eq!(order(&world)?, ["m", "q", "z", "a"]);
    Ok(())
}
