//! The demo catalogue: its archives are real zips with real descriptors, built when they are asked for.

use std::{
    collections::BTreeMap,
    fs,
    io::{self, Cursor, Write},
    path::Path,
};

use serde::Deserialize;
use serde_json::{Map, Value, json};
use zip::{CompressionMethod, DateTime, ZipWriter, write::SimpleFileOptions};

const SOURCE: &str = include_str!("../data/quayside.toml");

#[derive(Deserialize)]
struct Source {
    name: String,
    about: String,
    content: Vec<Content>,
}

#[derive(Deserialize)]
struct Content {
    id: String,
    title: String,
    about: String,
    kind: String,
    release: Vec<Release>,
}

#[derive(Deserialize, Clone)]
struct Release {
    version: String,
    engine: Option<String>,
    format: Option<u32>,
    #[serde(default)]
    needs: BTreeMap<String, String>,
    #[serde(default)]
    welcomes: BTreeMap<String, String>,
    #[serde(default)]
    refuses: BTreeMap<String, String>,
    #[serde(default)]
    after: Vec<String>,
    defaults: Option<String>,
    schema: Option<String>,
    #[serde(default)]
    withdrawn: bool,
}

fn source() -> io::Result<Source> {
    toml::from_str(SOURCE).map_err(io::Error::other)
}

/// Packs files into a zip whose bytes depend on nothing else.
pub(crate) fn pack(files: &[(&str, Vec<u8>)]) -> io::Result<Vec<u8>> {
    let options = SimpleFileOptions::default()
        .compression_method(CompressionMethod::Deflated)
        .last_modified_time(DateTime::default());
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, bytes) in files {
        zip.start_file(*name, options)?;
        zip.write_all(bytes)?;
    }
    Ok(zip.finish()?.into_inner())
}

fn pretty(value: &Value) -> Vec<u8> {
    format!("{value:#}\n").into_bytes()
}

