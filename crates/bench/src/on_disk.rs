//! The whole program on a catalogue on disk: `preview` of many wants, with its time and its memory.

use std::{
    fs, io,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use serde_json::{Map, Value, json};
use yalotheca_core::id::Digest;
use yalotheca_standin::quayside;

use crate::generator::{Catalogue, Window};

fn range(window: &Window) -> String {
    let Window { lo, hi, .. } = window;
    if *hi > 500 { format!(">={lo}") } else { format!(">={lo}, <={hi}") }
}

fn relations(catalogue: &Catalogue, windows: &[Window]) -> Value {
    let pairs = windows
        .iter()
        .map(|window| (catalogue.names[window.on as usize].clone(), Value::String(range(window))));
    Value::Object(pairs.collect::<Map<_, _>>())
}

/// Writes a catalogue in the published form, and returns how many bytes its content files have.
fn write_catalogue(folder: &Path, catalogue: &Catalogue) -> io::Result<usize> {
    fs::create_dir_all(folder.join("contents"))?;
    let mut index = Map::new();
    let mut bytes = 0;
    for (name, releases) in catalogue.names.iter().zip(&catalogue.packages) {
        let releases: Vec<Value> = releases
            .iter()
            .map(|release| {
                let file = format!("{name}-{}.swp", release.number);
                let digest = Digest::of(file.as_bytes());
                json!({
                    "version": release.number.to_string(),
                    "kind": "plugin",
                    "needs": relations(catalogue, &release.needs),
                    "refuses": relations(catalogue, &release.refuses),
                    "files": [{"name": file, "size": 4096 + release.number, "blake3": digest}],
                })
            })
            .collect();
        let about = "A synthetic content for measuring";
        let text = json!({"format": 1, "id": name, "title": name, "about": about, "releases": releases});
        let text = text.to_string();
        bytes += text.len();
        let digest = Digest::of(text.as_bytes());
        fs::write(folder.join(format!("contents/{name}.json")), text)?;
        index
            .insert(name.clone(), json!({"title": name, "about": about, "kind": "plugin", "digest": digest}));
    }
    let text = json!({"format": 1, "name": "bench", "contents": index}).to_string();
    fs::write(folder.join("catalogue.json"), text)?;
    Ok(bytes)
}

/// Writes a server that wants the catalogue's roots.
fn write_server(folder: &Path, catalogue: &Catalogue) -> io::Result<()> {
    quayside::write_fresh_server(folder, 7710)?;
    let wants = catalogue
        .roots
        .iter()
        .map(|root| format!("{} = \"{}\"\n", catalogue.names[root.on as usize], range(root)));
    let wants: String = wants.collect();
    let text = format!(
        "format = 1\n\n[server]\ngame = \"saltwick\"\nat = \".\"\n\n[[catalogue]]\nname = \"bench\"\nat = \"../catalogue\"\n\n[wants]\n{wants}"
    );
    fs::write(folder.join("yalotheca.toml"), text)
}

/// Waits for a program and returns the most memory it was seen to use, in KiB.
fn watch(mut child: Child) -> io::Result<(bool, u64)> {
    let status = PathBuf::from(format!("/proc/{}/status", child.id()));
    let mut most = 0;
    loop {
        let text = fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let now = line.and_then(|line| line.trim().trim_end_matches(" kB").parse().ok());
        most = most.max(now.unwrap_or(0));
        if let Some(status) = child.try_wait()? {
            return Ok((status.success(), most));
        }
        std::thread::sleep(Duration::from_millis(1));
    }
}

/// Runs it, and returns a line about it.
pub(crate) fn run(program: &Path, catalogue: &Catalogue, runs: usize) -> io::Result<String> {
    let folder = std::env::temp_dir().join(format!("yalotheca-bench-{}", std::process::id()));
    let bytes = write_catalogue(&folder.join("catalogue"), catalogue)?;
    let server = folder.join("server");
    write_server(&server, catalogue)?;
    // What was written is on the disk before anything is measured.
    Command::new("sync").status()?;
    let preview = || {
        let mut command = Command::new(program);
        command.args(["preview", "--json"]).current_dir(&server).env("XDG_CACHE_HOME", folder.join("cache"));
        command.stdout(Stdio::null());
        command
    };
    // Its memory is watched in runs of their own: whoever watches takes time from what is watched.
    let (mut times, mut memory, mut went_well) = (Vec::new(), 0, true);
    for _ in 0..3 {
        let (is_good, most) = watch(preview().spawn()?)?;
        memory = memory.max(most);
        went_well &= is_good;
    }
    for _ in 0..runs {
        let started = Instant::now();
        went_well &= preview().status()?.success();
        times.push(started.elapsed());
    }
    if !went_well {
        return Err(io::Error::other("the program failed"));
    }
    fs::remove_dir_all(&folder)?;
    times.sort();
    let median = times[times.len() / 2].as_secs_f64() * 1e3;
    Ok(format!(
        "preview of {} wants, {} content files ({} MB): {median:.1} ms, {} MiB",
        catalogue.roots.len(),
        catalogue.packages.len(),
        bytes / 1_000_000,
        memory / 1024
    ))
}
