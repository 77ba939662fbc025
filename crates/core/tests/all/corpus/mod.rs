//! Edits of real files: those that the machine's packages and the crates of the build have brought. Nothing is fetched.
//!
//! Each file is read and must come back byte for byte; then it gets edits made at random, each judged by a reader that
//! shares no code with ours: that very value is changed, and no other. Last, what was put in is taken out, and the file is
//! as it was. An edit may be refused; it may not be wrong.

mod edits;
mod files;
mod fuzz;
mod model;

use std::{collections::BTreeMap, sync::Mutex};

use yalotheca_core::document::{Document, Format};

use edits::{Dice, Verdict, edit};
use files::Sample;

/// What came of the files of one format.
#[derive(Debug, Default)]
struct Tally {
    files: usize,
    /// Read by the other reader, where there is one.
    readable: usize,
    unread: Vec<String>,
    right: usize,
    refused: BTreeMap<String, usize>,
    wrong: Vec<String>,
}

impl Tally {
    fn join(&mut self, other: Self) {
        self.files += other.files;
        self.readable += other.readable;
        self.unread.extend(other.unread);
        self.right += other.right;
        self.wrong.extend(other.wrong);
        for (why, count) in other.refused {
            *self.refused.entry(why).or_default() += count;
        }
    }
}

const EDITS: usize = 10;

fn judge(sample: &Sample) -> Tally {
    let mut tally = Tally { files: 1, ..Tally::default() };
    let Some(model) = model::read(sample.format, &sample.text) else { return tally };
    tally.readable = 1;
    let document = match Document::parse(sample.format, &sample.text) {
        Ok(document) => document,
        Err(error) => {
            tally.unread.push(format!("{}: {error}", sample.path));
            return tally;
        }
    };
    if document.text() != sample.text {
        tally.wrong.push(format!("{}: it does not come back as it was", sample.path));
    }
    let mut dice = Dice::new(&sample.path);
    for _ in 0..EDITS {
        match edit(&document, sample.format, &model, &mut dice) {
            Verdict::Right => tally.right += 1,
            Verdict::Refused(why) => *tally.refused.entry(why).or_default() += 1,
            Verdict::Wrong(what) => tally.wrong.push(format!("{}: {what}", sample.path)),
        }
    }
    tally
}

/// Judges files on two threads: the machines that this runs on have two cores.
fn judge_all(samples: &[Sample]) -> Tally {
    let all = Mutex::new(Tally::default());
    let halves = samples.split_at(samples.len() / 2);
    std::thread::scope(|scope| {
        for half in [halves.0, halves.1] {
            let all = &all;
            scope.spawn(move || {
                for sample in half {
                    let tally = judge(sample);
                    if let Ok(mut all) = all.lock() {
                        all.join(tally);
                    }
                }
            });
        }
    });
    all.into_inner().unwrap_or_default()
}

#[test]
fn every_edit_of_a_real_file_is_right_or_refused() {
    let samples = files::collect();
    let mut total = 0;
    let mut faults = Vec::new();
    for format in Format::ALL {
        let (of_format, _): (Vec<_>, Vec<_>) =
            samples.iter().cloned().partition(|sample| sample.format == format);
        if of_format.is_empty() {
            continue;
        }
        let tally = judge_all(&of_format);
        total += tally.readable;
        let refused: usize = tally.refused.values().sum();
        println!(
            "{:<10} {:>5} files, {:>5} read by the other reader, {:>3} of them not by ours; {:>6} edits right, {:>5} refused, {} wrong",
            format.name(),
            tally.files,
            tally.readable,
            tally.unread.len(),
            tally.right,
            refused,
            tally.wrong.len()
        );
        for (why, count) in &tally.refused {
            println!("             {count:>5} refused: {why}");
        }
        // What is named as a place must be one.
        if tally.refused.contains_key("no such place") {
            faults.push(format!("{} names places that cannot be set", format.name()));
        }
        for what in tally.unread.iter().take(12) {
            println!("             not read: {what}");
        }
        faults.extend(tally.wrong);
        if tally.unread.len() * 200 > tally.readable {
            faults.push(format!(
                "{} of {} {} files are not read",
                tally.unread.len(),
                tally.readable,
                format.name()
            ));
        }
    }
    println!("{total} files in all");
    assert!(faults.is_empty(), "{} faults:\n{}", faults.len(), faults[..faults.len().min(20)].join("\n"));
    // The crates alone bring so many; a machine with the usual packages has twice as many.
    assert!(total >= 1_400 || std::env::var_os("YALOTHECA_REAL").is_none(), "only {total} files were found");
}
