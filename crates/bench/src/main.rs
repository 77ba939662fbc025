//! Solves generated catalogues, checks every lineup, and prints the median time of each.
//!
//! `cargo run --release -p yalotheca-bench [FAMILY]`; `RUNS` says how often each is solved. Not here yet: general-purpose
//! solvers side by side.

mod generator;
mod ours;

use std::{
    io::Write,
    time::{Duration, Instant},
};

use generator::{Parameters, generate};
use ours::{Ours, Outcome};

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

fn time<T>(runs: usize, mut act: impl FnMut() -> T) -> (Duration, T) {
    let mut times = Vec::new();
    loop {
        let started = Instant::now();
        let result = act();
        times.push(started.elapsed());
        if times.len() >= runs {
            return (median(times), result);
        }
    }
}

fn main() -> std::io::Result<()> {
    let only: Option<String> = std::env::args().nth(1);
    let mut out = std::io::stdout();
    for seed in 1..=5 {
        for (name, parameters) in families(seed) {
            if only.as_ref().is_some_and(|only| !name.contains(only.as_str())) {
                continue;
            }
            let catalogue = generate(&parameters);
            let Some(ours) = Ours::new(&catalogue) else { continue };
            let (took, outcome) =
                time(std::env::var("RUNS").ok().and_then(|t| t.parse().ok()).unwrap_or(3), || ours.solve());
            let what = match outcome {
                Outcome::Lineup(selection) => {
                    format!(
                        "{} contents, {}",
                        selection.len(),
                        if ours.is_good(&selection) { "good" } else { "BAD" }
                    )
                }
                Outcome::None { sentences, ways_out } => {
                    format!("none: {sentences} sentences, {ways_out} ways out")
                }
            };
            writeln!(out, "{name:14} seed {seed}  ours {:9.2} ms  {what}", took.as_secs_f64() * 1e3)?;
        }
    }
    Ok(())
}
