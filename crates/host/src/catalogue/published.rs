//! Our own static format, over HTTP or in a folder.

use std::{
    collections::BTreeMap,
    fs, io,
    path::{Path, PathBuf},
};

use minisign_verify::{PublicKey, Signature};
use yalotheca_core::{
    catalogue::{CatalogueEntry, CatalogueIndex, Content, ReadCatalogueError, ReleaseFile, read_content},
    control::Locked,
    id::{ContentId, Digest},
};

use super::{CatalogueError, Listing, Unreadable, newest};
use crate::sources::{ByteSource, Sources};
use crate::{
    fetch::{Fetcher, Wanted},
    tree::digest_of,
};

#[derive(Debug)]
enum Base {
    Web(String),
    Folder(PathBuf),
}

#[derive(Debug)]
pub(super) struct Published {
    name: String,
    base: Base,
    index: CatalogueIndex,
    /// Who provides what.
    providers: BTreeMap<ContentId, Vec<ContentId>>,
}

impl Published {
    pub(super) fn on_web(
        name: &str,
        url: &str,
        key: Option<Key<'_>>,
        fetcher: &Fetcher,
    ) -> Result<Self, CatalogueError> {
        let base = if url.ends_with('/') { url.to_owned() } else { format!("{url}/") };
        let file = format!("{base}catalogue.json");
        let bytes = fetcher
            .get(&file, LARGEST_INDEX)
            .map_err(|source| CatalogueError::Fetch { name: name.into(), source })?
            .ok_or_else(|| CatalogueError::Missing { name: name.into(), what: file.clone() })?;
        let mut signed_at = None;
        if let Some(key) = key {
            let signature = fetcher
                .get(&format!("{file}.minisig"), LARGEST_SIGNATURE)
                .map_err(|source| CatalogueError::Fetch { name: name.into(), source })?;
            signed_at = signed(name, key.key, &bytes, signature)?;
        }
        let index = CatalogueIndex::read(&file, bytes).map_err(|source| unreadable(name, source))?;
        check_edition(name, key, &index, signed_at)?;
        Self::new(name, Base::Web(base), index)
    }

    pub(super) fn in_folder(name: &str, folder: &Path, key: Option<Key<'_>>) -> Result<Self, CatalogueError> {
        let file = folder.join("catalogue.json");
        let bytes = fs::read(&file).map_err(|source| disk(name, &file, source))?;
        let mut signed_at = None;
        if let Some(key) = key {
            signed_at = signed(name, key.key, &bytes, fs::read(folder.join("catalogue.json.minisig")).ok())?;
        }
        let index = CatalogueIndex::read(&file.display().to_string(), bytes);
        let index = index.map_err(|source| unreadable(name, source))?;
        check_edition(name, key, &index, signed_at)?;
        Self::new(name, Base::Folder(folder.into()), index)
    }

    fn new(name: &str, base: Base, index: CatalogueIndex) -> Result<Self, CatalogueError> {
        let mut providers: BTreeMap<ContentId, Vec<ContentId>> = BTreeMap::new();
        for (id, provided) in index.providing().map_err(|source| unreadable(name, source))? {
            for provided in provided {
                providers.entry(provided).or_default().push(id.clone());
            }
        }
        Ok(Self { name: name.into(), base, index, providers })
    }

    pub(super) fn is_on_web(&self) -> bool {
        matches!(self.base, Base::Web(_))
    }

    /// Returns what can be read of the index; what cannot, see [`Published::unreadable`].
    pub(super) fn listings(&self) -> Vec<Listing> {
        let readable = self.index.entries().filter_map(Result::ok);
        readable.map(|(id, entry)| Listing { id, title: entry.title, about: entry.about }).collect()
    }

    /// Returns the entries of the index that are none.
    pub(super) fn unreadable(&self) -> Vec<Unreadable> {
        let broken = self.index.entries().filter_map(Result::err);
        let told = broken
            .map(|error| Unreadable { path: format!("catalogue {}", self.name), why: error.to_string() });
        told.collect()
    }

    pub(super) fn providers(&self, id: &ContentId) -> Vec<ContentId> {
        self.providers.get(id).cloned().unwrap_or_default()
    }

    pub(super) fn kind(&self, id: &ContentId) -> Result<Option<String>, CatalogueError> {
        Ok(self.entry(id)?.map(|entry| entry.kind))
    }

    fn entry(&self, id: &ContentId) -> Result<Option<CatalogueEntry>, CatalogueError> {
        self.index.entry(id).map_err(|source| unreadable(&self.name, source))
    }

    /// A content's file is fetched only when its digest changed: it is kept in the cache under that digest.
    pub(super) fn content(
        &self,
        id: &ContentId,
        fetcher: &Fetcher,
    ) -> Result<Option<Content>, CatalogueError> {
        let Some(entry) = self.entry(id)? else { return Ok(None) };
        let name = self.name.clone();
        let inner = format!("contents/{id}.json");
        let (path, shown) = match &self.base {
            Base::Web(base) => {
                let url = format!("{base}{inner}");
                let path = fetcher
                    .file(&url, &entry.digest)
                    .map_err(|source| CatalogueError::Fetch { name, source })?;
                (path, url)
            }
            Base::Folder(folder) => (folder.join(&inner), folder.join(&inner).display().to_string()),
        };
        let bytes = fs::read(&path).map_err(|source| disk(&self.name, &path, source))?;
        // The index is what is signed; it names the digest of each content's file.
        if matches!(self.base, Base::Folder(_)) && Digest::of(&bytes) != entry.digest {
            let source = io::Error::other("its bytes are not the ones that the catalogue's index promises");
            return Err(disk(&self.name, &path, source));
        }
        read_content(&shown, &bytes, id, &self.name)
            .map(Some)
            .map_err(|source| unreadable(&self.name, source))
    }

