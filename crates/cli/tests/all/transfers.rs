//! Links and downloads, against a host at which everything goes wrong that can.

use std::{
    fs,
    io::{BufRead, BufReader, Write},
    net::TcpListener,
    os::unix::fs::PermissionsExt,
    sync::mpsc,
    thread,
};

use yalotheca_standin::{file_host::FileHost, kites, quayside};

use crate::harness::{Done, World};

/// A kite server, and a host with its downloads.
fn hosted() -> Result<(World, FileHost), Box<dyn std::error::Error>> {
    let world = World::kites()?;
    let mut large = kites::map("rope_walk");
    large.push(("rope_walk.ksky".into(), vec![0; 10]));
    let mut noise = vec![0; 3 << 20];
    blake3::Hasher::new().update(b"noise").finalize_xof().fill(&mut noise);
    large.push(("dawn.ksky".into(), noise));
    fs::write(world.files().join("large.zip"), kites::zipped(&large)?)?;
    let host = FileHost::start(world.files())?;
    Ok((world, host))
}

#[test]
fn a_page_is_told_from_the_file_and_the_file_behind_it_is_found() -> Done {
    let (world, host) = hosted()?;
    world
        .run(&["add", &host.at("s/windmill.zip?lang=0&view=1"), "--yes"])
        .code(0)
        .says(&["is a page; the file behind it is", "view=0"]);
    assert!(
        world.read("yalotheca.toml")?.contains("s/windmill.zip?lang=0&view=0"),
        "the file's link is recorded"
    );
    world
        .run(&["add", &host.at("s/two-lofts.zip"), "--yes"])
        .code(4)
        .says(&["it is a web page (“two-lofts.zip · Harbour Share”), not the file", "[[link]]"]);
    // A rule of the administrator's for hosts that tell nothing.
    let wants = world.read("yalotheca.toml")?;
    let rule = "[[link]]\nmatch = '^(http://[^/]+)/s/(?<name>[\\w.-]+)$'\ndirect = '$1/f/${name}'\n";
    world.write("yalotheca.toml", &format!("{wants}\n{rule}"))?;
    world
        .run(&["add", &host.at("s/two-lofts.zip"), "--only", "net_loft", "--yes"])
        .code(0)
        .says(&["the file of"]);
    assert!(world.read("yalotheca.toml")?.contains("/f/two-lofts.zip"));
    world.run(&["add", &host.at("moved/gull-cliffs-2.zip"), "--yes"]).code(0);
    Ok(())
}

#[test]
fn a_login_an_expired_link_and_a_wrong_one_are_told_apart() -> Done {
    let (world, host) = hosted()?;
    let before = world.digests()?;
    for (path, says) in [
        ("login/windmill.zip", "the host wants a login"),
        ("expired/windmill.zip", "the link has expired"),
        ("f/nothing.zip", "the host answers 404"),
        ("loop", "passes on too often"),
    ] {
        world.run(&["add", &host.at(path), "--yes"]).code(4).says(&[says]);
    }
    assert_eq!(host.times("f/nothing.zip"), 1, "what is wrong is not tried again");
    world.run(&["add", "http://127.0.0.1:9/x.zip", "--yes"]).code(4).says(&["refused"]);
    assert_eq!(world.digests()?, before);
    Ok(())
}

#[test]
fn a_user_and_a_password_are_asked_of_one_file_and_noted_nowhere() -> Done {
    let (world, host) = hosted()?;
    let link = host.at("private/windmill.zip");
    world.run(&["add", &link, "--yes"]).code(4).says(&["the host wants a login", "credentials.toml"]);
    let name = link.split('/').nth(2).ok_or("the link names its host")?;
    let file = world.root().join(".config/yalotheca/credentials.toml");
    fs::create_dir_all(file.parent().ok_or("it lies in a folder")?)?;
    fs::write(&file, format!("[\"{name}\"]\nuser = \"wren\"\npassword = \"puffin\"\n"))?;
    fs::set_permissions(&file, fs::Permissions::from_mode(0o644))?;
    world.run(&["add", &link, "--yes"]).code(5).says(&["others may read it", "chmod 600"]);
    fs::set_permissions(&file, fs::Permissions::from_mode(0o600))?;
    world.run(&["add", &link, "--yes"]).code(0);
    for entry in walkdir::WalkDir::new(world.server()) {
        let entry = entry?;
        if entry.file_type().is_file() {
            let text = String::from_utf8_lossy(&fs::read(entry.path())?).into_owned();
            assert!(!text.contains("puffin"), "{}", entry.path().display());
        }
    }
    // They are for that host only.
    fs::write(&file, "[\"files.example\"]\nuser = \"wren\"\npassword = \"puffin\"\n")?;
    world
        .run(&["add", &host.at("private/gull-cliffs-2.zip"), "--yes"])
        .code(4)
        .says(&["the host wants a login"]);
    Ok(())
}

