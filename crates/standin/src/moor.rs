//! A Mossgarrow server before its first start, and tweaks for it.

use std::{fs, io, path::Path};

/// Writes a server.
///
/// # Errors
/// Where the folder cannot be written.
pub fn write_server(folder: &Path, port: u16) -> io::Result<()> {
    fs::create_dir_all(folder.join("keys"))?;
    fs::create_dir_all(folder.join("items"))?;
    fs::write(folder.join("launch.args"), format!("--port {port} --saves main\n"))?;
    fs::write(
        folder.join("garrow.ini"),
        format!(
            "# The moor of the Larkspur Harbour Festival.\n[Hosting]\nitem_host =\ngame_port = {port}\n\
             carried =\nground = Basemarsh\n"
        ),
    )?;
    fs::write(folder.join("content.json"), "{\n    \"items\": {},\n    \"ask_again_hours\": 6\n}\n")?;
    fs::write(
        folder.join("garrow.def"),
        "host {\n    title   \"Larkspur Moor\"\n    places  24\n    story {\n        plays  \"Basemarsh/open\"     # a folder \
         under campaigns/\n    }\n}\n",
    )?;
    fs::write(
        folder.join("spawn.tbl"),
        "spawn = {\n    [\"Basemarsh\"] = { weight = 10, points = \"regions/Basemarsh/spawn.pts\" },\n}\n",
    )
}

/// The tweaks: name and text.
pub const TWEAKS: &[(&str, &str)] = &[
    ("lantern-seller.tweak.toml", include_str!("../data/lantern-seller.tweak.toml")),
    ("reed-burst.tweak.toml", include_str!("../data/reed-burst.tweak.toml")),
];

/// Writes the tweaks into a folder.
///
/// # Errors
/// Where the folder cannot be written.
pub fn write_tweaks(folder: &Path) -> io::Result<()> {
    fs::create_dir_all(folder)?;
    TWEAKS.iter().try_for_each(|(name, text)| fs::write(folder.join(name), text))
}
