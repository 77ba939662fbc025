//! The names of all files and folders of a server.
//!
//! The names are kept in the cache with the stamps of their folders. A folder whose stamp is unchanged has the same names; every other
//! one is listed again. Symbolic links are names and are not followed.

mod answers;
mod pattern;

use std::{
    collections::HashMap,
    ffi::OsString,
    fs,
    hash::BuildHasher as _,
    io::{self, Write},
    mem::MaybeUninit,
    ops::{Deref, Range},
    os::unix::ffi::OsStringExt,
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, SystemTime},
};

use memchr::{memchr_iter, memmem::Finder};
use rustix::fs::{AtFlags, FileType, OFlags, RawDir, fstat, readlinkat, statat};
use serde::Serialize;
use yalotheca_core::id::{Digest, TreePath};

use super::{
    LocalTree,
    digest::{Clock, Stamp},
    rooted::Root,
};

use crate::threads::{cores, spread};

use answers::Kept;
pub use pattern::NamePattern;

/// How the file begins: with the number of its format.
const MAGIC: &[u8; 16] = b"yalotheca-names1";

/// What a name is the name of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum NameKind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link. It is not followed.
    Link,
    /// A pipe, a socket or a device.
    Other,
}

impl NameKind {
    const ALL: [Self; 4] = [Self::File, Self::Folder, Self::Link, Self::Other];

    fn of(kind: FileType) -> Self {
        match kind {
            FileType::RegularFile => Self::File,
            FileType::Directory => Self::Folder,
            FileType::Symlink => Self::Link,
            _ => Self::Other,
        }
    }

    fn byte(self) -> u8 {
        Self::ALL.iter().zip(b"fdlo").find(|(kind, _)| **kind == self).map_or(b'o', |(_, byte)| *byte)
    }

    fn of_byte(byte: u8) -> Self {
        Self::ALL
            .into_iter()
            .zip(b"fdlo")
            .find(|(_, own)| **own == byte)
            .map_or(Self::Other, |(kind, _)| kind)
    }
}

/// A part of bytes that many folders share.
#[derive(Debug, Clone)]
struct Shared {
    all: Arc<Vec<u8>>,
    part: Range<usize>,
}

impl Deref for Shared {
    type Target = [u8];
    fn deref(&self) -> &[u8] {
        self.all.get(self.part.clone()).unwrap_or_default()
    }
}

impl From<Vec<u8>> for Shared {
    fn from(bytes: Vec<u8>) -> Self {
        Self { part: 0..bytes.len(), all: Arc::new(bytes) }
    }
}

/// One folder: its path below the root, what tells that it is unchanged, and its names.
#[derive(Debug, Clone)]
pub(super) struct Folder {
    path: Vec<u8>,
    /// Nothing if it was changed so lately that a later change could have the same date.
    stamp: Option<Stamp>,
    /// A zero byte, and for each name: a byte for its kind, the name, a zero byte. Folders come first.
    names: Shared,
    /// Where the names of folders end.
    folders_end: usize,
}

impl Folder {
    /// Returns one with the names of a listing.
    pub(super) fn new(path: Vec<u8>, stamp: Option<Stamp>, entries: &[(NameKind, &[u8])]) -> Self {
        let (mut names, mut others) = (vec![0], Vec::new());
        for (kind, name) in entries {
            let into = if *kind == NameKind::Folder { &mut names } else { &mut others };
            into.push(kind.byte());
            into.extend_from_slice(name);
            into.push(0);
        }
        let folders_end = names.len();
        names.append(&mut others);
        Self { path, stamp, names: names.into(), folders_end }
    }

    pub(super) fn path(&self) -> &[u8] {
        &self.path
    }
}

/// All names in a server's folder.
#[derive(Debug, Default)]
pub struct NameIndex {
    folders: Vec<Folder>,
    /// Folders that cannot be read, with the reasons.
    pub unreadable: Vec<(String, io::Error)>,
    /// How many folders were listed, since they were new or had changed.
    pub listed: usize,
    kept: Option<Kept>,
}

/// One name that was found.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct FoundName {
    /// Its path below the server's folder. Bytes that are no UTF-8 are shown as such.
    pub path: String,
    /// What it is.
    pub kind: NameKind,
}