#[test]
fn a_transfer_that_breaks_off_goes_on_where_it_was() -> Done {
    for percent in [0, 50, 99] {
        let (world, host) = hosted()?;
        let path = format!("break/{percent}/large.zip");
        world.run(&["add", &host.at(&path), "--all", "--yes"]).code(0);
        assert!(world.path("sky/dawn.ksky").metadata()?.len() == 3 << 20);
        assert_eq!(host.times(&path), 2, "{percent}: it took two requests");
        let size = fs::metadata(world.files().join("large.zip"))?.len();
        if percent > 0 {
            let ranges = host.ranges();
            assert!(
                ranges.len() == 1 && ranges[0] > 0 && ranges[0] <= size * percent / 100,
                "{ranges:?} of {size}"
            );
        }
    }
    Ok(())
}

#[test]
fn half_a_file_is_never_taken_for_a_whole_one() -> Done {
    let (world, host) = hosted()?;
    let before = world.digests()?;
    for path in ["cut/50/large.zip", "cut/99/large.zip", "long/large.zip"] {
        world.run(&["add", &host.at(path), "--all", "--yes"]).code(4);
        assert_eq!(host.times(path), 5, "{path} is tried again, and not for ever");
    }
    assert_eq!(world.digests()?, before);
    // A later command goes on where this one ended, if the host knows ranges; this one does not, and nothing is mixed.
    world.run(&["add", &host.at("busy/large.zip"), "--all", "--yes"]).code(0);
    assert_eq!(host.times("busy/large.zip"), 3, "a host that fails is asked again");
    Ok(())
}

#[test]
fn a_later_command_goes_on_where_an_earlier_one_gave_up() -> Done {
    let (world, host) = hosted()?;
    let size = fs::metadata(world.files().join("large.zip"))?.len();
    let add = ["add", &host.at("halt/60/large.zip"), "--all", "--yes"];
    world.run(&add).code(4);
    let tries = host.ranges().len();
    assert!(host.times("halt/60/large.zip") == 5 && tries == 4, "{tries}");
    world.run(&add).code(0);
    assert_eq!(host.times("halt/60/large.zip"), 6);
    let last = host.ranges().last().copied();
    assert!(last.is_some_and(|from| from > size / 2 && from <= size * 60 / 100), "{last:?} of {size}");
    assert!(world.path("sky/dawn.ksky").metadata()?.len() == 3 << 20);
    Ok(())
}

#[test]
fn another_file_behind_the_same_link_is_not_mixed_with_the_first() -> Done {
    let (world, host) = hosted()?;
    // The second half would be of another file: the host says so, and it is fetched anew (and is no archive then).
    world
        .run(&["add", &host.at("other/50/large.zip"), "--all", "--yes"])
        .code(5)
        .says(&["nothing in it is recognised"]);
    world.run(&["add", &host.at("slow/windmill.zip"), "--yes"]).code(0);
    Ok(())
}

#[test]
fn links_are_listed_and_asked_again() -> Done {
    let (world, host) = hosted()?;
    world.run(&["links"]).code(0).says(&["nothing here came by a link"]);
    for name in ["windmill.zip", "gull-cliffs-2.zip"] {
        world.run(&["add", &host.at(&format!("f/{name}")), "--yes"]).code(0);
    }
    world.run(&["links"]).code(0).says(&["fetched", "windmill_row", "f/windmill.zip"]);
    world.run(&["links", "--check"]).code(0).says(&["good"]);
    fs::write(world.files().join("windmill.zip"), "<html><title>Harbour Share</title>")?;
    fs::remove_file(world.files().join("gull-cliffs-2.zip"))?;
    let answer =
        world.run(&["links", "--check"]).code(1).says(&["it is a web page (“Harbour Share”)", "gone"]);
    assert!(answer.out.lines().all(|line| line.chars().count() <= 110), "{}", answer.out);
    let json = world.run(&["links", "--check", "--json"]).code(1).json()?;
    assert_eq!([&json["links"][0]["state"], &json["links"][1]["state"]], ["page", "gone"], "{json}");
    // What was fetched needs no link any more.
    fs::remove_file(world.path("maps/windmill_row.kmap"))?;
    world.run(&["settle", "--yes", "--offline"]).code(0);
    assert!(world.path("maps/windmill_row.kmap").exists());
    drop(host);
    world.run(&["links", "--check"]).code(1).says(&["no answer"]);
    Ok(())
}

