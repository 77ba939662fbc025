//! A Mossgarrow server before its first start, items and tweaks for it.

use std::{fs, io, path::Path};

use base64::{Engine as _, engine::general_purpose::STANDARD};
use ring::signature::{Ed25519KeyPair, KeyPair as _};

use crate::kites::zipped;

/// Writes a server.
///
/// # Errors
/// Where the folder cannot be written.
pub fn write_server(folder: &Path, port: u16) -> io::Result<()> {
    fs::create_dir_all(folder.join("keys"))?;
    fs::create_dir_all(folder.join("items"))?;
    fs::write(folder.join("keys/base.mkey"), key_file("base")?)?;
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

/// An item as its author publishes it.
#[derive(Debug, Clone)]
pub struct Item {
    /// Its number.
    pub number: u64,
    /// Its name: that of its folder.
    pub name: &'static str,
    /// What people call it.
    pub title: &'static str,
    /// Who signs its parts.
    pub author: &'static str,
    /// Its parts.
    pub parts: &'static [&'static str],
    /// Its streamed assets, with what is in each.
    pub streams: &'static [(&'static str, &'static str)],
    /// The region that it brings, if it does.
    pub region: Option<&'static str>,
    /// The names that must come from it only.
    pub owns: &'static [&'static str],
    /// The numbers of the items that it needs.
    pub needs: &'static [u64],
}

/// The items that there are.
pub const ITEMS: &[Item] = &[
    Item {
        number: 4_410_021,
        name: "Heronry",
        title: "Heron Country",
        author: "sedge",
        parts: &["marsh", "nests"],
        streams: &[
            ("pier_04.tile", "the pier of the herons"),
            ("reeds_01.tile", "reeds"),
            ("punt.hull", "a punt"),
        ],
        region: None,
        owns: &["punt.hull"],
        needs: &[],
    },
    Item {
        number: 4_410_188,
        name: "Reedfen",
        title: "The Reed Fen",
        author: "bulrush",
        parts: &["fen"],
        streams: &[
            ("pier_04.tile", "the pier of the fen"),
            ("reeds_01.tile", "reeds"),
            ("sluice.hull", "a sluice"),
        ],
        region: Some("Reedfen"),
        owns: &[],
        needs: &[4_410_300],
    },
    Item {
        number: 4_410_300,
        name: "Rushlight",
        title: "Rush Lights",
        author: "sedge",
        parts: &["lights"],
        streams: &[],
        region: None,
        owns: &[],
        needs: &[],
    },
];

fn pair(author: &str) -> io::Result<Ed25519KeyPair> {
    let seed = blake3::hash(format!("a made-up author: {author}").as_bytes());
    Ed25519KeyPair::from_seed_unchecked(seed.as_bytes()).map_err(|_| io::ErrorKind::InvalidData.into())
}

/// Returns an author's key file.
///
/// # Errors
/// Where there can be no such key.
pub fn key_file(author: &str) -> io::Result<String> {
    Ok(format!("{}\n", STANDARD.encode(pair(author)?.public_key().as_ref())))
}

/// Returns an author's signature of some bytes, as a file.
///
/// # Errors
/// Where there can be no such key.
pub fn signature_file(author: &str, bytes: &[u8]) -> io::Result<String> {
    Ok(format!("{}\n", STANDARD.encode(pair(author)?.sign(bytes).as_ref())))
}

impl Item {
    /// Returns the files of an item, below the folder that is called by its number.
    ///
    /// # Errors
    /// Where it cannot be signed.
    pub fn files(&self) -> io::Result<Vec<(String, Vec<u8>)>> {
        let Self { number, name, title, author, .. } = self;
        let kind = if self.region.is_some() { "region" } else { "content" };
        let mut files = vec![(
            "item.info".to_owned(),
            format!("number: {number}\ntitle: {title}\nkind: {kind}\n").into_bytes(),
        )];
        let mut put = |path: &str, bytes: Vec<u8>| files.push((format!("{name}/{path}"), bytes));
        for part in self.parts {
            let mut bytes = vec![0; 4_000];
            blake3::Hasher::new().update(format!("{name} {part}").as_bytes()).finalize_xof().fill(&mut bytes);
            put(&format!("parts/{part}.mpk.{author}.sig"), signature_file(author, &bytes)?.into_bytes());
            put(&format!("parts/{part}.mpk"), bytes);
        }
        put(&format!("keys/{author}.mkey"), key_file(author)?.into_bytes());
        for (asset, text) in self.streams {
            put(&format!("stream/shore/{asset}"), text.as_bytes().to_vec());
        }
        if !self.owns.is_empty() {
            put("owns.txt", format!("{}\n", self.owns.join("\n")).into_bytes());
        }
        if let Some(region) = self.region {
            put(&format!("regions/{region}/region.grid"), format!("grid of {region}\n").into_bytes());
            put(&format!("regions/{region}/spawn.pts"), b"1 1\n".to_vec());
            put(&format!("campaigns/{region}/open/campaign.txt"), format!("{region}, open\n").into_bytes());
        }
        Ok(files)
    }

    /// Writes the item as it lies on a server or a player's machine: below a folder called by its number.
    ///
    /// # Errors
    /// Where the folder cannot be written.
    pub fn write(&self, items: &Path) -> io::Result<()> {
        for (path, bytes) in self.files()? {
            let path = items.join(self.number.to_string()).join(path);
            if let Some(above) = path.parent() {
                fs::create_dir_all(above)?;
            }
            fs::write(path, bytes)?;
        }
        Ok(())
    }
}

/// Writes what an item host serves: a page for each item, its file, and beside the page what machines read.
///
/// # Errors
/// Where the folder cannot be written.
pub fn write_item_host(folder: &Path) -> io::Result<()> {
    fs::create_dir_all(folder.join("item"))?;
    fs::create_dir_all(folder.join("files"))?;
    for item in ITEMS {
        let Item { number, title, needs, .. } = item;
        let slug = title.to_lowercase().replace(' ', "-");
        let page = format!("<!doctype html><title>{title}</title><h1>{title}</h1><p>Item {number}</p>\n");
        fs::write(folder.join(format!("item/{number}-{slug}")), page)?;
        let told = serde_json::json!({ "number": number, "title": title, "needs": needs });
        fs::write(folder.join(format!("item/{number}.json")), format!("{told:#}\n"))?;
        fs::write(folder.join(format!("files/{number}.zip")), zipped(&item.files()?)?)?;
    }
    Ok(())
}
