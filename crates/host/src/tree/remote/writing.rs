//! Writing: new files under names of our own, moves, and what replaces what.

use std::{
    borrow::Cow,
    collections::{BTreeMap, HashMap},
    fs::{self, File},
    io::{self, Cursor, Read},
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    thread,
    time::Duration,
};

use yalotheca_core::id::{Digest, TreePath};

use super::{
    RemoteTree,
    file_server::{RemoteFile, RemoteKind, RemoteMetadata},
    now,
    reading::Wanted,
    seen::Found,
    stamp_of, temporary,
};
use crate::tree::{
    Access, NewFolder, TreeError, Upload, UploadError, UploadSource, digest::digest_of,
    fingerprint::comparable, known::Cursor as Known, upload::other_bytes,
};
use crate::watch::Watch;

/// A file no larger than this is read whole before it is sent.
const AT_ONCE: u64 = 1 << 20;
/// So many bytes, and so many files, are sent before they are looked at.
const BATCH: (u64, usize) = (64 << 20, 20_000);
/// So many bytes, or files, are worth a word about how far they are.
const WORTH: u64 = 1 << 20;
const MANY: usize = 50;
/// So many seconds a new file is older than it is, so that whatever is written later has another date.
const AGE: u64 = 10;

fn is_built(upload: &Upload<'_>) -> bool {
    matches!(upload.source, UploadSource::Built(_))
}

/// The bytes of an upload.
enum Bytes<'a> {
    Here(Cow<'a, [u8]>),
    File(&'a Path),
    Temporary(tempfile::NamedTempFile),
}

/// An upload that is sent: its place in the batch, its bytes, its mode.
type Sent<'a> = (usize, Bytes<'a>, Option<u32>);

impl Bytes<'_> {
    fn size(&self) -> io::Result<u64> {
        Ok(match self {
            Self::Here(bytes) => bytes.len() as u64,
            Self::File(path) => fs::metadata(path)?.len(),
            Self::Temporary(file) => file.as_file().metadata()?.len(),
        })
    }

    fn open(&self) -> io::Result<Box<dyn Read + Send + '_>> {
        Ok(match self {
            Self::Here(bytes) => Box::new(Cursor::new(bytes.as_ref())),
            Self::File(path) => Box::new(File::open(path)?),
            Self::Temporary(file) => Box::new(file.reopen()?),
        })
    }
}

/// What is reported of an upload while it runs.
struct Told {
    number: usize,
    /// How many files were sent, of how many.
    sent: AtomicUsize,
    files: usize,
}

impl Told {
    fn one_more(&self, watch: &dyn Watch) {
        let sent = self.sent.fetch_add(1, Ordering::Relaxed) + 1;
        // Telling each of many would take longer than sending it.
        if self.files > 1 && (self.files < MANY || sent.is_multiple_of(16)) {
            watch.renamed(self.number, &format!("{} of {} files", sent.min(self.files), self.files));
        }
    }
}

/// Bytes at whose way somebody looks on.
struct Watched<'w> {
    inner: Box<dyn Read + Send + 'w>,
    watch: &'w dyn Watch,
    told: &'w Told,
    has_ended: bool,
}

impl Read for Watched<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.watch.came(self.told.number, read as u64);
        if read == 0 && !buffer.is_empty() && !std::mem::replace(&mut self.has_ended, true) {
            self.told.one_more(self.watch);
        }
        Ok(read)
    }
}

fn cut_short(index: usize, arrived: u64, of: u64) -> UploadError {
    UploadError::Bytes { index, why: format!("{arrived} of {of} bytes have arrived") }
}

/// So often an uploaded file is looked for again that is not listed yet, after so long.
const LOOKS_AGAIN: usize = 3;
const LISTED_LATE: Duration = Duration::from_millis(250);

impl RemoteTree {
    /// Returns the path by which the file server knows what is, or is to be, at a path; links are followed.
    pub(super) fn target(
        &self,
        verb: &'static str,
        path: &TreePath,
    ) -> Result<(TreePath, Option<RemoteMetadata>), TreeError> {
        match self.look(std::slice::from_ref(path))?.pop() {
            Some(Found::There { real, metadata, .. }) => Ok((real, Some(metadata))),
            Some(Found::Absent { real: Some(real) }) => Ok((real, None)),
            Some(Found::Absent { real: None }) | None => {
                Err(self.error(verb, path)(io::ErrorKind::NotFound.into()))
            }
            Some(Found::Refused(refusal)) => Err(self.error(verb, path)(io::Error::other(refusal))),
        }
    }

