//! Unpacking, once: every member goes into the cache by its digest, hashed in the same pass, and a list of them beside
//! it. Nothing that is unpacked is ever executed, and nothing lands outside the cache.
//!
//! To add a kind of archive: copy the nearest sibling file, add a variant to [`Container`] and an arm in [`unpack`].

mod intake;
mod sevenz;
mod single;
mod tarball;
mod zipped;

use std::{
    collections::BTreeMap,
    fs::File,
    io::{self, Read},
    path::{Path, PathBuf},
    time::Instant,
};

use serde::{Deserialize, Serialize};
use tracing::debug;
use yalotheca_core::{
    hint::{Advice, Hint},
    id::Digest,
    route::Bundle,
};

use crate::{
    container::{Container, HEAD, bare_name, sniff},
    store::{Store, StoreError},
};
use intake::Intake;

/// An archive that was not unpacked. Nothing of it was placed anywhere.
#[derive(Debug, thiserror::Error)]
pub enum UnpackError {
    /// It cannot be read.
    #[error("{archive}: {source}")]
    Read {
        /// The archive.
        archive: String,
        /// Why.
        source: io::Error,
    },
    /// It is broken, or only a part of it.
    #[error("{archive} is damaged or incomplete: {why}")]
    Damaged {
        /// The archive.
        archive: String,
        /// What the reader says.
        why: String,
    },
    /// A member would land where it must not.
    #[error("{archive} is not safe: {member}: {why}")]
    Unsafe {
        /// The archive.
        archive: String,
        /// The member.
        member: String,
        /// What is wrong with it.
        why: String,
    },
    /// It would fill the disk.
    #[error("{archive} is too large: {what}")]
    TooMuch {
        /// The archive.
        archive: String,
        /// What exceeds which bound.
        what: String,
    },
    /// It wants a password.
    #[error("{archive}: {}", if *wrong { "the password is not the right one" } else { "a password is needed" })]
    Password {
        /// The archive.
        archive: String,
        /// Whether one was given.
        wrong: bool,
    },
    /// A RAR archive.
    #[error("{archive} is a RAR archive, which only the program that made it can open")]
    Rar {
        /// The archive.
        archive: String,
    },
    /// The cache failed.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl Hint for UnpackError {
    fn hint(&self) -> Option<Advice> {
        Some(match self {
            Self::Read { .. } => "look whether the file is there and may be read".into(),
            Self::Damaged { .. } => "download it again; the file is probably incomplete".into(),
            Self::Unsafe { .. } => "nothing of it was placed; get it from somebody you trust".into(),
            Self::TooMuch { .. } => {
                "if you trust it, raise the bound: [unpack] entries, bytes or ratio in yalotheca.toml".into()
            }
            Self::Password { .. } => Advice::NamePasswordFile,
            Self::Rar { .. } => "open it with a program that can, and give yalotheca the folder".into(),
            Self::Store(error) => return error.hint(),
        })
    }
}

/// Bounds against archives that are made to fill a disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// How many members an archive may have.
    pub entries: usize,
    /// How many bytes may come out of it.
    pub bytes: u64,
    /// How many times its own size may come out of it.
    pub ratio: u64,
}

impl Default for Limits {
    fn default() -> Self {
        Self { entries: 200_000, bytes: 32 << 30, ratio: 200 }
    }
}

/// One file of an archive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Member {
    /// Its path in the archive.
    pub path: String,
    /// Its size in bytes.
    pub size: u64,
    /// The digest of its bytes, under which the cache has it.
    pub digest: Digest,
}

/// What came out of an archive.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Unpacked {
    /// The files, by path.
    pub members: Vec<Member>,
    /// What is worth knowing.
    pub notes: Vec<String>,
}

/// How to unpack.
#[derive(Debug, Clone, Default)]
pub struct UnpackOptions {
    /// Bounds.
    pub limits: Limits,
    /// The password, where one was given.
    pub password: Option<String>,
}

/// Returns what a file is by its first bytes; nothing where it is no archive.
///
/// # Errors
/// Where it cannot be read.
pub fn container_of(path: &Path) -> io::Result<Option<Container>> {
    Ok(sniff(&head_of(path)?))
}

/// Returns the first bytes of a file.
///
/// # Errors
/// Where it cannot be read.
pub fn head_of(path: &Path) -> io::Result<Vec<u8>> {
    let mut head = Vec::new();
    File::open(path)?.take(HEAD as u64).read_to_end(&mut head)?;
    Ok(head)
}

