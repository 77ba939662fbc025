//! The handout for players: in every form, without anything that is the server's own.

use std::fs;

use yalotheca_standin::{file_host::FileHost, kites::zipped};

use crate::harness::{Done, World};

fn swm(id: &str, version: &str, side: &str) -> Result<Vec<u8>, std::io::Error> {
    let text = format!(
        "id = \"{id}\"\nversion = \"{version}\"\nengine = \">=2\"\nloader = \"pontoon >=3\"\nside = \"{side}\"\n"
    );
    zipped(&[("mod.toml".into(), text.into_bytes())])
}

/// A server with a mod for both sides, one for players, one for the server and a plugin.
fn modded() -> Result<(World, FileHost), Box<dyn std::error::Error>> {
    let world = World::fresh()?;
    let files = world.files();
    fs::create_dir_all(&files)?;
    let loader = br#"{"name": "pontoon", "version": "3.1", "engine": ">=2 <3"}"#.to_vec();
    fs::write(files.join("pontoon-3.1.swl"), zipped(&[("loader.json".into(), loader)])?)?;
    fs::write(files.join("rope-bridges-0.4.swm"), swm("rope-bridges", "0.4", "both")?)?;
    fs::write(files.join("gull-sounds-1.0.swm"), swm("gull-sounds", "1.0", "player")?)?;
    fs::write(files.join("crew-tools-2.swm"), swm("crew-tools", "2", "server")?)?;
    let host = FileHost::start(files)?;
    let link = host.at("f/rope-bridges-0.4.swm");
    world.run(&["add", "../files/pontoon-3.1.swl", &link, "tidebell", "--yes"]).code(0);
    world.run(&["add", "../files/gull-sounds-1.0.swm", "../files/crew-tools-2.swm", "--yes"]).code(0);
    Ok((world, host))
}

#[test]
fn players_are_told_what_is_theirs_in_every_form() -> Done {
    let (world, host) = modded()?;
    let link = host.at("f/rope-bridges-0.4.swm");
    let conf = format!("{}console.secret = puffin-nest\n", world.read("saltwick.conf")?);
    world.write("saltwick.conf", &conf)?;
    let before = world.digests()?;
    for form in ["text", "markdown", "html", "json"] {
        let said = world.run(&["handout", "--form", form]).code(0).out.replace("&#x2f;", "/");
        for there in ["rope-bridges", "0.4", link.as_str(), "gull-sounds"] {
            let there = if form == "markdown" { there.replace('_', "\\_") } else { there.into() };
            assert!(said.contains(&there), "{form}: {there}\n{said}");
        }
        for secret in ["puffin", "tidebell", "crew-tools", "pontoon-3.1.swl", "../files", "/tmp", "7711"] {
            assert!(!said.contains(secret), "{form}: {secret}\n{said}");
        }
    }
    world
        .run(&["handout"])
        .code(0)
        .says(&["Install, in exactly these versions", "ask the server's crew for gull-sounds-1.0.swm"]);
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn a_handout_says_what_has_changed_since_the_last_one() -> Done {
    let (world, _host) = modded()?;
    world
        .run(&["handout", "--to", "../handout.html"])
        .code(0)
        .says(&["Written: ../handout.html (2 contents)"]);
    world.run(&["handout", "--to", "../handout.html"]).code(5).says(&["--force"]);
    fs::write(world.files().join("rope-bridges-0.5.swm"), swm("rope-bridges", "0.5", "both")?)?;
    fs::write(world.files().join("lamp-posts-1.swm"), swm("lamp-posts", "1", "both")?)?;
    world.run(&["drop", "gull-sounds", "--yes"]).code(0);
    world.run(&["add", "../files/rope-bridges-0.5.swm", "../files/lamp-posts-1.swm", "--yes"]).code(0);
    world.run(&["handout"]).code(0).says(&[
        "rope-bridges 0.5 (updated from 0.4)",
        "lamp-posts 1 (new)",
        "No longer needed gull-sounds",
    ]);
    world.run(&["handout", "--to", "../handout.md"]).code(0);
    let text = fs::read_to_string(world.root().join("handout.md"))?;
    assert!(text.contains("**rope-bridges** 0.5 (updated from 0.4)"), "{text}");
    let said = world.run(&["handout"]).code(0).out.clone();
    assert!(!said.contains("updated") && !said.contains("No longer"), "{said}");
    Ok(())
}

#[test]
fn what_may_be_passed_on_comes_along_in_the_bundle() -> Done {
    let world = World::fresh()?;
    let catalogue = world.root().join("ours");
    fs::create_dir_all(catalogue.join("contents"))?;
    fs::create_dir_all(catalogue.join("files"))?;
    let mut index = serde_json::Map::new();
    for (id, may) in [("rope-bridges", true), ("gull-sounds", false)] {
        let bytes = swm(id, "1", if may { "both" } else { "player" })?;
        let name = format!("{id}-1.swm");
        fs::write(catalogue.join("files").join(&name), &bytes)?;
        let content = serde_json::json!({"format": 1, "id": id, "title": id, "about": "", "releases": [{
            "version": "1", "kind": "mod", "side": if may { "both" } else { "player" }, "redistribute": may,
            "files": [{"name": name, "size": bytes.len(), "blake3": blake3::hash(&bytes).to_hex().to_string()}]}]});
        let text = content.to_string();
        fs::write(catalogue.join(format!("contents/{id}.json")), &text)?;
        let digest = blake3::hash(text.as_bytes()).to_hex().to_string();
        index.insert(
            id.into(),
            serde_json::json!({"title": id, "about": "", "kind": "mod", "digest": digest}),
        );
    }
    let index = serde_json::json!({"format": 1, "name": "ours", "about": "", "contents": index});
    fs::write(catalogue.join("catalogue.json"), index.to_string())?;
    world.run(&["catalogue", "add", "ours", "../ours"]).code(0);
    world.run(&["add", "rope-bridges", "gull-sounds", "--yes"]).code(0);
    world
        .run(&["handout", "--bundle", "../players.zip"])
        .code(0)
        .says(&["with their files: rope-bridges", "by name only: gull-sounds"]);
    let mut zip = zip::ZipArchive::new(fs::File::open(world.root().join("players.zip"))?)?;
    assert!(zip.by_name("members/rope-bridges-1.swm").is_ok());
    assert!(
        !(0..zip.len()).any(|at| zip
            .by_index(at)
            .is_ok_and(|file| file.name().is_ok_and(|name| name.contains("gull-sounds")))),
        "it may not be passed on"
    );
    Ok(())
}
