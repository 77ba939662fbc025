//! The demo's maps and sky sets, and a Kitehollow server that flies.

use std::{fs, io, path::Path};

use crate::kitehollow::maps;

/// The maps: name, the payload's length, what the brief says, and the sky set it names.
const MAPS: &[(&str, u32, &str, Option<&str>)] = &[
    ("gull_cliffs", 180_000, "Cliffs at dawn, wind from the sea.", Some("dusk_harbour")),
    ("pier_lights", 96_000, "Along the pier after dark.", None),
    ("windmill_row", 240_000, "Four windmills, one gap.", None),
];

/// Returns the files of a map with its companions: name and bytes.
pub fn map(name: &str) -> Vec<(String, Vec<u8>)> {
    let known = MAPS.iter().find(|(known, ..)| *known == name);
    let (length, about, sky) =
        known.map_or((64_000, "", None), |(_, length, about, sky)| (*length, *about, *sky));
    let sky = sky.map_or_else(String::new, |sky| format!("sky: {sky}\n"));
    vec![
        (format!("{name}.kmap"), maps::build(name, length)),
        (format!("{name}.lanes"), format!("lane 1 for {name}\n").into_bytes()),
        (format!("{name}.brief"), format!("{about}\n{sky}").into_bytes()),
    ]
}

/// Returns a sky set.
pub fn sky(name: &str) -> (String, Vec<u8>) {
    let mut bytes = vec![0; 20_000];
    blake3::Hasher::new().update(name.as_bytes()).finalize_xof().fill(&mut bytes);
    (format!("{name}.ksky"), bytes)
}

/// Writes a server with one map in its rotation.
///
/// # Errors
/// Where the folder cannot be written.
pub fn write_server(folder: &Path, game_port: u16, console_port: u16) -> io::Result<()> {
    for part in ["maps", "sky"] {
        fs::create_dir_all(folder.join(part))?;
    }
    for (name, bytes) in map("pier_lights") {
        fs::write(folder.join("maps").join(name), bytes)?;
    }
    let config = format!(
        "// Larkspur kites\nstart_map \"pier_lights\"\ngame_port \"{game_port}\"\nconsole_port \"{console_port}\" // for the crew\n\
         console_pass \"larkspur\"\nfetch_from \"\"\nfetch_cap_mb \"24\"\n"
    );
    fs::write(folder.join("host.cfg"), config)?;
    fs::write(folder.join("rotation.list"), "pier_lights\n")?;
    fs::write(folder.join("offered.list"), "pier_lights\n")
}

/// Writes the files that a crew finds when it looks for kites: archives with more around the map than the map, a map in an
/// archive in an archive, a sky set, and a download that was cut short.
///
/// # Errors
/// Where the folder cannot be written.
pub fn write_downloads(folder: &Path) -> io::Result<()> {
    fs::create_dir_all(folder)?;
    let mut around: Vec<(String, Vec<u8>)> = vec![
        ("Gull Cliffs 2/README.md".into(), b"Unpack into your server's maps folder.\n".to_vec()),
        ("Gull Cliffs 2/install.bat".into(), b"copy *.kmap ..\\maps\r\n".to_vec()),
        ("Gull Cliffs 2/screenshot.png".into(), vec![7; 300]),
        ("Gull Cliffs 2/build.log".into(), b"built\n".to_vec()),
        ("__MACOSX/Gull Cliffs 2/._gull_cliffs.kmap".into(), vec![0; 120]),
    ];
    around
        .extend(map("gull_cliffs").into_iter().map(|(name, bytes)| (format!("Gull Cliffs 2/{name}"), bytes)));
    fs::write(folder.join("gull-cliffs-2.zip"), zipped(&around)?)?;
    let inner = zipped(&map("windmill_row"))?;
    let outer =
        [("maps/windmill_row.zip".into(), inner), ("maps/read me first.txt".into(), b"Hello!\n".to_vec())];
    fs::write(folder.join("windmill.zip"), zipped(&outer)?)?;
    let two: Vec<(String, Vec<u8>)> = map("net_loft").into_iter().chain(map("rope_walk")).collect();
    fs::write(folder.join("two-lofts.zip"), zipped(&two)?)?;
    let (name, bytes) = sky("dusk_harbour");
    fs::write(folder.join(name), bytes)?;
    let whole = maps::build("half_moon", 90_000);
    fs::write(folder.join("half_moon.kmap"), &whole[..60_000])
}

/// Packs files into a zip whose bytes depend on nothing else.
///
/// # Errors
/// Where it cannot be built.
pub fn zipped(files: &[(String, Vec<u8>)]) -> io::Result<Vec<u8>> {
    let files: Vec<(&str, Vec<u8>)> =
        files.iter().map(|(name, bytes)| (name.as_str(), bytes.clone())).collect();
    crate::quayside::pack(&files)
}
