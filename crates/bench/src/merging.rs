//! Merges two resource packs of 200 MB, and compares with `zipmerge`.

use std::{
    fs::{self, File},
    io::{self, Write},
    path::Path,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use zip::{ZipWriter, write::SimpleFileOptions};

/// The number of files in a pack, and the size of each.
const FILES: usize = 2_000;
const BYTES: usize = 100 << 10;

fn pack(path: &Path, seed: usize) -> io::Result<()> {
    let mut zip = ZipWriter::new(io::BufWriter::new(File::create(path)?));
    let options = SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    let mut put = |name: &str, bytes: &[u8]| -> io::Result<()> {
        zip.start_file(name, options).map_err(io::Error::other)?;
        zip.write_all(bytes)
    };
    put("look.json", b"{\"format\": 3}")?;
    for at in 0..FILES {
        // One file in ten is in both packs: half of these with the same bytes.
        let (name, number) = match at % 20 {
            0 => (format!("pictures/both/{at}.png"), at),
            1 => (format!("pictures/both/{at}.png"), at + seed * FILES),
            _ => (format!("pictures/{seed}/{at}.png"), at + seed * FILES),
        };
        put(&name, &super::files::noise(number, BYTES))?;
    }
    zip.finish().map_err(io::Error::other)?.into_inner().map_err(io::IntoInnerError::into_error)?.sync_all()
}

pub(crate) fn timed(command: &mut Command) -> io::Result<Duration> {
    let started = Instant::now();
    let output = command.stdin(Stdio::null()).output()?;
    if !output.status.success() {
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        return Err(io::Error::other(format!("{command:?}: {said}")));
    }
    Ok(started.elapsed())
}

/// Measures both and prints a row for each.
pub(crate) fn measure(program: &Path, runs: usize, out: &mut impl Write) -> io::Result<()> {
    let root = std::env::temp_dir().join(format!("yalotheca-merging-{}", std::process::id()));
    fs::create_dir_all(&root)?;
    let measured = measure_in(&root, program, runs, out);
    fs::remove_dir_all(&root)?;
    measured
}

fn measure_in(root: &Path, program: &Path, runs: usize, out: &mut impl Write) -> io::Result<()> {
    let (one, two) = (root.join("one.zip"), root.join("two.zip"));
    pack(&one, 1)?;
    pack(&two, 2)?;
    let server = root.join("server");
    fs::create_dir_all(&server)?;
    fs::write(
        server.join("yalotheca.toml"),
        "format = 1\n[server]\ngame = \"saltwick\"\nat = \".\"\n[wants]\n",
    )?;
    let ours = |into: &Path| {
        let mut command = Command::new(program);
        command.arg("merge").args([&one, &two]).arg("--into").arg(into).arg("--at").arg(&server);
        command.env("HOME", root).env("XDG_CACHE_HOME", root.join("cache"));
        command
    };
    let theirs = |into: &Path| {
        let mut command = Command::new("zipmerge");
        command.arg("-s").arg(into).args([&one, &two]);
        command
    };
    let mut times = [Vec::new(), Vec::new()];
    for run in 0..runs {
        let into = root.join(format!("theirs-{run}.zip"));
        times[0].push(timed(&mut theirs(&into))?);
        fs::remove_file(into)?;
        let into = root.join(format!("ours-{run}.zip"));
        times[1].push(timed(&mut ours(&into))?);
        fs::remove_file(into)?;
    }
    for (name, times) in ["zipmerge -s", "yalotheca merge, with the digest"].iter().zip(times) {
        writeln!(out, "two packs of 200 MB: {name:40} {:8.1} ms", super::median(times).as_secs_f64() * 1e3)?;
    }
    Ok(())
}
