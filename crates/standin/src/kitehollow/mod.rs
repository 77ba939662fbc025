//! The Kitehollow server, as its manual (docs/games/kitehollow.md) describes it.

mod config;
mod console;
pub mod maps;
pub mod player;
#[cfg(test)]
mod tests;

use std::{
    io::{self, BufRead, BufReader, Write},
    net::{TcpListener, TcpStream},
    path::{Path, PathBuf},
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    thread,
    time::Duration,
};

use serde_json::json;

use config::Config;
use maps::Map;

/// A running server, as its threads see it.
struct Server {
    folder: PathBuf,
    config: Mutex<Config>,
    map: Mutex<Map>,
    stop: AtomicBool,
}

fn say(area: &str, text: &str) {
    let mut out = io::stdout().lock();
    out.write_all(format!("[{area}] {text}\n").as_bytes()).and_then(|()| out.flush()).ok();
}

fn held<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Runs the server in a folder until it is told to stop, and returns its exit code.
pub fn run(folder: &Path) -> u8 {
    match serve(folder) {
        Ok(()) => {
            say("host", "landed");
            0
        }
        Err(why) => {
            say("host", &format!("grounded: {why}"));
            3
        }
    }
}

/// Reads a list of maps; those that are not there are told and left out.
fn listed(folder: &Path, list: &str) -> Vec<String> {
    let text = std::fs::read_to_string(folder.join(format!("{list}.list"))).unwrap_or_default();
    let area = if list == "rotation" { "rotation" } else { "offered" };
    let names = text.lines().map(str::trim).filter(|name| !name.is_empty());
    names
        .filter(|name| {
            let there = maps::path(folder, name).is_file();
            if !there {
                say(area, &format!("no such map: {name}"));
            }
            there
        })
        .map(str::to_owned)
        .collect()
}

fn serve(folder: &Path) -> Result<(), String> {
    let config = Config::read(folder)?;
    let rotation = listed(folder, "rotation");
    listed(folder, "offered");
    if rotation.is_empty() {
        return Err("the rotation is empty".into());
    }
    for name in &rotation {
        if let Err(why) = maps::load(folder, name) {
            say("maps", &format!("{name}.kmap: {why}"));
        }
    }
    let start = config.get("start_map").to_owned();
    let map = maps::load(folder, &start).map_err(|why| {
        if why != maps::MISSING {
            say("maps", &format!("{start}.kmap: {why}"));
        }
        format!("cannot load map {start}: {why}")
    })?;
    if !map.has_lanes {
        say("maps", &format!("{start}: no lanes, bots will idle"));
    }
    let game = listen(&config, "game_port")?;
    let server = Arc::new(Server {
        folder: folder.into(),
        map: Mutex::new(map),
        config: Mutex::new(config),
        stop: AtomicBool::new(false),
    });
    let signalled = Arc::new(AtomicBool::new(false));
    signal_hook::flag::register(signal_hook::consts::SIGINT, Arc::clone(&signalled))
        .map_err(|error| error.to_string())?;
    if !held(&server.config).get("console_pass").is_empty() {
        let listener = listen(&held(&server.config), "console_port")?;
        let server = Arc::clone(&server);
        thread::spawn(move || console::serve(&listener, &server));
    }
    let port = held(&server.config).get("game_port").to_owned();
    say("host", &format!("flying on port {port}, map {start}"));
    while !signalled.load(Ordering::SeqCst) && !server.stop.load(Ordering::SeqCst) {
        match game.accept() {
            Ok((stream, _)) => {
                let server = Arc::clone(&server);
                thread::spawn(move || answer(&stream, &server));
            }
            Err(_) => thread::sleep(Duration::from_millis(10)),
        }
    }
    Ok(())
}

fn listen(config: &Config, key: &str) -> Result<TcpListener, String> {
    let port: u16 = config.get(key).parse().map_err(|_| format!("{key} {} is no port", config.get(key)))?;
    let listener = TcpListener::bind(("127.0.0.1", port)).map_err(|_| format!("port {port} is taken"))?;
    listener.set_nonblocking(true).map_err(|error| error.to_string())?;
    Ok(listener)
}

/// A player's game sends one line and gets one.
fn answer(stream: &TcpStream, server: &Server) {
    stream.set_nonblocking(false).ok();
    stream.set_read_timeout(Some(Duration::from_secs(2))).ok();
    let mut line = String::new();
    if BufReader::new(stream).read_line(&mut line).is_ok_and(|read| read > 0) {
        let (map, config) = (held(&server.map), held(&server.config));
        let reply = json!({"map": map.name, "bytes": map.bytes, "crc": map.crc, "sky": map.sky,
            "fetch_from": config.get("fetch_from"), "fetch_cap_mb": config.get("fetch_cap_mb")});
        let mut stream = stream;
        stream.write_all(format!("{reply}\n").as_bytes()).ok();
    }
}
