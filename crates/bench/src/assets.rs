//! A server whose items bring 300,000 assets, and one with 2 GB of signed parts: clashes beside `find`, and signatures beside `sha256sum`.

use std::{
    fs,
    io::{self, Write},
    path::Path,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use yalotheca_standin::moor;

/// How many items there are, how many folders each has, and how many assets each folder.
const ITEMS: usize = 100;
const FOLDERS: usize = 30;
const ASSETS: usize = 100;
/// How many signed parts there are, and how large each is.
const PARTS: usize = 20;
const PART: usize = 100 << 20;

fn timed(command: &mut Command) -> io::Result<Duration> {
    let started = Instant::now();
    let output = command.stdin(Stdio::null()).output()?;
    // Clashes are findings.
    if output.status.code().is_none_or(|code| code >= 2) {
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        return Err(io::Error::other(format!("{command:?}: {said}")));
    }
    Ok(started.elapsed())
}

fn ours(program: &Path, server: &Path, words: &[&str]) -> Command {
    let cache = server.with_extension("cache");
    let mut command = Command::new(program);
    command.args(words).current_dir(server).env("HOME", &cache).env("XDG_CACHE_HOME", &cache);
    command.env("XDG_STATE_HOME", &cache).env("XDG_CONFIG_HOME", &cache);
    command
}

/// Writes a server that others have set up, whose items are all carried.
fn write_server(folder: &Path, names: &[String]) -> io::Result<()> {
    moor::write_server(folder, 0)?;
    let carry: Vec<String> = names.iter().map(|name| format!(" --carry {name}")).collect();
    fs::write(folder.join("launch.args"), format!("--port 1 --saves main{}\n", carry.concat()))?;
    fs::write(
        folder.join("garrow.ini"),
        format!(
            "[Hosting]\nitem_host =\ngame_port = 1\ncarried = {}\nground = Basemarsh\n",
            names.join("; ")
        ),
    )
}

fn item(server: &Path, number: usize, name: &str) -> io::Result<std::path::PathBuf> {
    let folder = server.join(format!("items/{}", 5_000_000 + number));
    fs::create_dir_all(folder.join(name))?;
    fs::write(folder.join("item.info"), format!("number: {}\ntitle: {name}\n", 5_000_000 + number))?;
    Ok(folder.join(name))
}

fn many_assets(server: &Path) -> io::Result<()> {
    let names: Vec<String> = (0..ITEMS).map(|at| format!("Item{at:03}")).collect();
    write_server(server, &names)?;
    for (at, name) in names.iter().enumerate() {
        let folder = item(server, at, name)?;
        for part in 0..FOLDERS {
            let stream = folder.join(format!("stream/s{part:02}"));
            fs::create_dir_all(&stream)?;
            for asset in 0..ASSETS {
                // One name in a hundred is another item's as well.
                let of = if asset == 0 { at / 2 } else { at };
                fs::write(stream.join(format!("i{of:03}_{part:02}_{asset:02}.tile")), name)?;
            }
        }
    }
    Ok(())
}

fn large_parts(server: &Path) -> io::Result<()> {
    let names: Vec<String> = (0..PARTS).map(|at| format!("Item{at:03}")).collect();
    write_server(server, &names)?;
    fs::write(server.join("keys/sedge.mkey"), moor::key_file("sedge")?)?;
    for (at, name) in names.iter().enumerate() {
        let parts = item(server, at, name)?.join("parts");
        fs::create_dir_all(&parts)?;
        let bytes = super::files::noise(at, PART);
        fs::write(parts.join("whole.mpk.sedge.sig"), moor::signature_file("sedge", &bytes)?)?;
        fs::write(parts.join("whole.mpk"), bytes)?;
    }
    Ok(())
}

/// Measures both, and prints a row for each.
pub(crate) fn measure(program: &Path, runs: usize, out: &mut impl Write) -> io::Result<()> {
    let root = std::env::temp_dir().join(format!("yalotheca-assets-{}", std::process::id()));
    fs::create_dir_all(&root)?;
    let measured = measure_in(&root, program, runs, out);
    fs::remove_dir_all(&root)?;
    measured
}

fn measure_in(root: &Path, program: &Path, runs: usize, out: &mut impl Write) -> io::Result<()> {
    let mut row = |name: &str, mut times: Vec<Duration>| -> io::Result<()> {
        times.sort();
        let median = times.get(times.len() / 2).map_or(0.0, Duration::as_secs_f64);
        writeln!(out, "{name:<58} {:>8.1} ms", median * 1e3)?;
        out.flush()
    };
    let server = root.join("assets");
    many_assets(&server)?;
    timed(&mut ours(program, &server, &["adopt"]))?;
    let find = || timed(Command::new("find").arg(&server).args(["-type", "f"]));
    let (mut of_find, mut cold, mut warm) = (Vec::new(), Vec::new(), Vec::new());
    timed(&mut ours(program, &server, &["clashes"]))?;
    for _ in 0..runs {
        of_find.push(find()?);
        for file in fs::read_dir(server.with_extension("cache").join("yalotheca/inventories"))?.flatten() {
            if file.path().extension().is_some_and(|suffix| suffix == "names") {
                fs::remove_file(file.path())?;
            }
        }
        cold.push(timed(&mut ours(program, &server, &["clashes"]))?);
        warm.push(timed(&mut ours(program, &server, &["clashes"]))?);
    }
    row("300,000 assets: find -type f", of_find)?;
    row("300,000 assets: yalotheca clashes, no index of names yet", cold)?;
    row("300,000 assets: yalotheca clashes", warm)?;
    let server = root.join("parts");
    large_parts(&server)?;
    timed(&mut ours(program, &server, &["adopt"]))?;
    let (mut of_sum, mut first, mut again) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..runs {
        let sum = "find items -name '*.mpk' -print0 | xargs -0 sha256sum";
        of_sum.push(timed(Command::new("sh").args(["-c", sum]).current_dir(&server))?);
        fs::remove_file(server.with_extension("cache").join("yalotheca/signatures")).ok();
        first.push(timed(&mut ours(program, &server, &["keys"]))?);
        again.push(timed(&mut ours(program, &server, &["keys"]))?);
    }
    row("2 GB of signed parts: sha256sum", of_sum)?;
    row("2 GB of signed parts: yalotheca keys, nothing known yet", first)?;
    row("2 GB of signed parts: yalotheca keys", again)
}
