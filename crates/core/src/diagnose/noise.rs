//! What a log always says, and what is new in it.
//!
//! Large setups log hundreds of harmless lines at each start. Lines are compared after numbers, times and the server's folder were made
//! alike, with what starts that became ready have logged before.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// No more different lines are remembered.
const MOST: usize = 20_000;
/// Of a line no more is compared, in characters.
const LONGEST: usize = 300;
/// A line that was not seen in so many good starts is forgotten.
const FORGOTTEN_AFTER: u32 = 8;
/// A sample is no longer than this, in characters.
const SAMPLE: usize = 400;

/// Words that make a line worth a look.
const SUSPICIOUS: &[&str] = &[
    "error",
    "warn",
    "fail",
    "fatal",
    "severe",
    "exception",
    "cannot",
    "can't",
    "could not",
    "couldn't",
    "unable",
    "missing",
    "not found",
    "no such",
    "denied",
    "invalid",
    "unknown",
    "conflict",
    "refused",
    "corrupt",
    "truncated",
    "panic",
    "crash",
];

/// The lines that good starts of a server have logged.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct KnownLines {
    /// How many good starts there were.
    pub starts: u32,
    /// By form: the last good start that logged such a line.
    pub lines: BTreeMap<String, u32>,
    /// By form: a line that looks like a problem.
    pub samples: BTreeMap<String, String>,
}

/// The different lines of one start.
#[derive(Debug, Clone, Default)]
pub struct LogLines {
    /// The server's folder, which is left out of the comparison.
    folder: String,
    lines: BTreeMap<String, (usize, String, usize)>,
    all: usize,
    /// The form of the line before.
    last: String,
}

/// A line that good starts have not logged.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct NewLine {
    /// The first such line.
    pub line: String,
    /// How many there were.
    pub times: usize,
    /// Whether it looks like a problem.
    pub suspicious: bool,
}

/// How a log compares with those of good starts.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Noise {
    /// With how many good starts it is compared.
    pub starts: u32,
    /// Lines that none of them logged, in the log's order.
    pub new: Vec<NewLine>,
    /// Lines that look like problems, that the last one logged and this one did not.
    pub gone: Vec<String>,
    /// How many lines are as always.
    pub as_always: usize,
}

impl LogLines {
    /// Returns an empty log of a server in a folder.
    pub fn new(folder: &str) -> Self {
        Self { folder: folder.to_owned(), ..Self::default() }
    }

    /// Takes in one line, and returns whether it is the first of its form.
    pub fn feed(&mut self, line: &str) -> bool {
        self.all += 1;
        let form = form_of(line, &self.folder);
        if form.is_empty() {
            self.last.clear();
            return false;
        }
        form.clone_into(&mut self.last);
        let at = self.all;
        if let Some((times, ..)) = self.lines.get_mut(&form) {
            *times += 1;
            return false;
        }
        if self.lines.len() >= MOST {
            return false;
        }
        self.lines.insert(form, (1, line.chars().take(SAMPLE).collect(), at));
        true
    }

    /// Takes in the line before once more.
    pub fn repeat(&mut self) {
        self.all += 1;
        if let Some((times, ..)) = self.lines.get_mut(&self.last) {
            *times += 1;
        }
    }

    /// Returns what a line has in common with the lines of other starts that say the same.
    pub fn form(&self, line: &str) -> String {
        form_of(line, &self.folder)
    }

    /// Returns whether good starts have logged such a line.
    pub fn is_known(&self, line: &str, known: &KnownLines) -> bool {
        known.lines.contains_key(&form_of(line, &self.folder))
    }

    /// Compares the log with those of good starts.
    pub fn compare(&self, known: &KnownLines) -> Noise {
        let mut noise = Noise { starts: known.starts, ..Noise::default() };
        let mut new: Vec<(usize, NewLine)> = Vec::new();
        for (form, (times, line, at)) in &self.lines {
            if known.lines.contains_key(form) {
                noise.as_always += times;
            } else {
                let suspicious = is_suspicious(line);
                new.push((*at, NewLine { line: line.clone(), times: *times, suspicious }));
            }
        }
        new.sort_by_key(|(at, _)| *at);
        noise.new = new.into_iter().map(|(_, line)| line).collect();
        let was_last = known.lines.iter().filter(|(_, last)| **last == known.starts).map(|(form, _)| form);
        let is_gone = |form: &&String| !self.lines.contains_key(*form);
        noise.gone = was_last.filter(is_gone).filter_map(|form| known.samples.get(form)).cloned().collect();
        noise
    }

