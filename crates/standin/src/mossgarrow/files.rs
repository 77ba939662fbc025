//! The server's own files.

use std::{collections::BTreeMap, fs, io, path::Path};

use saphyr_parser::{Event, Parser};
use serde_json::{Map, Value};

/// `launch.args`.
pub(super) struct Arguments {
    words: Vec<(String, String)>,
}

impl Arguments {
    pub(super) fn read(folder: &Path) -> Result<Self, String> {
        let text = fs::read_to_string(folder.join("launch.args")).map_err(|_| "no launch.args".to_owned())?;
        Self::parse(&text)
    }

    pub(super) fn parse(text: &str) -> Result<Self, String> {
        let mut words = Vec::new();
        let mut all = text.split_whitespace();
        while let Some(word) = all.next() {
            let name = word.strip_prefix("--").ok_or_else(|| format!("launch.args: {word} is no option"))?;
            let value = all.next().ok_or_else(|| format!("launch.args: --{name} has no value"))?;
            if !matches!(name, "port" | "carry" | "saves") {
                return Err(format!("launch.args: unknown option --{name}"));
            }
            words.push((name.to_owned(), value.trim_matches('"').to_owned()));
        }
        Ok(Self { words })
    }

    pub(super) fn one(&self, name: &str) -> Option<&str> {
        self.words.iter().rfind(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }

    pub(super) fn all(&self, name: &str) -> Vec<String> {
        self.words.iter().filter(|(known, _)| known == name).map(|(_, value)| value.clone()).collect()
    }
}

/// `garrow.ini`: one section, rewritten at each clean stop.
pub(super) struct Settings {
    hosting: BTreeMap<String, String>,
}

impl Settings {
    pub(super) fn read(folder: &Path) -> Result<Self, String> {
        let text = fs::read_to_string(folder.join("garrow.ini")).map_err(|_| "no garrow.ini".to_owned())?;
        let mut hosting = BTreeMap::new();
        let mut inside = false;
        for (number, line) in text.lines().enumerate() {
            let line = line.split('#').next().unwrap_or_default().trim();
            if line.starts_with('[') {
                inside = line == "[Hosting]";
            } else if inside && !line.is_empty() {
                let (key, value) = line
                    .split_once('=')
                    .ok_or_else(|| format!("garrow.ini line {} is not key = value", number + 1))?;
                hosting.insert(key.trim().to_owned(), value.trim().to_owned());
            }
        }
        Ok(Self { hosting })
    }

    pub(super) fn one(&self, key: &str) -> &str {
        self.hosting.get(key).map_or("", String::as_str)
    }

    pub(super) fn list(&self, key: &str) -> Vec<String> {
        let text = self.hosting.get(key).map_or("", String::as_str);
        text.split(';').map(str::trim).filter(|name| !name.is_empty()).map(str::to_owned).collect()
    }

    /// Keys sorted, comments dropped.
    pub(super) fn write(&mut self, folder: &Path) -> io::Result<()> {
        let lines: Vec<String> =
            self.hosting.iter().map(|(key, value)| format!("{key} = {value}\n")).collect();
        fs::write(folder.join("garrow.ini"), format!("[Hosting]\n{}", lines.concat()))
    }
}

/// Returns the campaign that `garrow.def` plays.
pub(super) fn story(folder: &Path) -> Result<String, String> {
    let text = fs::read_to_string(folder.join("garrow.def")).map_err(|_| "no garrow.def".to_owned())?;
    let mut depth = 0;
    for (number, line) in text.lines().enumerate() {
        let line = line.split('#').next().unwrap_or_default().trim();
        if line.ends_with('{') {
            depth += 1;
        } else if line == "}" {
            depth -= 1;
        } else if let Some(plays) = line.strip_prefix("plays") {
            return Ok(plays.trim().trim_matches('"').to_owned());
        }
        if depth < 0 {
            return Err(format!("garrow.def line {}: a \"}}\" too many", number + 1));
        }
    }
    Err(if depth > 0 { "garrow.def: a \"}\" is missing".into() } else { "garrow.def plays nothing".into() })
}

/// Reads a YAML file.
pub(super) fn yaml(path: &Path) -> Result<Value, String> {
    let text = fs::read_to_string(path).map_err(|_| "is not there".to_owned())?;
    let mut events = Vec::new();
    for event in Parser::new_from_str(&text) {
        let (event, _) = event.map_err(|error| format!("broken at line {}", error.marker().line()))?;
        events.push(event);
    }
    let mut events = events.into_iter().filter(|event| {
        !matches!(event, Event::StreamStart | Event::StreamEnd | Event::DocumentStart(_) | Event::DocumentEnd)
    });
    Ok(node(&mut events).unwrap_or(Value::Null))
}

fn node<'e>(events: &mut impl Iterator<Item = Event<'e>>) -> Option<Value> {
    Some(match events.next()? {
        Event::Scalar(text, ..) => Value::String(text.into_owned()),
        Event::SequenceStart(..) => {
            let mut items = Vec::new();
            while let Some(item) = node(events) {
                items.push(item);
            }
            Value::Array(items)
        }
        Event::MappingStart(..) => {
            let mut map = Map::new();
            while let Some(key) = node(events) {
                let value = node(events).unwrap_or(Value::Null);
                map.insert(key.as_str().unwrap_or_default().to_owned(), value);
            }
            Value::Object(map)
        }
        _ => return None,
    })
}
