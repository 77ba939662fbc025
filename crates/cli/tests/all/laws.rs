//! The six laws, on servers as people leave them: each server is one of the three made-up games', put into a mess by chance, and gets
//! commands by chance, some of them two at once; after each the laws are looked at. `YALOTHECA_LAW_SEEDS` says how many servers.
//!
//! Two gaps: a server with contents that are off, doubled, or in a folder where the server does not look is settled once before the laws
//! are tested, without the first law, since `settle` still puts those right without being asked; and the second law is not tested on
//! servers with an entry for a missing content, since `check` does not report those yet.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    os::unix::fs::{MetadataExt, lchown, symlink},
    path::PathBuf,
    process::Stdio,
};

use serde_json::Value;

use crate::harness::{Answer, Done, World, digests_of};

/// Somebody whose server root works on.
const OWNER: u32 = 4321;

type Whatever<T> = Result<T, Box<dyn std::error::Error>>;

/// Numbers by chance, the same for the same seed.
struct Chance(u64);

impl Chance {
    fn number(&mut self, below: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % below
    }

    fn one_of<T: Copy>(&mut self, all: &[T]) -> T {
        let at = usize::try_from(self.number(all.len() as u64)).unwrap_or(0);
        all[at]
    }

    fn is_so(&mut self, percent: u64) -> bool {
        self.number(100) < percent
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Game {
    Harbour,
    Kites,
    Moor,
}

/// A server in a mess, with a folder beside it that must stay untouched.
struct Mess {
    game: Game,
    world: World,
    /// Whether the folders in it, and what they hold, belong to somebody else.
    is_owned: bool,
}

/// Everything that an undo has to bring back.
#[derive(PartialEq, Eq)]
struct State {
    files: BTreeMap<String, String>,
    wants: String,
    lock: String,
    receipt: String,
}

impl Mess {
    fn of(game: Game, chance: &mut Chance) -> Whatever<Self> {
        let mut is_owned = false;
        let world = match game {
            Game::Harbour => harbour(chance)?,
            Game::Kites => World::kites()?,
            Game::Moor => {
                let world = World::moor()?;
                world.run(&["trial"]).code(0);
                world
            }
        };
        let outside = world.root().join("outside");
        fs::create_dir_all(outside.join("deep"))?;
        fs::write(outside.join("deep/theirs"), "theirs")?;
        fs::write(outside.join("theirs"), "theirs")?;
        // Things that somebody left there.
        world.write("notes from last year.txt", "ask Wren")?;
        world.write("crew/plans.txt", "more lamps")?;
        if chance.is_so(50) {
            symlink("../outside", world.path("out"))?;
            symlink("../../outside/theirs", world.path("crew/out.txt"))?;
        }
        if chance.is_so(50) {
            symlink("plans.txt", world.path("crew/same plans.txt"))?;
            symlink("crew", world.path("staff"))?;
        }
        // Root works on the server of somebody else.
        if chance.is_so(30) && fs::metadata("/proc/self")?.uid() == 0 {
            is_owned = true;
            for path in below_folders(&world)? {
                lchown(path, Some(OWNER), Some(OWNER))?;
            }
        }
        Ok(Self { game, world, is_owned })
    }

    fn state(&self) -> Whatever<State> {
        Ok(State {
            files: self.world.digests()?,
            wants: self.world.read("yalotheca.toml")?,
            lock: self.world.read("yalotheca.lock")?,
            receipt: self.world.read(".yalotheca/receipt.json")?,
        })
    }

    /// A command by chance.
    fn words(&self, chance: &mut Chance) -> Vec<String> {
        let words: Vec<&str> = match self.game {
            Game::Harbour => {
                let name = chance.one_of(&[
                    "tidebell",
                    "lamp-oil",
                    "cobbles",
                    "gull-chat",
                    "quiet-bells",
                    "ferry-lines",
                    "night-lamps",
                    "evening-tide",
                    "coin-purse",
                ]);
                match chance.number(14) {
                    10 => vec!["fix"],
                    11 => vec!["fix", name],
                    12 => vec!["off", chance.one_of(&["cobbles", "evening-tide", name])],
                    13 => vec!["on", chance.one_of(&["cobbles", "evening-tide", name])],
                    0..4 => vec!["add", name],
                    4..6 => vec!["drop", name],
                    6 => vec!["update"],
                    7 => vec![
                        "settings",
                        "server",
                        chance.one_of(&["/look.must=yes", "/look.must=no", "/name=Harbour"]),
                    ],
                    8 => vec!["order", name, "--after", "lamp-oil"],
                    _ => vec!["settle", "--clean-first"],
                }
            }
            Game::Kites => match chance.number(6) {
                0 => vec!["add", "../files/windmill.zip"],
                1 => vec!["add", "../files/gull-cliffs-2.zip"],
                2 => vec!["add", "../files/two-lofts.zip", "--all"],
                3 => vec![
                    "maps",
                    "rotate",
                    "pier_lights",
                    chance.one_of(&["windmill_row", "gull_cliffs", "net_loft"]),
                ],
                4 => vec!["drop", chance.one_of(&["windmill_row", "gull_cliffs", "net_loft"])],
                _ => vec!["maps", "play", chance.one_of(&["windmill_row", "pier_lights"])],
            },
            Game::Moor => match chance.number(4) {
                0 => vec!["add", "lantern-seller", "--set", chance.one_of(&["place=1,2,3", "place=4,5,6"])],
                1 => vec!["add", "reed-burst"],
                2 => vec!["drop", chance.one_of(&["lantern-seller", "reed-burst"])],
                _ => vec!["settle"],
            },
        };
        let mut words: Vec<String> = words.into_iter().map(str::to_owned).collect();
        words.push("--yes".into());
        words
    }

    /// What somebody does by hand.
    fn by_hand(&self, chance: &mut Chance) -> Done {
        let placed: Vec<String> = self.world.manifests()?.into_iter().flat_map(|(_, files)| files).collect();
        if placed.is_empty() {
            return Ok(());
        }
        let at = usize::try_from(chance.number(placed.len() as u64))?;
        let path = self.world.path(&placed[at]);
        match chance.number(3) {
            0 => fs::remove_file(path).ok().unwrap_or_default(),
            1 if path.exists() => {
                let mut bytes = fs::read(&path)?;
                bytes.extend_from_slice(b"patched");
                // As an editor does: a new file in its place.
                fs::remove_file(&path)?;
                fs::write(&path, bytes)?;
                if self.is_owned {
                    lchown(&path, Some(OWNER), Some(OWNER))?;
                }
            }
            _ => self.world.write("crew/plans.txt", "fewer lamps")?,
        }
        Ok(())
    }
}

/// The folders of a server, those of ours apart, and everything in them.
fn below_folders(world: &World) -> Whatever<Vec<PathBuf>> {
    let mut all = Vec::new();
    for entry in walkdir::WalkDir::new(world.server()).min_depth(1) {
        let entry = entry?;
        let is_ours = entry.path().starts_with(world.path(".yalotheca"));
        if !is_ours && (entry.depth() > 1 || entry.file_type().is_dir()) {
            all.push(entry.into_path());
        }
    }
    Ok(all)
}

/// A server with plugins that somebody put there, in an order of their own, with entries of others.
fn harbour(chance: &mut Chance) -> Whatever<World> {
    let world = World::empty()?;
    yalotheca_standin::quayside::write_fresh_server(&world.server(), world.port)?;
    let files = world.root().join("quayside/files");
    let mut order = String::from("# the crew's order\n");
    let mut plugins = vec!["lamp-oil-1.0.2", "gull-chat-1.0.0", "harbour-core-2.3.0", "coin-purse-1.3.0"];
    while let Some(at) = (!plugins.is_empty()).then(|| chance.number(plugins.len() as u64)) {
        let name = plugins.remove(usize::try_from(at)?);
        if chance.is_so(60) {
            fs::create_dir_all(world.path("plugins"))?;
            fs::copy(files.join(format!("{name}.swp")), world.path(&format!("plugins/{name}.swp")))?;
            let line = format!("{}\n", name.rsplit_once('-').map_or(name, |(id, _)| id));
            // Somebody wrote it twice.
            order.push_str(&line.repeat(if chance.is_so(15) { 2 } else { 1 }));
        }
    }
    if chance.is_so(40) {
        order.push_str("ghost\n# until the festival\n");
    }
    world.write("plugins/order.txt", &order)?;
    if chance.is_so(40) {
        fs::create_dir_all(world.path("towns/brinewick/packs"))?;
        fs::copy(files.join("cobbles-1.0.zip"), world.path("towns/brinewick/packs/cobbles-1.0.zip"))?;
        // A data pack that is not listed is off.
        let packs = chance.one_of(&[
            "[\n  \"cobbles\",\n  \"theirs\"\n]\n",
            "[\"theirs\"]\n",
            "[]\n",
            "[ \"cobbles\" ]",
        ]);
        world.write("towns/brinewick/packs.json", packs)?;
    }
    let put = |name: &str, to: &str| -> Done {
        let to = world.path(to);
        fs::create_dir_all(to.parent().ok_or("it lies in a folder")?)?;
        fs::copy(files.join(name), to)?;
        Ok(())
    };
    if chance.is_so(30) {
        // Off: it lies there, and no line names it.
        put("ferry-lines-1.0.0.swp", "plugins/ferry-lines-1.0.0.swp")?;
    }
    if chance.is_so(30) {
        // Doubled.
        put("gull-chat-1.0.0.swp", "plugins/gull-chat-1.0.0.swp")?;
        put("gull-chat-1.1.0.swp", "plugins/gull-chat-1.1.0.swp")?;
    }
    if chance.is_so(30) {
        // Too deep.
        put("quiet-bells-1.0.0.swp", "plugins/quiet-bells/quiet-bells-1.0.0.swp")?;
    }
    world.adopt().code(0);
    Ok(world)
}

/// The paths that a change names, in its JSON.
fn named(answer: &Answer) -> Whatever<BTreeSet<String>> {
    let mut all = BTreeSet::new();
    // Some commands print another result before.
    let start = answer.out.find('{').unwrap_or(0);
    for value in serde_json::Deserializer::from_str(&answer.out[start..]).into_iter::<Value>() {
        let value = value?;
        for (list, keys) in [("files", &["path", "from"][..]), ("config", &["path"]), ("kept", &["beside"])] {
            for line in value[list].as_array().into_iter().flatten() {
                all.extend(keys.iter().filter_map(|key| line[*key].as_str()).map(str::to_owned));
            }
        }
    }
    Ok(all)
}

/// Laws 3 and 4: a change changes what it names and nothing else, and is taken back as a whole.
fn alone(mess: &Mess, chance: &mut Chance, told: &mut Vec<String>) -> Done {
    let words = mess.words(chance);
    let before = mess.state()?;
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    let with_json: Vec<&str> = words.iter().copied().chain(["--json"]).collect();
    let answer = mess.world.run(&with_json);
    told.push(format!("{words:?}: {}", answer.code));
    let after = mess.state()?;
    if answer.code != 0 {
        assert!([1, 2, 3, 5].contains(&answer.code), "{told:#?}\n{}{}", answer.out, answer.err);
        assert!(after == before, "it failed, and changed something: {told:#?}\n{}{}", answer.out, answer.err);
        return Ok(());
    }
    let named = named(&answer)?;
    let all: BTreeSet<&String> = before.files.keys().chain(after.files.keys()).collect();
    for path in all {
        let (was, is) = (before.files.get(path), after.files.get(path));
        let is_folder = |one: Option<&String>| one.is_none_or(|one| one == "folder");
        if was != is && !(is_folder(was) && is_folder(is)) {
            assert!(
                named.contains(path),
                "{path} was changed and not named: {told:#?}\n{named:?}\n{}",
                answer.out
            );
        }
    }
    if after == before {
        return Ok(());
    }
    let undo = mess.world.run(&["undo", "--yes"]);
    assert_eq!(undo.code, 0, "{told:#?}\n{}{}", undo.out, undo.err);
    let undone = mess.state()?;
    assert_eq!(undone.files, before.files, "{told:#?}");
    assert_eq!((&undone.wants, &undone.lock), (&before.wants, &before.lock), "{told:#?}");
    assert!(undone == before, "the receipt: {told:#?}");
    if chance.is_so(80) {
        let redo = mess.world.run(&["redo", "--yes"]);
        assert_eq!(redo.code, 0, "{told:#?}\n{}{}", redo.out, redo.err);
        let redone = mess.state()?;
        assert_eq!(redone.files, after.files, "{told:#?}");
        assert!(redone == after, "{told:#?}");
    }
    Ok(())
}

/// Law 5: of two commands at once each is done on what is there, or not at all.
fn together(mess: &Mess, chance: &mut Chance, told: &mut Vec<String>) -> Done {
    let count = |world: &World| -> Whatever<usize> {
        Ok(world.run(&["history", "--json"]).code(0).json()?["history"].as_array().map_or(0, Vec::len))
    };
    let before = count(&mess.world)?;
    let state = mess.state()?;
    let mut children = Vec::new();
    for _ in 0..2 {
        let words = mess.words(chance);
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        let child = mess.world.command(&words).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn()?;
        children.push((format!("{words:?}"), child));
    }
    let mut done = 0;
    for (words, child) in children {
        let output = child.wait_with_output()?;
        let code = output.status.code().unwrap_or(-1);
        told.push(format!("at once {words}: {code}"));
        let error = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!([0, 1, 2, 3, 5].contains(&code), "{told:#?}\n{error}");
        done += usize::from(String::from_utf8_lossy(&output.stdout).contains("Settled as change"));
    }
    let noted = count(&mess.world)? - before;
    assert!(noted >= done, "{told:#?}: {done} said that they were done, and {noted} are noted");
    // Each of them goes back, and then all is as it was.
    for _ in 0..noted {
        let undo = mess.world.run(&["undo", "--yes"]);
        assert_eq!(undo.code, 0, "{told:#?}\n{}{}", undo.out, undo.err);
    }
    assert!(mess.state()? == state, "{told:#?}");
    Ok(())
}

/// Law 6: without catalogues and archives everything that is there is known, and comes back.
fn without_sources(mess: &Mess, told: &[String]) -> Done {
    let names = ["quayside", "files", "tweaks"];
    for name in names {
        fs::rename(mess.world.root().join(name), mess.world.root().join(format!("{name} is gone"))).ok();
    }
    let before = mess.state()?;
    for words in [
        &["check"][..],
        &["preview"],
        &["order"],
        &["links"],
        &["history"],
        &["settings"],
        &["update", "--yes"],
        &["settle", "--yes"],
    ] {
        let answer = mess.world.run(words);
        // An update that could ask no catalogue says so.
        let most = if words[0] == "update" { 4 } else { 1 };
        assert!(answer.code <= most, "{words:?}: {told:#?}\n{}{}", answer.out, answer.err);
    }
    assert!(mess.state()?.files == before.files, "{told:#?}");
    for name in names {
        fs::rename(mess.world.root().join(format!("{name} is gone")), mess.world.root().join(name)).ok();
    }
    Ok(())
}

fn one_server(seed: u64) -> Done {
    let mut chance = Chance(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ 0x5DEE_CE66);
    chance.number(2);
    let game = [Game::Harbour, Game::Kites, Game::Moor][usize::try_from(seed % 3)?];
    let mess = Mess::of(game, &mut chance)?;
    let outside = digests_of(&mess.world.root().join("outside"))?;
    let mut told = vec![format!("seed {seed}, {game:?}")];
    // Law 1: adopting is neutral.
    let preview = mess.world.run(&["preview", "--json"]).code(0).json()?;
    let nothing = Value::Array(vec![]);
    for part in ["contents", "files", "config"] {
        assert_eq!(preview[part], nothing, "{part}: {told:#?}");
    }
    for _ in 0..7 {
        if chance.is_so(25) {
            together(&mess, &mut chance, &mut told)?;
        } else {
            alone(&mess, &mut chance, &mut told)?;
        }
        if chance.is_so(20) {
            mess.by_hand(&mut chance)?;
            told.push("somebody did something by hand".into());
            // What is missing is put back, what was changed stays, and then there is nothing to do.
            let state = mess.state()?;
            let settled = mess.world.run(&["settle", "--yes"]);
            if settled.err.contains("cannot get the files of") {
                // It exists only on this server: the command says so, and how to continue without it.
                assert!([1, 4].contains(&settled.code), "{told:#?}");
                told.push("and its files are in no source".into());
                return Ok(());
            }
            assert_eq!(settled.code, 0, "{told:#?}\n{}{}", settled.out, settled.err);
            for (path, digest) in &state.files {
                assert_eq!(mess.world.digests()?.get(path), Some(digest), "{path}: {told:#?}");
            }
            mess.world.run(&["preview"]).code(0).says(&["nothing to do"]);
        }
    }
    without_sources(&mess, &told)?;
    if mess.is_owned {
        for path in below_folders(&mess.world)? {
            // A new folder, and everything in it, belongs to the owner of the folder above.
            let folder = path.parent().ok_or("it lies in a folder")?;
            let owner = fs::symlink_metadata(&path)?.uid();
            assert!(
                owner == OWNER || owner == fs::metadata(folder)?.uid(),
                "{} belongs to {owner}: {told:#?}",
                path.display()
            );
        }
    }
    // Law 2, as far as this game can be started here: a clean check means a clean start.
    // What fix does about the rest is one change, and undone as one.
    let before = mess.state()?;
    let fix = mess.world.run(&["fix", "--yes"]);
    told.push(format!("fix: {}", fix.code));
    assert!([0, 1, 3].contains(&fix.code), "{told:#?}\n{}{}", fix.out, fix.err);
    if mess.state()? != before {
        mess.world.run(&["undo", "--yes"]).code(0);
        assert!(mess.state()? == before, "{told:#?}\n{}", fix.out);
        mess.world.run(&["redo", "--yes"]).code(0);
    }
    if fix.code == 0 {
        // Following a remedy makes its finding go away.
        let json = mess.world.run(&["check", "--json"]).json()?;
        for finding in json["findings"].as_array().into_iter().flatten() {
            let left = finding["weight"] == "trouble" && finding["fixable"] == true;
            // Another release's second copy is only set aside when asked.
            assert!(!left || finding["code"] == "second", "{told:#?}\n{finding:#}\n{}", fix.out);
        }
    }
    let check = mess.world.run(&["check"]);
    if check.code == 0 && game != Game::Moor {
        let trial = mess.world.run(&["trial"]);
        let state = format!(
            "{}{}{}",
            check.out,
            mess.state()?.lock,
            mess.world.read("plugins/order.txt").unwrap_or_default()
        );
        assert_eq!(trial.code, 0, "{told:#?}\n{state}\n{}{}", trial.out, trial.err);
    }
    assert_eq!(digests_of(&mess.world.root().join("outside"))?, outside, "{told:#?}");
    Ok(())
}

#[test]
fn the_laws_hold_on_servers_in_a_mess() -> Done {
    let seeds = std::env::var("YALOTHECA_LAW_SEEDS").ok().and_then(|text| text.parse().ok()).unwrap_or(12);
    // One of them alone, to look closer.
    let only: Option<u64> = std::env::var("YALOTHECA_LAW_SEED").ok().and_then(|text| text.parse().ok());
    for seed in
        (0..seeds.max(only.map_or(0, |only| only + 1))).filter(|seed| only.is_none_or(|only| only == *seed))
    {
        one_server(seed).map_err(|error| format!("seed {seed}: {error}"))?;
    }
    Ok(())
}
