//! A file server of which is asked at once, at the beginning, what the last command asked bit by bit before it changed anything.
//!
//! Most commands look at the same folders and read the same small files, and what to read next is known only from the answer before. On
//! a slow line each of these rounds is felt. So what was asked is noted in the cache, and the next command asks for all of it in one
//! round while it still begins. Each answer is used once, only while it is fresh, and none after something was changed: what must be
//! sure is asked again as ever. Files are read after their folders were listed, and what was read counts only beside that listing: bytes
//! must never be older than the date that they are known by.

use std::{
    collections::{BTreeMap, HashMap, HashSet},
    fmt, fs, io,
    ops::Range,
    path::{Path, PathBuf},
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        mpsc::{self, Receiver},
    },
    thread::{self, JoinHandle},
    time::{Duration, Instant},
};

use serde::{Deserialize, Serialize};

use super::file_server::{Features, FileServer, RemoteEntry, RemoteFile, RemoteMetadata};
use crate::cache_file::keep_in_cache;

/// So many folders, and files, are asked for ahead.
const MOST: usize = 400;
/// A file no larger than this, and so many bytes in all: on a line of a megabit they take a second.
const LARGEST: u64 = 16 << 10;
const BYTES: u64 = 128 << 10;
/// A call that lists so many folders at once is not recorded.
const MANY: usize = 200;
/// An answer is used for so long.
const FRESH: Duration = Duration::from_secs(10);
/// What so many commands did not ask for is no longer asked for ahead.
const OLD: u8 = 8;

/// What was asked, and how many commands ago.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Asked {
    folders: BTreeMap<String, u8>,
    /// With the number of bytes.
    files: BTreeMap<String, (u64, u8)>,
}

impl Asked {
    fn read(file: &Path) -> Self {
        let asked: Option<Self> = fs::read(file).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok());
        asked.unwrap_or_default()
    }

    /// Keeps it. That it cannot be kept costs time only.
    fn write(&self, file: &Path) {
        if let Ok(bytes) = serde_json::to_vec(self) {
            keep_in_cache(file, &bytes);
        }
    }

    /// Returns what is to be asked for next time: what was asked for now, and what was known and is not old.
    fn after(&self, known: &Self) -> Self {
        let mut next = self.clone();
        for (folder, age) in &known.folders {
            if *age < OLD && next.folders.len() < MOST {
                next.folders.entry(folder.clone()).or_insert(age + 1);
            }
        }
        for (file, (size, age)) in &known.files {
            if *age < OLD && next.files.len() < MOST {
                next.files.entry(file.clone()).or_insert((*size, age + 1));
            }
        }
        let mut bytes = 0;
        next.files.retain(|_, (size, _)| {
            bytes += *size;
            bytes <= BYTES
        });
        next
    }
}

type Lists = Vec<(String, io::Result<Vec<RemoteEntry>>)>;
type Parts = Vec<(String, u64, io::Result<Vec<u8>>)>;

#[derive(Default)]
struct State {
    known: Asked,
    asked: Asked,
    listing: Option<Receiver<Lists>>,
    reading: Option<JoinHandle<Parts>>,
    /// Answers; nothing for a folder that is not there.
    lists: HashMap<String, Option<Vec<RemoteEntry>>>,
    parts: HashMap<String, (u64, Vec<u8>)>,
    /// Folders whose listing was one of the answers.
    served: HashSet<String>,
    arrived: Option<Instant>,
    /// Something was changed since, or the connection was opened again.
    is_over: bool,
}

impl State {
    fn is_fresh(&self) -> bool {
        !self.is_over && self.arrived.is_none_or(|arrived| arrived.elapsed() < FRESH)
    }

    fn wait_for_lists(&mut self) {
        let Some(listing) = self.listing.take() else { return };
        for (folder, answer) in listing.recv().unwrap_or_default() {
            match answer {
                Ok(entries) => drop(self.lists.insert(folder, Some(entries))),
                Err(error) if error.kind() == io::ErrorKind::NotFound => {
                    self.lists.insert(folder, None);
                }
                Err(_) => {}
            }
        }
        self.arrived.get_or_insert_with(Instant::now);
    }

    fn wait_for_parts(&mut self) {
        let Some(reading) = self.reading.take() else { return };
        for (path, size, answer) in reading.join().unwrap_or_default() {
            if let Ok(bytes) = answer {
                self.parts.insert(path, (size, bytes));
            }
        }
        self.arrived.get_or_insert_with(Instant::now);
    }
}

/// A file server that is asked ahead.
pub struct Foresight {
    inner: Arc<dyn FileServer>,
    file: PathBuf,
    state: Mutex<State>,
}

impl fmt::Debug for Foresight {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.inner.fmt(f)
    }
}

impl Foresight {
    /// Asks a server ahead for what `file` says that the last command asked. Only an ordered server is asked ahead: with others each
    /// request may cost a connection.
    pub fn of(inner: Arc<dyn FileServer>, file: PathBuf) -> Arc<dyn FileServer> {
        if !inner.features().ordered {
            return inner;
        }
        let known = Asked::read(&file);
        let (folders, files) = (known.folders.clone(), known.files.clone());
        let (server, (sender, listing)) = (Arc::clone(&inner), mpsc::channel());
        let reading = thread::spawn(move || {
            let folders: Vec<String> = folders.into_keys().collect();
            let listed = if folders.is_empty() { Vec::new() } else { server.list(&folders) };
            sender.send(folders.into_iter().zip(listed).collect()).ok();
            let parts: Vec<(String, Range<u64>)> =
                files.iter().map(|(path, (size, _))| (path.clone(), 0..*size)).collect();
            let read = if parts.is_empty() { Vec::new() } else { server.read(&parts) };
            files.into_iter().zip(read).map(|((path, (size, _)), read)| (path, size, read)).collect()
        });
        let (listing, reading) = (Some(listing), Some(reading));
        let state = State { known, listing, reading, ..State::default() };
        Arc::new(Self { inner, file, state: Mutex::new(state) })
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Uses no answer any more, and notes what was asked so far.
    fn end(&self) {
        let mut state = self.state();
        if std::mem::replace(&mut state.is_over, true) {
            return;
        }
        (state.lists, state.parts) = Default::default();
        let next = state.asked.after(&state.known);
        if next != state.known {
            next.write(&self.file);
        }
    }
}

impl Drop for Foresight {
    fn drop(&mut self) {
        self.end();
    }
}

impl FileServer for Foresight {
    fn features(&self) -> Features {
        self.inner.features()
    }

