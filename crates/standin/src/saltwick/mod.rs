//! The Saltwick server, as its manual (docs/games/saltwick.md) describes it.

mod console;
mod contents;
mod files;
pub mod player;
mod range;
mod settings;
#[cfg(test)]
mod tests;

use std::{
    fs,
    io::{self, BufRead, BufReader, Write},
    net::{TcpListener, TcpStream},
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    thread,
    time::{Duration, SystemTime, UNIX_EPOCH},
};

use serde_json::json;

/// A start that cannot go on: the reason, as the log gives it.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Closed(String);

/// The server's log: on standard output and in `logs/latest.log`.
struct Log {
    file: Option<fs::File>,
}

impl Log {
    fn open(folder: &Path) -> Self {
        let file = fs::create_dir_all(folder.join("logs"))
            .and_then(|()| fs::File::create(folder.join("logs/latest.log")));
        Self { file: file.ok() }
    }

    /// Returns another writer of the same log.
    fn again(&self) -> Self {
        Self { file: self.file.as_ref().and_then(|file| file.try_clone().ok()) }
    }

    fn say(&mut self, level: &str, text: &str) {
        let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |now| now.as_secs()) % 86_400;
        let line = format!("[{:02}:{:02}:{:02}] {level} {text}\n", now / 3600, now / 60 % 60, now % 60);
        io::stdout().write_all(line.as_bytes()).ok();
        if let Some(file) = &mut self.file {
            file.write_all(line.as_bytes()).ok();
        }
    }
}

/// Runs the server in a folder until it is told to stop, and returns its exit code.
pub fn run(folder: &Path) -> u8 {
    let mut log = Log::open(folder);
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGTERM, signal_hook::consts::SIGINT] {
        if signal_hook::flag::register(signal, Arc::clone(&stop)).is_err() {
            log.say("warn", "signals are not heard");
        }
    }
    match serve(folder, &mut log, &stop) {
        Ok(()) => {
            log.say("info", "harbour closing");
            0
        }
        Err(Closed(why)) => {
            log.say("error", &format!("harbour closed: {why}"));
            1
        }
    }
}

fn serve(folder: &Path, log: &mut Log, stop: &Arc<AtomicBool>) -> Result<(), Closed> {
    let engine = files::boot(folder)?;
    log.say("info", &format!("engine {} on runtime {}", engine.version, engine.runtime));
    files::terms(folder)?;
    let conf = files::conf(folder)?;
    let port: u16 =
        conf.get("port").parse().map_err(|_| Closed(format!("port {} is no port", conf.get("port"))))?;
    log.say("warn", "chart 3 has no tide table");
    let loaded = contents::load_plugins(folder, &engine.version, log);
    contents::load_data_packs(&folder.join("towns").join(conf.get("town")), &engine.version, log);
    let mods = contents::load_mods(folder, conf.get("loader"), &engine.version).map_err(Closed)?;
    let listener =
        TcpListener::bind(("127.0.0.1", port)).map_err(|_| Closed(format!("port {port} is taken")))?;
    listener.set_nonblocking(true).map_err(|error| Closed(error.to_string()))?;
    let console = console::Console {
        folder: folder.into(),
        loaded,
        secret: conf.get("console.secret").into(),
        stop: Arc::clone(stop),
        log: log.again(),
    };
    console::open(&conf, console)?;
    log.say("info", &format!("harbour open on port {port}"));
    while !stop.load(Ordering::SeqCst) {
        match listener.accept() {
            Ok((stream, _)) => {
                let reply = json!({"engine": engine.version, "mods": mods, "look": look(&conf)});
                thread::spawn(move || answer(&stream, &reply));
            }
            Err(_) => thread::sleep(Duration::from_millis(15)),
        }
    }
    Ok(())
}

/// What players are told of the look.
fn look(conf: &files::Conf) -> serde_json::Value {
    json!({
        "link": conf.get("look.link"),
        "digest": conf.get("look.digest"),
        "must": conf.get("look.must") == "yes",
    })
}

/// A player's game sends one line and gets one.
fn answer(stream: &TcpStream, reply: &serde_json::Value) {
    stream.set_nonblocking(false).ok();
    stream.set_read_timeout(Some(Duration::from_secs(2))).ok();
    let mut line = String::new();
    if BufReader::new(stream).read_line(&mut line).is_ok_and(|read| read > 0) {
        let mut stream = stream;
        stream.write_all(format!("{reply}\n").as_bytes()).ok();
    }
}

/// Reads one member of an archive.
fn member(archive: &Path, name: &str) -> Option<Vec<u8>> {
    let mut zip = zip::ZipArchive::new(fs::File::open(archive).ok()?).ok()?;
    let mut bytes = Vec::new();
    io::Read::read_to_end(&mut zip.by_name(name).ok()?, &mut bytes).ok()?;
    Some(bytes)
}

/// The files directly in a folder whose names end so, by name.
fn files_with_suffix(folder: &Path, suffix: &str) -> Vec<PathBuf> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let mut found: Vec<PathBuf> = entries
        .map(|entry| entry.path())
        .filter(|path| {
            path.is_file() && path.file_name().is_some_and(|name| name.to_string_lossy().ends_with(suffix))
        })
        .collect();
    found.sort();
    found
}