/// Lists one folder.
fn list(root: &Root, path: &[u8]) -> io::Result<Folder> {
    let text = std::str::from_utf8(path).map_err(io::Error::other)?;
    let begun = SystemTime::now();
    let folder = fs::File::from(root.open(text, OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW)?);
    let stamp = Stamp::of(&fstat(&folder)?);
    let (mut names, mut others) = (vec![0], Vec::new());
    let mut buffer = [const { MaybeUninit::uninit() }; 16 << 10];
    let mut entries = RawDir::new(&folder, &mut buffer);
    while let Some(entry) = entries.next() {
        let entry = entry?;
        let name = entry.file_name();
        if matches!(name.to_bytes(), b"." | b"..") {
            continue;
        }
        let kind = match entry.file_type() {
            // Some disks do not tell.
            FileType::Unknown => statat(&folder, name, AtFlags::SYMLINK_NOFOLLOW)
                .map_or(FileType::Unknown, |stat| FileType::from_raw_mode(stat.st_mode)),
            kind => kind,
        };
        let into = if kind == FileType::Directory { &mut names } else { &mut others };
        into.push(NameKind::of(kind).byte());
        into.extend_from_slice(name.to_bytes_with_nul());
    }
    let folders_end = names.len();
    names.append(&mut others);
    let is_sure = stamp.is_older_than(begun, Clock::of(&folder)) && Stamp::of(&fstat(&folder)?) == stamp;
    Ok(Folder { path: path.to_vec(), stamp: is_sure.then_some(stamp), names: names.into(), folders_end })
}

/// Returns the kinds and names of a folder.
fn entries(folder: &Folder) -> impl Iterator<Item = (NameKind, &[u8])> {
    entries_in(folder.names.get(1..).unwrap_or_default())
}

/// Returns the names of a folder's files that are wanted.
fn files<'a>(folder: &'a Folder, wanted: &impl Fn(&[u8]) -> bool) -> impl Iterator<Item = &'a [u8]> {
    let others = entries_in(folder.names.get(folder.folders_end..).unwrap_or_default());
    others.filter(|(kind, name)| *kind == NameKind::File && wanted(name)).map(|(_, name)| name)
}

fn entries_in(names: &[u8]) -> impl Iterator<Item = (NameKind, &[u8])> {
    let mut begin = 0;
    let ends = memchr_iter(0, names);
    ends.filter_map(move |end| {
        let entry = names.get(begin..end)?.split_first();
        begin = end + 1;
        entry.map(|(kind, name)| (NameKind::of_byte(*kind), name))
    })
}

/// Returns whether all folders are there that folders name; those that could not be read are not.
fn is_whole(folders: &[Folder]) -> bool {
    let named = |folder: &Folder| {
        let names = entries_in(folder.names.get(1..folder.folders_end).unwrap_or_default());
        names.filter(|(_, name)| !folder.path.is_empty() || *name != b".yalotheca").count()
    };
    folders.first().is_some_and(|root| root.path.is_empty())
        && folders.iter().map(named).sum::<usize>() + 1 == folders.len()
}

fn joined(folder: &[u8], name: &[u8]) -> Vec<u8> {
    let mut path = Vec::with_capacity(folder.len() + 1 + name.len());
    path.extend_from_slice(folder);
    if !folder.is_empty() {
        path.push(b'/');
    }
    path.extend_from_slice(name);
    path
}

/// Returns the word and the bit of a hash in a bit field of `words` words, a power of two.
fn place_of(hash: u64, words: usize) -> (usize, u64) {
    let word = usize::try_from(hash >> 6).unwrap_or_default() & (words - 1);
    (word, 1 << (hash & 63))
}

/// So many folders or names a thread takes at a time.
const FEW: usize = 16;

impl NameIndex {
    /// Returns the names in a tree, and keeps them in a file of the cache for the next time.
    pub fn of(tree: &LocalTree, file: &Path) -> Self {
        let root = &tree.root;
        let stamps = |known: &[Folder]| spread(known, (cores(), FEW), |folder| stamp_of(root, &folder.path));
        let list = |paths: &[Vec<u8>]| spread(paths, (cores(), FEW), |path| list(root, path));
        Self::walk(file, stamps, list)
    }

