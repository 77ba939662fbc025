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
        "leads to the pack",
    ]);
    assert!(world.read("yalotheca.toml")?.contains("[pack]\nlinks = ["));
    world
        .run(&["players", "pack"])
        .code(0)
        .says(&["The link works, and the server announces the right digest"]);
    assert_eq!(joins(&world)?, "came in with the look");
    // A check asks whether it is the same, and does not fetch it again.
    world.run(&["check"]).code(0);
    world.run(&["preview"]).code(0).says(&["nothing to do"]);
    // The file at the link is replaced.
    fs::write(world.files().join("lanterns.zip"), look("second")?)?;
    assert_eq!(joins(&world)?, "turned away: the look's digest is another one");
    world.run(&["check"]).code(1).says(&["pack-digest", "players' games will reject the pack", "SHA-1"]);
    world.run(&["players", "pack"]).code(1).says(&["Problem: "]);
    world.run(&["fix", "--yes"]).code(0).says(&["look.digest ="]);
    assert_eq!(joins(&world)?, "came in with the look");
    world.run(&["check"]).code(0);
    fs::write(world.files().join("lanterns.zip"), look("third")?)?;
    world.run(&["update", "--yes"]).code(0).says(&["look.digest ="]);
    assert_eq!(joins(&world)?, "came in with the look");
    // Players may join without it; then there is none.
    world.run(&["players", "pack", "--may", "--yes"]).code(0).says(&["look.must = no"]);
    // The same by its setting, which is kept with the pack.
    world.run(&["settings", "server", "/look.must=yes", "--yes"]).code(0).says(&["+look.must = yes"]);
    assert!(world.read("yalotheca.toml")?.contains("must = true"));
    world.run(&["players", "pack", "--may", "--yes"]).code(0).says(&["look.must = no"]);
    world.run(&["players", "pack", "--none", "--yes"]).code(0);
    assert_eq!(joins(&world)?, "came in");
    world.run(&["check"]).code(0);
    for _ in 0..7 {
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
        ("f/short.zip", "is not a complete zip archive"),
        ("f/text.zip", "is not a zip archive"),
    ] {
        let refused = world.run(&["players", "pack", &host.at(path), "--yes"]);
        assert!(matches!(refused.code, 4 | 5), "{path}: {} {}", refused.code, refused.err);
        assert!(refused.err.contains(says), "{path}: {}", refused.err);
    }
    let secret = host.at("private/lanterns.zip").replace("http://", "http://wren:puffin@");
    let refused = world.run(&["players", "pack", &secret, "--yes"]).code(5);
    assert!(!refused.err.contains("puffin"), "{}", refused.err);
    refused.says(&["every player would see it"]);
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
    world.run(&["players", "pack", &here, "--yes"]).code(2).says(&["no link was given"]);
    world.run(&["players", "pack", &here, &link, "--yes"]).code(5).says(&["leads to another file"]);
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
    found.says(&["pack-digest", "the server announces 00ff"]);
    world.run(&["check", "--offline"]).code(0);
    world.run(&["fix", "--yes"]).code(0);
    assert_eq!(joins(&world)?, "came in with the look");
    // A link with a password, set by hand, is reported and never stored.
    let other = World::empty()?;
    yalotheca_standin::quayside::write_fresh_server(&other.server(), other.port)?;
    let conf = other.read("saltwick.conf")?;
    let secret = link.replace("http://", "http://wren:puffin@");
    other.write("saltwick.conf", &format!("{conf}\nlook.link = {secret}\n"))?;
    other.adopt().code(0);
    assert!(
        !other.read("yalotheca.toml")?.contains("puffin")
            && !other.read("yalotheca.lock")?.contains("puffin")
    );
    for words in [&["check"][..], &["players", "pack"]] {
        let told = other.run(words).code(1);
        assert!(!told.out.contains("puffin"), "{}", told.out);
        told.says(&["which every player can see"]);
    }
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