    pub(super) fn make_folders(&self, folders: &[NewFolder<'_>]) -> Result<(), TreeError> {
        // Outer ones first, each with those above it.
        let mut wanted: BTreeMap<(usize, TreePath), Access<'_>> = BTreeMap::new();
        for NewFolder { path, access } in folders {
            let mut next = Some((*path).clone());
            while let Some(folder) = next.filter(|folder| !folder.is_root()) {
                next = folder.parent();
                let depth = folder.as_str().split('/').count();
                wanted.entry((depth, folder)).or_insert(*access);
            }
        }
        let paths: Vec<TreePath> = wanted.keys().map(|(_, path)| path.clone()).collect();
        let mut levels: BTreeMap<usize, Vec<(TreePath, Option<u32>)>> = BTreeMap::new();
        for (((depth, path), access), found) in wanted.into_iter().zip(self.look(&paths)?) {
            match found {
                Found::There { metadata, .. } if metadata.kind == RemoteKind::Folder => {}
                Found::There { .. } => {
                    return Err(self.error("making the folder", &path)(io::ErrorKind::AlreadyExists.into()));
                }
                Found::Refused(refusal) => {
                    return Err(self.error("making the folder", &path)(io::Error::other(refusal)));
                }
                Found::Absent { .. } => {
                    let mode = self.new_folder_mode(access)?;
                    levels.entry(depth).or_default().push((path, mode));
                }
            }
        }
        if self.server.features().ordered {
            // Outer ones are made first, so all of them can be asked for at once.
            let all: Vec<(TreePath, Option<u32>)> = levels.into_values().flatten().collect();
            return self.make_level(&all);
        }
        levels.into_values().try_for_each(|level| self.make_level(&level))
    }

    fn make_level(&self, level: &[(TreePath, Option<u32>)]) -> Result<(), TreeError> {
        let mut real: Vec<(TreePath, Option<u32>)> = Vec::with_capacity(level.len());
        // One in a folder that is just being made has no link on its way from there.
        let mut made: HashMap<&TreePath, TreePath> = HashMap::new();
        for (path, mode) in level {
            let outer = path.parent().and_then(|folder| made.get(&folder));
            let at = match outer.and_then(|outer| outer.join(path.name()).ok()) {
                Some(at) => at,
                None => self.target("making the folder", path)?.0,
            };
            made.insert(path, at.clone());
            real.push((at, *mode));
        }
        let asked: Vec<(String, Option<u32>)> =
            real.iter().map(|(path, mode)| (self.at(path.as_str()), *mode)).collect();
        let made = self.retried(asked.len(), |indices| {
            self.server.create_folders(&indices.iter().map(|index| asked[*index].clone()).collect::<Vec<_>>())
        });
        for ((path, mode), made) in real.iter().zip(made) {
            match made {
                Ok(()) => self.seen().made(path, *mode),
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                    let folder = path.parent().unwrap_or_else(TreePath::root);
                    let mut seen = self.seen();
                    seen.forget_folder(&folder);
                    seen.forget_folder(path);
                }
                Err(error) => return Err(self.error("making the folder", path)(error)),
            }
        }
        Ok(())
    }

