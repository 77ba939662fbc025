//! Reads and copies single files of a resource pack's archive, without its wrapping folder.

use std::{
    collections::HashMap,
    fs::File,
    io::{self, BufReader, Read, Write},
    path::Path,
};

use yalotheca_core::{merge::PackEntry, route::is_litter};
use zip::{CompressionMethod, ZipArchive};

use crate::zip_out::{Member, ZipOut};

/// The largest text to merge, in bytes.
const LARGEST_TEXT: u64 = 64 << 20;

/// A pack's archive.
pub struct PackArchive {
    zip: ZipArchive<BufReader<File>>,
    /// The wrapping folder with a slash, or empty.
    prefix: String,
    entries: Vec<PackEntry>,
    /// Each file's index in the archive.
    places: HashMap<String, usize>,
    /// Files that are not part of the pack.
    left_out: Vec<String>,
}

impl std::fmt::Debug for PackArchive {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PackArchive").field("prefix", &self.prefix).finish_non_exhaustive()
    }
}

/// Returns the zip format's number of a compression method.
fn method(compression: CompressionMethod, path: &str) -> io::Result<u16> {
    Ok(match compression {
        CompressionMethod::STORE => 0,
        CompressionMethod::DEFLATE => 8,
        CompressionMethod::BZIP2 => 12,
        CompressionMethod::ZSTD => 93,
        other => {
            let why = format!(
                "{path} in it is compressed in an unusual way ({other}); pack it again, with deflate"
            );
            return Err(io::Error::new(io::ErrorKind::InvalidData, why));
        }
    })
}

impl PackArchive {
    /// Opens a pack. `marker` is the file at the top of every pack.
    ///
    /// # Errors
    /// If it cannot be read, is not a pack, or has unsafe paths.
    pub fn open(path: &Path, marker: &str) -> io::Result<Self> {
        let wrong = |why: String| io::Error::new(io::ErrorKind::InvalidData, why);
        let mut zip = ZipArchive::new(BufReader::with_capacity(1 << 17, File::open(path)?))
            .map_err(|error| wrong(format!("it is not a complete zip archive: {error}")))?;
        let mut all = Vec::new();
        for place in 0..zip.len() {
            let file = zip.by_index_raw(place).map_err(io::Error::other)?;
            if !file.is_file() {
                continue;
            }
            let name = file
                .name()
                .map_err(|_| wrong("a file name in it is not valid text".into()))?
                .replace('\\', "/");
            if file.encrypted() {
                return Err(wrong(format!("{name} in it is encrypted")));
            }
            if name.split('/').any(|part| matches!(part, "" | "." | "..")) {
                return Err(wrong(format!("{name} in it would be unpacked outside its folder")));
            }
            method(file.compression(), &name)?;
            all.push((name, file.size(), file.crc32(), place));
        }
        let tops = all.iter().filter(|(name, ..)| !is_litter(name)).map(|(name, ..)| name.as_str());
        let tops: Vec<&str> = tops.collect();
        let deep = |name: &&&str| name.matches('/').count();
        let tops_marked =
            || tops.iter().filter(|name| **name == marker || name.ends_with(&format!("/{marker}")));
        let Some(found) = tops_marked().min_by_key(deep) else {
            return Err(wrong(format!("there is no {marker} in it")));
        };
        if let Some(other) = tops_marked().find(|other| *other != found && deep(other) == deep(&found)) {
            return Err(wrong(format!(
                "it holds several packs: {found} and {other}; take one of them out of it"
            )));
        }
        let prefix = found[..found.len() - marker.len()].to_owned();
        let (mut entries, mut places, mut left_out) = (Vec::new(), HashMap::new(), Vec::new());
        for (name, size, sum, place) in &all {
            match name.strip_prefix(prefix.as_str()).filter(|_| !is_litter(name)) {
                Some(inner) => {
                    places.insert(inner.to_owned(), *place);
                    entries.push(PackEntry { path: inner.to_owned(), size: *size, sum: *sum });
                }
                None => left_out.push(name.clone()),
            }
        }
        Ok(Self { zip, prefix, entries, places, left_out })
    }

    /// Returns its files.
    pub fn entries(&self) -> &[PackEntry] {
        &self.entries
    }

    /// Returns the wrapping folder, if there is one.
    pub fn wrapper(&self) -> Option<&str> {
        Some(self.prefix.trim_end_matches('/')).filter(|prefix| !prefix.is_empty())
    }

    /// Returns the files in it that are not part of the pack.
    pub fn left_out(&self) -> &[String] {
        &self.left_out
    }

    fn place(&self, path: &str) -> io::Result<usize> {
        let absent = || io::Error::new(io::ErrorKind::NotFound, format!("{path} is not in it"));
        self.places.get(path).copied().ok_or_else(absent)
    }

    /// Reads a file.
    ///
    /// # Errors
    /// If it cannot be read, or is too large to merge.
    pub fn read(&mut self, path: &str) -> io::Result<Vec<u8>> {
        let place = self.place(path)?;
        let mut bytes = Vec::new();
        let file = self.zip.by_index(place).map_err(io::Error::other)?;
        file.take(LARGEST_TEXT + 1).read_to_end(&mut bytes)?;
        if bytes.len() as u64 > LARGEST_TEXT {
            return Err(io::Error::new(io::ErrorKind::FileTooLarge, format!("{path} is too large to merge")));
        }
        Ok(bytes)
    }

    /// Copies a file without decompressing it.
    ///
    /// # Errors
    /// If it cannot be read or written.
    pub fn copy(&mut self, path: &str, out: &mut ZipOut<impl Write>) -> io::Result<()> {
        let place = self.place(path)?;
        let mut file = self.zip.by_index_raw(place).map_err(io::Error::other)?;
        let member = Member {
            path: path.to_owned(),
            method: method(file.compression(), path)?,
            sum: file.crc32(),
            packed: file.compressed_size(),
            size: file.size(),
        };
        out.copy(member, &mut file)
    }
}