    /// Walks a tree, level by level: asks for the stamps of the folders that are known, and lists those that have changed.
    pub(super) fn walk(
        file: &Path,
        stamps: impl Fn(&[Folder]) -> Vec<Option<Stamp>>,
        list: impl Fn(&[Vec<u8>]) -> Vec<io::Result<Folder>>,
    ) -> Self {
        let (known, sum) = read(file).unwrap_or_default();
        let stamps = stamps(&known);
        let is_same =
            |(folder, now): (&Folder, &Option<Stamp>)| folder.stamp.is_some() && folder.stamp == *now;
        if is_whole(&known) && known.iter().zip(&stamps).all(is_same) {
            // A folder that is new would have changed the one that it is in.
            let kept = sum.map(|sum| Kept { file: file.to_owned(), sum });
            return Self { folders: known, kept, ..Self::default() };
        }
        let mut unchanged: HashMap<Vec<u8>, Folder> = known
            .into_iter()
            .zip(stamps)
            .filter(|(folder, now)| folder.stamp.is_some() && folder.stamp == *now)
            .map(|(folder, _)| (folder.path.clone(), folder))
            .collect();
        let mut index = Self::default();
        let mut next = vec![Vec::new()];
        while !next.is_empty() {
            let (mut same, mut changed) = (Vec::new(), Vec::new());
            for path in next.drain(..) {
                match unchanged.remove(&path) {
                    Some(folder) => same.push(folder),
                    None => changed.push(path),
                }
            }
            for (path, listed) in changed.iter().zip(list(&changed)) {
                match listed {
                    Ok(folder) => {
                        index.listed += 1;
                        same.push(folder);
                    }
                    // It has gone meanwhile.
                    Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                    Err(error) => {
                        index.unreadable.push((String::from_utf8_lossy(path).into_owned(), error));
                    }
                }
            }
            for folder in &same {
                let folders = entries_in(folder.names.get(1..folder.folders_end).unwrap_or_default());
                next.extend(
                    folders.map(|(_, name)| joined(&folder.path, name)).filter(|path| path != b".yalotheca"),
                );
            }
            index.folders.append(&mut same);
        }
        if index.listed > 0 {
            index.folders.sort_by(|a, b| a.path.cmp(&b.path));
            // That it cannot be kept costs time only.
            let sum = write(file, &index.folders).ok();
            index.kept = sum.map(|sum| Kept { file: file.to_owned(), sum });
        }
        index
    }

    /// Returns how many names there are.
    pub fn count(&self) -> usize {
        let ends = |folder: &Folder| memchr_iter(0, &folder.names).count();
        self.folders.iter().map(|folder| ends(folder).saturating_sub(1)).sum()
    }

    /// Returns how many files have a name that is wanted, and those of them whose name another one has as well, by path.
    /// `question` says in words which are wanted: while no name changes, the same question is answered from the cache.
    pub fn repeated(&self, question: &str, wanted: impl Fn(&[u8]) -> bool + Sync) -> (usize, Vec<FoundName>) {
        self.answer(&format!("repeated {question}"), || self.find_repeated(wanted))
    }

    fn answer(
        &self,
        question: &str,
        find: impl FnOnce() -> (usize, Vec<FoundName>),
    ) -> (usize, Vec<FoundName>) {
        if let Some(answer) = self.kept.as_ref().and_then(|kept| kept.read(question)) {
            return answer;
        }
        let answer = find();
        if let Some(kept) = &self.kept {
            kept.write(question, &answer);
        }
        answer
    }