/// Three packs: of the second everything is in a folder, and there is litter; the third is of another format.
fn three_packs(world: &World) -> Result<[String; 3], Box<dyn std::error::Error>> {
    let file = |path: &str, text: &str| (path.to_owned(), text.as_bytes().to_vec());
    let lanterns = [
        file("look.json", "{\"name\": \"lanterns\", \"format\": 3}"),
        file("words/en.json", "{\"pier\": \"the pier\", \"lamp\": \"a lamp\"}"),
        file("sounds.json", "{\"bell\": [\"bell_1\"]}"),
        file("pictures/pier.png", "lit"),
        file("pictures/same.png", "same"),
    ];
    let signs = [
        file("signs/look.json", "{\"name\": \"signs\", \"format\": 3}"),
        file("signs/words/en.json", "{\"sign\": \"a sign\", \"lamp\": \"a lantern\"}"),
        file("signs/words/nl.json", "{\"sign\": \"een bord\"}"),
        file("signs/sounds.json", "{\"bell\": [\"bell_2\"], \"horn\": [\"horn\"]}"),
        file("signs/pictures/pier.png", "signed"),
        file("signs/pictures/same.png", "same"),
        file("__MACOSX/signs/._look.json", "x"),
    ];
    let winter = [
        file("look.json", "{\"name\": \"winter\", \"format\": 4}"),
        file("sounds.json", "{\"bell\": "),
        file("pictures/snow.png", "snow"),
    ];
    let mut paths = Vec::new();
    for (name, files) in [("lanterns", &lanterns[..]), ("signs", &signs[..]), ("winter", &winter[..])] {
        let path = world.root().join(format!("{name}.zip"));
        fs::write(&path, zipped(files)?)?;
        paths.push(path.display().to_string());
    }
    Ok([paths.remove(0), paths.remove(0), paths.remove(0)])
}

fn member(archive: &std::path::Path, name: &str) -> Result<String, Box<dyn std::error::Error>> {
    let mut zip = zip::ZipArchive::new(fs::File::open(archive)?)?;
    let mut text = String::new();
    std::io::Read::read_to_string(&mut zip.by_name(name)?, &mut text)?;
    Ok(text)
}

#[test]
fn packs_become_one_and_the_same_bytes_each_time() -> Done {
    let world = World::fresh()?;
    let [lanterns, signs, winter] = three_packs(&world)?;
    let into = world.root().join("festival.zip");
    let to = into.display().to_string();
    let before = world.digests()?;
    world.run(&["merge", &lanterns, &signs, "--preview"]).code(0).says(&[
        "signs 6 files without the folder signs, 1 file left out",
        "words/en.json lanterns, signs all keys",
        "sounds.json lanterns, signs all items of each list",
        "words/en.json lamp from lanterns, not from signs",
        "pictures/pier.png from lanterns, not from signs",
        "1 of them identical in several packs",
    ]);
    assert!(!into.exists());
    world.run(&["merge", &lanterns, &signs]).code(2);
    world.run(&["merge", &lanterns, &signs, "--into", &to]).code(0).says(&["Written:", "Its digest is"]);
    assert_eq!(member(&into, "pictures/pier.png")?, "lit");
    assert!(member(&into, "words/en.json")?.contains("a sign"));
    assert!(member(&into, "sounds.json")?.contains("bell_2"));
    assert_eq!(member(&into, "words/nl.json")?, "{\"sign\": \"een bord\"}");
    let first = fs::read(&into)?;
    world.run(&["merge", &lanterns, &signs, "--into", &to]).code(5).says(&["is there already", "--force"]);
    world
        .run(&["merge", &lanterns, &signs, "--into", &to, "--force"])
        .code(0)
        .says(&["identical to the file that was there"]);
    assert_eq!(fs::read(&into)?, first);
    assert_eq!(world.digests()?, before, "nothing of the server is touched");
    // A decision counts for later merges too.
    world
        .run(&["merge", &lanterns, &signs, "--into", &to, "--force", "--keep", "pictures/pier.png=sings"])
        .code(2)
        .says(&["did you mean signs?"]);
    world
        .run(&["merge", &lanterns, &signs, "--into", &to, "--force", "--keep", "pictures/pier.png=signs"])
        .code(0);
    assert!(world.read("yalotheca.toml")?.contains("\"pictures/pier.png\" = \"signs\""));
    world
        .run(&["merge", &lanterns, &signs, "--into", &to, "--force"])
        .code(0)
        .says(&["Decided", "from signs, not from lanterns"]);
    assert_eq!(member(&into, "pictures/pier.png")?, "signed");
    world.run(&["check"]).code(0);
    // What cannot be merged is told, and formats that differ.
    world.run(&["merge", &lanterns, &winter, "--into", &to, "--force"]).code(0).says(&[
        "lanterns 5 files format 3",
        "winter 3 files format 4",
        "have different formats",
        "sounds.json from lanterns, not from winter winter: line 1: it is not JSON",
    ]);
    let json = world.run(&["merge", &lanterns, &winter, "--preview", "--json"]).code(0).json()?;
    assert_eq!(json["conflicts"][0]["path"], "sounds.json");
    // No pack, and a pack that would write outside of itself.
    fs::write(world.root().join("text.zip"), "no zip")?;
    fs::write(world.root().join("out.zip"), zipped(&[("../look.json".into(), b"{}".to_vec())])?)?;
    let two = [("one/look.json".into(), b"{}".to_vec()), ("two/look.json".into(), b"{}".to_vec())];
    fs::write(world.root().join("two.zip"), zipped(&two)?)?;
    for (name, says) in [
        ("text.zip", "is not a complete zip archive"),
        ("out.zip", "would be unpacked outside"),
        ("none.zip", "No such file"),
        ("two.zip", "several packs: one/look.json and two/look.json"),
    ] {
        let bad = world.root().join(name).display().to_string();
        world.run(&["merge", &lanterns, &bad, "--preview"]).code(5).says(&[says]);
    }
    Ok(())
}

