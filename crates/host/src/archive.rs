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
use zip::{ZipArchive, result::ZipError};

use crate::{
    container::{HEAD, sniff},
    tree::{EntryKind, LocalTree, ReadSeek, Tree, TreeError},
};

/// Reads each member of a zip archive, and returns what is wrong with the first that is damaged.
pub fn first_damage(file: File) -> Option<String> {
    let mut zip = match ZipArchive::new(BufReader::new(file)) {
        Ok(zip) => zip,
        Err(error) => return Some(error.to_string()),
    };
    (0..zip.len()).find_map(|index| {
        let mut member = match zip.by_index(index) {
            Ok(member) => member,
            // One with a password cannot be read, which is no damage.
            Err(ZipError::UnsupportedArchive(_) | ZipError::InvalidPassword) => return None,
            Err(error) => return Some(error.to_string()),
        };
        let name = member.name().map_or_else(|_| "a member".to_owned(), |name| name.to_string());
        io::copy(&mut member, &mut io::sink()).err().map(|error| format!("{name}: {error}"))
    })
}

/// A descriptor larger than this is not read.
const MOST_DESCRIPTOR: u64 = 4 << 20;

/// A zip archive, or a folder in one.
pub struct ZipBundle {
    zip: ZipArchive<BufReader<Box<dyn ReadSeek>>>,
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
        Self::of_file(Box::new(File::open(path)?))
    }

    /// Reads an open file as an archive; nothing where it is none.
    ///
    /// # Errors
    /// Where the file cannot be read.
    pub fn of_file(mut file: Box<dyn ReadSeek>) -> io::Result<Option<Self>> {
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

    /// Returns the files in it with size and checksum, from the archive's own directory.
    pub fn sums(mut self) -> Vec<(String, u64, u32)> {
        let count = self.zip.len();
        let one = |index| {
            let file = self.zip.by_index_raw(index).ok()?;
            let name = file.name().ok()?.to_string();
            file.is_file().then(|| (name, file.size(), file.crc32()))
        };
        (0..count).filter_map(one).collect()
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

/// The tree in which a bundle's folder is.
#[derive(Debug)]
enum BundleTree<'t> {
    Own(LocalTree),
    Of(&'t dyn Tree),
}

/// A folder in a tree. No link in it leads out of the folder, or out of the tree in which it lies.
#[derive(Debug)]
pub struct FolderBundle<'t> {
    tree: BundleTree<'t>,
    at: TreePath,
    /// The files that count, where not all do.
    only: Option<BTreeSet<String>>,
    /// A file with another name than people know it by: the name on the disk, and the other.
    called: Option<(String, String)>,
}

impl FolderBundle<'static> {
    /// Returns the bundle of a folder of this machine.
    pub fn new(root: &Path) -> Self {
        let tree = BundleTree::Own(LocalTree::new(root));
        Self { tree, at: TreePath::root(), only: None, called: None }
    }
}

impl<'t> FolderBundle<'t> {
    /// Returns the bundle of a folder in a tree.
    pub fn within(tree: &'t dyn Tree, at: &TreePath) -> Self {
        Self { tree: BundleTree::Of(tree), at: at.clone(), only: None, called: None }
    }

    fn tree(&self) -> &dyn Tree {
        match &self.tree {
            BundleTree::Own(tree) => tree,
            BundleTree::Of(tree) => *tree,
        }
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

    fn file(&self, path: &str) -> Option<Box<dyn ReadSeek>> {
        self.tree().open(&self.place(path)?).ok().flatten()
    }
}

impl Bundle for FolderBundle<'_> {
    fn has(&mut self, path: &str) -> bool {
        self.place(path)
            .is_some_and(|path| matches!(self.tree().kind_of(&path), Ok(Some(EntryKind::File(_)))))
    }

    fn read(&mut self, path: &str) -> Result<Option<Vec<u8>>, String> {
        let Some(path) = self.place(path) else { return Ok(None) };
        self.tree().read_file(&path).map_err(|error| error.source.to_string())
    }

    fn folders(&mut self, path: &str) -> Vec<String> {
        let Some(path) = self.at.join(path).ok() else { return Vec::new() };
        let entries = self.tree().list_folder(&path).unwrap_or_default().into_iter();
        entries.filter(|(_, found)| *found == EntryKind::Folder).map(|(name, _)| name).collect()
    }

    fn files(&mut self) -> Vec<(String, u64)> {
        if let Some(only) = &self.only {
            let named = |file: &String| match &self.called {
                Some((own, name)) if own == file => name.clone(),
                _ => file.clone(),
            };
            let found = only.iter().filter_map(|file| match self.tree().kind_of(&self.at.join(file).ok()?) {
                Ok(Some(EntryKind::File(size))) => Some((named(file), size)),
                _ => None,
            });
            return found.collect();
        }
        visible(self.tree(), &self.at, true).unwrap_or_default()
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
fn visible(tree: &dyn Tree, folder: &TreePath, with_sizes: bool) -> Result<Vec<(String, u64)>, TreeError> {
    Ok(visible_in(tree, std::slice::from_ref(folder), with_sizes)?.pop().unwrap_or_default())
}

/// Returns the same of several folders: level by level, with one call for each level.
fn visible_in(
    tree: &dyn Tree,
    folders: &[TreePath],
    with_sizes: bool,
) -> Result<Vec<Vec<(String, u64)>>, TreeError> {
    let mut files: Vec<Vec<(String, u64)>> = vec![Vec::new(); folders.len()];
    let mut level: Vec<(usize, String)> = (0..folders.len()).map(|at| (at, String::new())).collect();
    for _ in 0..DEEPEST {
        let at = |(at, inner): &(usize, String)| {
            if inner.is_empty() { Some(folders[*at].clone()) } else { folders[*at].join(inner).ok() }
        };
        level.retain(|one| at(one).is_some());
        if level.is_empty() {
            break;
        }
        let paths: Vec<TreePath> = level.iter().filter_map(at).collect();
        let listed = tree.list(&paths, with_sizes)?;
        let mut next = Vec::new();
        for ((at, folder), names) in level.into_iter().zip(listed) {
            for (name, found) in names {
                if name.starts_with('.') {
                    continue;
                }
                let inner = if folder.is_empty() { name } else { format!("{folder}/{name}") };
                match found {
                    EntryKind::File(size) => files[at].push((inner, size)),
                    EntryKind::Folder => next.push((at, inner)),
                    EntryKind::Other => {}
                }
            }
        }
        level = next;
    }
    Ok(files)
}

/// Returns all files of each of some folders in a tree with their digests. Hidden files (`.git` and the like) stay out, and so does what
/// a link leads to that leaves the tree.
///
/// # Errors
/// Where one cannot be read.
pub fn folder_payloads(tree: &dyn Tree, folders: &[TreePath]) -> Result<Vec<Payload>, TreeError> {
    let (mut inner, mut paths) = (Vec::with_capacity(folders.len()), Vec::new());
    for (folder, mut files) in folders.iter().zip(visible_in(tree, folders, false)?) {
        files.retain(|(path, _)| folder.join(path).map(|at| paths.push(at)).is_ok());
        inner.push(files);
    }
    let mut digests = tree.digest(&paths)?.into_iter();
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
pub fn folder_payload(tree: &dyn Tree, folder: &TreePath) -> Result<Payload, TreeError> {
    Ok(folder_payloads(tree, std::slice::from_ref(folder))?.pop().unwrap_or_default())
}
