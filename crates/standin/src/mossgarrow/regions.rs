//! Regions: their numbers, what is compiled from their grids, and where people begin.

use std::{fs, io, path::Path};

use super::items::below;

/// Returns what the compiled file should hold: each region of the index with what its grid says.
fn compiled(folder: &Path) -> Result<String, String> {
    let mut text = String::new();
    for (number, name) in index(folder)? {
        let grid = fs::read(folder.join("regions").join(&name).join("region.grid")).unwrap_or_default();
        text.extend([&number.to_string(), " ", &name, " ", blake3::hash(&grid).to_hex().as_str(), "\n"]);
    }
    Ok(text)
}

/// Reads `regions.index`.
fn index(folder: &Path) -> Result<Vec<(usize, String)>, String> {
    let text = fs::read_to_string(folder.join("regions.index")).map_err(|_| "no regions.index".to_owned())?;
    let mut names = Vec::new();
    for (at, line) in
        text.lines().filter(|line| !line.trim().is_empty() && !line.starts_with('#')).enumerate()
    {
        let (number, name) = line.split_once(':').ok_or_else(|| format!("regions.index: {line}"))?;
        if number.trim().parse() != Ok(at + 1) {
            return Err(format!("regions.index: {} comes after {at}", number.trim()));
        }
        names.push((at + 1, name.trim().to_owned()));
    }
    Ok(names)
}

/// Compiles `regions.bin`: the game's own tool.
///
/// # Errors
/// Where the index cannot be read, or the file not be written.
pub fn compile(folder: &Path) -> io::Result<()> {
    let text = compiled(folder).map_err(io::Error::other)?;
    let next = folder.join("regions.bin.next");
    fs::write(&next, text)?;
    fs::rename(next, folder.join("regions.bin"))
}

/// Looks at the regions on the ground. Returns what is wrong with them.
pub(super) fn wrong(folder: &Path, ground: &[String]) -> Result<Vec<String>, String> {
    let known = index(folder)?;
    let mut says = Vec::new();
    let rows = fs::read_to_string(folder.join("spawn.tbl")).unwrap_or_default();
    let bin = fs::read_to_string(folder.join("regions.bin")).unwrap_or_default();
    let expected = compiled(folder)?;
    for region in ground {
        if !known.iter().any(|(_, name)| name == region) {
            says.push(format!("{region} is on the ground and not in regions.index"));
        }
        if !rows.contains(&format!("[\"{region}\"]")) {
            says.push(format!("no spawn row for {region}"));
        }
        let line =
            |text: &str| text.lines().find(|line| line.contains(&format!(" {region} "))).map(str::to_owned);
        if !below(&folder.join("regions").join(region)).is_empty() && line(&bin) != line(&expected) {
            says.push(format!("regions.bin is older than {region}"));
        }
    }
    Ok(says)
}