/// A small generator, the same each time.
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, most: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % most
    }
}

/// The files of a pack, by path.
type Files = std::collections::BTreeMap<String, Vec<u8>>;

fn generated(numbers: &mut Numbers) -> Files {
    let mut files = Files::from([("look.json".to_owned(), b"{\"format\": 3}".to_vec())]);
    for name in ["a.png", "b.png", "deep/c.png", "d/e/f.ogg", "words/en.json", "words/nl.json", "sounds.json"]
    {
        if numbers.below(3) == 0 {
            continue;
        }
        let some =
            |numbers: &mut Numbers| (0..numbers.below(4)).map(|_| numbers.below(3)).collect::<Vec<_>>();
        let text = match name {
            "sounds.json" => {
                let lists: std::collections::BTreeMap<String, Vec<u64>> =
                    some(numbers).into_iter().map(|key| (format!("k{key}"), some(numbers))).collect();
                serde_json::json!(lists).to_string()
            }
            _ if name.starts_with("words") => {
                let map: std::collections::BTreeMap<String, u64> =
                    some(numbers).into_iter().map(|key| (format!("k{key}"), numbers.below(2))).collect();
                serde_json::json!(map).to_string()
            }
            _ => format!("{name} {}", numbers.below(2))
                .repeat(1 + usize::try_from(numbers.below(300)).unwrap_or(0)),
        };
        files.insert(name.to_owned(), text.into_bytes());
    }
    files
}

fn unpacked(archive: &std::path::Path) -> Result<Files, Box<dyn std::error::Error>> {
    let mut zip = zip::ZipArchive::new(fs::File::open(archive)?)?;
    let mut files = Files::new();
    for at in 0..zip.len() {
        let mut file = zip.by_index(at)?;
        let mut bytes = Vec::new();
        std::io::Read::read_to_end(&mut file, &mut bytes)?;
        files.insert(file.name()?.to_string(), bytes);
    }
    Ok(files)
}

/// What merging should give, worked out on the unpacked files.
fn expected(packs: &[Files]) -> Result<Files, Box<dyn std::error::Error>> {
    let mut all = Files::new();
    for pack in packs {
        for (path, bytes) in pack {
            let Some(there) = all.get_mut(path).filter(|there| *there != bytes) else {
                all.entry(path.clone()).or_insert_with(|| bytes.clone());
                continue;
            };
            if path.starts_with("words") || path == "sounds.json" {
                let mut first: serde_json::Map<String, serde_json::Value> = serde_json::from_slice(there)?;
                let second: serde_json::Map<String, serde_json::Value> = serde_json::from_slice(bytes)?;
                for (key, value) in second {
                    let there = first.entry(key).or_insert_with(|| value.clone());
                    if let (serde_json::Value::Array(there), serde_json::Value::Array(items)) = (there, value)
                    {
                        for item in items {
                            if !there.contains(&item) {
                                there.push(item);
                            }
                        }
                    }
                }
                *there = serde_json::to_vec(&first)?;
            }
        }
    }
    Ok(all)
}

#[test]
fn two_hundred_pairs_are_merged_as_an_oracle_does_it() -> Done {
    let world = World::fresh()?;
    let mut numbers = Numbers(88_172_645_463_325_252);
    let at = |name: &str| world.root().join(name).display().to_string();
    for _ in 0..200 {
        let packs = [generated(&mut numbers), generated(&mut numbers)];
        for (name, files) in ["one.zip", "two.zip"].into_iter().zip(&packs) {
            let files: Vec<(String, Vec<u8>)> = files.clone().into_iter().collect();
            fs::write(world.root().join(name), zipped(&files)?)?;
        }
        world.run(&["merge", &at("one.zip"), &at("two.zip"), "--into", &at("out.zip"), "--force"]).code(0);
        let (found, wanted) = (unpacked(&world.root().join("out.zip"))?, expected(&packs)?);
        assert_eq!(found.keys().collect::<Vec<_>>(), wanted.keys().collect::<Vec<_>>());
        for (path, bytes) in &wanted {
            if serde_json::from_slice::<serde_json::Value>(bytes).is_ok() {
                let json = |bytes: &[u8]| serde_json::from_slice::<serde_json::Value>(bytes);
                assert_eq!(json(&found[path])?, json(bytes)?, "{path}");
            } else {
                assert_eq!(&found[path], bytes, "{path}");
            }
        }
    }
    Ok(())
}
