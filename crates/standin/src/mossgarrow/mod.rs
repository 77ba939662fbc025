//! The Mossgarrow server, as its manual (docs/games/mossgarrow.md) describes it.

mod console;
mod files;
mod items;
pub mod player;
pub mod regions;
#[cfg(test)]
mod tests;
mod trade;

use std::{
    collections::BTreeSet,
    fs,
    io::{self, BufRead, BufReader, Write},
    net::{TcpListener, TcpStream},
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    thread,
    time::Duration,
};

use serde_json::json;

use files::{Arguments, Settings, story};

fn say(text: &str) {
    let mut out = io::stdout().lock();
    out.write_all(format!("12:00:01 | {text}\n").as_bytes()).and_then(|()| out.flush()).ok();
}

/// Runs the server in a folder until it is told to stop, and returns its exit code.
pub fn run(folder: &Path) -> u8 {
    match serve(folder) {
        Ok(()) => 0,
        Err(why) => {
            say(&format!("moor asleep: {why}"));
            1
        }
    }
}

/// What the first start makes.
const MADE: &[(&str, &str)] = &[
    ("rules/happenings.yml", "# What happens on the moor.\n- name: mist\n  every: 30\n"),
    ("rules/answers.yml", "# What is done about it.\n- to: mist\n  do: ring the bell\n"),
    ("trade/posts/open.toml", "label = \"The open market\"\ncentre = [0.0, 0.0, 0.0]\nreach = 10.0\n"),
    ("trade/wares/reeds.json", "{\n    \"reed\": {\"price\": 2, \"kept\": 40}\n}\n"),
    (
        "trade/stock/reeds.json",
        "{\n    \"label\": \"Reeds\",\n    \"sells\": [\"reeds\"],\n    \"buys\": []\n}\n",
    ),
    (
        "trade/people/hanne.xml",
        "<person post=\"open\" stock=\"reeds\" outfit=\"oilskin\">\n    <at x=\"1.0\" y=\"0.0\" z=\"2.5\"/>\n</person>\n",
    ),
    ("campaigns/Basemarsh/open/campaign.txt", "The open moor\n"),
    ("regions/Basemarsh/spawn.pts", "0 0\n"),
    ("regions/Basemarsh/region.grid", "marsh\n"),
    ("regions.index", "1: Basemarsh\n"),
];

fn first_start(folder: &Path) -> io::Result<bool> {
    if folder.join("rules").is_dir() && folder.join("trade").is_dir() {
        return Ok(false);
    }
    for (path, text) in MADE {
        let path = folder.join(path);
        if let Some(above) = path.parent() {
            fs::create_dir_all(above)?;
        }
        if !path.exists() {
            fs::write(path, text)?;
        }
    }
    if !folder.join("regions.bin").exists() {
        regions::compile(folder)?;
    }
    Ok(true)
}

