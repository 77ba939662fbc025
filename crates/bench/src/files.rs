//! Files: a modpack unpacked, hashed and placed by the whole program beside `bsdtar` and `cp`; downloads beside `curl`; and
//! routing. Every run has a fresh folder, since a mass delete before it would slow creation down.

use std::{
    fs::{self, File},
    io::{self, BufWriter, Write},
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use yalotheca_core::{
    game::{BUILT_IN, Game, load},
    id::Digest,
    route::{Asked, Bundle, sort_out},
};
use yalotheca_host::{
    fetch::{Fetcher, Wanted},
    store::Store,
};
use yalotheca_standin::file_host::FileHost;
use zip::{ZipWriter, write::SimpleFileOptions};

/// How many files the modpack has.
const FILES: usize = 20_000;
/// How many bytes they have in all.
const BYTES: usize = 600_000_000;
/// How many files are downloaded, and how large each is.
const DOWNLOADS: (usize, usize) = (200, 5_000_000);
/// How many entries are routed.
const ENTRIES: usize = 100_000;

/// Bytes that are the same for the same seed and hard to pack.
pub(crate) fn noise(seed: usize, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

/// Bytes that pack about as well as text does.
fn text(seed: usize, length: usize) -> Vec<u8> {
    let letters = b"abcdefghijklmnopqrstuvwxyz 0123456789";
    let words: Vec<Vec<u8>> = noise(7, 4000 * 7)
        .chunks(7)
        .map(|word| word.iter().map(|byte| letters[usize::from(*byte) % letters.len()]).collect())
        .collect();
    let mut out = Vec::with_capacity(length + 8);
    for pick in noise(seed, length / 4 + 2).chunks_exact(2) {
        out.extend_from_slice(&words[usize::from(u16::from_le_bytes([pick[0], pick[1]])) % words.len()]);
        if out.len() >= length {
            break;
        }
    }
    out.truncate(length);
    out
}

/// Writes a modpack of the voxel game.
fn write_modpack(path: &Path) -> io::Result<()> {
    let mut zip = ZipWriter::new(BufWriter::new(File::create(path)?));
    let options = SimpleFileOptions::default();
    zip.start_file("festival/modpack.conf", options)?;
    zip.write_all(b"name = festival\n")?;
    for at in 0..FILES {
        let part = at / 100;
        if at % 100 == 0 {
            zip.start_file(format!("festival/m{part}/mod.conf"), options)?;
            zip.write_all(format!("name = m{part}\n").as_bytes())?;
            zip.start_file(format!("festival/m{part}/init.lua"), options)?;
            zip.write_all(b"-- x\n")?;
        }
        // Sizes from a fifth of the mean to twice as much.
        let length = BYTES / FILES * [2, 3, 5, 10, 10, 20, 20][at % 7] / 10;
        zip.start_file(format!("festival/m{part}/d{}/f{at}.dat", at % 100 / 25), options)?;
        zip.write_all(&if at % 3 == 0 { noise(at, length) } else { text(at, length) })?;
    }
    zip.finish()?.flush()
}

/// What was written before is on the disk before anything is measured.
fn quiet() -> io::Result<()> {
    Command::new("sync").status().map(drop)
}

fn timed(act: impl FnOnce() -> io::Result<bool>) -> io::Result<Duration> {
    quiet()?;
    let started = Instant::now();
    if act()? { Ok(started.elapsed()) } else { Err(io::Error::other("a command that is measured failed")) }
}

fn run(words: &[&str], folder: &Path, cache: &Path) -> io::Result<bool> {
    let mut command = Command::new(words[0]);
    command.args(&words[1..]).current_dir(folder).env("XDG_CACHE_HOME", cache);
    Ok(command.stdout(Stdio::null()).status()?.success())
}

/// A fresh voxel server, adopted.
fn server(program: &str, folder: &Path, cache: &Path) -> io::Result<()> {
    fs::create_dir_all(folder.join("world"))?;
    fs::write(folder.join("minetest.conf"), "port = 1\n")?;
    fs::write(folder.join("world/world.mt"), "gameid = minetest\n")?;
    let version = folder.with_extension("version");
    fs::write(&version, "#!/bin/sh\necho Luanti 5.6.1\n")?;
    fs::set_permissions(&version, std::os::unix::fs::PermissionsExt::from_mode(0o755))?;
    let set = format!("program={}", version.display());
    run(&[program, "adopt", "--set", &set, "--set", "share=/nowhere"], folder, cache).map(drop)
}

fn seconds(mut times: Vec<Duration>) -> String {
    times.sort();
    let all: Vec<String> = times.iter().map(|time| format!("{:.2}", time.as_secs_f64())).collect();
    format!("{:6.2} s  ({})", times[times.len() / 2].as_secs_f64(), all.join(" "))
}

fn unpacking(program: &str, root: &Path, runs: usize, out: &mut impl Write) -> io::Result<()> {
    let pack = root.join("festival.zip");
    write_modpack(&pack)?;
    let pack = pack.display().to_string();
    let mut times: [Vec<Duration>; 5] = Default::default();
    for at in 0..runs {
        let folder = root.join(format!("run-{at}"));
        let (first, second, cache) = (folder.join("first"), folder.join("second"), folder.join("cache"));
        let other = folder.join("other");
        fs::create_dir_all(&other)?;
        server(program, &first, &cache)?;
        server(program, &second, &cache)?;
        let add = [program, "add", &pack, "--yes", "--quiet"];
        times[0].push(timed(|| run(&add, &first, &cache))?);
        times[1].push(timed(|| run(&["bsdtar", "-xf", &pack], &other, &cache))?);
        times[2].push(timed(|| run(&add, &second, &cache))?);
        times[3].push(timed(|| run(&["cp", "-r", "other", "copy"], &folder, &cache))?);
        times[4].push(timed(|| {
            Ok(run(&["cp", "-r", "other", "copy-2"], &folder, &cache)?
                && run(&["sync", "-f", "copy-2"], &folder, &cache)?)
        })?);
    }
    let names = [
        "add: unpack, hash, place, keep",
        "bsdtar -x",
        "add on a second server, from the cache",
        "cp -r",
        "cp -r, and sync -f",
    ];
    for (name, times) in names.iter().zip(times) {
        writeln!(out, "{name:40} {}", seconds(times))?;
    }
    Ok(())
}

fn downloading(root: &Path, runs: usize, out: &mut impl Write) -> io::Result<()> {
    let files = root.join("files");
    fs::create_dir_all(&files)?;
    let (count, length) = DOWNLOADS;
    let mut wanted = Vec::new();
    let host = FileHost::start(files.clone())?;
    for at in 0..count {
        let bytes = noise(at, length);
        let name = format!("{at}.bin");
        wanted.push(Wanted {
            url: host.at(&format!("f/{name}")),
            digest: Some(Digest::of(&bytes)),
            size: Some(length as u64),
            name: name.clone(),
            most: None,
        });
        fs::write(files.join(name), bytes)?;
    }
    let (mut ours, mut curl) = (Vec::new(), Vec::new());
    for at in 0..runs {
        let store = Store::at(&root.join(format!("store-{at}")));
        ours.push(timed(|| {
            let fetcher = Fetcher::new(store, false);
            Ok(fetcher.download_all(wanted.clone()).iter().all(Result::is_ok))
        })?);
        let folder = root.join(format!("curl-{at}"));
        fs::create_dir_all(&folder)?;
        let mut words = vec!["curl", "--parallel", "--silent", "--fail", "--remote-name-all"];
        words.extend(wanted.iter().map(|wanted| wanted.url.as_str()));
        curl.push(timed(|| run(&words, &folder, root))?);
    }
    writeln!(out, "{:40} {}", "200 downloads of 5 MB, checked", seconds(ours))?;
    writeln!(out, "{:40} {}", "curl --parallel", seconds(curl))
}

/// Names without bytes, but for descriptors.
struct Names(Vec<(String, u64)>, std::collections::HashSet<String>);

impl Bundle for Names {
    fn has(&mut self, path: &str) -> bool {
        self.1.contains(path)
    }
    fn read(&mut self, path: &str) -> Result<Option<Vec<u8>>, String> {
        let folder = path.strip_suffix("/mod.conf").and_then(|folder| folder.rsplit('/').next());
        Ok(folder.filter(|_| self.1.contains(path)).map(|name| format!("name = {name}\n").into_bytes()))
    }
    fn folders(&mut self, _: &str) -> Vec<String> {
        Vec::new()
    }
    fn files(&mut self) -> Vec<(String, u64)> {
        self.0.clone()
    }
    fn head(&mut self, _: &str, _: usize) -> Vec<u8> {
        Vec::new()
    }
}

fn game() -> io::Result<Game> {
    let text = BUILT_IN.iter().find(|(name, _)| *name == "luanti").map_or("", |(_, text)| *text);
    load("luanti.toml", text).map_err(io::Error::other)
}

fn routing(runs: usize, out: &mut impl Write) -> io::Result<()> {
    let game = game()?;
    let mut names: Vec<(String, u64)> = Vec::new();
    for at in 0..ENTRIES {
        let folder = format!("wrapper/mod{}", at / 100);
        names.push(match at % 100 {
            0 => (format!("{folder}/mod.conf"), 20),
            1 => (format!("{folder}/init.lua"), 20),
            2 => (format!("wrapper/read me {at}.txt"), 20),
            other => (format!("{folder}/textures/{other}/f{at}.png"), 4000),
        });
    }
    let set = names.iter().map(|(name, _)| name.clone()).collect();
    let mut bundle = Names(names, set);
    let mut times = Vec::new();
    for _ in 0..runs {
        times.push(timed(|| {
            let sorted = sort_out(&game, "big", &mut bundle, &Asked::default()).map_err(io::Error::other)?;
            Ok(sorted.contents.len() == ENTRIES / 100
                && sorted.left_out.len() + sorted.unrouted.len() == ENTRIES / 100)
        })?);
    }
    writeln!(out, "{:40} {}", "routing 100,000 entries", seconds(times))
}

/// Measures all of it, or only one part (`routing`, `downloads`, `unpacking`). `program` is the built program.
pub(crate) fn measure(program: &Path, runs: usize, only: Option<&str>) -> io::Result<()> {
    let is_asked = |part: &str| only.is_none_or(|only| only == part);
    let mut out = io::stdout();
    let root: PathBuf = std::env::temp_dir().join(format!("yalotheca-bench-{}", std::process::id()));
    fs::create_dir_all(&root)?;
    if is_asked("routing") {
        routing(runs, &mut out)?;
    }
    if is_asked("downloads") {
        downloading(&root, runs, &mut out)?;
    }
    if is_asked("unpacking") {
        unpacking(&program.display().to_string(), &root, runs, &mut out)?;
    }
    fs::remove_dir_all(&root)
}