    fn find_repeated(&self, wanted: impl Fn(&[u8]) -> bool + Sync) -> (usize, Vec<FoundName>) {
        // Compare hashes first; only names with equal hashes are compared themselves.
        let state = foldhash::fast::RandomState::default();
        let hashes: Vec<Vec<u64>> = spread(&self.folders, (cores(), FEW), |folder| {
            files(folder, &wanted).map(|name| state.hash_one(name)).collect()
        });
        let looked_at = hashes.iter().map(Vec::len).sum::<usize>();
        let mut seen = vec![0_u64; looked_at.div_ceil(8).next_power_of_two().max(1)];
        let mut again = vec![0_u64; seen.len()];
        // Many more bits than names, so that collisions are rare.
        for hash in hashes.iter().flatten() {
            let (word, bit) = place_of(*hash, seen.len());
            again[word] |= seen[word] & bit;
            seen[word] |= bit;
        }
        let is_candidate = |hash: u64| {
            let (word, bit) = place_of(hash, again.len());
            again[word] & bit != 0
        };
        let with_candidates: Vec<(&Folder, &Vec<u64>)> = self
            .folders
            .iter()
            .zip(&hashes)
            .filter(|(_, hashes)| hashes.iter().any(|one| is_candidate(*one)))
            .collect();
        let candidates: Vec<Vec<(&Folder, &[u8])>> =
            spread(&with_candidates, (cores(), FEW), |(folder, hashes)| {
                let found = files(folder, &wanted).zip(*hashes).filter(|(_, hash)| is_candidate(**hash));
                found.map(|(name, _)| (*folder, name)).collect()
            });
        let mut times: HashMap<&[u8], u32, foldhash::fast::RandomState> = HashMap::default();
        for (_, name) in candidates.iter().flatten() {
            *times.entry(*name).or_default() += 1;
        }
        let repeated = candidates.iter().flatten().filter(|(_, name)| times[name] > 1);
        let found = repeated.map(|(folder, name)| FoundName {
            path: String::from_utf8_lossy(&joined(&folder.path, name)).into_owned(),
            kind: NameKind::File,
        });
        let mut found: Vec<FoundName> = found.collect();
        found.sort();
        (looked_at, found)
    }

    /// Returns the files and symbolic links whose paths are wanted, sorted by path. What a link leads to is not known here.
    pub fn files_and_links(&self, wanted: impl Fn(&str) -> bool + Sync) -> Vec<TreePath> {
        let in_folder = |folder: &Folder| -> Vec<TreePath> {
            let others = entries_in(folder.names.get(folder.folders_end..).unwrap_or_default());
            let named = others.filter(|(kind, _)| matches!(kind, NameKind::File | NameKind::Link));
            let paths = named.map(|(_, name)| joined(&folder.path, name));
            paths
                .filter_map(|path| String::from_utf8(path).ok())
                .filter(|path| wanted(path))
                .filter_map(|path| TreePath::new(&path).ok())
                .collect()
        };
        let mut found: Vec<TreePath> =
            spread(&self.folders, (cores(), FEW), in_folder).into_iter().flatten().collect();
        found.sort();
        found
    }

    /// Returns the names that fit a pattern, by path, from the cache if no name has changed since the last time.
    pub fn find_known(&self, pattern: &NamePattern) -> Vec<FoundName> {
        let find = || (0, self.find(pattern));
        self.answer(&format!("find {}", pattern.regex.as_str()), find).1
    }

    /// Returns the names that fit a pattern, by path.
    pub fn find(&self, pattern: &NamePattern) -> Vec<FoundName> {
        let in_folder = |folder: &Folder| -> Vec<FoundName> {
            // Most folders have nothing that fits, which is seen in all their names at once.
            let has_piece = |piece: &Finder<'_>| piece.find(&folder.names.to_ascii_lowercase()).is_some();
            if pattern.piece.as_ref().is_some_and(|piece| !has_piece(piece)) {
                return Vec::new();
            }
            let fits = |(_, name): &(NameKind, &[u8])| {
                if pattern.is_name {
                    pattern.regex.is_match(name)
                } else {
                    pattern.regex.is_match(&joined(&folder.path, name))
                }
            };
            let found = entries(folder).filter(fits);
            let named = |(kind, name)| {
                let path = String::from_utf8_lossy(&joined(&folder.path, name)).into_owned();
                FoundName { path, kind }
            };
            found.map(named).filter(|found| found.path != ".yalotheca").collect()
        };
        let mut found: Vec<FoundName> =
            spread(&self.folders, (cores(), FEW), in_folder).into_iter().flatten().collect();
        found.sort();
        found
    }
}

/// Size, date and target of a name.
#[derive(Debug, Clone, Default)]
pub struct NameMetadata {
    /// The size in bytes.
    pub size: Option<u64>,
    /// When it was changed last.
    pub modified: Option<SystemTime>,
    /// Where a link leads.
    pub target: Option<PathBuf>,
}