    /// Adds this log, of a good start, to those of earlier ones.
    pub fn add_to(&self, known: &mut KnownLines) {
        known.starts += 1;
        let now = known.starts;
        for (form, (_, line, _)) in &self.lines {
            known.lines.insert(form.clone(), now);
            if is_suspicious(line) {
                known.samples.insert(form.clone(), line.clone());
            }
        }
        known.lines.retain(|_, last| *last + FORGOTTEN_AFTER > now);
        if known.lines.len() > MOST {
            known.lines.retain(|_, last| *last == now);
        }
        known.samples.retain(|form, _| known.lines.contains_key(form));
    }
}

/// Returns whether a line looks like a problem.
fn is_suspicious(line: &str) -> bool {
    let lower = line.to_lowercase();
    SUSPICIOUS.iter().any(|word| lower.contains(word))
}

/// Returns a line with everything alike that differs from start to start: numbers, times, addresses, the server's folder.
fn form_of(line: &str, folder: &str) -> String {
    let line = if folder.len() > 1 { line.replace(folder, "~") } else { line.to_owned() };
    let mut form = String::with_capacity(line.len().min(LONGEST));
    let mut word = String::new();
    let mut length = 0;
    let flush = |word: &mut String, form: &mut String| {
        // Words of hexadecimal digits are addresses and digests.
        let has_digit = word.chars().any(|c| c.is_ascii_digit());
        let is_hex = word.len() >= 6 && word.chars().all(|c| c.is_ascii_hexdigit());
        if has_digit && (is_hex || word.starts_with("0x")) {
            form.push('#');
        } else {
            let mut in_number = false;
            for c in word.chars() {
                if c.is_ascii_digit() {
                    if !in_number {
                        form.push('#');
                    }
                    in_number = true;
                } else {
                    in_number = false;
                    form.push(c);
                }
            }
        }
        word.clear();
    };
    for c in line.trim().chars().filter(|c| !c.is_control()) {
        length += 1;
        if length > LONGEST {
            break;
        }
        if c.is_alphanumeric() {
            word.push(c);
        } else {
            flush(&mut word, &mut form);
            // Fractions and groups of digits are part of a number.
            if !(matches!(c, '.' | ',' | ':' | '-') && form.ends_with('#')) {
                form.push(c);
            }
        }
    }
    flush(&mut word, &mut form);
    while form.contains("##") {
        form = form.replace("##", "#");
    }
    form
}

#[cfg(test)]
mod tests {
    use super::*;

    fn log(lines: &[&str]) -> LogLines {
        let mut log = LogLines::new("/srv/quay");
        for line in lines {
            log.feed(line);
        }
        log
    }

    #[test]
    fn what_differs_from_start_to_start_is_alike() {
        for (one, other) in [
            ("[12:00:01] info 5 gulls in 0.25 s", "[23:59:59.123] info 17 gulls in 1 s"),
            ("loaded /srv/quay/mods/a at 0x7ffde010", "loaded /srv/quay/mods/a at 0x55d0aa"),
            ("2026-11-29 21:00:00: id 9f86d081884c", "2026-11-30 08:15:59: id e3b0c44298fc"),
            ("port 4010 (pid 81)", "port 61234 (pid 7)"),
        ] {
            assert_eq!(form_of(one, "/srv/quay"), form_of(other, "/srv/quay"));
        }
        assert_ne!(form_of("chart three is broken", ""), form_of("chart four is broken", ""));
        assert_eq!(form_of(&"x".repeat(5_000), "").len(), LONGEST);
    }

    #[test]
    fn one_new_line_among_hundreds_is_found() {
        let harmless: Vec<String> =
            (0..300).map(|at| format!("[1] warn chart {} has no tide table", names(at))).collect();
        let mut lines: Vec<&str> = harmless.iter().map(String::as_str).collect();
        let mut known = KnownLines::default();
        log(&lines).add_to(&mut known);
        lines.insert(150, "[2] error tidebell: cannot read its chimes");
        lines.remove(7);
        let noise = log(&lines).compare(&known);
        assert_eq!(noise.new.len(), 1);
        assert_eq!((noise.new[0].times, noise.new[0].suspicious), (1, true));
        assert_eq!((noise.as_always, noise.gone.len()), (299, 1));
        // What comes only now and then is remembered for some starts, and then forgotten.
        log(&lines).add_to(&mut known);
        for _ in 1..FORGOTTEN_AFTER {
            assert!(log(&lines).is_known(&harmless[7], &known));
            log(&["[1] info ready"]).add_to(&mut known);
        }
        assert!(!log(&lines).is_known(&harmless[7], &known));
    }

    /// Different words without digits.
    fn names(at: usize) -> String {
        let letter = |at: usize| char::from(b'a' + u8::try_from(at % 26).unwrap());
        [letter(at / 26), letter(at)].iter().collect()
    }
}
