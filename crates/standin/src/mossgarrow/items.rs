//! Items: what is carried, and whether players can trust its parts.

use std::{
    collections::BTreeMap,
    fs,
    io::{self, Cursor, Read, Write},
    net::TcpStream,
    path::{Path, PathBuf},
    time::Duration,
};

use serde_json::{Value, json};

use super::say;

/// An item that lies in the server's folder.
#[derive(Debug, Clone)]
pub(super) struct Item {
    /// Its name: that of its folder.
    pub(super) name: String,
    /// The folder.
    pub(super) folder: PathBuf,
}

/// Fetches the items that are to be loaded and are not there, in ascending order.
pub(super) fn fetch(folder: &Path, host: &str) {
    let text = fs::read_to_string(folder.join("content.json")).unwrap_or_default();
    let listed: Value = serde_json::from_str(&text).unwrap_or_else(|error| {
        say(&format!("content.json: broken at line {}", error.line()));
        Value::Null
    });
    let listed = listed["items"].as_object().cloned().unwrap_or_default();
    let mut numbers: Vec<u64> = listed
        .iter()
        .filter(|(_, item)| item["load"] == json!(true))
        .filter_map(|(number, _)| number.parse().ok())
        .collect();
    numbers.sort_unstable();
    for number in numbers {
        let place = folder.join("items").join(number.to_string());
        if place.is_dir() {
            continue;
        }
        match get(host, &format!("/files/{number}.zip")).and_then(|bytes| unpack(&bytes, &place)) {
            Ok(()) => say(&format!("fetched item {number}")),
            Err(why) => say(&format!("item {number} cannot be fetched: {why}")),
        }
    }
}

fn get(host: &str, path: &str) -> io::Result<Vec<u8>> {
    let address = host.trim_start_matches("http://").trim_end_matches('/');
    if address.is_empty() {
        return Err(io::Error::other("there is no item_host"));
    }
    let mut stream = TcpStream::connect(address)?;
    stream.set_read_timeout(Some(Duration::from_secs(5)))?;
    write!(stream, "GET {path} HTTP/1.0\r\nHost: {address}\r\n\r\n")?;
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer)?;
    let head = answer.windows(4).position(|four| four == b"\r\n\r\n").ok_or(io::ErrorKind::InvalidData)?;
    let status = String::from_utf8_lossy(&answer[..head]).lines().next().unwrap_or_default().to_owned();
    if status.contains(" 200 ") { Ok(answer.split_off(head + 4)) } else { Err(io::Error::other(status)) }
}

fn unpack(bytes: &[u8], place: &Path) -> io::Result<()> {
    let mut archive = zip::ZipArchive::new(Cursor::new(bytes)).map_err(io::Error::other)?;
    archive.extract(place).map_err(io::Error::other)
}

/// Returns the items by name.
pub(super) fn all(folder: &Path) -> BTreeMap<String, Item> {
    let mut items = BTreeMap::new();
    for entry in fs::read_dir(folder.join("items")).into_iter().flatten().flatten() {
        let number = entry.file_name().to_string_lossy().into_owned();
        if number.len() < 7 || !number.bytes().all(|byte| byte.is_ascii_digit()) {
            continue;
        }
        let folders = fs::read_dir(entry.path()).into_iter().flatten().flatten();
        let folders: Vec<PathBuf> = folders.map(|entry| entry.path()).filter(|path| path.is_dir()).collect();
        let [only] = folders.as_slice() else {
            say(&format!("item {number} has {} folders, and not one", folders.len()));
            continue;
        };
        let name = only.file_name().unwrap_or_default().to_string_lossy().into_owned();
        items.insert(name.clone(), Item { name, folder: only.clone() });
    }
    items
}

/// Returns the keys that are accepted; the start stops where two of one name differ.
pub(super) fn keys(folder: &Path) -> Result<BTreeMap<String, Vec<u8>>, String> {
    let mut keys = BTreeMap::new();
    for path in below(&folder.join("keys")) {
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let Some(name) = name.strip_suffix(".mkey") else { continue };
        let bytes = line(&path).ok_or_else(|| format!("keys/{name}.mkey is no key"))?;
        if keys.insert(name.to_owned(), bytes.clone()).is_some_and(|other| other != bytes) {
            return Err(format!("two keys are called {name}"));
        }
    }
    if keys.contains_key("base") { Ok(keys) } else { Err("keys/base.mkey is not there".into()) }
}

/// One line of Base64.
fn line(path: &Path) -> Option<Vec<u8>> {
    use base64::Engine as _;
    base64::engine::general_purpose::STANDARD.decode(fs::read_to_string(path).ok()?.trim()).ok()
}

/// Verifies the signature of each part of an item, and returns the reasons for which a player is turned away.
pub(super) fn refused(item: &Item, keys: &BTreeMap<String, Vec<u8>>) -> Vec<String> {
    let parts = below(&item.folder.join("parts")).into_iter();
    let parts = parts.filter(|path| path.extension().is_some_and(|suffix| suffix == "mpk"));
    parts
        .filter(|part| {
            let bytes = fs::read(part).unwrap_or_default();
            !keys.iter().any(|(name, key)| {
                let signature = line(Path::new(&format!("{}.{name}.sig", part.display())));
                let key = ring::signature::UnparsedPublicKey::new(&ring::signature::ED25519, key);
                signature.is_some_and(|signature| key.verify(&bytes, &signature).is_ok())
            })
        })
        .map(|part| {
            let part = part.file_name().unwrap_or_default().to_string_lossy().into_owned();
            format!("{}: part {part} has no accepted signature", item.name)
        })
        .collect()
}

/// Streamed assets by name, with the items that have them, in the order in which they are carried.
pub(super) fn streams(carried: &[&Item]) -> BTreeMap<String, Vec<String>> {
    let mut names: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for item in carried {
        for path in below(&item.folder.join("stream")) {
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            if path.extension().is_some_and(|suffix| suffix == "tile" || suffix == "hull") {
                names.entry(name).or_default().push(item.name.clone());
            }
        }
    }
    names
}

/// Returns the files below a folder, sorted.
pub(super) fn below(folder: &Path) -> Vec<PathBuf> {
    let mut files = Vec::new();
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() {
            files.extend(below(&path));
        } else {
            files.push(path);
        }
    }
    files.sort();
    files
}

/// The parts of an item, as a player's game compares them.
pub(super) fn parts(item: &Item) -> Vec<Value> {
    let parts = below(&item.folder.join("parts")).into_iter();
    let parts = parts.filter(|path| path.extension().is_some_and(|suffix| suffix == "mpk"));
    let sum = |path: &Path| {
        let digest = ring::digest::digest(&ring::digest::SHA256, &fs::read(path).unwrap_or_default());
        digest.as_ref().iter().fold(String::new(), |hex, byte| format!("{hex}{byte:02x}"))
    };
    parts
        .map(|path| {
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            json!({"name": name, "sha256": sum(&path)})
        })
        .collect()
}
