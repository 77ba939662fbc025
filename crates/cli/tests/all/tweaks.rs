//! Tweaks, cross references, and the Mossgarrow server that has both.

use std::fs;

use crate::harness::{Done, World};

fn moor() -> Result<World, Box<dyn std::error::Error>> {
    let world = World::moor()?;
    world
        .run(&["trial"])
        .code(0)
        .says(&["The first start made its files and ended by itself", "no problems"]);
    Ok(world)
}

#[test]
fn a_trader_is_placed_and_goes_without_a_trace() -> Done {
    let world = moor()?;
    let before = world.digests()?;
    world.run(&["add", "lantern-seller", "--yes"]).code(2).says(&["--set place=VALUE", "three numbers"]);
    world
        .run(&[
            "add",
            "lantern-seller",
            "reed-burst",
            "--set",
            "place=120.5,3,88",
            "--set",
            "price=15",
            "--yes",
        ])
        .code(0)
        .says(&["+ <at x=\"120.5\" y=\"3\" z=\"88\"/>", "+- name: reed_burst"]);
    assert_eq!(
        world.read("rules/happenings.yml")?,
        "# What happens on the moor.\n- name: mist\n  every: 30\n- name: reed_burst\n  every: 20\n"
    );
    let log = world.run(&["trial", "--verbose"]).code(0);
    log.says(&["lantern-seller stands at 120.5 3.0 88.0", "rule reed_burst is in force"]);
    world.run(&["settings", "lantern-seller", "outfit=festival", "--yes"]).code(0);
    assert!(world.read("trade/people/lantern-seller.xml")?.contains("outfit=\"festival\""));
    world.run(&["settings", "lantern-seller", "price=0", "--yes"]).code(5).says(&["from 1 to 999"]);
    world.run(&["drop", "lantern-seller", "reed-burst", "--yes"]).code(0);
    // The server has rewritten its settings at its stop; apart from that all is as it was.
    let mut now = world.digests()?;
    assert_eq!(world.read("garrow.ini")?.lines().next(), Some("[Hosting]"));
    now.extend(before.get_key_value("garrow.ini").map(|(name, digest)| (name.clone(), digest.clone())));
    assert_eq!(now, before);
    Ok(())
}

#[test]
fn a_half_that_is_broken_by_hand_is_found() -> Done {
    let world = moor()?;
    world.run(&["add", "reed-burst", "lantern-seller", "--set", "place=1,2,3", "--yes"]).code(0);
    let answers = world.read("rules/answers.yml")?;
    world.write("rules/answers.yml", answers.split("- to: reed_burst").next().unwrap_or_default())?;
    world.run(&["check"]).code(1).says(&[
        "reed-burst is only partly there: rules/answers.yml lacks {to: reed_burst",
        "rules/happenings.yml, line 4: the answer to reed_burst is not there",
    ]);
    world.run(&["settle", "--yes"]).code(0);
    assert_eq!(world.read("rules/answers.yml")?, answers);
    let person = world.read("trade/people/hanne.xml")?;
    world.write("trade/people/hanne.xml", &person.replace("stock=\"reeds\"", "stock=\"reds\""))?;
    world.write(
        "trade/stock/second.json",
        "{\"label\": \"Two\", \"sells\": [\"reeds\"], \"buys\": [\"ropes\"]}\n",
    )?;
    world.run(&["check"]).code(1).says(&[
        "trade/people/hanne.xml, line 1: the stock reds is not there",
        "trade/people/hanne.xml line 1: did you mean reeds?",
        "trade/stock/second.json, line 1: the ware group reeds may be named once only",
        "the ware group ropes is not there",
    ]);
    world
        .run(&["trial"])
        .code(1)
        .says(&["hanne is not placed: no such stock: reds", "reeds is sold by reeds and second"]);
    Ok(())
}

#[test]
fn what_a_change_would_break_is_told_before() -> Done {
    let world = moor()?;
    world.run(&["trial"]).code(0);
    // The map that plays is one of those that are here.
    world
        .run(&["settings", "server", "host/story/plays=Basemarsh/opne", "--later"])
        .code(2)
        .says(&["there is no map Basemarsh/opne here", "did you mean Basemarsh/open?"]);
    world.run(&["settings", "server", "Hosting/ground=Basmarsh", "--later"]).code(0);
    world.run(&["preview", "--diff"]).code(0).says(&[
        "This would break",
        "garrow.ini, line 4: the region Basmarsh is not there",
        "+ground = Basmarsh",
    ]);
    Ok(())
}

#[test]
fn a_server_that_rewrites_its_settings_loses_none_of_ours() -> Done {
    let world = moor()?;
    world.run(&["settings", "server", "/Hosting/item_host=items.larkspur.example", "--yes"]).code(0);
    world.run(&["trial"]).code(0);
    // Sorted, without its comment, and ours in it once.
    let text = world.read("garrow.ini")?;
    assert!(text.starts_with("[Hosting]\ncarried = \n") && !text.contains('#'), "{text}");
    assert_eq!(text.matches("item_host = items.larkspur.example\n").count(), 1, "{text}");
    world.run(&["check"]).code(0).says(&["no problems"]);
    world.run(&["settle", "--yes"]).code(0).says(&["nothing to do"]);
    world.run(&["settings", "server", "--reset", "/Hosting/item_host", "--yes"]).code(0);
    assert!(world.read("garrow.ini")?.contains("item_host = \n"));
    Ok(())
}

#[test]
fn two_tweaks_that_write_one_place_do_not_go_together() -> Done {
    let world = moor()?;
    let text = fs::read_to_string(world.root().join("tweaks/reed-burst.tweak.toml"))?;
    let other = text.replace("\"reed-burst\"", "\"reed-storm\"");
    fs::write(world.root().join("tweaks/reed-storm.tweak.toml"), other)?;
    world.run(&["add", "reed-burst", "--yes"]).code(0);
    let before = world.digests()?;
    world
        .run(&["add", "reed-storm", "--yes"])
        .code(5)
        .says(&["reed-burst and reed-storm both write rules/happenings.yml", "drop one of them"]);
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn a_tweak_is_checked_without_a_server() -> Done {
    let world = World::moor()?;
    let file = "../tweaks/lantern-seller.tweak.toml";
    world
        .run(&["game", "check", file])
        .code(0)
        .says(&["the tweak lantern-seller is good; 7 fragments", "asked for"]);
    let path = world.root().join("tweaks/lantern-seller.tweak.toml");
    let good = fs::read_to_string(&path)?;
    for (from, to, says) in [
        ("param.price }}", "param.prize }}", "did you mean param.price"),
        ("least   = 1\n", "leest = 1\n", "leest"),
        ("default = 12\n", "default = 0\n", "the default does not fit"),
        ("sort = \"coordinates\"", "sort = \"cordinates\"", "did you mean coordinates"),
        ("row    = \"trade/wares", "raw    = \"trade/wares", "raw"),
        ("game    = \"mossgarrow\"", "game    = \"saltwick\"", "saltwick"),
    ] {
        assert!(good.contains(from), "{from}");
        fs::write(&path, good.replacen(from, to, 1))?;
        let checked = world.run(&["game", "check", file]);
        let added = world.run(&["add", file, "--set", "place=1,2,3", "--yes"]);
        if to.contains("saltwick") {
            added.code(5).says(&["a tweak for saltwick"]);
        } else {
            checked.code(2).says(&[says]);
            added.code(5);
        }
    }
    Ok(())
}