/// Returns what came out of an archive before, as long as the cache still has all of it.
///
/// # Errors
/// Where it cannot be read.
pub fn unpacked_before(path: &Path, store: &Store) -> io::Result<Option<Unpacked>> {
    let (digest, _) = store.digest_of(path)?;
    Ok(known(store, &digest))
}

/// Unpacks an archive into the cache, unless that was done before. `name` is what the person knows it by. Returns nothing
/// where the file is no archive.
///
/// # Errors
/// Where it cannot be read, is damaged, unsafe or too large, or wants a password.
pub fn unpack(
    path: &Path,
    name: &str,
    store: &Store,
    options: &UnpackOptions,
) -> Result<Option<Unpacked>, UnpackError> {
    let read = |source| UnpackError::Read { archive: name.into(), source };
    let Some(container) = container_of(path).map_err(read)? else { return Ok(None) };
    let (digest, size) = store.digest_of(path).map_err(read)?;
    if let Some(known) = known(store, &digest) {
        return Ok(Some(known));
    }
    let started = Instant::now();
    let intake = Intake::new(store, name, options.limits, size);
    let password = options.password.as_deref();
    let unpacked = match container {
        Container::Zip => zipped::unpack(path, &intake, password)?,
        Container::SevenZ => sevenz::unpack(path, &intake, password)?,
        Container::Tar => tarball::unpack(File::open(path).map_err(read)?, &intake)?,
        Container::Rar => return Err(UnpackError::Rar { archive: name.into() }),
        Container::Gzip | Container::Bzip2 | Container::Xz | Container::Zstd => {
            single::unpack(container, File::open(path).map_err(read)?, bare_name(name), &intake)?
        }
    };
    debug!("unpacked {name}: {} files in {} ms", unpacked.members.len(), started.elapsed().as_millis());
    if let Ok(text) = serde_json::to_vec(&unpacked) {
        store.note("unpacked", &digest, &text)?;
        store.note_verified(&digest);
    }
    Ok(Some(unpacked))
}

/// What is remembered of an archive, as long as the cache still has all of it.
fn known(store: &Store, digest: &Digest) -> Option<Unpacked> {
    let (note, then) = store.noted("unpacked", digest)?;
    let unpacked: Unpacked = serde_json::from_slice(&note).ok()?;
    let whole =
        |members: &[Member]| members.iter().all(|member| store.has(&member.digest, member.size, then));
    let (first, rest) = unpacked.members.split_at(unpacked.members.len() / 2);
    let (first, rest) = std::thread::scope(|scope| {
        let rest = scope.spawn(|| whole(rest));
        (whole(first), rest.join().unwrap_or(false))
    });
    let is_whole = first && rest;
    if is_whole && unpacked.members.iter().all(|member| store.is_fresh(&member.digest)) {
        store.note_verified(digest);
    }
    is_whole.then_some(unpacked)
}

/// An unpacked archive as a bundle.
#[derive(Debug)]
pub struct UnpackedBundle<'a> {
    members: BTreeMap<&'a str, &'a Member>,
    store: &'a Store,
}

impl<'a> UnpackedBundle<'a> {
    /// Returns the bundle of what was unpacked.
    pub fn new(unpacked: &'a Unpacked, store: &'a Store) -> Self {
        let members = unpacked.members.iter().map(|member| (member.path.as_str(), member)).collect();
        Self { members, store }
    }

    fn place(&self, path: &str) -> Option<PathBuf> {
        self.members.get(path).and_then(|member| self.store.file(&member.digest))
    }
}

impl Bundle for UnpackedBundle<'_> {
    fn has(&mut self, path: &str) -> bool {
        self.members.contains_key(path)
    }

    fn read(&mut self, path: &str) -> Result<Option<Vec<u8>>, String> {
        let Some(place) = self.place(path) else { return Ok(None) };
        std::fs::read(place).map(Some).map_err(|error| error.to_string())
    }

    fn folders(&mut self, path: &str) -> Vec<String> {
        crate::archive::folders_in(self.members.keys().copied(), path)
    }

    fn files(&mut self) -> Vec<(String, u64)> {
        self.members.values().map(|member| (member.path.clone(), member.size)).collect()
    }

    fn head(&mut self, path: &str, most: usize) -> Vec<u8> {
        let mut bytes = Vec::new();
        if let Some(file) = self.place(path).and_then(|place| File::open(place).ok()) {
            file.take(most as u64).read_to_end(&mut bytes).ok();
        }
        bytes
    }

    fn open(&mut self, path: &str) -> Option<Box<dyn Bundle>> {
        crate::archive::open_zip(&self.place(path)?)
    }

    fn is_archive(&mut self, path: &str) -> bool {
        sniff(&self.head(path, HEAD)).is_some()
    }
}
