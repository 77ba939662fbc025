//! Plugins, mods and data packs.

use std::{
    collections::BTreeMap,
    fs,
    path::{Path, PathBuf},
};

use serde_json::Value;

use super::{Log, files_with_suffix, member, range::holds, settings::top_keys};

struct Plugin {
    id: String,
    version: String,
    file: PathBuf,
    descriptor: Value,
}

impl Plugin {
    fn ranges(&self, name: &str) -> Vec<(String, String)> {
        let map = self.descriptor[name].as_object().into_iter().flatten();
        map.map(|(id, range)| (id.clone(), range.as_str().unwrap_or("*").to_owned())).collect()
    }
}

/// Reads the plugins in the order in which they are loaded.
fn plugins(folder: &Path, log: &mut Log) -> Vec<Plugin> {
    let mut found: Vec<Plugin> = Vec::new();
    for file in files_with_suffix(&folder.join("plugins"), ".swp") {
        let name = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let descriptor: Option<Value> =
            member(&file, "plugin.json").and_then(|bytes| serde_json::from_slice(&bytes).ok());
        let Some((id, descriptor)) = descriptor.and_then(|d| Some((d["id"].as_str()?.to_owned(), d))) else {
            log.say("error", &format!("plugin file {name}: no readable plugin.json"));
            continue;
        };
        if found.iter().any(|plugin| plugin.id == id) {
            log.say("error", &format!("plugin {id}: {name} is a second file with this id, refused"));
            continue;
        }
        let version = descriptor["version"].as_str().unwrap_or("0").to_owned();
        found.push(Plugin { id, version, file, descriptor });
    }
    let text = fs::read_to_string(folder.join("plugins/order.txt")).unwrap_or_default();
    let order: Vec<&str> = text
        .lines()
        .map(|line| line.split('#').next().unwrap_or("").trim())
        .filter(|line| !line.is_empty())
        .collect();
    for id in &order {
        if !found.iter().any(|plugin| plugin.id == *id) {
            log.say("error", &format!("order.txt names {id}, and there is no such plugin"));
        }
    }
    found.sort_by_key(|plugin| order.iter().position(|id| *id == plugin.id).unwrap_or(usize::MAX));
    found
}

/// Loads the plugins, and returns those that are loaded with their versions.
pub(super) fn load_plugins(folder: &Path, engine: &str, log: &mut Log) -> BTreeMap<String, String> {
    let all = plugins(folder, log);
    let mut loaded: BTreeMap<String, String> = BTreeMap::new();
    for plugin in &all {
        match load(plugin, engine, &all, &loaded, folder, log) {
            Ok(()) => {
                log.say("info", &format!("plugin {} {} loaded", plugin.id, plugin.version));
                loaded.insert(plugin.id.clone(), plugin.version.clone());
            }
            Err(why) => log.say("error", &format!("plugin {}: {why}", plugin.id)),
        }
    }
    loaded
}

/// Reads a plugin's settings again.
pub(super) fn read_settings(folder: &Path, id: &str, log: &mut Log) -> Result<(), String> {
    let all = plugins(folder, log);
    let plugin = all.iter().find(|plugin| plugin.id == id).ok_or("its file is gone")?;
    settings(plugin, folder, log)
}

fn load(
    plugin: &Plugin,
    engine: &str,
    all: &[Plugin],
    loaded: &BTreeMap<String, String>,
    folder: &Path,
    log: &mut Log,
) -> Result<(), String> {
    let wanted = plugin.descriptor["engine"].as_str().unwrap_or("*");
    if !holds(wanted, engine) {
        return Err(format!("made for engine {wanted}, and this is {engine}"));
    }
    for (id, range) in plugin.ranges("needs") {
        if loaded.get(&id).is_some_and(|version| holds(&range, version)) {
            continue;
        }
        let later = all
            .iter()
            .any(|other| other.id == id && !loaded.contains_key(&id) && holds(&range, &other.version));
        let when = if later { "it loads later" } else { "none is loaded" };
        return Err(format!("needs {id} {range}, and {when}"));
    }
    for (id, range) in plugin.ranges("welcomes") {
        if all.iter().any(|other| other.id == id && !holds(&range, &other.version)) {
            log.say("warn", &format!("plugin {}: goes with {id} {range} only", plugin.id));
        }
    }
    for (id, range) in plugin.ranges("refuses") {
        if let Some(other) = all.iter().find(|other| other.id == id && holds(&range, &other.version)) {
            return Err(format!("refuses {id} {}", other.version));
        }
    }
    settings(plugin, folder, log)
}