#[test]
fn offline_says_what_is_missing() -> Done {
    let (world, host) = hosted()?;
    world.run(&["add", &host.at("f/windmill.zip"), "--yes", "--offline"]).code(4).says(&["--offline"]);
    world.run(&["add", &host.at("f/windmill.zip"), "--yes"]).code(0);
    fs::remove_dir_all(world.root().join(".cache"))?;
    fs::remove_file(world.path("maps/windmill_row.kmap"))?;
    world.run(&["settle", "--yes", "--offline"]).code(4).says(&["it is not in the cache"]);
    world.run(&["settle", "--yes"]).code(0);
    fs::write(world.files().join("windmill.zip"), "another file")?;
    fs::remove_dir_all(world.root().join(".cache"))?;
    fs::remove_file(world.path("maps/windmill_row.kmap"))?;
    world.run(&["settle", "--yes"]).code(4).says(&["was expected"]);
    assert!(!world.path("maps/windmill_row.kmap").exists());
    Ok(())
}

#[test]
fn a_games_own_numbers_and_pages_become_links() -> Done {
    let world = World::empty()?;
    quayside::write_fresh_server(&world.server(), world.port)?;
    fs::create_dir(world.files())?;
    let (name, bytes) = quayside::release("gull-chat", "1.0.0")?;
    fs::write(world.files().join("4410021"), kites::zipped(&[(name, bytes)])?)?;
    let host = FileHost::start(world.files())?;
    let saltwick = fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../core/games/saltwick.toml"))?;
    let rule = format!(
        "\n[[link]]\nmatch = '^(?:http://\\S+/item/)?(?<number>\\d{{7,}})(?:-[\\w-]*)?$'\ndirect = '{}{{{{ number }}}}'\n",
        host.at("items/")
    );
    let own = world.root().join(".config/yalotheca/games");
    fs::create_dir_all(&own)?;
    fs::write(own.join("saltwick.toml"), saltwick + &rule)?;
    world.adopt().code(0);
    world.run(&["add", "4410021", "--yes"]).code(0).says(&["gull-chat"]);
    assert!(world.read("yalotheca.toml")?.contains("facts = { number = \"4410021\" }"));
    world.run(&["drop", "gull-chat", "--yes"]).code(0);
    world.run(&["add", &host.at("item/4410021-gulls-that-talk"), "--yes"]).code(0).says(&["gull-chat"]);
    assert_eq!(host.times("item/4410021-gulls-that-talk"), 0, "the number is enough");
    Ok(())
}

/// A proxy that has one file for whatever is asked of it, and tells what that was.
fn proxy(body: Vec<u8>) -> Result<(String, mpsc::Receiver<String>), Box<dyn std::error::Error>> {
    let listener = TcpListener::bind(("127.0.0.1", 0))?;
    let address = format!("http://{}", listener.local_addr()?);
    let (tell, told) = mpsc::channel();
    thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let mut lines = BufReader::new(&stream).lines().map_while(Result::ok);
            let asked = lines.next().unwrap_or_default();
            lines.take_while(|line| !line.is_empty()).for_each(drop);
            let head = format!(
                "HTTP/1.1 200 OK\r\nContent-Type: application/zip\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
                body.len()
            );
            let sent = stream
                .write_all(head.as_bytes())
                .and_then(|()| if asked.starts_with("HEAD") { Ok(()) } else { stream.write_all(&body) });
            if sent.and(tell.send(asked).map_err(std::io::Error::other)).is_err() {
                return;
            }
        }
    });
    Ok((address, told))
}

#[test]
fn the_usual_variables_name_a_proxy() -> Done {
    let world = World::kites()?;
    let (address, told) = proxy(kites::zipped(&kites::map("rope_walk"))?)?;
    let link = "http://files.larkspur.invalid/maps/rope-walk.zip";
    // Nobody but a proxy knows that host.
    let before = world.digests()?;
    world.run(&["add", link, "--yes"]).code(4).says(&["files.larkspur.invalid"]);
    assert_eq!(world.digests()?, before);
    world.run_with(&["add", link, "--yes"], &[("http_proxy", &address)]).code(0).says(&["rope_walk"]);
    let asked: Vec<String> = told.try_iter().collect();
    assert!(!asked.is_empty() && asked.iter().all(|line| line.contains(link)), "{asked:?}");
    // What is on this machine needs none.
    let host = FileHost::start(world.files())?;
    let env = [("http_proxy", "http://127.0.0.1:9"), ("no_proxy", "127.0.0.1")];
    world.run_with(&["add", &host.at("f/windmill.zip"), "--yes"], &env).code(0);
    Ok(())
}
