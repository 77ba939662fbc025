//! A server with 400 contents and 50,000 files on which nothing is to be done: the commands that only look, beside `git` and
//! `b3sum` on the same tree; and how much a settle writes down.

use std::{
    fs,
    io::{self, Write},
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::{Duration, Instant},
};

/// How many contents there are, and how many files each has.
const CONTENTS: usize = 400;
const FILES_EACH: usize = 125;
/// How many bytes a file has.
const LENGTH: usize = 8_000;

fn write_server(folder: &Path) -> io::Result<()> {
    fs::create_dir_all(folder.join("world"))?;
    fs::write(folder.join("minetest.conf"), "port = 1\n")?;
    let mut world = String::from("gameid = minetest\n");
    for content in 0..CONTENTS {
        let mod_folder = folder.join(format!("home/.minetest/mods/m{content:03}"));
        world.extend(["load_mod_m", &format!("{content:03}"), " = true\n"]);
        for part in 0..5 {
            fs::create_dir_all(mod_folder.join(format!("part{part}")))?;
        }
        fs::write(mod_folder.join("mod.conf"), format!("name = m{content:03}\n"))?;
        fs::write(mod_folder.join("init.lua"), "-- nothing\n")?;
        for file in 2..FILES_EACH {
            let bytes = super::files::noise(content * FILES_EACH + file, LENGTH);
            fs::write(mod_folder.join(format!("part{}/texture_{file:03}.png", file % 5)), bytes)?;
        }
    }
    fs::write(folder.join("world/world.mt"), world)?;
    let version = folder.with_extension("version");
    fs::write(&version, "#!/bin/sh\necho Luanti 5.6.1\n")?;
    fs::set_permissions(&version, std::os::unix::fs::PermissionsExt::from_mode(0o755))
}

/// One command that is measured.
struct Row {
    name: String,
    words: Vec<String>,
    times: Vec<Duration>,
    /// The most memory it took, in KiB.
    memory: u64,
}

impl Row {
    fn new(name: &str, words: &[&str]) -> Self {
        let words = words.iter().map(ToString::to_string).collect();
        Self { name: name.into(), words, times: Vec::new(), memory: 0 }
    }

    fn run(&mut self, folder: &Path, cache: &Path) -> io::Result<()> {
        let mut command = Command::new(&self.words[0]);
        command.args(&self.words[1..]).current_dir(folder).env("XDG_CACHE_HOME", cache);
        command.env("XDG_STATE_HOME", cache).env("XDG_CONFIG_HOME", cache).env("HOME", cache);
        command.stdout(Stdio::null()).stderr(Stdio::null());
        let started = Instant::now();
        let mut child = command.spawn()?;
        let pid = child.id();
        let status = child.wait()?;
        self.times.push(started.elapsed());
        if !status.success() {
            return Err(io::Error::other(format!("{} failed (process {pid})", self.name)));
        }
        Ok(())
    }

    /// Runs it once more below `/usr/bin/time`, where there is such a program.
    fn measure_memory(&mut self, folder: &Path, cache: &Path) -> io::Result<()> {
        let out = cache.join("memory");
        let mut command = Command::new("/usr/bin/time");
        command.args(["-f", "%M", "-o"]).arg(&out).args(&self.words).current_dir(folder);
        command.env("XDG_CACHE_HOME", cache).env("XDG_STATE_HOME", cache).env("XDG_CONFIG_HOME", cache);
        command.env("HOME", cache).stdout(Stdio::null()).stderr(Stdio::null());
        if command.status().is_ok() {
            self.memory = fs::read_to_string(&out)?.trim().parse().unwrap_or(0);
        }
        Ok(())
    }

    fn median(&self) -> f64 {
        let mut times = self.times.clone();
        times.sort();
        times.get(times.len() / 2).map_or(0.0, |time| time.as_secs_f64() * 1e3)
    }
}

/// Returns how many bytes lie in a folder's files, those of what was replaced and of what waits left out.
fn records(folder: &Path) -> io::Result<u64> {
    let mut bytes = 0;
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let name = entry.file_name();
        if entry.file_type()?.is_dir() {
            if name != "attic" && name != "staged" {
                bytes += records(&entry.path())?;
            }
        } else {
            bytes += entry.metadata()?.len();
        }
    }
    Ok(bytes)
}

/// How many folders with how many empty files are looked through.
const NAMES: (usize, usize) = (3_000, 100);

