//! How new files get into a server's folder on this machine: by several threads, sharing blocks with the cache where the disk can.

use std::{
    cell::RefCell,
    fs::File,
    io::{self, Read, Write},
    path::Path,
    sync::atomic::{AtomicUsize, Ordering},
    thread,
};

use rustix::fs::{AtFlags, CWD, OFlags, linkat, unlinkat};
use yalotheca_core::id::{Digest, TreePath};

use super::{
    Access, LocalTree, Tree, TreeError, Upload, UploadError, UploadSource,
    attributes::Attributes,
    digest::{BUFFER, Hashing},
    fingerprint::comparable,
    rooted::Spot,
};

/// A file no larger than this is read whole before it is written.
const AT_ONCE: u64 = 1 << 20;

/// Of files a thread takes at least and at most so many.
const FILES: (usize, usize) = (16, 256);

/// Makes a new file that has the bytes of another by sharing its blocks, until one of the two is changed.
fn clone(source: &File, target: &Spot, attributes: &Attributes) -> io::Result<()> {
    let file = target.open(OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL, 0o600)?;
    let cloned = rustix::fs::ioctl_ficlone(&file, source).map_err(io::Error::from);
    cloned.and_then(|()| attributes.give(&file)).inspect_err(|_| {
        unlinkat(&target.folder, &target.name, AtFlags::empty()).ok();
    })
}

/// Splits files among threads by folder: two threads that create files in one folder wait for each other, and file systems put
/// folders that are made one after the other into different places on the disk.
fn by_folder(paths: &[&TreePath]) -> Vec<std::ops::Range<usize>> {
    let folder = |at: usize| paths[at].as_str().rsplit_once('/').map_or("", |(folder, _)| folder);
    let (least, most) = FILES;
    let (mut parts, mut start) = (Vec::new(), 0);
    while start < paths.len() {
        let mut end = (start + least).min(paths.len());
        while end < (start + most).min(paths.len()) && folder(end) == folder(end - 1) {
            end += 1;
        }
        parts.push(start..end);
        start = end;
    }
    parts
}

impl LocalTree {
    pub(super) fn upload_by_threads(&self, uploads: &[Upload<'_>]) -> Result<(), UploadError> {
        let paths: Vec<&TreePath> = uploads.iter().map(|upload| upload.path).collect();
        let parts = by_folder(&paths);
        let cores = thread::available_parallelism().map_or(1, usize::from);
        let threads = parts.len().clamp(1, cores);
        let next = AtomicUsize::new(0);
        let work = || {
            let writer = Writer { tree: self, last: RefCell::default(), buffer: RefCell::default() };
            while let Some(part) = parts.get(next.fetch_add(1, Ordering::Relaxed)) {
                for index in part.clone() {
                    writer.write((index, &uploads[index]))?;
                }
            }
            Ok(())
        };
        thread::scope(|scope| {
            let others: Vec<_> = (1..threads).map(|_| scope.spawn(work)).collect();
            let mut done = work();
            for other in others {
                let theirs = other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
                done = done.and(theirs);
            }
            done
        })
    }

    /// Writes the contents of the reader to a new file and returns the digest of what was written.
    fn write_from(
        &self,
        from: &mut dyn Read,
        path: &TreePath,
        attributes: &Attributes,
    ) -> Result<Digest, TreeError> {
        let mut hashing = Hashing { inner: from, hasher: blake3::Hasher::new(), size: 0 };
        let mut copy = || {
            let mut file = self.create(path, attributes)?;
            let mut buffer = vec![0; BUFFER];
            loop {
                match hashing.read(&mut buffer) {
                    Ok(0) => return Ok(()),
                    Ok(read) => file.write_all(&buffer[..read])?,
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                    Err(error) => return Err(error),
                }
            }
        };
        copy().map_err(self.error("writing", path))?;
        Ok(Digest::from_bytes(*hashing.hasher.finalize().as_bytes()))
    }

    fn write_bytes(&self, bytes: &[u8], path: &TreePath, attributes: &Attributes) -> Result<(), TreeError> {
        let write = || self.create(path, attributes)?.write_all(bytes);
        write().map_err(self.error("writing", path))
    }

    /// Copies a file of this machine whose bytes are known to be right, `size` of them, and returns how many there were: if
    /// it has more, more than that.
    fn copy(
        &self,
        from: &mut File,
        size: u64,
        path: &TreePath,
        attributes: &Attributes,
    ) -> Result<u64, TreeError> {
        let mut copy = || {
            let mut to = self.create(path, attributes)?;
            // Mostly the system does it in one go; what it leaves, or does not do at all, is done the long way.
            let most = usize::try_from(size.saturating_add(1)).unwrap_or(usize::MAX);
            match rustix::fs::copy_file_range(&*from, None, &to, None, most) {
                Ok(done) if done as u64 == size => Ok(size),
                Ok(done) => Ok(done as u64 + io::copy(from, &mut to)?),
                Err(_) => io::copy(from, &mut to),
            }
        };
        copy().map_err(self.error("writing", path))
    }

    /// Reflinks or hard-links an open file of the cache to `path`, and returns whether it could. Both need the same disk; a hard link is
    /// made for one server only, so that what that server does to the file never reaches another.
    fn reflink_or_link(
        &self,
        (from, file): (&Path, &File),
        path: &TreePath,
        attributes: &Attributes,
    ) -> bool {
        use std::os::unix::fs::MetadataExt;

        let Ok(target) = self.fault().and_then(|()| self.root.spot(path.as_str())) else { return false };
        // A clone of its own is better than a second name, where the disk can make one.
        if !self.clones_nothing.load(Ordering::Relaxed) {
            if clone(file, &target, attributes).is_ok() {
                return true;
            }
            self.clones_nothing.store(true, Ordering::Relaxed);
        }
        let may = file.metadata().is_ok_and(|metadata| metadata.nlink() == 1 && attributes.has(&metadata));
        may && linkat(CWD, from, &target.folder, &target.name, AtFlags::empty()).is_ok()
    }
}

/// The error for an upload with other bytes than it must have.
pub(in crate::tree) fn other_bytes((index, upload): (usize, &Upload<'_>), digest: &Digest) -> UploadError {
    if let UploadSource::Cached(from) | UploadSource::Verified(from) = upload.source {
        // The cache may have been damaged: the next command gets it again.
        std::fs::remove_file(from).ok();
    }
    let why = format!("it has the digest {}, and {} was promised", digest.short(), upload.digest.short());
    UploadError::Bytes { index, why }
}

/// One thread's writing.
struct Writer<'t> {
    tree: &'t LocalTree,
    /// What a new file in the last folder gets.
    last: RefCell<Option<(TreePath, Attributes)>>,
    buffer: RefCell<Vec<u8>>,
}

impl Writer<'_> {
    fn attributes(&self, access: Access<'_>) -> Result<Attributes, TreeError> {
        let Access::Below(folder) = access else { return self.tree.attributes_by(access) };
        let mut last = self.last.borrow_mut();
        if let Some((known, attributes)) = &*last
            && known == folder
        {
            return Ok(*attributes);
        }
        let attributes = self.tree.attributes_by(access)?;
        *last = Some((folder.clone(), attributes));
        Ok(attributes)
    }

