//! Solves generated catalogues with our solver and with two general-purpose crates, side by side in one run, checks every
//! result with the checker that was written apart from the solver, and prints a table of medians.
//!
//! `cargo run --profile dist -p yalotheca-bench [-- [FAMILY] [SEED…]]`; `RUNS` says how often each is solved (5), and with
//! `TELL` set our explanations are printed; with `ALONE` set only ours runs, for a profiler. A time covers
//! everything from metadata in memory to the chosen releases; for us also the explanation and the ways out.
//!
//! `… -- files [PART]`: a modpack unpacked and placed beside `bsdtar` and `cp`, downloads beside `curl`, routing; needs about 6 GB
//! in the temporary folder.
//!
//! `… -- remote [far]`: a server over SFTP and FTP beside `rsync`, `tar` and `lftp`, near by and 25 ms away; needs sshd, vsftpd, rsync, lftp.
//!
//! `… -- assets`: clashes among 300,000 assets beside `find`, and the signatures of 2 GB beside `sha256sum`; needs about 5 GB.
//!
//! `… -- mirroring`: a mirror of a map of 200 MB, compared with `pbzip2` and `lbzip2`; needs about 2 GB.
//! `… -- merging`: two resource packs of 200 MB merged, compared with `zipmerge`; needs about 2 GB.
//!
//! `… -- documents`: configuration files of growing size read and edited, and what checking an edit costs.
//!
//! `… -- disk [SEED…]`: `yalotheca preview` (built before, beside this program) of 400 wants, on realistic catalogues of 20, 50,
//! 100 and 200 thousand contents on disk.

mod assets;
mod by_pubgrub;
mod by_resolvo;
mod documents;
mod files;
mod generator;
mod merging;
mod mirroring;
mod on_disk;
mod ours;
mod remote;
mod shapes;
mod standing;

/// The program's own allocator, for all solvers alike.
#[global_allocator]
static MEMORY: mimalloc::MiMalloc = mimalloc::MiMalloc;

use std::{
    io::Write,
    time::{Duration, Instant},
};

use by_pubgrub::ByPubgrub;
use by_resolvo::ByResolvo;
use generator::{Catalogue, Parameters, generate};
use ours::{Ours, Outcome};
use yalotheca_core::solve::Selection;

fn families(seed: u64) -> Vec<(&'static str, Parameters)> {
    let realistic = Parameters {
        n: 20_000,
        r: 12,
        d: 2,
        roots: 400,
        seed,
        skew: 3.0,
        open: 80,
        w: 2,
        follow: true,
        planted: true,
        low: false,
        miss: 10,
        conf: 5,
        unsat: 0,
    };
    let hard = Parameters {
        n: 150,
        r: 10,
        d: 4,
        roots: 150,
        seed,
        skew: 1.0,
        open: 0,
        w: 2,
        follow: false,
        planted: false,
        low: false,
        miss: 0,
        conf: 100,
        unsat: 0,
    };
    vec![
        ("realistic", realistic.clone()),
        ("4,000 wants", Parameters { roots: 4_000, ..realistic.clone() }),
        ("contradiction", Parameters { unsat: 6, ..realistic }),
        ("hard A", hard.clone()),
        ("hard B", Parameters { n: 100, roots: 100, d: 5, ..hard.clone() }),
        ("hard C", Parameters { n: 200, roots: 200, r: 12, w: 1, planted: true, low: true, ..hard }),
    ]
}

fn median(mut times: Vec<Duration>) -> Duration {
    times.sort();
    times[times.len() / 2]
}

/// Times one solver after another, again and again, so that what disturbs one disturbs all.
fn time(runs: usize, acts: &mut [&mut dyn FnMut()]) -> Vec<Duration> {
    let mut times = vec![Vec::with_capacity(runs); acts.len()];
    for _ in 0..runs {
        for (act, times) in acts.iter_mut().zip(&mut times) {
            let started = Instant::now();
            act();
            times.push(started.elapsed());
        }
    }
    times.into_iter().map(median).collect()
}

/// What a solver's answer amounts to, once it was checked.
fn verdict(ours: &Ours, selection: Option<&Selection>) -> &'static str {
    match selection {
        None => "none",
        Some(selection) if ours.is_good(selection) => "good",
        Some(_) => "BAD",
    }
}

