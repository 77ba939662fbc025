//! Files that are broken in small ways: none ends the program, takes for ever, or takes all memory.
//!
//! Each format has a process of its own with bounded memory, and in it a thread with a small stack. It begins with real files,
//! and changes, cuts, doubles and joins pieces of them. `YALOTHECA_FUZZ_SECONDS` says how long (20 in CI, else 1). A failure
//! tells the input's name; with it in `YALOTHECA_FUZZ_INPUT` the same test reads that input alone.

#![expect(
    clippy::print_stdout,
    clippy::disallowed_types,
    reason = "the figures are for the CI's log; the core's tests read real files"
)]

use std::{
    fs,
    io::{Seek, Write},
    path::PathBuf,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use yalotheca_core::document::{Document, Format, Value};

use super::{edits::Dice, files};
use crate::Done;

const STACK: usize = 2 << 20;
/// The address space of a worker, in KiB.
const MEMORY: u32 = 2 << 20;
/// No input may take longer; they are short.
const SLOWEST: Duration = Duration::from_secs(3);
const LONGEST: usize = 6_000;

fn seconds() -> u64 {
    std::env::var("YALOTHECA_FUZZ_SECONDS").ok().and_then(|text| text.parse().ok()).unwrap_or(1)
}

/// Where the name of the input lies that is being read, so that it is known after a crash.
fn name_path(format: Format) -> PathBuf {
    PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join(format!("fuzz-{}.input", format.name()))
}

fn last_name(format: Format) -> String {
    let name = fs::read_to_string(name_path(format)).unwrap_or_default();
    format!("the input is {}", name.lines().next().unwrap_or_default())
}

#[test]
fn no_broken_file_ends_the_program() -> Done {
    let formats = Format::ALL;
    let run =
        |half: &[Format]| -> Result<(), String> { half.iter().try_for_each(|format| run_worker(*format)) };
    std::thread::scope(|scope| {
        let (first, second) = formats.split_at(formats.len() / 2);
        let other = scope.spawn(move || run(second));
        run(first)?;
        other.join().map_err(|_| "a thread ended".to_owned())?
    })?;
    Ok(())
}

fn run_worker(format: Format) -> Result<(), String> {
    let mut worker = Command::new("sh")
        .args(["-c", &format!("ulimit -v {MEMORY}; exec \"$0\" \"$@\"")])
        .arg(std::env::current_exe().map_err(|error| error.to_string())?)
        .args(["--exact", "corpus::fuzz::worker", "--ignored", "--nocapture"])
        .env("YALOTHECA_FUZZ_FORMAT", format.name())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .map_err(|error| error.to_string())?;
    let end = Instant::now() + Duration::from_secs(seconds() + 60);
    while worker.try_wait().map_err(|error| error.to_string())?.is_none() {
        if Instant::now() > end {
            worker.kill().ok();
            return Err(format!("{}: no end; {}", format.name(), last_name(format)));
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    let output = worker.wait_with_output().map_err(|error| error.to_string())?;
    let said =
        String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    if !output.status.success() {
        return Err(format!("{}: {}; {}\n{said}", format.name(), output.status, last_name(format)));
    }
    let told = said.lines().find(|line| line.contains("inputs")).unwrap_or_default();
    println!("{told}");
    Ok(())
}

#[test]
#[ignore = "no_broken_file_ends_the_program runs it in a process of its own"]
fn worker() -> Done {
    let name = std::env::var("YALOTHECA_FUZZ_FORMAT")?;
    let format = Format::ALL.into_iter().find(|format| format.name() == name).ok_or("no such format")?;
    let thread = std::thread::Builder::new().stack_size(STACK);
    let done = thread.spawn(move || fuzz(format).map_err(|error| error.to_string()))?;
    Ok(done.join().map_err(|_| "it panicked")??)
}

/// The files that it begins with: real ones, and the table's.
fn seeds(format: Format) -> Vec<Vec<u8>> {
    let cases = include_str!("../../cases/edits.txt");
    let texts = cases.lines().filter_map(|line| line.strip_prefix(format.name())?.strip_prefix(' '));
    let texts = texts.filter_map(|rest| {
        let mut parts = serde_json::Deserializer::from_str(rest).into_iter::<String>();
        parts.next()?.ok()
    });
    let real = files::some_of(format, 40, LONGEST / 2);
    let mut seeds: Vec<Vec<u8>> = texts.chain(real).map(String::into_bytes).collect();
    seeds.push(b"a = 1\n# b\n\"c\" { d: [e, 'f'] }\n<g h=\"i\">j</g>\n--k l\n".to_vec());
    seeds
}

const PIECES: &[&str] = &[
    "\n",
    "\r\n",
    "\r",
    "\t",
    " ",
    "\"",
    "'",
    "\\",
    "{",
    "}",
    "[",
    "]",
    "(",
    ")",
    "<",
    ">",
    "</",
    "/>",
    "<!--",
    "-->",
    "<![CDATA[",
    "]]>",
    "<?",
    "?>",
    "&",
    "&amp;",
    "&#0;",
    "*",
    "&a ",
    "*a",
    "!t ",
    "|",
    ">",
    "|+\n",
    ">-\n",
    "- ",
    "? ",
    ": ",
    ":",
    ",",
    ";",
    "#",
    "//",
    "--",
    "--[[",
    "]]",
    "[=[",
    "]=]",
    "=",
    "==",
    "\"\"\"",
    "'''",
    "\u{feff}",
    "\u{85}",
    "\u{a0}",
    "\u{2028}",
    "é",
    "😀",
    "\0",
    "\u{c}",
    "---\n",
    "...\n",
    "%YAML 1.2\n",
    "[[",
    "[a]\n",
    "0x",
    "1e999",
    "nan",
    "null",
    "~",
    "\\u{110000}",
    "\\x4",
    "return ",
    "local ",
    "@include",
];

fn mutated(seeds: &[Vec<u8>], dice: &mut Dice) -> Vec<u8> {
    let mut input = seeds[dice.of(seeds.len())].clone();
    for _ in 0..=dice.of(6) {
        let at = dice.of(input.len() + 1);
        let end = (at + dice.of(40)).min(input.len());
        match dice.of(8) {
            0 if at < input.len() => input[at] = u8::try_from(dice.of(256)).unwrap_or(0),
            1 => drop(input.drain(at..end)),
            2 => {
                let piece = input[at..end].to_vec();
                input.splice(at..at, piece);
            }
            3 => {
                let other = &seeds[dice.of(seeds.len())];
                let from = dice.of(other.len() + 1);
                let piece = other[from..(from + dice.of(200)).min(other.len())].to_vec();
                input.splice(at..at, piece);
            }
            4 => {
                // The same piece again and again nests.
                let piece = PIECES[dice.of(PIECES.len())].repeat(dice.of(400));
                input.splice(at..at, piece.into_bytes());
            }
            _ => {
                let piece = PIECES[dice.of(PIECES.len())].as_bytes().to_vec();
                input.splice(at..at, piece);
            }
        }
    }
    input.truncate(LONGEST);
    input
}

fn fuzz(format: Format) -> Result<(), Box<dyn std::error::Error>> {
    let seeds = seeds(format);
    // Each run goes other ways. An input's name is all that its dice need.
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH)?.as_nanos();
    let only = std::env::var("YALOTHECA_FUZZ_INPUT").ok();
    let end = Instant::now() + Duration::from_secs(seconds());
    let (mut inputs, mut read) = (0_u64, 0_u64);
    let mut noted = fs::File::create(name_path(format))?;
    while Instant::now() < end && (inputs == 0 || only.is_none()) {
        let name = only.clone().unwrap_or_else(|| format!("{now}/{inputs:012}"));
        noted.rewind()?;
        writeln!(noted, "{name}")?;
        let mut dice = Dice::new(&name);
        let input = mutated(&seeds, &mut dice);
        if only.is_some() {
            println!("{}", String::from_utf8_lossy(&input));
        }
        let begun = Instant::now();
        inputs += 1;
        if let Ok(document) = Document::read(format, input) {
            read += 1;
            edit(&document, &mut dice);
        }
        if begun.elapsed() > SLOWEST {
            return Err(format!("it took {:?}; the input is {name}", begun.elapsed()).into());
        }
    }
    println!("{:<10} {inputs} inputs, {read} of them read and edited", format.name());
    Ok(())
}

/// Edits of all sorts; each is done or refused, and what it leaves can be read.
fn edit(document: &Document, dice: &mut Dice) {
    let leaves = document.leaves();
    let value = [Value::from("x: [y] # <z>"), Value::from(""), Value::Whole(7), Value::Flag(true)]
        [dice.of(4)]
    .clone();
    let (at, _) = if leaves.is_empty() { return } else { &leaves[dice.of(leaves.len())] };
    let above = at.above(at.tokens().len().saturating_sub(1));
    let mut changed = document.clone();
    match dice.of(5) {
        0 => drop(changed.set(at, &value)),
        1 => drop(changed.set(&above.join("new"), &value)),
        2 => drop(changed.insert(&above, dice.of(4), &value)),
        3 => drop(changed.remove(&above, dice.of(4))),
        _ => drop(changed.unset(at)),
    }
    assert!(Document::parse(document.format(), changed.text()).is_ok(), "{at} in {changed:?}");
}