fn settings(plugin: &Plugin, folder: &Path, log: &mut Log) -> Result<(), String> {
    let Some(defaults) = member(&plugin.file, "defaults.yml") else { return Ok(()) };
    let path = folder.join("plugins").join(&plugin.id).join("settings.yml");
    if !path.exists() {
        path.parent()
            .map_or(Ok(()), fs::create_dir_all)
            .and_then(|()| fs::write(&path, &defaults))
            .map_err(|e| e.to_string())?;
    }
    let text = fs::read_to_string(&path).map_err(|error| error.to_string())?;
    let keys = top_keys(&text).map_err(|line| format!("settings.yml is not valid YAML at line {line}"))?;
    let known = top_keys(&String::from_utf8_lossy(&defaults)).unwrap_or_default();
    for key in keys.difference(&known) {
        log.say("warn", &format!("plugin {}: settings.yml has an unknown key {key}", plugin.id));
    }
    Ok(())
}

/// Loads mods, where there is a loader, and returns those that players must have in the same version. One that cannot be loaded
/// stops the start.
pub(super) fn load_mods(folder: &Path, loader: &str, engine: &str) -> Result<Vec<Value>, String> {
    if loader.is_empty() {
        return Ok(Vec::new());
    }
    let descriptor: Option<Value> =
        member(&folder.join(loader), "loader.json").and_then(|bytes| serde_json::from_slice(&bytes).ok());
    let descriptor = descriptor.ok_or_else(|| format!("there is no loader {loader}"))?;
    let text = |value: &Value, key: &str| value[key].as_str().unwrap_or_default().to_owned();
    if !holds(&text(&descriptor, "engine"), engine) {
        return Err(format!("{loader} does not run on engine {engine}"));
    }
    let mut there: BTreeMap<String, toml::Table> = BTreeMap::new();
    for file in files_with_suffix(&folder.join("mods"), ".swm") {
        let text = member(&file, "mod.toml").map(|bytes| String::from_utf8_lossy(&bytes).into_owned());
        let Some(table) = text.and_then(|text| text.parse::<toml::Table>().ok()) else { continue };
        let id = table.get("id").and_then(toml::Value::as_str).unwrap_or_default().to_owned();
        there.insert(id, table);
    }
    let get = |table: &toml::Table, key: &str| {
        table.get(key).and_then(toml::Value::as_str).unwrap_or_default().to_owned()
    };
    let mut shared = Vec::new();
    for (id, table) in &there {
        if get(table, "side") == "player" {
            return Err(format!("mod {id} is for players"));
        }
        if let Some(range) = get(table, "loader").strip_prefix("pontoon")
            && !holds(range, &text(&descriptor, "version"))
        {
            return Err(format!("mod {id} needs pontoon{range}"));
        }
        for need in table.get("needs").and_then(toml::Value::as_table).into_iter().flatten() {
            if !there.contains_key(need.0) {
                return Err(format!("mod {id} needs {}, and there is none", need.0));
            }
        }
        if get(table, "side") == "both" {
            shared.push(serde_json::json!({"id": id, "version": get(table, "version")}));
        }
    }
    Ok(shared)
}

pub(super) fn load_data_packs(town: &Path, engine: &str, log: &mut Log) {
    let Ok(text) = fs::read_to_string(town.join("packs.json")) else { return };
    let names: Vec<String> = match serde_json::from_str(&text) {
        Ok(names) => names,
        Err(error) => {
            log.say("error", &format!("packs.json is not an array of names: {error}"));
            return;
        }
    };
    let mut there: BTreeMap<String, Value> = BTreeMap::new();
    for file in files_with_suffix(&town.join("packs"), ".zip") {
        let descriptor: Option<Value> =
            member(&file, "datapack.json").and_then(|bytes| serde_json::from_slice(&bytes).ok());
        if let Some((name, descriptor)) = descriptor.and_then(|d| Some((d["name"].as_str()?.to_owned(), d))) {
            drop(there.insert(name, descriptor));
        } else {
            let name = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
            log.say("error", &format!("data pack {name}: not a data pack"));
        }
    }
    for name in names {
        let reads = if engine.starts_with('2') { 4 } else { 5 };
        match there.get(&name).map(|descriptor| descriptor["format"].as_u64().unwrap_or(0)) {
            None => log.say("error", &format!("data pack {name}: there is no such pack")),
            Some(format) if format != reads => {
                log.say(
                    "error",
                    &format!("data pack {name}: format {format}, and engine {engine} reads {reads}"),
                );
            }
            Some(_) => log.say("info", &format!("data pack {name} enabled")),
        }
    }
}
