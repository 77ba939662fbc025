//! Finds the files: those of packages and of the crates that the build has unpacked.

use std::{collections::HashSet, fs, path::Path};

use yalotheca_core::document::{Encoding, Format};

/// One file.
#[derive(Debug, Clone)]
pub(super) struct Sample {
    pub(super) path: String,
    pub(super) format: Format,
    pub(super) text: String,
}

/// Where they are looked for; `YALOTHECA_CORPUS` names another folder.
fn roots() -> Vec<String> {
    if let Ok(root) = std::env::var("YALOTHECA_CORPUS") {
        return vec![root];
    }
    let home = std::env::var("HOME").unwrap_or_default();
    let cargo = std::env::var("CARGO_HOME").unwrap_or_else(|_| format!("{home}/.cargo"));
    vec![format!("{cargo}/registry/src"), "/usr/share".into(), "/etc".into(), "/usr/lib".into()]
}

/// How many of each format are taken, so that a run has an end. With a folder of its own all are.
fn most(format: Format) -> usize {
    if std::env::var_os("YALOTHECA_CORPUS").is_some() {
        return usize::MAX;
    }
    match format {
        Format::Toml | Format::Json | Format::Xml => 700,
        Format::Yaml => 500,
        _ => 300,
    }
}

const LARGEST: u64 = 60_000;
const DEEPEST: usize = 9;

fn format_of(name: &str) -> Option<Format> {
    let suffix = name.rsplit_once('.')?.1;
    Some(match suffix {
        "json" => Format::Json,
        "yml" | "yaml" => Format::Yaml,
        "toml" => Format::Toml,
        "xml" | "svg" | "ui" | "policy" => Format::Xml,
        "ini" | "desktop" | "service" | "timer" | "socket" => Format::Ini,
        "properties" | "conf" | "mt" => Format::Properties,
        "cfg" | "rules" => Format::Keywords,
        "list" => Format::Lines,
        "args" => Format::Arguments,
        _ => return None,
    })
}

/// Returns the files, each text once, in the order of their paths' hashes so that all folders have their share.
pub(super) fn collect() -> Vec<Sample> {
    let mut paths = Vec::new();
    for root in roots() {
        walk(Path::new(&root), 0, &mut paths);
    }
    paths.sort_by_key(|(path, _)| super::edits::hash(path));
    let mut seen = HashSet::new();
    let mut counts = std::collections::HashMap::new();
    let mut samples = Vec::new();
    for (path, format) in paths {
        let count = counts.entry(format).or_insert(0);
        if *count >= most(format) {
            continue;
        }
        let Ok(bytes) = fs::read(&path) else { continue };
        let (text, encoding) = Encoding::decode(bytes);
        if encoding == Encoding::Unknown || !seen.insert(super::edits::hash(&text)) {
            continue;
        }
        *count += 1;
        samples.push(Sample { path, format, text });
    }
    samples
}

/// Returns some texts of a format, none longer than a bound.
pub(super) fn some_of(format: Format, most: usize, longest: usize) -> Vec<String> {
    let of_format =
        collect().into_iter().filter(|sample| sample.format == format && sample.text.len() <= longest);
    of_format.take(most).map(|sample| sample.text).collect()
}

fn walk(folder: &Path, depth: usize, paths: &mut Vec<(String, Format)>) {
    let Ok(entries) = fs::read_dir(folder) else { return };
    for entry in entries.flatten() {
        let Ok(kind) = entry.file_type() else { continue };
        let path = entry.path();
        if kind.is_dir() && depth < DEEPEST {
            walk(&path, depth + 1, paths);
        } else if kind.is_file()
            && let Some(format) = path.file_name().and_then(|name| format_of(name.to_str()?))
            && entry.metadata().is_ok_and(|data| data.len() <= LARGEST)
        {
            // Some crates bring files that are wrong on purpose.
            let whole = path.to_string_lossy();
            if whole.contains("_err_") || whole.contains("/invalid/") {
                continue;
            }
            paths.push((path.to_string_lossy().into_owned(), format));
        }
    }
}
