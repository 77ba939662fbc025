//! `boot.json`, the engine, `terms.txt` and `saltwick.conf`.

use std::{collections::BTreeMap, fs, path::Path};

use serde_json::Value;

use super::{Closed, member};

pub(super) struct Engine {
    pub(super) version: String,
    pub(super) runtime: u64,
}

pub(super) fn boot(folder: &Path) -> Result<Engine, Closed> {
    let text = fs::read_to_string(folder.join("boot.json")).map_err(|_| Closed("no boot.json".into()))?;
    let boot: Value =
        serde_json::from_str(&text).map_err(|error| Closed(format!("boot.json is not JSON: {error}")))?;
    let file = boot["engine"].as_str().unwrap_or("").to_owned();
    let archive = folder.join(&file);
    if file.is_empty() || !archive.is_file() {
        return Err(Closed(format!("no engine file {file}")));
    }
    let descriptor: Option<Value> =
        member(&archive, "engine.json").and_then(|bytes| serde_json::from_slice(&bytes).ok());
    let descriptor = descriptor.ok_or_else(|| Closed(format!("{file} is not an engine")))?;
    let version = descriptor["version"].as_str().unwrap_or("0").to_owned();
    let (needs, started) =
        (descriptor["runtime"].as_u64().unwrap_or(0), boot["runtime"].as_u64().unwrap_or(0));
    if needs != started {
        return Err(Closed(format!("engine {version} needs runtime {needs}, started on {started}")));
    }
    Ok(Engine { version, runtime: started })
}

pub(super) fn terms(folder: &Path) -> Result<(), Closed> {
    let path = folder.join("terms.txt");
    let refused = || Closed("the terms in terms.txt are not agreed".into());
    let Ok(text) = fs::read_to_string(&path) else {
        fs::write(&path, "terms = undecided\n").map_err(|error| Closed(error.to_string()))?;
        return Err(refused());
    };
    let agreed = text
        .lines()
        .filter_map(|line| line.split_once('='))
        .any(|(key, value)| (key.trim(), value.trim()) == ("terms", "agreed"));
    if agreed { Ok(()) } else { Err(refused()) }
}

const KEYS: &[(&str, &str)] = &[
    ("name", "A harbour town"),
    ("town", "brinewick"),
    ("port", "7710"),
    ("loader", ""),
    ("console.port", "7711"),
    ("console.secret", ""),
    ("look.link", ""),
    ("look.digest", ""),
    ("look.must", "no"),
];

pub(super) struct Conf {
    values: BTreeMap<String, String>,
}

impl Conf {
    pub(super) fn get(&self, key: &str) -> &str {
        self.values.get(key).map_or("", String::as_str)
    }
}

/// Reads `saltwick.conf` and adds the keys that are missing at its end.
pub(super) fn conf(folder: &Path) -> Result<Conf, Closed> {
    let path = folder.join("saltwick.conf");
    let mut text = fs::read_to_string(&path).unwrap_or_default();
    let mut values = BTreeMap::new();
    for (number, line) in text.lines().enumerate() {
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        let wrong = || Closed(format!("saltwick.conf line {} is not key = value", number + 1));
        let (key, value) = line.split_once('=').ok_or_else(wrong)?;
        values.insert(key.trim().to_owned(), value.trim().to_owned());
    }
    let before = text.len();
    for (key, value) in KEYS {
        if !values.contains_key(*key) {
            if !text.is_empty() && !text.ends_with('\n') {
                text.push('\n');
            }
            text.push_str(format!("{key} = {value}").trim_end());
            text.push('\n');
            values.insert((*key).to_owned(), (*value).to_owned());
        }
    }
    if text.len() > before {
        fs::write(&path, text).map_err(|error| Closed(error.to_string()))?;
    }
    Ok(Conf { values })
}