/// Finding one name among very many: the first time and again, beside `find -type f`.
fn names(program: &str, root: &Path, runs: usize, out: &mut impl Write) -> io::Result<()> {
    let (folder, cache) = (root.join("names"), root.join("cache"));
    fs::create_dir_all(folder.join("world"))?;
    fs::write(folder.join("minetest.conf"), "port = 1\n")?;
    fs::write(folder.join("world/world.mt"), "gameid = minetest\n")?;
    for at in 0..NAMES.0 {
        let inner = folder.join(format!("world/media/p{:02}/f{at}", at / 60));
        fs::create_dir_all(&inner)?;
        for file in 0..NAMES.1 {
            fs::File::create(inner.join(format!("picture_{at}_{file:02}.png")))?;
        }
    }
    let set = format!("program={}", root.join("server.version").display());
    let mut adopt = Row::new("adopt", &[program, "adopt", "--set", &set, "--set", "share=/nowhere"]);
    adopt.run(&folder, &cache)?;
    std::thread::sleep(Duration::from_millis(100));
    let mut find = Row::new("find . -type f", &["find", ".", "-type", "f"]);
    let words = [program, "where", "picture_2718_28"];
    let (mut first, mut again) =
        (Row::new("where, the first time", &words), Row::new("where, again", &words));
    for _ in 0..runs {
        find.run(&folder, &cache)?;
        for entry in fs::read_dir(cache.join("yalotheca/inventories"))?.flatten() {
            fs::remove_file(entry.path())?;
        }
        first.run(&folder, &cache)?;
        again.run(&folder, &cache)?;
    }
    for row in [&find, &first, &again] {
        writeln!(out, "{:34} {:8.1} ms", row.name, row.median())?;
    }
    Ok(())
}

/// Measures all of it. `program` is the built program.
pub(crate) fn measure(program: &Path, runs: usize, out: &mut impl Write) -> io::Result<()> {
    let root: PathBuf = std::env::temp_dir().join(format!("yalotheca-standing-{}", std::process::id()));
    let (folder, cache) = (root.join("server"), root.join("cache"));
    fs::create_dir_all(&cache)?;
    write_server(&folder)?;
    let program = program.display().to_string();
    let git_folder = root.join("git").display().to_string();
    let git = |words: &[&'static str]| {
        let mut all = vec!["git".to_owned(), format!("--git-dir={git_folder}"), "--work-tree=.".into()];
        all.extend(words.iter().map(ToString::to_string));
        all
    };
    let set = format!("program={}", folder.with_extension("version").display());
    let once = |name: &str, words: Vec<String>| -> io::Result<f64> {
        let mut row = Row { name: name.into(), words, times: Vec::new(), memory: 0 };
        row.run(&folder, &cache)?;
        Ok(row.median())
    };
    once("git init", git(&["init", "-q"]))?;
    once("git add", git(&["add", "-A"]))?;
    let adopt = [&program, "adopt", "--set", &set, "--set", "share=/nowhere"];
    let adopted = once("adopt", adopt.iter().map(ToString::to_string).collect())?;
    writeln!(out, "{:34} {adopted:8.1} ms", "adopt")?;
    once("git add", git(&["add", "-A"]))?;
    Command::new("sync").status()?;
    let mut rows = vec![
        Row { words: git(&["status", "--short"]), ..Row::new("git status", &[]) },
        Row::new("preview, nothing to do", &[&program, "preview"]),
        Row::new("check", &[&program, "check"]),
        Row::new("check --deep", &[&program, "check", "--deep"]),
        Row::new("b3sum of the tree", &["sh", "-c", "find . -type f -print0 | xargs -0 b3sum"]),
        Row::new("why", &[&program, "why", "m007"]),
        Row::new("order", &[&program, "order"]),
        Row::new("list", &[&program, "list"]),
    ];
    let has_b3sum = Command::new("b3sum").arg("--version").stdout(Stdio::null()).status().is_ok();
    rows.retain(|row| has_b3sum || !row.name.starts_with("b3sum"));
    for row in &mut rows {
        row.run(&folder, &cache)?;
        row.times.clear();
    }
    for _ in 0..runs {
        for row in &mut rows {
            row.run(&folder, &cache)?;
        }
    }
    for row in &mut rows {
        row.measure_memory(&folder, &cache)?;
        writeln!(out, "{:34} {:8.1} ms {:5} MiB", row.name, row.median(), row.memory / 1024)?;
    }
    let own = folder.join(".yalotheca");
    let before = records(&own)?;
    let dropped =
        once("drop", [&program, "drop", "m007", "--yes"].iter().map(ToString::to_string).collect())?;
    let written = records(&own.join("journal"))? + fs::metadata(own.join("receipt.json"))?.len();
    writeln!(out, "{:34} {dropped:8.1} ms", "drop one of 400")?;
    names(&program, &root, runs, out)?;
    writeln!(out, "records of it: {written} bytes; all records {before} before, {} after", records(&own)?)?;
    fs::remove_dir_all(&root)
}