fn serve(folder: &Path) -> Result<(), String> {
    let arguments = Arguments::read(folder)?;
    let mut settings = Settings::read(folder)?;
    items::fetch(folder, settings.one("item_host"));
    if first_start(folder).map_err(|error| error.to_string())? {
        say("first light done");
        return Ok(());
    }
    let port: u16 =
        arguments.one("port").unwrap_or("2410").parse().map_err(|_| "--port is no port".to_owned())?;
    let carried = arguments.all("carry");
    let items = items::all(folder);
    for name in carried.iter().filter(|name| !items.contains_key(*name)) {
        say(&format!("cannot carry {name}: no such folder under items/"));
    }
    let there: Vec<&items::Item> = carried.iter().filter_map(|name| items.get(name)).collect();
    let keys = items::keys(folder)?;
    let refused: Vec<String> = there.iter().flat_map(|item| items::refused(item, &keys)).collect();
    for (name, from) in items::streams(&there).into_iter().filter(|(_, from)| from.len() > 1) {
        say(&format!("[stream] {name}: from {}", from.join(" and ")));
    }
    agree(&carried, &settings);
    let ground = settings.list("ground");
    if ground.last().map(String::as_str) != Some("Basemarsh") {
        return Err("Basemarsh is not the last of the ground".into());
    }
    let plays = story(folder)?;
    let region = plays.split('/').next().unwrap_or_default().to_owned();
    if !folder.join("campaigns").join(&plays).is_dir() {
        return Err(format!("there is no campaign {plays}"));
    }
    if !ground.contains(&region) {
        return Err(format!("{plays} is played on {region}, which is not in the ground"));
    }
    for why in regions::wrong(folder, &ground)? {
        say(&why);
    }
    for why in &refused {
        say(why);
    }
    for item in &there {
        say(&format!("carries {}", item.name));
    }
    let told = json!({
        "carried": carried,
        "keys": keys.keys().collect::<Vec<_>>(),
        "region": region,
        "parts": there.iter().flat_map(|item| items::parts(item)).collect::<Vec<_>>(),
        "turned_away": refused,
    });
    trade::place(folder);
    rules(folder);
    let listener = TcpListener::bind(("127.0.0.1", port)).map_err(|_| format!("port {port} is taken"))?;
    listener.set_nonblocking(true).map_err(|error| error.to_string())?;
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGTERM, signal_hook::consts::SIGINT] {
        signal_hook::flag::register(signal, Arc::clone(&stop)).map_err(|error| error.to_string())?;
    }
    let console = console::Console::open(&settings, &carried)?;
    say(&format!("moor awake on {port}"));
    let mut came = 0;
    while !stop.load(Ordering::SeqCst) {
        if let Some(console) = &console {
            console.answer();
        }
        match listener.accept() {
            Ok((stream, _)) => came += u32::from(answer(&stream, &told)),
            Err(_) => thread::sleep(Duration::from_millis(10)),
        }
    }
    save(&folder.join("saves").join(&plays), came).map_err(|error| error.to_string())?;
    settings.write(folder).map_err(|error| error.to_string())?;
    say("good night");
    Ok(())
}

/// Tells which names are carried in one file only.
fn agree(carried: &[String], settings: &Settings) {
    let listed: BTreeSet<String> = settings.list("carried").into_iter().collect();
    let differ: Vec<&String> = carried
        .iter()
        .collect::<BTreeSet<_>>()
        .symmetric_difference(&listed.iter().collect())
        .copied()
        .collect();
    for name in differ {
        say(&format!("carried and --carry differ: {name}"));
    }
}

/// An answer without its happening, and a happening without an answer, are ignored without a word.
fn rules(folder: &Path) {
    let names = |file: &str, key: &str| match files::yaml(&folder.join("rules").join(file)) {
        Ok(list) => list
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(|one| one[key].as_str().map(str::to_owned))
            .collect::<BTreeSet<String>>(),
        Err(why) => {
            say(&format!("rules/{file}: {why}"));
            BTreeSet::new()
        }
    };
    let (happenings, answers) = (names("happenings.yml", "name"), names("answers.yml", "to"));
    for name in happenings.intersection(&answers) {
        say(&format!("rule {name} is in force"));
    }
}

/// Keeps what players did on a campaign: how many came, in all.
fn save(folder: &Path, came: u32) -> io::Result<()> {
    if came == 0 {
        return Ok(());
    }
    fs::create_dir_all(folder)?;
    let file = folder.join("visits");
    let before = fs::read_to_string(&file).ok().and_then(|text| text.trim().parse::<u32>().ok()).unwrap_or(0);
    fs::write(file, format!("{}\n", before + came))
}

/// Answers a player; returns whether it was one.
fn answer(stream: &TcpStream, told: &serde_json::Value) -> bool {
    stream.set_nonblocking(false).ok();
    stream.set_read_timeout(Some(Duration::from_secs(2))).ok();
    let mut line = String::new();
    let is_player = BufReader::new(stream).read_line(&mut line).is_ok_and(|read| read > 0);
    if is_player {
        let mut stream = stream;
        stream.write_all(format!("{told}\n").as_bytes()).ok();
    }
    is_player
}
