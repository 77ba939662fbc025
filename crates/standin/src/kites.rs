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
