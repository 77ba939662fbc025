//! Configuration files of growing size: how long one is read, and how long one edit of it takes beyond reading it once, which
//! is what making the edit and checking that nothing else has changed costs.

use std::{
    fmt::Write as _,
    io::{self, Write as _},
    time::{Duration, Instant},
};

use yalotheca_core::document::{Document, Format, Pointer, Value};

const SIZES: [usize; 3] = [2_000, 8_000, 32_000];

/// Returns a file with about so many single values.
fn text(format: Format, count: usize) -> String {
    let mut text = String::new();
    let groups = 0..count / 10;
    let one = |text: &mut String, n: usize, line: &str| {
        for key in 0..10 {
            text.push_str(
                &line.replace("KEY", &format!("key_{key}")).replace("VALUE", &format!("value {n}")),
            );
        }
    };
    if format == Format::Json {
        text.push('{');
    }
    if format == Format::Xml {
        text.push_str("<root>\n");
    }
    for n in groups {
        let (open, line, close) = match format {
            Format::Json => {
                (format!("\"group_{n}\": {{"), "\"KEY\": \"VALUE\", ", format!("\"last\": {n}}},\n"))
            }
            Format::Yaml => (format!("group_{n}:\n"), "  KEY: VALUE\n", String::new()),
            Format::Toml => (format!("[group_{n}]\n"), "KEY = \"VALUE\"\n", String::new()),
            Format::Xml => (format!("<group_{n}>\n"), "  <KEY>VALUE</KEY>\n", format!("</group_{n}>\n")),
            Format::Ini => (format!("[group_{n}]\n"), "KEY = VALUE\n", String::new()),
            Format::Blocks => (format!("group_{n} {{\n"), "  KEY \"VALUE\"\n", "}\n".into()),
            Format::Table => (format!("group_{n} = {{\n"), "  KEY = \"VALUE\",\n", "}\n".into()),
            Format::Arguments => (String::new(), "--KEY \"VALUE\" ", String::new()),
            Format::Keywords => (String::new(), "KEY VALUE\n", String::new()),
            _ => (String::new(), "KEY = VALUE\n", String::new()),
        };
        text.push_str(&open);
        one(&mut text, n, line);
        text.push_str(&close);
    }
    match format {
        Format::Json => text.push_str("\"end\": 1}\n"),
        Format::Xml => text.push_str("</root>\n"),
        _ => {}
    }
    text
}

fn median(runs: usize, mut run: impl FnMut() -> Duration) -> Duration {
    let mut times: Vec<Duration> = (0..runs.max(1)).map(|_| run()).collect();
    times.sort_unstable();
    times[times.len() / 2]
}

/// Measures every format and prints a table: milliseconds, and what an edit costs beside reading the file.
pub(crate) fn measure(runs: usize) -> io::Result<()> {
    let mut out = io::stdout().lock();
    writeln!(
        out,
        "{:<11}{:>8}{:>9}{:>9}{:>9}{:>9}{:>9}{:>8}",
        "", "values", "KB", "read", "leaves", "match", "edit", "check"
    )?;
    for format in [
        Format::Properties,
        Format::Keywords,
        Format::Arguments,
        Format::Ini,
        Format::Blocks,
        Format::Table,
        Format::Json,
        Format::Yaml,
        Format::Toml,
        Format::Xml,
    ] {
        for count in SIZES {
            row(&mut out, format, &text(format, count), runs)?;
        }
    }
    writeln!(
        out,
        "\nread, leaves, match, edit: milliseconds; check: what an edit costs beyond reading its text, in readings"
    )
}

fn row(out: &mut impl io::Write, format: Format, text: &str, runs: usize) -> io::Result<()> {
    let wrong = |error: String| io::Error::other(format!("{}: {error}", format.name()));
    let document = Document::parse(format, text).map_err(|error| wrong(error.to_string()))?;
    let leaves = document.leaves();
    let Some((at, _)) = leaves.get(leaves.len() / 2) else { return Err(wrong("nothing is in it".into())) };
    let pattern = Pointer::parse("/*/key_3").map_err(|error| wrong(error.to_string()))?;
    let timed = |work: &mut dyn FnMut()| {
        let begun = Instant::now();
        work();
        begun.elapsed()
    };
    let read = median(runs, || timed(&mut || drop(Document::parse(format, text))));
    let listed = median(runs, || timed(&mut || drop(document.leaves())));
    let matched = median(runs, || timed(&mut || drop(document.matching(&pattern))));
    let edited = median(runs, || {
        let mut copy = document.clone();
        let mut failed = None;
        let time = timed(&mut || failed = copy.set(at, &Value::from("another")).err());
        // The copy is freed outside of what is measured.
        if failed.is_some() { Duration::MAX } else { time }
    });
    let ms = |time: Duration| time.as_secs_f64() * 1_000.0;
    let check = (ms(edited) - ms(read)) / ms(read);
    let mut line = String::new();
    write!(line, "{:<11}{:>8}{:>9}", format.name(), leaves.len(), text.len() / 1_024).ok();
    write!(line, "{:>9.2}{:>9.2}{:>9.2}{:>9.2}{check:>8.2}", ms(read), ms(listed), ms(matched), ms(edited))
        .ok();
    writeln!(out, "{line}")
}