    pub(super) fn fetch(&self, locked: &Locked, fetcher: &Fetcher) -> Result<Sources, CatalogueError> {
        let mut found = Sources::default();
        for file in &locked.release.files {
            let path = match (self.link(file), &self.base) {
                (Some(link), _) => self.download(&link, file, fetcher)?,
                (None, Base::Web(_)) => unreachable!("what lies on the web has a link"),
                (None, Base::Folder(folder)) => {
                    let path = folder.join(at_of(file));
                    let (digest, _) = digest_of(&path).map_err(|source| disk(&self.name, &path, source))?;
                    if digest != file.blake3 {
                        let source =
                            io::Error::other("its bytes are not the ones that the catalogue promises");
                        return Err(disk(&self.name, &path, source));
                    }
                    path
                }
            };
            found.insert(file.blake3, ByteSource::File(path));
        }
        Ok(found)
    }

    fn download(&self, url: &str, file: &ReleaseFile, fetcher: &Fetcher) -> Result<PathBuf, CatalogueError> {
        let brought = fetcher.download(wanted(url.to_owned(), file));
        brought
            .map(|brought| brought.path)
            .map_err(|source| CatalogueError::Fetch { name: self.name.clone(), source })
    }

    /// Returns the address of a file, where it lies on the web.
    pub(super) fn link(&self, file: &ReleaseFile) -> Option<String> {
        let at = at_of(file);
        if at.starts_with("http://") || at.starts_with("https://") {
            return Some(at);
        }
        match &self.base {
            Base::Web(base) => Some(format!("{base}{}", encoded(&at))),
            Base::Folder(_) => None,
        }
    }

    /// Returns what would have to be fetched of a content.
    pub(super) fn wanted(&self, locked: &Locked) -> Vec<Wanted> {
        let files = locked.release.files.iter();
        files.filter_map(|file| Some(wanted(self.link(file)?, file))).collect()
    }
}

/// A publisher's key, and whether older editions than one that was seen are taken.
#[derive(Debug, Clone, Copy)]
pub(super) struct Key<'k> {
    pub(super) key: &'k str,
    pub(super) older: bool,
}

/// An index may have so many bytes.
const LARGEST_INDEX: u64 = 256 << 20;

/// A signature may have so many.
const LARGEST_SIGNATURE: u64 = 16 << 10;

/// Refuses an older edition of a signed catalogue than one that was seen: by its serial number, or else by when it was signed.
fn check_edition(
    name: &str,
    key: Option<Key<'_>>,
    index: &CatalogueIndex,
    signed_at: Option<u64>,
) -> Result<(), CatalogueError> {
    let (Some(Key { key, older }), Some(found)) = (key, index.serial.or(signed_at)) else { return Ok(()) };
    // Numbers and times are not compared with one another.
    let of = if index.serial.is_some() { format!("{} by number", index.name) } else { index.name.clone() };
    match newest::seen(key, &of) {
        Some(seen) if found < seen && !older => Err(CatalogueError::Older { name: name.into(), found, seen }),
        Some(seen) if found < seen => Ok(()),
        _ => {
            newest::note(key, &of, found);
            Ok(())
        }
    }
}

/// Checks a publisher's signature, in the minisign format, and returns when it was made, where it says so.
fn signed(
    name: &str,
    key: &str,
    bytes: &[u8],
    signature: Option<Vec<u8>>,
) -> Result<Option<u64>, CatalogueError> {
    let wrong = |why: String| CatalogueError::Signature { name: name.into(), why };
    let key =
        PublicKey::from_base64(key.trim()).map_err(|error| wrong(format!("the key is none: {error}")))?;
    let text = signature.ok_or_else(|| wrong("catalogue.json.minisig is not there".into()))?;
    let text = String::from_utf8_lossy(&text).into_owned();
    let signature = Signature::decode(&text)
        .map_err(|error| wrong(format!("catalogue.json.minisig is no signature: {error}")))?;
    key.verify(bytes, &signature, false)
        .map_err(|_| wrong("it was not made with that key for this file".into()))?;
    // This line is signed as well.
    let comment = text.lines().find_map(|line| line.strip_prefix("trusted comment:"));
    let time = comment
        .and_then(|comment| comment.split_whitespace().find_map(|word| word.strip_prefix("timestamp:")));
    Ok(time.and_then(|time| time.parse().ok()))
}

fn wanted(url: String, file: &ReleaseFile) -> Wanted {
    Wanted { url, name: file.name.clone(), digest: Some(file.blake3), size: Some(file.size), most: None }
}

fn at_of(file: &ReleaseFile) -> String {
    file.at.clone().unwrap_or_else(|| format!("files/{}", file.name))
}

fn unreadable(name: &str, source: ReadCatalogueError) -> CatalogueError {
    CatalogueError::Read { name: name.into(), source }
}

fn disk(name: &str, path: &Path, source: io::Error) -> CatalogueError {
    CatalogueError::Disk { name: name.into(), path: path.display().to_string(), source }
}

/// Writes a file's name so that it can stand in an address.
fn encoded(path: &str) -> String {
    let mut out = String::new();
    for byte in path.bytes() {
        if byte.is_ascii_alphanumeric() || b"/-_.~+".contains(&byte) {
            out.push(char::from(byte));
        } else {
            out.push('%');
            out.push(char::from(b"0123456789ABCDEF"[usize::from(byte >> 4)]));
            out.push(char::from(b"0123456789ABCDEF"[usize::from(byte & 15)]));
        }
    }
    out
}
