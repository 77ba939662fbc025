//! Archives and folders as bundles: looking into them without unpacking.

use std::{
    collections::BTreeSet,
    fs::{self, File},
    io::{self, Read},
    path::{Path, PathBuf},
};

use yalotheca_core::{
    id::Digest,
    route::{Bundle, Payload, PayloadFile},
};
use zip::ZipArchive;

use crate::tree::digest_of;

/// A descriptor larger than this is not read.
const MOST_DESCRIPTOR: u64 = 4 << 20;

/// A zip archive, or a folder in one.
pub struct ZipBundle {
    zip: ZipArchive<File>,
    names: Vec<String>,
    prefix: String,
}

impl std::fmt::Debug for ZipBundle {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("ZipBundle").field("prefix", &self.prefix).finish_non_exhaustive()
    }
}

impl ZipBundle {
    /// Opens an archive; nothing where the file is none.
    ///
    /// # Errors
    /// Where the file cannot be read.
    pub fn open(path: &Path) -> io::Result<Option<Self>> {
        let mut file = File::open(path)?;
        let mut head = [0; 4];
        let read = file.read(&mut head)?;
        if read < 4 || !matches!(&head, b"PK\x03\x04" | b"PK\x05\x06") {
            return Ok(None);
        }
        let zip = ZipArchive::new(File::open(path)?).map_err(io::Error::other)?;
        // Names that are no text cannot be asked for.
        let names = zip.file_names().flatten().map(|name| name.to_string()).collect();
        Ok(Some(Self { zip, names, prefix: String::new() }))
    }

    /// Returns the one folder that holds everything, where there is one.
    pub fn wrapper(&self) -> Option<String> {
        let mut tops = self.names.iter().map(|name| name.split_once('/').map(|(top, _)| top));
        let first = tops.next()??.to_owned();
        tops.all(|top| top == Some(first.as_str())).then_some(first)
    }

    /// Returns the bundle of a folder inside.
    #[must_use]
    pub fn inside(mut self, folder: &str) -> Self {
        self.prefix = format!("{folder}/");
        self
    }

    /// Returns all files with their digests.
    ///
    /// # Errors
    /// Where a member cannot be unpacked.
    pub fn payload(&mut self) -> io::Result<Payload> {
        let mut files = Vec::new();
        for index in 0..self.zip.len() {
            let mut member = self.zip.by_index(index).map_err(io::Error::other)?;
            if member.is_dir() || member.is_symlink() {
                continue;
            }
            // A name that leaves the archive is never used.
            let Some(name) = member.enclosed_name().map(|path| path.to_string_lossy().into_owned()) else {
                continue;
            };
            let Some(path) = name.strip_prefix(&self.prefix).map(str::to_owned) else { continue };
            let mut hasher = blake3::Hasher::new();
            let size = io::copy(&mut member, &mut hasher)?;
            files.push(PayloadFile { path, size, digest: Digest::from_bytes(*hasher.finalize().as_bytes()) });
        }
        files.sort_by(|a, b| a.path.cmp(&b.path));
        Ok(Payload { files })
    }

    /// Returns the bytes of a member, by its path in the bundle.
    ///
    /// # Errors
    /// Where it cannot be unpacked.
    pub fn bytes(&mut self, path: &str) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        let name = format!("{}{path}", self.prefix);
        self.zip.by_name(&name).map_err(io::Error::other)?.read_to_end(&mut bytes)?;
        Ok(bytes)
    }
}

impl Bundle for ZipBundle {
    fn has(&mut self, path: &str) -> bool {
        self.zip.index_for_name(&format!("{}{path}", self.prefix)).is_some()
    }

    fn read(&mut self, path: &str) -> Result<Option<Vec<u8>>, String> {
        let name = format!("{}{path}", self.prefix);
        if self.zip.index_for_name(&name).is_none() {
            return Ok(None);
        }
        let member = self.zip.by_name(&name).map_err(|error| error.to_string())?;
        let mut bytes = Vec::new();
        member.take(MOST_DESCRIPTOR).read_to_end(&mut bytes).map_err(|error| error.to_string())?;
        Ok(Some(bytes))
    }

    fn folders(&mut self, path: &str) -> Vec<String> {
        let prefix = if path.is_empty() { self.prefix.clone() } else { format!("{}{path}/", self.prefix) };
        let names: BTreeSet<String> = self
            .names
            .iter()
            .filter_map(|name| name.strip_prefix(prefix.as_str())?.split_once('/'))
            .map(|(name, _)| name.to_owned())
            .collect();
        names.into_iter().collect()
    }
}

/// A folder on this machine.
#[derive(Debug)]
pub struct FolderBundle {
    root: PathBuf,
}

impl FolderBundle {
    /// Returns the bundle of a folder.
    pub fn new(root: &Path) -> Self {
        Self { root: root.to_owned() }
    }
}

impl Bundle for FolderBundle {
    fn has(&mut self, path: &str) -> bool {
        self.root.join(path).is_file()
    }

    fn read(&mut self, path: &str) -> Result<Option<Vec<u8>>, String> {
        match fs::read(self.root.join(path)) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => {
                Ok(None)
            }
            Err(error) => Err(error.to_string()),
        }
    }

    fn folders(&mut self, path: &str) -> Vec<String> {
        let entries = fs::read_dir(self.root.join(path)).into_iter().flatten().flatten();
        let mut names: Vec<String> = entries
            .filter(|entry| entry.path().is_dir())
            .filter_map(|entry| entry.file_name().into_string().ok())
            .collect();
        names.sort();
        names
    }
}

/// Returns all files of a folder on this machine with their digests. Hidden files (`.git` and the like) stay out.
///
/// # Errors
/// Where one cannot be read.
pub fn folder_payload(root: &Path) -> io::Result<Payload> {
    let mut files = Vec::new();
    let visible = |entry: &walkdir::DirEntry| {
        entry.depth() == 0 || !entry.file_name().to_string_lossy().starts_with('.')
    };
    for entry in
        walkdir::WalkDir::new(root).follow_links(true).sort_by_file_name().into_iter().filter_entry(visible)
    {
        let entry = entry.map_err(io::Error::other)?;
        if !entry.file_type().is_file() {
            continue;
        }
        let (digest, size) = digest_of(entry.path())?;
        let inner = entry.path().strip_prefix(root).map_err(io::Error::other)?;
        let path =
            inner.to_str().ok_or_else(|| io::Error::other(format!("{} is not UTF-8", inner.display())))?;
        files.push(PayloadFile { path: path.into(), size, digest });
    }
    files.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(Payload { files })
}