    pub(super) fn make_once(&self, folder: &TreePath) -> Result<bool, TreeError> {
        let above = folder.parent().unwrap_or_else(TreePath::root);
        let asked = [(self.at(folder.as_str()), self.new_folder_mode(Access::Own)?)];
        let made = self.retried(1, |_| self.server.create_folders(&asked)).pop().unwrap_or(Ok(()));
        let mut seen = self.seen();
        match made {
            Ok(()) => {
                seen.made(folder, asked[0].1);
                Ok(true)
            }
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                seen.forget_folder(&above);
                seen.forget_folder(folder);
                Ok(false)
            }
            Err(error) => Err(self.error("making the folder", folder)(error)),
        }
    }

    pub(super) fn upload_files(&self, uploads: &[Upload<'_>]) -> Result<(), UploadError> {
        let bytes: u64 = uploads.iter().map(|upload| upload.size).sum();
        let told = (bytes > WORTH || uploads.len() > MANY).then(|| {
            let name = match uploads {
                [one] => one.path.name().to_owned(),
                several => format!("0 of {} files", several.len()),
            };
            let number = self.watch.begin(&name, 0, Some(bytes));
            Told { number, sent: AtomicUsize::new(0), files: uploads.len() }
        });
        let done = self.upload_batches(uploads, told.as_ref());
        if let Some(told) = told {
            self.watch.end(told.number);
            self.watch.all_done();
        }
        done
    }

    fn upload_batches(&self, uploads: &[Upload<'_>], told: Option<&Told>) -> Result<(), UploadError> {
        let mut start = 0;
        while start < uploads.len() {
            let (mut end, mut bytes) = (start, 0);
            while end < uploads.len()
                && end - start < BATCH.1
                && (end == start || bytes + uploads[end].size <= BATCH.0)
            {
                bytes += uploads[end].size;
                end += 1;
            }
            self.upload_batch(uploads, start..end, told)?;
            start = end;
        }
        Ok(())
    }

    /// Returns the bytes of an upload, verified.
    fn bytes_of<'u>(&self, index: usize, upload: &'u Upload<'u>) -> Result<Bytes<'u>, UploadError> {
        let wrong = |why: String| UploadError::Bytes { index, why };
        let unreadable = |from: &Path, error: io::Error| wrong(format!("{}: {error}", from.display()));
        let (bytes, digest) = match &upload.source {
            UploadSource::Bytes(bytes) | UploadSource::Precious(bytes) => {
                (Bytes::Here(Cow::Borrowed(bytes.as_ref())), Digest::of(bytes))
            }
            UploadSource::File(from)
            | UploadSource::Cached(from)
            | UploadSource::Verified(from)
            | UploadSource::Built(from) => {
                let length = fs::metadata(from).map_err(|error| unreadable(from, error))?.len();
                if length <= AT_ONCE {
                    let bytes = fs::read(from).map_err(|error| unreadable(from, error))?;
                    let digest = Digest::of(&bytes);
                    (Bytes::Here(Cow::Owned(bytes)), digest)
                } else {
                    let (digest, _) = digest_of(from).map_err(|error| unreadable(from, error))?;
                    (Bytes::File(from), digest)
                }
            }
            UploadSource::Tree(old) => {
                let file = self.files(std::slice::from_ref(old))?.pop().flatten();
                let file = file.ok_or_else(|| wrong(format!("{old} is gone")))?;
                self.fetch((index, upload), &file)?
            }
        };
        if digest == upload.digest { Ok(bytes) } else { Err(other_bytes((index, upload), &digest)) }
    }

    /// Downloads a file in order to write it again elsewhere.
    fn fetch(
        &self,
        (index, upload): (usize, &Upload<'_>),
        file: &Wanted,
    ) -> Result<(Bytes<'static>, Digest), UploadError> {
        let failed = |error: io::Error| UploadError::Bytes { index, why: format!("fetching it: {error}") };
        let mut copy = tempfile::NamedTempFile::new().map_err(failed)?;
        let mut hasher = blake3::Hasher::new();
        let mut written = Ok(());
        self.download(&[file], |_, part| {
            hasher.update(part);
            if written.is_ok() {
                written = io::Write::write_all(&mut copy, part);
            }
        })?;
        written.map_err(failed)?;
        let digest = Digest::from_bytes(*hasher.finalize().as_bytes());
        let digest = comparable(copy.as_file_mut(), digest, &upload.digest).map_err(failed)?;
        Ok((Bytes::Temporary(copy), digest))
    }

    fn upload_batch(
        &self,
        uploads: &[Upload<'_>],
        batch: std::ops::Range<usize>,
        told: Option<&Told>,
    ) -> Result<(), UploadError> {
        let paths: Vec<TreePath> = uploads[batch.clone()].iter().map(|upload| upload.path.clone()).collect();
        let mut real = Vec::with_capacity(paths.len());
        for (path, found) in paths.iter().zip(self.look(&paths)?) {
            match found {
                Found::There { real: at, .. } | Found::Absent { real: Some(at) } => real.push(at),
                Found::Absent { real: None } => {
                    return Err(self.error("writing", path)(io::ErrorKind::NotFound.into()).into());
                }
                Found::Refused(refusal) => {
                    return Err(self.error("writing", path)(io::Error::other(refusal)).into());
                }
            }
        }
        // A file of the server that only has to be known by another name as well need not travel.
        let mut is_linked = vec![false; real.len()];
        if self.server.features().hard_links {
            let links: Vec<(usize, (String, String))> = batch
                .clone()
                .enumerate()
                .filter_map(|(at, index)| match &uploads[index].source {
                    // Only for files in our own folder, which no server writes to.
                    UploadSource::Tree(old) if crate::tree::is_own(old) => {
                        Some((at, (self.at(old.as_str()), self.at(real[at].as_str()))))
                    }
                    _ => None,
                })
                .collect();
            let linked = self.retried(links.len(), |indices| {
                self.server.link(&indices.iter().map(|index| links[*index].1.clone()).collect::<Vec<_>>())
            });
            for ((at, _), linked) in links.iter().zip(linked) {
                is_linked[*at] = linked.is_ok();
            }
        }
        let mut sizes: Vec<Option<u64>> = vec![None; real.len()];
        let mut sent: Vec<Sent<'_>> = Vec::new();
        for (at, index) in batch.clone().enumerate() {
            if !is_linked[at] {
                let upload = &uploads[index];
                let bytes = self.bytes_of(index, upload)?;
                let size =
                    bytes.size().map_err(|error| UploadError::Bytes { index, why: error.to_string() })?;
                sizes[at] = Some(size);
                sent.push((at, bytes, self.file_mode(upload.access)?));
            }
        }
        let aged = Some(now().saturating_sub(AGE));
        let modified = |at: usize| if is_built(&uploads[batch.start + at]) { None } else { aged };
        let files: Vec<RemoteFile<'_>> = sent
            .iter()
            .map(|(at, bytes, mode)| RemoteFile {
                path: self.at(real[*at].as_str()),
                size: sizes[*at].unwrap_or_default(),
                mode: *mode,
                modified: modified(*at),
                open: Box::new(move || {
                    let inner = bytes.open()?;
                    Ok(match told {
                        Some(told) => {
                            Box::new(Watched { inner, watch: &*self.watch, told, has_ended: false })
                        }
                        None => inner,
                    })
                }),
            })
            .collect();
        let written = sent.iter().zip(self.write_all(&files));
        let told = written.map(|((at, ..), written)| written.map_err(self.error("writing", &real[*at])));
        let told: Vec<Option<RemoteMetadata>> = told.collect::<Result<_, _>>()?;
        let first = batch.start;
        let mut unsure: Vec<usize> = (0..real.len()).filter(|at| is_linked[*at]).collect();
        for ((at, bytes, _), told) in sent.iter().zip(told) {
            match told {
                Some(metadata) => {
                    let size = sizes[*at].unwrap_or_default();
                    self.arrived((first + at, &uploads[first + at]), &real[*at], (size, metadata, bytes))?;
                }
                None => unsure.push(*at),
            }
        }
        self.verify(uploads, first, &unsure, (&real, &sizes))
    }

    /// Notes a file of which the server has said what it is.
    fn arrived(
        &self,
        (index, upload): (usize, &Upload<'_>),
        path: &TreePath,
        (size, metadata, bytes): (u64, RemoteMetadata, &Bytes<'_>),
    ) -> Result<(), UploadError> {
        if metadata.size != size {
            return Err(cut_short(index, metadata.size, size));
        }
        let metadata = RemoteMetadata { kind: RemoteKind::File, ..metadata };
        if let Some(stamp) = stamp_of(&metadata) {
            // With the current date, someone else might write another version with the same date.
            if !is_built(upload) {
                self.known.insert(path, stamp, upload.digest);
            }
        }
        let mut seen = self.seen();
        seen.put(path, metadata.clone());
        if let Bytes::Here(Cow::Borrowed(bytes)) = bytes {
            seen.note_text(path.clone(), &metadata, Arc::new(bytes.to_vec()));
        }
        Ok(())
    }

    fn write_all(&self, files: &[RemoteFile<'_>]) -> Vec<io::Result<Option<RemoteMetadata>>> {
        self.retried(files.len(), |indices| {
            if indices.len() == files.len() {
                return self.server.write(files);
            }
            // What was torn is sent again, one after the other.
            indices
                .iter()
                .map(|index| {
                    let one = std::slice::from_ref(&files[*index]);
                    self.server.write(one).pop().unwrap_or_else(|| Err(io::ErrorKind::NotConnected.into()))
                })
                .collect()
        })
    }

    /// Makes sure that those uploads have arrived whole of which the server has said nothing, and notes what they are known by.
    fn verify(
        &self,
        uploads: &[Upload<'_>],
        first: usize,
        unsure: &[usize],
        (real, sizes): (&[TreePath], &[Option<u64>]),
    ) -> Result<(), UploadError> {
        if unsure.is_empty() {
            return Ok(());
        }
        let paths: Vec<TreePath> = unsure.iter().map(|at| real[*at].clone()).collect();
        let look = || -> Result<Vec<Found>, TreeError> {
            let mut seen = self.seen();
            for path in &paths {
                seen.forget_folder(&path.parent().unwrap_or_else(TreePath::root));
            }
            drop(seen);
            self.look_at_links(&paths)
        };
        let mut all = look()?;
        // A busy server may list a file a moment after it has confirmed it.
        for _ in 0..LOOKS_AGAIN {
            if all.iter().all(|found| matches!(found, Found::There { .. })) {
                break;
            }
            thread::sleep(LISTED_LATE);
            all = look()?;
        }
        for ((at, path), found) in unsure.iter().zip(&paths).zip(all) {
            let (index, size) = (first + at, sizes[*at]);
            match found {
                Found::There { metadata, .. } if size.is_none_or(|size| metadata.size == size) => {
                    if let Some(stamp) = stamp_of(&metadata) {
                        self.known.insert(path, stamp, uploads[index].digest);
                    }
                }
                Found::There { metadata, .. } => {
                    return Err(cut_short(index, metadata.size, size.unwrap_or_default()));
                }
                _ => return Err(UploadError::Bytes { index, why: "it has not arrived".into() }),
            }
        }
        Ok(())
    }

    pub(super) fn replace_file(&self, path: &TreePath, bytes: &[u8]) -> Result<(), TreeError> {
        let access = if crate::tree::is_own(path) { Access::Own } else { Access::Like(path) };
        let (real, there) = self.target("writing", path)?;
        let folder = real.parent().unwrap_or_else(TreePath::root);
        let failed = self.error("writing", path);
        let beside = folder.join(&temporary()).map_err(|error| failed(io::Error::other(error)))?;
        let mode = self.file_mode(access)?;
        let file = RemoteFile {
            path: self.at(beside.as_str()),
            size: bytes.len() as u64,
            mode,
            modified: None,
            open: Box::new(move || Ok(Box::new(Cursor::new(bytes)))),
        };
        for written in self.write_all(std::slice::from_ref(&file)) {
            written.map_err(&failed)?;
        }
        let (kind, size) = (RemoteKind::File, bytes.len() as u64);
        let metadata = RemoteMetadata { kind, size, modified: None, mode, target: None };
        self.seen().put(&beside, metadata.clone());
        self.move_over(&beside, &real, there.is_some()).map_err(failed)?;
        self.known.forget(&mut Known::default(), &real);
        let mut seen = self.seen();
        seen.put(&real, metadata.clone());
        seen.note_text(real, &metadata, Arc::new(bytes.to_vec()));
        Ok(())
    }

    pub(super) fn copy_file(&self, from: &TreePath, to: &TreePath) -> Result<(), TreeError> {
        let failed = self.error("keeping a copy at", to);
        let (target, there) = self.target("keeping a copy at", to)?;
        if there.is_some() {
            return Ok(());
        }
        let file = self.files(std::slice::from_ref(from))?.pop().flatten();
        let file = file.ok_or_else(|| failed(io::ErrorKind::NotFound.into()))?;
        if self.server.features().hard_links {
            let pair = [(self.at(&file.called), self.at(target.as_str()))];
            let linked = self.retried(1, |_| self.server.link(&pair)).pop().unwrap_or(Ok(()));
            if linked.is_ok() {
                self.seen().put(&target, file.metadata);
                return Ok(());
            }
        }
        let bytes = self.read_files(std::slice::from_ref(from))?.pop().flatten();
        let bytes = bytes.ok_or_else(|| failed(io::ErrorKind::NotFound.into()))?;
        let mode = file.metadata.mode;
        let (size, content) = (bytes.len() as u64, &bytes);
        let copy = RemoteFile {
            path: self.at(target.as_str()),
            size,
            mode,
            modified: None,
            open: Box::new(move || Ok(Box::new(Cursor::new(content.as_slice())))),
        };
        for written in self.write_all(std::slice::from_ref(&copy)) {
            written.map_err(&failed)?;
        }
        let metadata = RemoteMetadata { kind: RemoteKind::File, size, modified: None, mode, target: None };
        self.seen().put(&target, metadata);
        Ok(())
    }
}
