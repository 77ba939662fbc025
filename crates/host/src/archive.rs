//! Archives and folders as bundles: looking into them without unpacking.

use std::{
    collections::BTreeSet,
    fs::File,
    io::{self, BufReader, Read, Seek, SeekFrom},
    path::Path,
};

use yalotheca_core::{
    id::TreePath,
    route::{Bundle, Payload, PayloadFile},
};
use zip::ZipArchive;

use crate::{
    container::{HEAD, sniff},
    tree::{EntryKind, LocalTree, Tree, TreeError},
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
        Self::of_file(File::open(path)?)
    }

    /// Reads an open file as an archive; nothing where it is none.
    ///
    /// # Errors
    /// Where the file cannot be read.
    pub fn of_file(mut file: File) -> io::Result<Option<Self>> {
        let mut head = [0; 4];
        let read = file.read(&mut head)?;
        if read < 4 || !matches!(&head, b"PK\x03\x04" | b"PK\x05\x06") {
            return Ok(None);
        }
        file.seek(SeekFrom::Start(0))?;
        let zip = ZipArchive::new(BufReader::new(file)).map_err(io::Error::other)?;
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

/// A folder on this machine. No link in it leads out of the folder, or out of the tree in which it lies.
#[derive(Debug)]
pub struct FolderBundle {
    tree: LocalTree,
    at: TreePath,
    /// The files that count, where not all do.
    only: Option<BTreeSet<String>>,
    /// A file with another name than people know it by: the name on the disk, and the other.
    called: Option<(String, String)>,
}

impl FolderBundle {
    /// Returns the bundle of a folder.
    pub fn new(root: &Path) -> Self {
        Self::within(&LocalTree::new(root), &TreePath::root())
    }

    /// Returns the bundle of a folder in a tree.
    pub fn within(tree: &LocalTree, at: &TreePath) -> Self {
        Self { tree: tree.clone(), at: at.clone(), only: None, called: None }
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

    fn place(&self, path: &str) -> Option<TreePath> {
        match &self.called {
            Some((file, name)) if name == path => self.at.join(file).ok(),
            _ => self.at.join(path).ok(),
        }
    }

    fn file(&self, path: &str) -> Option<File> {
        self.tree.open(&self.place(path)?).ok().flatten()
    }
}

impl Bundle for FolderBundle {
    fn has(&mut self, path: &str) -> bool {
        self.place(path).is_some_and(|path| matches!(self.tree.find(&path), Ok(Some(EntryKind::File(_)))))
    }

    fn read(&mut self, path: &str) -> Result<Option<Vec<u8>>, String> {
        let Some(path) = self.place(path) else { return Ok(None) };
        self.tree.read(&path).map_err(|error| error.source.to_string())
    }

    fn folders(&mut self, path: &str) -> Vec<String> {
        let Some(path) = self.at.join(path).ok() else { return Vec::new() };
        let entries = self.tree.list(&path).unwrap_or_default().into_iter();
        entries.filter(|(_, found)| *found == EntryKind::Folder).map(|(name, _)| name).collect()
    }

    fn files(&mut self) -> Vec<(String, u64)> {
        if let Some(only) = &self.only {
            let named = |file: &String| match &self.called {
                Some((own, name)) if own == file => name.clone(),
                _ => file.clone(),
            };
            let found = only.iter().filter_map(|file| match self.tree.find(&self.at.join(file).ok()?) {
                Ok(Some(EntryKind::File(size))) => Some((named(file), size)),
                _ => None,
            });
            return found.collect();
        }
        visible(&self.tree, &self.at, true).unwrap_or_default()
    }

    fn head(&mut self, path: &str, most: usize) -> Vec<u8> {
        let mut bytes = Vec::new();
        if let Some(file) = self.file(path) {
            file.take(most as u64).read_to_end(&mut bytes).ok();
        }
        bytes
    }

    fn open(&mut self, path: &str) -> Option<Box<dyn Bundle>> {
        let bundle = ZipBundle::of_file(self.file(path)?).ok().flatten()?;
        Some(Box::new(bundle))
    }

    fn is_archive(&mut self, path: &str) -> bool {
        sniff(&self.head(path, HEAD)).is_some()
    }
}

/// Opens an archive that may be a content itself.
pub(crate) fn open_zip(path: &Path) -> Option<Box<dyn Bundle>> {
    ZipBundle::open(path).ok().flatten().map(|bundle| Box::new(bundle) as Box<dyn Bundle>)
}

/// How deep folders are looked through.
const DEEPEST: usize = 64;

/// Returns the paths and sizes of the files in a folder, by name; hidden things (`.git` and the like) apart. The size is 0 where none was
/// asked for.
fn visible(tree: &LocalTree, folder: &TreePath, with_sizes: bool) -> Result<Vec<(String, u64)>, TreeError> {
    fn walk<L: Fn(&TreePath) -> Result<Vec<(String, EntryKind)>, TreeError>>(
        list: &L,
        (folder, inner): (&TreePath, &str),
        depth: usize,
        files: &mut Vec<(String, u64)>,
    ) -> Result<(), TreeError> {
        for (name, found) in list(folder)? {
            if name.starts_with('.') {
                continue;
            }
            let inner = if inner.is_empty() { name.clone() } else { format!("{inner}/{name}") };
            match found {
                EntryKind::File(size) => files.push((inner, size)),
                EntryKind::Folder if depth < DEEPEST => {
                    let Ok(path) = folder.join(&name) else { continue };
                    walk(list, (&path, &inner), depth + 1, files)?;
                }
                EntryKind::Folder | EntryKind::Other => {}
            }
        }
        Ok(())
    }
    let mut files = Vec::new();
    let list = |folder: &TreePath| if with_sizes { tree.list(folder) } else { tree.list_kinds(folder) };
    walk(&list, (folder, ""), 0, &mut files)?;
    Ok(files)
}

/// Returns all files of each of some folders in a tree with their digests. Hidden files (`.git` and the like) stay out, and so does what
/// a link leads to that leaves the tree.
///
/// # Errors
/// Where one cannot be read.
pub fn folder_payloads(tree: &LocalTree, folders: &[TreePath]) -> Result<Vec<Payload>, TreeError> {
    let (mut inner, mut paths) = (Vec::with_capacity(folders.len()), Vec::new());
    for folder in folders {
        let mut files = visible(tree, folder, false)?;
        files.retain(|(path, _)| folder.join(path).map(|at| paths.push(at)).is_ok());
        inner.push(files);
    }
    let mut digests = tree.digests(&paths)?.into_iter();
    let payload = |files: Vec<(String, u64)>| {
        let files = files.into_iter().zip(&mut digests);
        let mut files: Vec<PayloadFile> = files
            .filter_map(|((path, _), found)| {
                let (digest, size) = found?;
                Some(PayloadFile { path, size, digest, to: None })
            })
            .collect();
        files.sort_by(|a, b| a.path.cmp(&b.path));
        Payload { files }
    };
    Ok(inner.into_iter().map(payload).collect())
}

/// Returns all files of one folder, as [`folder_payloads`] does.
///
/// # Errors
/// Where one cannot be read.
pub fn folder_payload(tree: &LocalTree, folder: &TreePath) -> Result<Payload, TreeError> {
    Ok(folder_payloads(tree, std::slice::from_ref(folder))?.pop().unwrap_or_default())
}