fn row(name: &str, seed: u64, catalogue: &Catalogue, runs: usize) -> Option<String> {
    let ours = Ours::new(catalogue)?;
    if std::env::var_os("ALONE").is_some() {
        let took = time(runs, &mut [&mut || drop(ours.solve())]);
        return Some(format!("{name:14} {seed:4}  {:9.3}", took[0].as_secs_f64() * 1e3));
    }
    let pubgrub = ByPubgrub::new(catalogue);
    // What came of the runs before is not cleared away while one is timed.
    let (mut own, mut first, mut second) = (Vec::new(), Vec::new(), Vec::new());
    let took = time(
        runs,
        &mut [&mut || own.push(ours.solve()), &mut || first.push(pubgrub.solve()), &mut || {
            second.push(ByResolvo::solve(catalogue));
        }],
    );
    let ms: Vec<f64> = took.iter().map(|time| time.as_secs_f64() * 1e3).collect();
    let named = |chosen: Vec<(u32, u32)>| Ours::selection(catalogue, &chosen);
    let (what, chosen) = match own.pop()? {
        Outcome::Lineup(chosen) => (format!("{} contents", chosen.len()), Some(chosen)),
        Outcome::None(why) => {
            let (told, ways) = (why.because.len(), why.ways_out.len());
            let mut text = format!("{told} sentences, {} left out, {ways} ways out", why.left_out);
            if std::env::var_os("TELL").is_some() {
                let sentences = why.because.iter().map(|statement| &statement.text);
                let all = sentences.chain(why.ways_out.iter().map(|way| &way.change));
                text.extend(all.map(|line| format!("\n    {line}")));
            }
            (text, None)
        }
    };
    let others = [first.pop()?.map(named), second.pop()?.map(named)];
    let verdicts = [chosen.as_ref(), others[0].as_ref(), others[1].as_ref()]
        .map(|selection| verdict(&ours, selection))
        .join("/");
    let ratio = ms[0] / ms[1].min(ms[2]);
    Some(format!(
        "{name:14} {seed:4}  {:9.2}  {:9.2}  {:9.2}  {ratio:6.2}  {verdicts:14}  {what}",
        ms[0], ms[1], ms[2]
    ))
}

/// Measures a part that is not about solving; nothing if there is none of that name.
fn other_part(name: &str, part: Option<&str>) -> Option<std::io::Result<()>> {
    let runs = |usual| std::env::var("RUNS").ok().and_then(|runs| runs.parse().ok()).unwrap_or(usual);
    let out = &mut std::io::stdout();
    // The program lies beside this one.
    let program = match std::env::current_exe() {
        Ok(own) => own.with_file_name("yalotheca"),
        Err(error) => return Some(Err(error)),
    };
    Some(match name {
        "assets" => assets::measure(&program, runs(3), out),
        "merging" => merging::measure(&program, runs(7), out),
        "mirroring" => mirroring::measure(&program, runs(3), out),
        "standing" => standing::measure(&program, runs(9), out),
        "remote" => remote::measure(&program.display().to_string(), runs(3), part, out),
        "files" => files::measure(&program, runs(3), part),
        _ => return None,
    })
}

fn main() -> std::io::Result<()> {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let mut seeds: Vec<u64> = words.iter().filter_map(|word| word.parse().ok()).collect();
    if seeds.is_empty() {
        seeds.extend(1..=5);
    }
    let mut named = words.iter().filter(|word| word.parse::<u64>().is_err());
    let only = named.next();
    if only.is_some_and(|only| only == "documents") {
        return documents::measure(7);
    }
    if let Some(measured) = only.and_then(|only| other_part(only, named.next().map(String::as_str))) {
        return measured;
    }
    if only.is_some_and(|only| only == "disk") {
        // The program lies beside this one.
        let program = std::env::current_exe()?.with_file_name("yalotheca");
        for n in [20_000, 50_000, 100_000, 200_000] {
            for seed in &seeds {
                let parameters = Parameters { n, ..families(*seed).remove(0).1 };
                let line = on_disk::run(&program, &generate(&parameters), 11)?;
                writeln!(std::io::stdout(), "seed {seed}: {line}")?;
            }
        }
        return Ok(());
    }
    let runs = std::env::var("RUNS").ok().and_then(|runs| runs.parse().ok()).unwrap_or(5);
    let mut out = std::io::stdout();
    writeln!(
        out,
        "family         seed    ours ms    pubgrub    resolvo   ratio  verdicts        ours: what came of it"
    )?;
    for (at, (name, _)) in families(0).into_iter().enumerate() {
        if only.is_some_and(|only| !name.contains(only.as_str())) {
            continue;
        }
        for seed in &seeds {
            let catalogue = generate(&families(*seed)[at].1);
            if let Some(row) = row(name, *seed, &catalogue, runs) {
                writeln!(out, "{row}")?;
            }
        }
    }
    for seed in &seeds {
        for (name, catalogue) in shapes::shapes(*seed) {
            // All but one are the same whatever the seed.
            let is_told = only.is_none_or(|only| name.contains(only.as_str()))
                && (name == "colouring" || seeds.first() == Some(seed));
            if let Some(row) = is_told.then(|| row(name, *seed, &catalogue, runs)).flatten() {
                writeln!(out, "{row}")?;
            }
        }
    }
    if only.is_none_or(|only| "stand-ins".contains(only.as_str()))
        && let Some((took, contents)) = shapes::stand_ins(2_000)
    {
        writeln!(
            out,
            "{:14}       {:9.2}  (ours alone)  {contents} contents",
            "stand-ins",
            took.as_secs_f64() * 1e3
        )?;
    }
    Ok(())
}
