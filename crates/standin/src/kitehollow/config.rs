//! `host.cfg`.

use std::{collections::BTreeMap, fs, path::Path};

use super::say;

const KEYS: &[(&str, &str)] = &[
    ("start_map", ""),
    ("game_port", "5810"),
    ("console_port", "5811"),
    ("console_pass", ""),
    ("fetch_on", "1"),
    ("fetch_from", ""),
    ("fetch_cap_mb", "24"),
];

pub(super) struct Config {
    values: BTreeMap<String, String>,
}

impl Config {
    pub(super) fn read(folder: &Path) -> Result<Self, String> {
        let mut config = Self {
            values: KEYS.iter().map(|(key, value)| ((*key).to_owned(), (*value).to_owned())).collect(),
        };
        let text = fs::read_to_string(folder.join("host.cfg")).map_err(|_| "no host.cfg".to_owned())?;
        config.execute(&text);
        Ok(config)
    }

    /// Takes over every line of a text.
    pub(super) fn execute(&mut self, text: &str) {
        for line in text.lines() {
            let line = line.trim();
            if line.is_empty() || line.starts_with("//") {
                continue;
            }
            let (name, rest) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
            let rest = rest.trim();
            let value = match rest.strip_prefix('"') {
                Some(quoted) => quoted.split('"').next().unwrap_or(""),
                None => rest.split("//").next().unwrap_or("").trim(),
            };
            self.set(name, value);
        }
    }

    pub(super) fn set(&mut self, name: &str, value: &str) {
        match self.values.get_mut(name) {
            Some(old) => value.clone_into(old),
            None => say("host", &format!("unknown setting: {name}")),
        }
    }

    pub(super) fn get(&self, key: &str) -> &str {
        self.values.get(key).map_or("", String::as_str)
    }
}