impl LocalTree {
    /// Returns size, date and target of each name. Links are not followed.
    pub fn metadata_of(&self, names: &[FoundName]) -> Vec<NameMetadata> {
        spread(names, (cores(), FEW), |found| {
            let Ok(spot) = self.root.spot(&found.path) else { return NameMetadata::default() };
            let Ok(Some(stat)) = spot.stat() else { return NameMetadata::default() };
            let modified = u64::try_from(stat.st_mtime).ok().map(Duration::from_secs);
            let target = (found.kind == NameKind::Link)
                .then(|| readlinkat(&spot.folder, &spot.name, Vec::new()).ok())
                .flatten()
                .map(|target| PathBuf::from(OsString::from_vec(target.into_bytes())));
            NameMetadata {
                size: u64::try_from(stat.st_size).ok(),
                modified: modified.map(|since| SystemTime::UNIX_EPOCH + since),
                target,
            }
        })
    }
}

fn stamp_of(root: &Root, path: &[u8]) -> Option<Stamp> {
    let path = if path.is_empty() { b".".as_slice() } else { path };
    // If a link has replaced a folder on the way, its parent has changed, is listed again, and does not lead here any more.
    statat(root.folder().ok()?, path, AtFlags::SYMLINK_NOFOLLOW).ok().map(|stat| Stamp::of(&stat))
}

/// Reads the file; nothing if it is not there, or not as it was written.
fn read(file: &Path) -> Option<(Vec<Folder>, Option<Digest>)> {
    let bytes = Arc::new(fs::read(file).ok()?);
    let end = bytes.len().checked_sub(32)?;
    if blake3::hash(&bytes[..end]).as_bytes() != &bytes[end..] || !bytes.starts_with(MAGIC) {
        return None;
    }
    let mut folders = Vec::new();
    let mut at = MAGIC.len();
    let mut take = |length: usize| {
        let part = at..at.checked_add(length).filter(|next| *next <= end)?;
        at = part.end;
        Some(part)
    };
    loop {
        let Some(head) = take(13 + Stamp::LENGTH) else {
            let sum = bytes[end..].try_into().ok().map(Digest::from_bytes);
            return Some((folders, sum));
        };
        let (lengths, stamp) = bytes[head].split_at(13);
        let number = |at: usize| {
            let four = [lengths[at], lengths[at + 1], lengths[at + 2], lengths[at + 3]];
            usize::try_from(u32::from_le_bytes(four)).ok()
        };
        let stamp = (lengths[12] == 1).then(|| Stamp::read(stamp));
        let path = bytes[take(number(0)?)?].to_vec();
        let names = Shared { all: Arc::clone(&bytes), part: take(number(4)?)? };
        folders.push(Folder { path, stamp, names, folders_end: number(8)? });
    }
}