/// Some bytes that look like compiled code: the same for the same seed, and hard to compress.
fn filler(seed: &str, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(seed.as_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

fn file_name(content: &Content, release: &Release) -> String {
    let suffix = if content.kind == "plugin" { "swp" } else { "zip" };
    format!("{}-{}.{suffix}", content.id, release.version)
}

fn archive(content: &Content, release: &Release) -> io::Result<Vec<u8>> {
    if content.kind == "datapack" {
        let descriptor = json!({"name": content.id, "title": content.title, "about": content.about,
            "version": release.version, "format": release.format});
        return pack(&[
            ("datapack.json", pretty(&descriptor)),
            ("rules/tables.json", pretty(&json!({"of": content.title, "rows": []}))),
        ]);
    }
    let mut descriptor = Map::new();
    descriptor.insert("id".into(), json!(content.id));
    descriptor.insert("title".into(), json!(content.title));
    descriptor.insert("version".into(), json!(release.version));
    descriptor.insert("engine".into(), json!(release.engine));
    for (name, map) in
        [("needs", &release.needs), ("welcomes", &release.welcomes), ("refuses", &release.refuses)]
    {
        if !map.is_empty() {
            descriptor.insert(name.into(), json!(map));
        }
    }
    if !release.after.is_empty() {
        descriptor.insert("after".into(), json!(release.after));
    }
    let code = filler(&format!("{} {}", content.id, release.version), 6_000 + 1_700 * content.id.len());
    let mut files = vec![("plugin.json", pretty(&Value::Object(descriptor))), ("code/main.tide", code)];
    if let Some(defaults) = &release.defaults {
        files.push(("defaults.yml", defaults.clone().into_bytes()));
    }
    if let Some(schema) = &release.schema {
        files.push(("settings.schema.json", schema.clone().into_bytes()));
    }
    pack(&files)
}

/// Returns the file's name and the bytes of one release.
///
/// # Errors
/// Where there is no such release.
pub fn release(id: &str, version: &str) -> io::Result<(String, Vec<u8>)> {
    let source = source()?;
    let missing = || io::Error::new(io::ErrorKind::NotFound, format!("the demo has no {id} {version}"));
    let content = source.content.iter().find(|content| content.id == id).ok_or_else(missing)?;
    let release = content.release.iter().find(|release| release.version == version).ok_or_else(missing)?;
    Ok((file_name(content, release), archive(content, release)?))
}

/// Returns an engine's archive.
///
/// # Errors
/// Where the archive cannot be built.
pub fn engine(version: &str, runtime: u32) -> io::Result<Vec<u8>> {
    pack(&[
        ("engine.json", pretty(&json!({"version": version, "runtime": runtime}))),
        ("engine.bin", filler(&format!("engine {version}"), 40_000)),
    ])
}

fn release_json(content: &Content, release: &Release, bytes: &[u8]) -> Value {
    let engine = match release.format {
        Some(4) => Some(">=2, <3".to_owned()),
        Some(_) => Some(">=3, <4".to_owned()),
        None => release.engine.clone(),
    };
    let mut json = Map::new();
    json.insert("version".into(), json!(release.version));
    json.insert("kind".into(), json!(content.kind));
    if release.withdrawn {
        json.insert("withdrawn".into(), json!(true));
    }
    for (name, map) in
        [("needs", &release.needs), ("welcomes", &release.welcomes), ("refuses", &release.refuses)]
    {
        if !map.is_empty() {
            json.insert(name.into(), json!(map));
        }
    }
    if let Some(engine) = engine {
        json.insert("platforms".into(), json!([{"engine": engine}]));
    }
    if !release.after.is_empty() {
        json.insert("after".into(), json!(release.after));
    }
    let name = file_name(content, release);
    let digest = blake3::hash(bytes).to_hex().to_string();
    json.insert("files".into(), json!([{"name": name, "size": bytes.len(), "blake3": digest}]));
    Value::Object(json)
}

/// Writes the whole catalogue into a folder: `catalogue.json`, `contents/`, `files/`.
///
/// # Errors
/// Where the folder cannot be written.
pub fn write_catalogue(folder: &Path) -> io::Result<()> {
    let source = source()?;
    fs::create_dir_all(folder.join("contents"))?;
    fs::create_dir_all(folder.join("files"))?;
    let mut contents = Map::new();
    for content in &source.content {
        let mut releases = Vec::new();
        for release in &content.release {
            let bytes = archive(content, release)?;
            fs::write(folder.join("files").join(file_name(content, release)), &bytes)?;
            releases.push(release_json(content, release, &bytes));
        }
        let file =
            pretty(&json!({"format": 1, "id": content.id, "title": content.title, "about": content.about,
            "releases": releases}));
        fs::write(folder.join("contents").join(format!("{}.json", content.id)), &file)?;
        let digest = blake3::hash(&file).to_hex().to_string();
        let entry =
            json!({"title": content.title, "about": content.about, "kind": content.kind, "digest": digest});
        contents.insert(content.id.clone(), entry);
    }
    let index = json!({"format": 1, "name": source.name, "about": source.about, "contents": contents});
    fs::write(folder.join("catalogue.json"), pretty(&index))
}

/// Writes a fresh Saltwick server with that engine: the engine's file, `boot.json`, agreed terms, a port.
///
/// # Errors
/// Where the folder cannot be written.
pub fn write_fresh_server(folder: &Path, port: u16) -> io::Result<()> {
    fs::create_dir_all(folder)?;
    fs::write(folder.join("saltwick-2.4.swe"), engine("2.4", 6)?)?;
    let boot = "{\"engine\": \"saltwick-2.4.swe\", \"runtime\": 6, \"memory_mb\": 1024, \"options\": []}\n";
    fs::write(folder.join("boot.json"), boot)?;
    fs::write(folder.join("terms.txt"), "terms = agreed\n")?;
    fs::write(
        folder.join("saltwick.conf"),
        format!("# Larkspur Harbour, the festival's town\nname = Larkspur Harbour\nport = {port}\n"),
    )
}

/// Writes the server that somebody left behind: one plugin a folder too deep, one that needs what is not there, and
/// things that nobody knows.
///
/// # Errors
/// Where the folder cannot be written.
pub fn write_left_behind_server(folder: &Path, port: u16) -> io::Result<()> {
    write_fresh_server(folder, port)?;
    let put = |at: &str, bytes: &[u8]| {
        let path = folder.join(at);
        path.parent().map_or(Ok(()), fs::create_dir_all)?;
        fs::write(path, bytes)
    };
    let (name, bytes) = release("gull-chat", "1.0.0")?;
    put(&format!("plugins/plugins/{name}"), &bytes)?;
    let (name, bytes) = release("night-lamps", "1.2.0")?;
    put(&format!("plugins/{name}"), &bytes)?;
    put("plugins/order.txt", b"# the order for the festival week\ngull-chat\nnight-lamps\n")?;
    let (name, bytes) = release("cobbles", "1.0")?;
    put(&format!("towns/brinewick/packs/{name}"), &bytes)?;
    put("towns/brinewick/packs.json", b"[\n  \"cobbles\"\n]\n")?;
    put("towns/brinewick/chart/0001.chart", &filler("chart", 900))?;
    put("plugins/notes from last year.txt", b"ask Wren about the lamps\n")?;
    put("plugins/tidebell-beta.swp.part", &filler("part", 500))
}