    fn reconnect(&self) -> io::Result<()> {
        self.end();
        self.inner.reconnect()
    }

    fn pause(&self) -> Duration {
        self.inner.pause()
    }

    fn expect_write(&self, bytes: u64) {
        self.inner.expect_write(bytes);
    }

    fn list(&self, folders: &[String]) -> Vec<io::Result<Vec<RemoteEntry>>> {
        let mut answers: Vec<Option<io::Result<Vec<RemoteEntry>>>> = folders.iter().map(|_| None).collect();
        {
            let mut state = self.state();
            if !state.is_over && folders.len() < MANY {
                let room = MOST.saturating_sub(state.asked.folders.len());
                state.asked.folders.extend(folders.iter().take(room).map(|folder| (folder.clone(), 0)));
            }
            if folders.iter().any(|folder| state.known.folders.contains_key(folder)) {
                state.wait_for_lists();
            }
            if state.is_fresh() {
                for (answer, folder) in answers.iter_mut().zip(folders) {
                    let listed = state.lists.remove(folder);
                    if listed.is_some() {
                        state.served.insert(folder.clone());
                    } else {
                        state.served.remove(folder);
                    }
                    *answer = listed.map(|listed| listed.ok_or_else(|| io::ErrorKind::NotFound.into()));
                }
            }
        }
        let rest: Vec<String> = answers
            .iter()
            .zip(folders)
            .filter(|(answer, _)| answer.is_none())
            .map(|(_, folder)| folder.clone())
            .collect();
        let mut listed = if rest.is_empty() { Vec::new() } else { self.inner.list(&rest) }.into_iter();
        let torn = || Err(io::ErrorKind::NotConnected.into());
        answers
            .into_iter()
            .map(|answer| answer.unwrap_or_else(|| listed.next().unwrap_or_else(torn)))
            .collect()
    }

    fn metadata(&self, paths: &[String]) -> Vec<io::Result<RemoteMetadata>> {
        self.inner.metadata(paths)
    }

    fn read_link(&self, path: &str) -> io::Result<String> {
        self.inner.read_link(path)
    }

    fn read(&self, parts: &[(String, Range<u64>)]) -> Vec<io::Result<Vec<u8>>> {
        let mut answers: Vec<Option<io::Result<Vec<u8>>>> = parts.iter().map(|_| None).collect();
        {
            let mut state = self.state();
            let is_small = |range: &Range<u64>| range.start == 0 && (1..=LARGEST).contains(&range.end);
            if !state.is_over {
                let room = MOST.saturating_sub(state.asked.files.len());
                let small = parts.iter().filter(|(_, range)| is_small(range)).take(room);
                let small: Vec<(String, (u64, u8))> =
                    small.map(|(path, range)| (path.clone(), (range.end, 0))).collect();
                state.asked.files.extend(small);
            }
            if parts.iter().any(|(path, _)| state.known.files.contains_key(path)) {
                state.wait_for_parts();
            }
            if state.is_fresh() {
                for (answer, (path, range)) in answers.iter_mut().zip(parts) {
                    let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
                    let is_this = |(size, _): &(u64, Vec<u8>)| range.start == 0 && *size == range.end;
                    if state.served.contains(folder) && state.parts.get(path).is_some_and(is_this) {
                        *answer = state.parts.remove(path).map(|(_, bytes)| Ok(bytes));
                    }
                }
            }
        }
        let rest: Vec<(String, Range<u64>)> = answers
            .iter()
            .zip(parts)
            .filter(|(answer, _)| answer.is_none())
            .map(|(_, part)| part.clone())
            .collect();
        let mut read = if rest.is_empty() { Vec::new() } else { self.inner.read(&rest) }.into_iter();
        let torn = || Err(io::ErrorKind::NotConnected.into());
        answers.into_iter().map(|answer| answer.unwrap_or_else(|| read.next().unwrap_or_else(torn))).collect()
    }

    fn write(&self, files: &[RemoteFile<'_>]) -> Vec<io::Result<Option<RemoteMetadata>>> {
        self.end();
        self.inner.write(files)
    }

    fn rename(&self, moves: &[(String, String)]) -> Vec<io::Result<()>> {
        self.end();
        self.inner.rename(moves)
    }

    fn link(&self, links: &[(String, String)]) -> Vec<io::Result<()>> {
        self.end();
        self.inner.link(links)
    }

    fn create_folders(&self, folders: &[(String, Option<u32>)]) -> Vec<io::Result<()>> {
        self.end();
        self.inner.create_folders(folders)
    }

    fn remove_files(&self, paths: &[String]) -> Vec<io::Result<()>> {
        self.end();
        self.inner.remove_files(paths)
    }

    fn remove_folders(&self, paths: &[String]) -> Vec<io::Result<()>> {
        self.end();
        self.inner.remove_folders(paths)
    }

    fn remove_with_folder(&self, file: &str, folder: &str) -> io::Result<()> {
        self.end();
        self.inner.remove_with_folder(file, folder)
    }
}
