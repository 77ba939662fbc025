//! Archives and folders as bundles: looking into them without unpacking.

use std::{
    collections::BTreeSet,
    fs::{self, File},
    io::{self, BufReader, Read},
    path::{Path, PathBuf},
};

use yalotheca_core::route::{Bundle, Payload, PayloadFile};
use zip::ZipArchive;

use crate::{
    tree::digest_of,
    unpack::{HEAD, sniff},
};

/// A descriptor larger than this is not read.
const MOST_DESCRIPTOR: u64 = 4 << 20;

/// A zip archive, or a folder in one.
pub struct ZipBundle {
    zip: ZipArchive<BufReader<File>>,
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
        let zip = ZipArchive::new(BufReader::new(File::open(path)?)).map_err(io::Error::other)?;
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
        folders_in(self.names.iter().filter_map(|name| name.strip_prefix(&self.prefix)), path)
    }

    fn files(&mut self) -> Vec<(String, u64)> {
        let inside = |index| {
            let member = self.zip.by_index_data(index).ok()?;
            let name = member.name().ok()?.strip_prefix(&self.prefix)?.to_owned();
            (!name.ends_with('/') && !name.is_empty()).then(|| (name, member.size()))
        };
        (0..self.zip.len()).filter_map(inside).collect()
    }

    fn head(&mut self, path: &str, most: usize) -> Vec<u8> {
        let mut bytes = Vec::new();
        if let Ok(member) = self.zip.by_name(&format!("{}{path}", self.prefix)) {
            member.take(most as u64).read_to_end(&mut bytes).ok();
        }
        bytes
    }

    fn is_archive(&mut self, path: &str) -> bool {
        sniff(&self.head(path, HEAD)).is_some()
    }
}

/// Returns the names of the folders directly in a folder, among the paths of files.
pub(crate) fn folders_in<'a>(paths: impl Iterator<Item = &'a str>, folder: &str) -> Vec<String> {
    let prefix = if folder.is_empty() { String::new() } else { format!("{folder}/") };
    let names: BTreeSet<&str> = paths
        .filter_map(|path| path.strip_prefix(prefix.as_str())?.split_once('/'))
        .map(|(name, _)| name)
        .collect();
    names.into_iter().map(str::to_owned).collect()
}

/// A folder on this machine.
#[derive(Debug)]
pub struct FolderBundle {
    root: PathBuf,
    /// The files that count, where not all do.
    only: Option<BTreeSet<String>>,
    /// A file with another name than people know it by: the name on the disk, and the other.
    called: Option<(String, String)>,
}

impl FolderBundle {
    /// Returns the bundle of a folder.
    pub fn new(root: &Path) -> Self {
        Self { root: root.to_owned(), only: None, called: None }
    }

    /// Returns the bundle of some of its files.
    #[must_use]
    pub fn only(self, files: BTreeSet<String>) -> Self {
        Self { only: Some(files), ..self }
    }

    /// Returns the bundle with one file under another name.
    #[must_use]
    pub fn called(self, file: &str, name: &str) -> Self {
        let called = (file != name).then(|| (file.to_owned(), name.to_owned()));
        Self { called, ..self }
    }

    fn place(&self, path: &str) -> PathBuf {
        match &self.called {
            Some((file, name)) if name == path => self.root.join(file),
            _ => self.root.join(path),
        }
    }
}

impl Bundle for FolderBundle {
    fn has(&mut self, path: &str) -> bool {
        self.place(path).is_file()
    }

    fn read(&mut self, path: &str) -> Result<Option<Vec<u8>>, String> {
        match fs::read(self.place(path)) {
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

    fn files(&mut self) -> Vec<(String, u64)> {
        if let Some(only) = &self.only {
            let named = |file: &String| match &self.called {
                Some((own, name)) if own == file => name.clone(),
                _ => file.clone(),
            };
            let found = only.iter().filter_map(|file| {
                let metadata = fs::metadata(self.root.join(file)).ok()?;
                metadata.is_file().then(|| (named(file), metadata.len()))
            });
            return found.collect();
        }
        let entries = visible(&self.root).filter(|entry| entry.file_type().is_file());
        let inside = |entry: walkdir::DirEntry| {
            let path = entry.path().strip_prefix(&self.root).ok()?.to_str()?.to_owned();
            Some((path, entry.metadata().ok()?.len()))
        };
        entries.filter_map(inside).collect()
    }

    fn head(&mut self, path: &str, most: usize) -> Vec<u8> {
        let mut bytes = Vec::new();
        if let Ok(file) = File::open(self.place(path)) {
            file.take(most as u64).read_to_end(&mut bytes).ok();
        }
        bytes
    }

    fn open(&mut self, path: &str) -> Option<Box<dyn Bundle>> {
        open_zip(&self.place(path))
    }

    fn is_archive(&mut self, path: &str) -> bool {
        sniff(&self.head(path, HEAD)).is_some()
    }
}

/// Opens an archive that may be a content itself.
pub(crate) fn open_zip(path: &Path) -> Option<Box<dyn Bundle>> {
    ZipBundle::open(path).ok().flatten().map(|bundle| Box::new(bundle) as Box<dyn Bundle>)
}

/// What lies in a folder, hidden things (`.git` and the like) apart; what cannot be read is left out.
fn visible(root: &Path) -> impl Iterator<Item = walkdir::DirEntry> {
    let shows = |entry: &walkdir::DirEntry| {
        entry.depth() == 0 || !entry.file_name().to_string_lossy().starts_with('.')
    };
    walkdir::WalkDir::new(root)
        .follow_links(true)
        .sort_by_file_name()
        .into_iter()
        .filter_entry(shows)
        .flatten()
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
        files.push(PayloadFile { path: path.into(), size, digest, to: None });
    }
    files.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(Payload { files })
}
