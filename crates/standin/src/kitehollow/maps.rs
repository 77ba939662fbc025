//! Maps: `KMAP`, the format, the payload's length, the payload, and its CRC-32.

use std::{
    fs,
    path::{Path, PathBuf},
};

pub(super) const MISSING: &str = "no such map";

pub(super) struct Map {
    pub(super) name: String,
    pub(super) bytes: usize,
    pub(super) crc: u32,
    pub(super) has_lanes: bool,
    pub(super) sky: String,
}

pub(super) fn path(folder: &Path, name: &str) -> PathBuf {
    folder.join("maps").join(format!("{name}.kmap"))
}

fn number(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

/// Reads a map, or says what is wrong with it.
pub(super) fn load(folder: &Path, name: &str) -> Result<Map, String> {
    let is_name =
        !name.is_empty() && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_');
    let bytes = fs::read(path(folder, name)).ok().filter(|_| is_name).ok_or(MISSING)?;
    if !bytes.starts_with(b"KMAP") {
        return Err("not a map".into());
    }
    let (Some(format), Some(length)) = (number(&bytes, 4), number(&bytes, 8)) else {
        return Err(format!("truncated (header {} of 12)", bytes.len()));
    };
    if format != 5 {
        return Err(format!("format {format}, and this server reads 5"));
    }
    let length = length as usize;
    let there = bytes.len().saturating_sub(12).min(length);
    let (Some(payload), Some(told)) = (bytes.get(12..12 + length), number(&bytes, 12 + length)) else {
        return Err(format!("truncated (payload {there} of {length})"));
    };
    let crc = crc32fast::hash(payload);
    if crc != told {
        return Err(format!("damaged (crc {crc:08x}, and {told:08x} is promised)"));
    }
    let brief = fs::read_to_string(folder.join("maps").join(format!("{name}.brief"))).unwrap_or_default();
    let sky = brief.lines().find_map(|line| line.trim().strip_prefix("sky:")).unwrap_or("").trim().to_owned();
    let has_lanes = folder.join("maps").join(format!("{name}.lanes")).is_file();
    Ok(Map { name: name.into(), bytes: bytes.len(), crc, has_lanes, sky })
}

/// Returns the bytes of a map whose payload has that length.
pub fn build(name: &str, length: u32) -> Vec<u8> {
    let mut payload = vec![0; length as usize];
    blake3::Hasher::new().update(name.as_bytes()).finalize_xof().fill(&mut payload);
    let crc = crc32fast::hash(&payload);
    [b"KMAP", &5_u32.to_le_bytes()[..], &length.to_le_bytes(), &payload, &crc.to_le_bytes()].concat()
}