fn write(file: &Path, folders: &[Folder]) -> io::Result<Digest> {
    let mut bytes = MAGIC.to_vec();
    for Folder { path, stamp, names, folders_end } in folders {
        for length in [path.len(), names.len(), *folders_end] {
            bytes.extend_from_slice(&u32::try_from(length).map_err(io::Error::other)?.to_le_bytes());
        }
        bytes.push(u8::from(stamp.is_some()));
        match stamp {
            Some(stamp) => stamp.write(&mut bytes),
            None => bytes.extend_from_slice(&[0; Stamp::LENGTH]),
        }
        bytes.extend_from_slice(path);
        bytes.extend_from_slice(names);
    }
    let folder: PathBuf = file.parent().map(Path::to_owned).unwrap_or_default();
    fs::create_dir_all(&folder)?;
    let mut temporary = tempfile::NamedTempFile::new_in(folder)?;
    let sum = Digest::from_bytes(*blake3::hash(&bytes).as_bytes());
    temporary.write_all(&bytes)?;
    temporary.write_all(sum.bytes())?;
    temporary.persist(file)?;
    Ok(sum)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    type Done = Result<(), Box<dyn std::error::Error>>;

    fn found(index: &NameIndex, pattern: &str) -> Vec<String> {
        let pattern = NamePattern::parse(pattern).unwrap();
        index.find(&pattern).into_iter().map(|found| found.path).collect()
    }

    fn server() -> Result<tempfile::TempDir, io::Error> {
        let folder = tempfile::tempdir()?;
        for (name, text) in [
            ("mods/bells/init.lua", "x"),
            ("mods/bells/Sounds/Bell.ogg", "x"),
            ("mods/bells_old/init.lua", "x"),
            ("world/world.mt", "x"),
            (".hidden/bell.txt", "x"),
            (".yalotheca/receipt.json", "x"),
            ("a+b (1).txt", "x"),
        ] {
            let path = folder.path().join(name);
            fs::create_dir_all(path.parent().unwrap_or(folder.path()))?;
            fs::write(path, text)?;
        }
        symlink("/nowhere/bell", folder.path().join("mods/bell_link"))?;
        Ok(folder)
    }

    #[test]
    fn names_are_found_by_a_part_a_glob_and_a_path() -> Done {
        let folder = server()?;
        let cache = tempfile::tempdir()?;
        let index = NameIndex::of(&LocalTree::new(folder.path()), &cache.path().join("names"));
        for (pattern, expected) in [
            (
                "bell",
                &[
                    ".hidden/bell.txt",
                    "mods/bell_link",
                    "mods/bells",
                    "mods/bells/Sounds/Bell.ogg",
                    "mods/bells_old",
                ][..],
            ),
            ("bell.*", &[".hidden/bell.txt", "mods/bells/Sounds/Bell.ogg"]),
            ("*.lua", &["mods/bells/init.lua", "mods/bells_old/init.lua"]),
            ("init.lua", &["mods/bells/init.lua", "mods/bells_old/init.lua"]),
            ("bells/init", &["mods/bells/init.lua"]),
            ("mods/*/init.lua", &["mods/bells/init.lua", "mods/bells_old/init.lua"]),
            ("mods/**/*.ogg", &["mods/bells/Sounds/Bell.ogg"]),
            ("mods/**/init.lua", &["mods/bells/init.lua", "mods/bells_old/init.lua"]),
            ("mods/**/nit.lua", &[]),
            ("world/**/world.mt", &["world/world.mt"]),
            ("mods/bells/**", &["mods/bells/Sounds", "mods/bells/Sounds/Bell.ogg", "mods/bells/init.lua"]),
            ("?orld", &["world"]),
            ("[!w]*.mt", &[]),
            ("[a-w]orld.mt", &["world/world.mt"]),
            ("a+b (1)", &["a+b (1).txt"]),
            ("receipt", &[]),
            ("nothing", &[]),
        ] {
            assert_eq!(found(&index, pattern), expected, "{pattern}");
        }
        assert!(NamePattern::parse("[x").is_err());
        Ok(())
    }

    #[test]
    fn what_changes_is_seen_and_only_that_is_listed_again() -> Done {
        let folder = server()?;
        let cache = tempfile::tempdir()?;
        let file = cache.path().join("names");
        let tree = LocalTree::new(folder.path());
        NameIndex::of(&tree, &file);
        // What was made a moment ago is not sure yet.
        std::thread::sleep(std::time::Duration::from_millis(60));
        let all = NameIndex::of(&tree, &file);
        assert!(all.listed > 0);
        let again = NameIndex::of(&tree, &file);
        assert_eq!((again.listed, again.count()), (0, all.count()));
        fs::create_dir_all(folder.path().join("mods/new/deep"))?;
        fs::write(folder.path().join("mods/new/deep/bell.new"), "x")?;
        fs::remove_dir_all(folder.path().join(".hidden"))?;
        fs::rename(folder.path().join("mods/bells_old"), folder.path().join("world/bells_old"))?;
        let changed = NameIndex::of(&tree, &file);
        assert_eq!(found(&changed, "bell.*"), ["mods/bells/Sounds/Bell.ogg", "mods/new/deep/bell.new"]);
        assert_eq!(found(&changed, "bells_old"), ["world/bells_old"]);
        assert_eq!(found(&changed, "world/bells_old/init.lua"), ["world/bells_old/init.lua"]);
        assert!(changed.listed < all.folders.len(), "{}", changed.listed);
        Ok(())
    }

    #[test]
    fn a_file_of_names_that_is_wrong_anywhere_is_not_believed() -> Done {
        let folder = server()?;
        let cache = tempfile::tempdir()?;
        let file = cache.path().join("names");
        let tree = LocalTree::new(folder.path());
        let expected = found(&NameIndex::of(&tree, &file), "bell");
        let whole = fs::read(&file)?;
        for at in (0..whole.len()).step_by(3) {
            let mut bytes = whole.clone();
            bytes[at] ^= 4;
            fs::write(&file, if at % 2 == 0 { &bytes } else { &whole[..at] })?;
            assert!(read(&file).is_none(), "byte {at}");
        }
        assert_eq!(found(&NameIndex::of(&tree, &file), "bell"), expected);
        Ok(())
    }
}
