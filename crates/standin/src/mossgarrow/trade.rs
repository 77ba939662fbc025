//! Who stands where and sells what.

use std::{
    collections::BTreeMap,
    fs,
    path::{Path, PathBuf},
};

use serde_json::Value;

use super::say;

fn files(folder: &Path, suffix: &str) -> Vec<(String, PathBuf)> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let mut found: Vec<(String, PathBuf)> = entries
        .filter_map(|entry| {
            let name = entry.file_name().to_string_lossy().into_owned();
            Some((name.strip_suffix(suffix)?.to_owned(), entry.path()))
        })
        .collect();
    found.sort();
    found
}

/// Places everybody who can be placed, and tells who cannot.
pub(super) fn place(folder: &Path) {
    let trade = folder.join("trade");
    let wares: Vec<String> = files(&trade.join("wares"), ".json").into_iter().map(|(name, _)| name).collect();
    let mut stocks: BTreeMap<String, bool> = BTreeMap::new();
    let mut sold: BTreeMap<String, String> = BTreeMap::new();
    for (name, path) in files(&trade.join("stock"), ".json") {
        let stock: Result<Value, _> = serde_json::from_str(&fs::read_to_string(&path).unwrap_or_default());
        let Ok(stock) = stock else {
            say(&format!("[trade] stock {name}: it is not JSON"));
            continue;
        };
        let mut good = true;
        let groups = |key: &str| {
            let all = stock[key].as_array().cloned().unwrap_or_default();
            all.iter().filter_map(|group| group.as_str().map(str::to_owned)).collect::<Vec<_>>()
        };
        for group in groups("sells").into_iter().chain(groups("buys")) {
            if !wares.contains(&group) {
                say(&format!("[trade] stock {name}: unknown ware group {group}"));
                good = false;
            }
        }
        for group in groups("sells") {
            if let Some(other) = sold.get(&group) {
                say(&format!("[trade] ware group {group} is sold by {other} and {name}"));
                good = false;
            }
            sold.insert(group, name.clone());
        }
        stocks.insert(name, good);
    }
    for (name, path) in files(&trade.join("people"), ".xml") {
        match person(&trade, &stocks, &fs::read_to_string(&path).unwrap_or_default()) {
            Ok(at) => say(&format!("[trade] {name} stands at {at}")),
            Err(why) => say(&format!("[trade] {name} is not placed: {why}")),
        }
    }
}

fn person(trade: &Path, stocks: &BTreeMap<String, bool>, text: &str) -> Result<String, String> {
    let document = roxmltree::Document::parse(text).map_err(|error| error.to_string())?;
    let person = document.root_element();
    let attribute = |name: &str| person.attribute(name).unwrap_or_default().to_owned();
    let (post, stock) = (attribute("post"), attribute("stock"));
    if !trade.join("posts").join(format!("{post}.toml")).is_file() {
        return Err(format!("no such post: {post}"));
    }
    match stocks.get(&stock) {
        None => return Err(format!("no such stock: {stock}")),
        Some(false) => return Err(format!("the stock {stock} is not in order")),
        Some(true) => {}
    }
    let at = person.children().find(|child| child.has_tag_name("at")).ok_or("it stands nowhere")?;
    let number =
        |name: &str| at.attribute(name).and_then(|text| text.parse::<f64>().ok()).ok_or("it stands nowhere");
    Ok(format!("{:.1} {:.1} {:.1}", number("x")?, number("y")?, number("z")?))
}
