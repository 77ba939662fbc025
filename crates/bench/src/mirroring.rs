//! Builds a mirror of one map of 200 MB, and compares with `pbzip2` and `lbzip2`.

use std::{
    fs::{self, File},
    io::{self, Write},
    path::Path,
    process::Command,
};

use yalotheca_standin::kites;

use super::merging::timed;

/// The size of the map's payload in bytes.
const PAYLOAD: u32 = 200 << 20;
const WORDS: &[&str] =
    &["gull ", "pier ", "lantern ", "reed ", "harbour ", "kite ", "moor ", "tide ", "rope ", "bell\n"];

/// Writes a map whose payload is about as compressible as text.
fn write_map(path: &Path) -> io::Result<()> {
    let mut payload = Vec::with_capacity(PAYLOAD as usize + 16);
    let mut state = 7_u64;
    while payload.len() < PAYLOAD as usize {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let at = usize::try_from(state >> 40).unwrap_or(0);
        payload.extend_from_slice(WORDS[at % WORDS.len()].as_bytes());
        if at % 3 == 0 {
            payload.extend_from_slice(&state.to_le_bytes()[..4]);
        }
    }
    payload.truncate(PAYLOAD as usize);
    let mut file = io::BufWriter::new(File::create(path)?);
    file.write_all(b"KMAP")?;
    file.write_all(&5_u32.to_le_bytes())?;
    file.write_all(&PAYLOAD.to_le_bytes())?;
    file.write_all(&payload)?;
    file.write_all(&crc32fast::hash(&payload).to_le_bytes())?;
    file.flush()
}

/// Measures all three and prints a row for each.
pub(crate) fn measure(program: &Path, runs: usize, out: &mut impl Write) -> io::Result<()> {
    let root = std::env::temp_dir().join(format!("yalotheca-mirroring-{}", std::process::id()));
    fs::create_dir_all(&root)?;
    let measured = measure_in(&root, program, runs, out);
    fs::remove_dir_all(&root)?;
    measured
}

fn measure_in(root: &Path, program: &Path, runs: usize, out: &mut impl Write) -> io::Result<()> {
    let server = root.join("kites");
    kites::write_server(&server, 5810, 5811)?;
    let map = server.join("maps/large.kmap");
    write_map(&map)?;
    let ours = |words: &[&str]| {
        let mut command = Command::new(program);
        command.args(words).current_dir(&server);
        command.env("HOME", root).env("XDG_CACHE_HOME", root.join("cache"));
        command
    };
    timed(&mut ours(&["adopt"]))?;
    let mut times = [Vec::new(), Vec::new(), Vec::new(), Vec::new()];
    for run in 0..runs {
        for (at, tool) in ["pbzip2", "lbzip2"].iter().enumerate() {
            let packed = root.join("packed");
            let line = format!("{tool} -c '{}' > '{}'", map.display(), packed.display());
            times[at].push(timed(Command::new("sh").args(["-c", &line]))?);
            fs::remove_file(packed)?;
        }
        let web = root.join(format!("web-{run}")).display().to_string();
        times[2].push(timed(&mut ours(&["mirror", "build", &web]))?);
        times[3].push(timed(&mut ours(&["mirror", "build", &web]))?);
        let check = Command::new("bzip2").arg("-t").arg(format!("{web}/maps/large.kmap.bz2")).status()?;
        if !check.success() {
            return Err(io::Error::other("bzip2 does not take what was built"));
        }
    }
    let names =
        ["pbzip2", "lbzip2", "yalotheca mirror build, plain file included", "the same, nothing to do"];
    for (name, times) in names.iter().zip(times) {
        writeln!(out, "a map of 200 MB: {name:44} {:8.1} ms", super::median(times).as_secs_f64() * 1e3)?;
    }
    Ok(())
}
