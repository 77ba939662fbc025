//! An index of which content owns which placed file, in the user's cache. It repeats the manifests of one receipt and is read in a
//! fraction of the time. It may be deleted at any time.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    io::Write,
    path::Path,
};

use yalotheca_core::id::{ContentId, Digest, TreePath};

const HEAD: &[u8] = b"yalotheca owners 1\n";
/// A record: the first bytes of the path's digest, the owner's index, the file's digest.
const RECORD: usize = 8 + 4 + 32;

/// The owners of files, and the files' digests when placed.
pub(super) type Owners = BTreeMap<TreePath, (ContentId, Digest)>;

/// The paths and digests of the files that one content placed.
pub(super) type PlacedFiles = Vec<(Vec<u8>, Digest)>;

/// Returns the owners of paths from the index of this receipt, or nothing if there is no complete one. What was asked last is
/// answered from a file of its own.
pub(super) fn read(file: &Path, receipt: &Digest, paths: &BTreeSet<TreePath>) -> Option<Owners> {
    /// An answer of fewer paths than this is always found as fast in the whole index.
    const FEW: usize = 100;
    let (last, question) = (file.with_extension("last-owners"), question(receipt, paths));
    if let Some(owners) = (paths.len() >= FEW).then(|| read_index(&last, &question, paths)).flatten() {
        return Some(owners);
    }
    let owners = read_index(file, receipt, paths)?;
    if paths.len() >= FEW {
        let mut placed: BTreeMap<&ContentId, PlacedFiles> = BTreeMap::new();
        for (path, (content, digest)) in &owners {
            placed.entry(content).or_default().push((path.as_str().as_bytes().to_vec(), *digest));
        }
        // Failing to save it only costs time.
        write(&last, &question, &placed.into_iter().collect::<Vec<_>>()).ok();
    }
    Some(owners)
}

/// Returns the digest of a receipt and the paths asked about.
fn question(receipt: &Digest, paths: &BTreeSet<TreePath>) -> Digest {
    let mut bytes = receipt.bytes().to_vec();
    for path in paths {
        bytes.extend_from_slice(path.as_str().as_bytes());
        bytes.push(0);
    }
    Digest::of(&bytes)
}

fn read_index(file: &Path, receipt: &Digest, paths: &BTreeSet<TreePath>) -> Option<Owners> {
    let bytes = fs::read(file).ok()?;
    let (body, sum) = bytes.split_at_checked(bytes.len().checked_sub(32)?)?;
    if blake3::hash(body).as_bytes() != sum {
        return None;
    }
    let rest = body.strip_prefix(HEAD)?.strip_prefix(receipt.bytes().as_slice())?;
    let (count, mut rest) = number(rest)?;
    let mut ids = Vec::new();
    for _ in 0..count {
        let (length, more) = number(rest)?;
        let (id, more) = more.split_at_checked(usize::try_from(length).ok()?)?;
        ids.push(ContentId::new(std::str::from_utf8(id).ok()?).ok()?);
        rest = more;
    }
    let (records, _) = rest.as_chunks::<RECORD>();
    let mut owners = Owners::new();
    for path in paths {
        let key = key(path.as_str().as_bytes());
        let Ok(at) = records.binary_search_by(|record| record[..8].cmp(&key)) else { continue };
        let (owner, digest) = records[at][8..].split_at(4);
        let owner = usize::try_from(u32::from_le_bytes(owner.try_into().ok()?)).ok()?;
        owners.insert(path.clone(), (ids.get(owner)?.clone(), Digest::from_bytes(digest.try_into().ok()?)));
    }
    Some(owners)
}

/// Writes an index. `placed` has each content with its files.
///
/// # Errors
/// If it cannot be written; the next command then works without it.
pub(super) fn write(
    file: &Path,
    receipt: &Digest,
    placed: &[(&ContentId, PlacedFiles)],
) -> std::io::Result<()> {
    let mut body = [HEAD, receipt.bytes().as_slice()].concat();
    let small = |number: usize| u32::try_from(number).unwrap_or(u32::MAX).to_le_bytes();
    body.extend(small(placed.len()));
    for (id, _) in placed {
        body.extend(small(id.as_str().len()));
        body.extend(id.as_str().as_bytes());
    }
    let mut records: Vec<[u8; RECORD]> =
        Vec::with_capacity(placed.iter().map(|(_, files)| files.len()).sum());
    for (owner, (_, files)) in placed.iter().enumerate() {
        for (path, digest) in files {
            let mut record = [0; RECORD];
            record[..8].copy_from_slice(&key(path));
            record[8..12].copy_from_slice(&small(owner));
            record[12..].copy_from_slice(digest.bytes());
            records.push(record);
        }
    }
    records.sort_unstable();
    body.extend(records.as_flattened());
    let sum = blake3::hash(&body);
    let folder = file.parent().unwrap_or(Path::new("."));
    fs::create_dir_all(folder)?;
    let mut temporary = tempfile::NamedTempFile::new_in(folder)?;
    temporary.write_all(&body)?;
    temporary.write_all(sum.as_bytes())?;
    temporary.persist(file).map(drop).map_err(|error| error.error)
}

fn key(path: &[u8]) -> [u8; 8] {
    let mut key = [0; 8];
    key.copy_from_slice(&blake3::hash(path).as_bytes()[..8]);
    key
}

fn number(bytes: &[u8]) -> Option<(u32, &[u8])> {
    let (number, rest) = bytes.split_at_checked(4)?;
    Some((u32::from_le_bytes(number.try_into().ok()?), rest))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_index_says_what_was_written_and_nothing_where_it_is_not_whole()
    -> Result<(), Box<dyn std::error::Error>> {
        let folder = tempfile::tempdir()?;
        let file = folder.path().join("deep/owners");
        let (heron, fen) = (ContentId::new("heron")?, ContentId::new("fen")?);
        let receipt = Digest::of(b"receipt");
        let one = |path: &str| (path.as_bytes().to_vec(), Digest::of(path.as_bytes()));
        write(&file, &receipt, &[(&heron, vec![one("a/b"), one("c")]), (&fen, vec![one("d")])])?;
        let paths: BTreeSet<TreePath> =
            ["c", "d", "none"].iter().map(|path| TreePath::new(path)).collect::<Result<_, _>>()?;
        let found = read(&file, &receipt, &paths).ok_or("no index")?;
        let expected = [("c", &heron), ("d", &fen)]
            .map(|(path, id)| Ok((TreePath::new(path)?, (id.clone(), Digest::of(path.as_bytes())))));
        assert_eq!(
            found,
            expected.into_iter().collect::<Result<Owners, yalotheca_core::id::ParseIdError>>()?
        );
        assert!(read(&file, &Digest::of(b"another"), &paths).is_none());
        let whole = fs::read(&file)?;
        for at in 0..whole.len() {
            let mut broken = whole.clone();
            broken[at] ^= 1;
            fs::write(&file, &broken)?;
            assert!(read(&file, &receipt, &paths).is_none(), "byte {at}");
            fs::write(&file, &whole[..at])?;
            assert!(read(&file, &receipt, &paths).is_none(), "cut at {at}");
        }
        Ok(())
    }
}
