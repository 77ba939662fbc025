//! A download that is not complete, on the disk.

use std::{
    fs::{self, File, OpenOptions},
    io::{Read, Seek, SeekFrom, Write},
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
};

use serde::{Deserialize, Serialize};
use yalotheca_core::id::Digest;

use super::FetchError;
use crate::store::Store;

/// How much of a file tells what it is.
pub(super) const HEAD: usize = 2048;

/// What is noted beside a download that is not complete.
#[derive(Debug, Default, Serialize, Deserialize)]
pub(super) struct Validator {
    /// The entity tag, or the date, that tells whether the file is still the same.
    pub(super) same_if: Option<String>,
}

/// A download on the disk, with the digest of what has come so far.
pub(super) struct Partial {
    pub(super) path: PathBuf,
    file: File,
    hasher: blake3::Hasher,
    length: u64,
    pub(super) validator: Validator,
    /// Held while we are at it, with what is noted of the download in it; nothing where another process holds it.
    lock: Option<File>,
}

impl Partial {
    pub(super) fn open(store: &Store, url: &str) -> Result<Self, FetchError> {
        let base = store.partial(url)?;
        let failed = |path: &Path| {
            let path = path.display().to_string();
            move |source| FetchError::Disk { path, source }
        };
        let lock_path = base.with_extension("lock");
        let open = |path: &Path| {
            let file = OpenOptions::new().read(true).write(true).create(true).truncate(false).open(path);
            file.map_err(failed(path))
        };
        let lock = Some(open(&lock_path)?).filter(|lock| lock.try_lock().is_ok());
        let path = match &lock {
            Some(_) => base.with_extension("part"),
            None => base.with_extension(format!("part-{}", std::process::id())),
        };
        let mut partial = Self {
            file: open(&path)?,
            hasher: blake3::Hasher::new(),
            length: 0,
            validator: Validator::default(),
            path,
            lock,
        };
        let mut noted = Vec::new();
        let read = partial.lock.as_mut().and_then(|lock| lock.read_to_end(&mut noted).ok());
        match read.and_then(|_| serde_json::from_slice::<Validator>(&noted).ok()) {
            // Without anything that tells whether the file is the same, the beginning is worth nothing.
            Some(validator) if validator.same_if.is_some() => {
                partial.validator = validator;
                partial.take_up();
            }
            _ => partial.restart(),
        }
        Ok(partial)
    }

    /// Hashes what is there already.
    pub(super) fn take_up(&mut self) {
        let mut buffer = vec![0; 256 << 10];
        while let Ok(read @ 1..) = self.file.read(&mut buffer) {
            self.hasher.update(&buffer[..read]);
            self.length += read as u64;
        }
    }

    pub(super) fn restart(&mut self) {
        // Some disks write at once what comes into a file that was cut, even where it was empty.
        if self.file.metadata().is_ok_and(|metadata| metadata.len() > 0) {
            self.file.set_len(0).ok();
        }
        self.file.seek(SeekFrom::Start(0)).ok();
        self.hasher.reset();
        self.length = 0;
    }

    pub(super) fn length(&self) -> u64 {
        self.length
    }

    pub(super) fn head(&mut self) -> Vec<u8> {
        let mut head = Vec::new();
        if let Ok(file) = File::open(&self.path) {
            file.take(HEAD as u64).read_to_end(&mut head).ok();
        }
        head
    }

    pub(super) fn write(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        self.file.write_all(bytes)?;
        self.hasher.update(bytes);
        self.length += bytes.len() as u64;
        Ok(())
    }

    /// Whether the partial file has these bytes at an offset.
    pub(super) fn holds(&self, at: u64, bytes: &[u8]) -> bool {
        let mut there = vec![0; bytes.len()];
        self.file.read_exact_at(&mut there, at).is_ok() && there == bytes
    }

    pub(super) fn flush(&mut self) {
        self.file.flush().ok();
    }

    pub(super) fn digest(&self) -> Digest {
        Digest::from_bytes(*self.hasher.finalize().as_bytes())
    }

    pub(super) fn note(&self) {
        if let (Some(lock), Ok(bytes)) = (&self.lock, serde_json::to_vec(&self.validator)) {
            // Not worth a failure: at worst the download starts again.
            lock.write_all_at(&bytes, 0).and_then(|()| lock.set_len(bytes.len() as u64)).ok();
        }
    }

    /// Nothing of it is worth keeping.
    pub(super) fn forget(&self) {
        fs::remove_file(&self.path).ok();
    }
}