    fn write(&self, (index, upload): (usize, &Upload<'_>)) -> Result<(), UploadError> {
        let wrong = |why: String| UploadError::Bytes { index, why };
        let unreadable = |from: &Path, error: io::Error| wrong(format!("{}: {error}", from.display()));
        let open = |from: &Path| File::open(from).map_err(|error| unreadable(from, error));
        let tree = self.tree;
        let path = upload.path;
        let attributes = self.attributes(upload.access)?;
        let copy = |from: &Path, mut file: File| -> Result<Digest, UploadError> {
            let length = file.metadata().map_err(|error| unreadable(from, error))?.len();
            if length > AT_ONCE {
                let digest = tree.write_from(&mut file, path, &attributes)?;
                let comparable = comparable(&mut file, digest, &upload.digest);
                return comparable.map_err(|error| unreadable(from, error));
            }
            let mut buffer = self.buffer.borrow_mut();
            buffer.clear();
            buffer.reserve(usize::try_from(length).unwrap_or(0));
            file.take(length).read_to_end(&mut buffer).map_err(|error| unreadable(from, error))?;
            tree.write_bytes(&buffer, path, &attributes)?;
            let digest = Digest::of(&buffer);
            let comparable = comparable(&mut io::Cursor::new(&*buffer), digest, &upload.digest);
            comparable.map_err(|error| unreadable(from, error))
        };
        let shares = |from: &Path, file: &File| {
            upload.may_share && tree.reflink_or_link((from, file), path, &attributes)
        };
        let digest = match &upload.source {
            UploadSource::Bytes(bytes) => {
                tree.write_bytes(bytes, path, &attributes)?;
                Digest::of(bytes)
            }
            UploadSource::Precious(bytes) => {
                tree.write_bytes(bytes, path, &attributes)?;
                tree.flush(super::Flush::Entries(std::slice::from_ref(path)))?;
                Digest::of(bytes)
            }
            UploadSource::Tree(old) => {
                let file = tree.open_file(old)?.ok_or_else(|| wrong(format!("{old} is gone")))?;
                copy(&tree.at(old), file)?
            }
            UploadSource::File(from) | UploadSource::Built(from) => copy(from, open(from)?)?,
            UploadSource::Cached(from) => {
                let file = open(from)?;
                if shares(from, &file) {
                    tree.digest_one(path)?.map_or(upload.digest, |(digest, _)| digest)
                } else {
                    copy(from, file)?
                }
            }
            // What this process has looked at itself need not be looked at again.
            UploadSource::Verified(from) => {
                let mut file = open(from)?;
                if !shares(from, &file)
                    && tree.copy(&mut file, upload.size, path, &attributes)? != upload.size
                {
                    return Err(wrong(format!("{} has another size by now", from.display())));
                }
                upload.digest
            }
        };
        if digest == upload.digest {
            return Ok(());
        }
        Err(other_bytes((index, upload), &digest))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_thread_takes_the_files_of_a_folder_and_never_too_many() {
        let in_folder =
            |folder: &'static str, count: usize| (0..count).map(move |at| format!("{folder}/{at}"));
        let names =
            in_folder("a", 25).chain(in_folder("b", 3)).chain(in_folder("c", 600)).chain(in_folder("d", 1));
        let paths: Vec<TreePath> = names.map(|name| TreePath::new(&name).unwrap()).collect();
        let parts = by_folder(&paths.iter().collect::<Vec<_>>());
        let counts: Vec<usize> = parts.iter().map(ExactSizeIterator::len).collect();
        assert_eq!(counts, [25, 256, 256, 91, 1]);
        assert_eq!(parts.into_iter().flatten().collect::<Vec<_>>(), (0..629).collect::<Vec<_>>());
        assert!(by_folder(&[]).is_empty());
    }
}
