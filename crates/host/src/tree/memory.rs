//! A file server in memory, of which any call can be made to fail: for tests of everything that works on trees.

use std::{
    collections::{BTreeMap, VecDeque},
    io::{self, Read},
    ops::Range,
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

use super::remote::file_server::{Features, FileServer, RemoteEntry, RemoteFile, RemoteKind, RemoteMetadata};

/// What happens at the calls of a file server; they are counted from 1, each thing of a bulk call by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Faults {
    /// The call that fails, and nothing was done.
    pub fails_at: Option<u64>,
    /// The call that is done, and whose answer is lost with the connection.
    pub tears_at: Option<u64>,
    /// The call with which everything ends, as if the program had been killed: it and all after it fail.
    pub dies_at: Option<u64>,
    /// The call with which the connection ends, and cannot be opened again.
    pub ends_at: Option<u64>,
}

#[derive(Debug, Clone)]
enum Node {
    Folder,
    File { inode: u64, mode: u32 },
    Link(String),
}

#[derive(Debug, Clone, Default)]
struct State {
    nodes: BTreeMap<String, Node>,
    /// The bytes of files, and when they were changed last.
    files: BTreeMap<u64, (Vec<u8>, u64)>,
    next: u64,
    clock: u64,
}

/// A file server in memory.
#[derive(Debug)]
pub struct MemoryServer {
    state: Mutex<State>,
    features: Features,
    faults: Mutex<Faults>,
    /// How many calls there were, and how many of them changed something.
    calls: AtomicU64,
}

impl MemoryServer {
    /// Returns an empty one, with the folder `/srv`.
    pub fn new(features: Features) -> Arc<Self> {
        let mut state = State { clock: 1_000_000_000, ..State::default() };
        for folder in ["/", "/srv"] {
            state.nodes.insert(folder.into(), Node::Folder);
        }
        Arc::new(Self {
            state: Mutex::new(state),
            features,
            faults: Mutex::default(),
            calls: AtomicU64::new(0),
        })
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns another one with the same files, with faults, and no calls so far.
    #[must_use]
    pub fn copy(&self, faults: Faults) -> Arc<Self> {
        Arc::new(Self {
            state: Mutex::new(self.state().clone()),
            features: self.features,
            faults: Mutex::new(faults),
            calls: AtomicU64::new(0),
        })
    }

    /// Sets the faults of the calls to come.
    pub fn fault(&self, faults: Faults) {
        *self.faults.lock().unwrap_or_else(PoisonError::into_inner) = faults;
        self.calls.store(0, Ordering::SeqCst);
    }

    /// Returns how many calls there were.
    pub fn calls(&self) -> u64 {
        self.calls.load(Ordering::SeqCst)
    }

    /// Writes a file and makes the folders above it, without a call being counted.
    pub fn put(&self, path: &str, bytes: &[u8]) {
        let mut state = self.state();
        let mut at = 0;
        while let Some(slash) = path[at + 1..].find('/') {
            at += slash + 1;
            state.nodes.entry(path[..at].to_owned()).or_insert(Node::Folder);
        }
        state.write(path, bytes.to_vec(), 0o644);
    }

    /// Makes a symbolic link.
    pub fn put_link(&self, path: &str, target: &str) {
        self.state().nodes.insert(path.to_owned(), Node::Link(target.to_owned()));
    }

    /// Removes a file, without a call being counted.
    pub fn take(&self, path: &str) {
        self.state().nodes.remove(path);
    }

    /// Returns all paths below a folder with the bytes of the files; nothing for a folder.
    pub fn tree(&self, folder: &str) -> BTreeMap<String, Option<Vec<u8>>> {
        let state = self.state();
        let inside = state.nodes.iter().filter_map(|(path, node)| {
            let below = path.strip_prefix(folder)?.strip_prefix('/')?;
            let bytes = match node {
                Node::File { inode, .. } => state.files.get(inode).map(|(bytes, _)| bytes.clone()),
                Node::Folder => None,
                Node::Link(target) => Some(format!("-> {target}").into_bytes()),
            };
            Some((below.to_owned(), bytes))
        });
        inside.collect()
    }

    /// Does one call, with its fault.
    fn call<T>(&self, act: impl FnOnce(&mut State) -> io::Result<T>) -> io::Result<T> {
        let number = self.calls.fetch_add(1, Ordering::SeqCst) + 1;
        let faults = *self.faults.lock().unwrap_or_else(PoisonError::into_inner);
        if faults.dies_at.is_some_and(|dies| number >= dies) || faults.fails_at == Some(number) {
            return Err(io::ErrorKind::StorageFull.into());
        }
        if faults.ends_at.is_some_and(|ends| number >= ends) {
            return Err(io::ErrorKind::ConnectionReset.into());
        }
        let done = act(&mut self.state());
        if faults.tears_at == Some(number) {
            return Err(io::ErrorKind::ConnectionReset.into());
        }
        done
    }
}

fn parent(path: &str) -> &str {
    match path.rsplit_once('/') {
        Some(("", _)) | None => "/",
        Some((folder, _)) => folder,
    }
}

impl State {
    /// Returns a path without links on its way; at its end, one is followed if `last` says so. Links lead wherever they lead, as on a
    /// real server: to keep to the folder is not the server's business.
    fn real(&self, path: &str, last: bool) -> io::Result<String> {
        let mut names: VecDeque<String> =
            path.split('/').filter(|name| !name.is_empty()).map(str::to_owned).collect();
        let mut at = String::new();
        for _ in 0..200 {
            let Some(name) = names.pop_front() else {
                return Ok(if at.is_empty() { "/".into() } else { at });
            };
            if name == ".." {
                at.truncate(at.rfind('/').unwrap_or(0));
                continue;
            }
            let next = format!("{at}/{name}");
            match self.nodes.get(&next) {
                Some(Node::Link(target)) if last || !names.is_empty() => {
                    if target.starts_with('/') {
                        at.clear();
                    }
                    for name in target.split('/').filter(|name| !name.is_empty()).rev() {
                        names.push_front(name.to_owned());
                    }
                }
                _ => at = next,
            }
        }
        Err(io::ErrorKind::NotFound.into())
    }

    fn write(&mut self, path: &str, bytes: Vec<u8>, mode: u32) {
        self.clock += 1;
        self.next += 1;
        self.files.insert(self.next, (bytes, self.clock));
        self.nodes.insert(path.to_owned(), Node::File { inode: self.next, mode });
    }

    fn folder(&self, path: &str) -> io::Result<()> {
        match self.nodes.get(path) {
            Some(Node::Folder) => Ok(()),
            Some(_) => Err(io::ErrorKind::NotADirectory.into()),
            None => Err(io::ErrorKind::NotFound.into()),
        }
    }

    fn metadata(&self, path: &str) -> io::Result<RemoteMetadata> {
        let metadata =
            |kind, size, modified, mode, target| RemoteMetadata { kind, size, modified, mode, target };
        match self.nodes.get(path).ok_or(io::ErrorKind::NotFound)? {
            Node::Folder => Ok(metadata(RemoteKind::Folder, 0, Some(0), Some(0o755), None)),
            Node::Link(target) => Ok(metadata(RemoteKind::Link, 0, Some(0), None, Some(target.clone()))),
            Node::File { inode, mode } => {
                let (bytes, modified) = self.files.get(inode).ok_or(io::ErrorKind::NotFound)?;
                Ok(metadata(RemoteKind::File, bytes.len() as u64, Some(*modified), Some(*mode), None))
            }
        }
    }

    fn inside(&self, folder: &str) -> impl Iterator<Item = &String> {
        let prefix = if folder == "/" { "/".to_owned() } else { format!("{folder}/") };
        self.nodes.keys().filter(move |path| path.starts_with(&prefix) && path.len() > prefix.len())
    }
}

impl FileServer for MemoryServer {
    fn features(&self) -> Features {
        self.features
    }

    fn reconnect(&self) -> io::Result<()> {
        let faults = *self.faults.lock().unwrap_or_else(PoisonError::into_inner);
        match faults.ends_at {
            Some(ends) if self.calls() >= ends => Err(io::ErrorKind::ConnectionRefused.into()),
            _ => Ok(()),
        }
    }

    fn pause(&self) -> Duration {
        Duration::ZERO
    }

    fn list(&self, folders: &[String]) -> Vec<io::Result<Vec<RemoteEntry>>> {
        let list = |folder: &String| {
            self.call(|state| {
                let folder = &state.real(folder, true)?;
                state.folder(folder)?;
                let direct = state.inside(folder).filter(|path| parent(path) == folder);
                let entry = |path: &String| {
                    let name = Ok(path.rsplit_once('/').map_or(path.as_str(), |(_, name)| name).to_owned());
                    Ok(RemoteEntry { name, metadata: state.metadata(path)? })
                };
                direct.map(entry).collect()
            })
        };
        folders.iter().map(list).collect()
    }

    fn metadata(&self, paths: &[String]) -> Vec<io::Result<RemoteMetadata>> {
        paths.iter().map(|path| self.call(|state| state.metadata(&state.real(path, false)?))).collect()
    }

    fn read_link(&self, path: &str) -> io::Result<String> {
        self.call(|state| match state.nodes.get(&state.real(path, false)?) {
            Some(Node::Link(target)) => Ok(target.clone()),
            _ => Err(io::ErrorKind::NotFound.into()),
        })
    }

    fn read(&self, parts: &[(String, Range<u64>)]) -> Vec<io::Result<Vec<u8>>> {
        let read = |(path, range): &(String, Range<u64>)| {
            self.call(|state| {
                let Some(Node::File { inode, .. }) = state.nodes.get(&state.real(path, true)?) else {
                    return Err(io::ErrorKind::NotFound.into());
                };
                let (bytes, _) = state.files.get(inode).ok_or(io::ErrorKind::NotFound)?;
                let at = |at: u64| usize::try_from(at).unwrap_or(usize::MAX).min(bytes.len());
                Ok(bytes[at(range.start)..at(range.end)].to_vec())
            })
        };
        parts.iter().map(read).collect()
    }

    fn write(&self, files: &[RemoteFile<'_>]) -> Vec<io::Result<Option<RemoteMetadata>>> {
        let write = |file: &RemoteFile<'_>| {
            self.call(|state| {
                let path = state.real(&file.path, true)?;
                state.folder(parent(&path))?;
                if matches!(state.nodes.get(&path), Some(Node::Folder)) {
                    return Err(io::ErrorKind::IsADirectory.into());
                }
                let mut bytes = Vec::new();
                (file.open)()?.read_to_end(&mut bytes)?;
                state.write(&path, bytes, file.mode.unwrap_or(0o644));
                self.features.ordered.then(|| state.metadata(&path)).transpose()
            })
        };
        files.iter().map(write).collect()
    }

    fn rename(&self, moves: &[(String, String)]) -> Vec<io::Result<()>> {
        let rename = |(from, to): &(String, String)| {
            self.call(|state| {
                let (from, to) = (&state.real(from, false)?, &state.real(to, false)?);
                state.folder(parent(to))?;
                let node = state.nodes.get(from).cloned().ok_or(io::ErrorKind::NotFound)?;
                match (state.nodes.get(to), &node) {
                    (None, _) => {}
                    (Some(Node::File { .. } | Node::Link(_)), Node::File { .. })
                        if self.features.replaces =>
                    {
                        if let (Some(Node::File { inode: one, .. }), Node::File { inode: other, .. }) =
                            (state.nodes.get(to), &node)
                            && one == other
                        {
                            // As rename does it: two names of one file stay as they are.
                            return Ok(());
                        }
                    }
                    _ => return Err(io::ErrorKind::AlreadyExists.into()),
                }
                let inner: Vec<String> = state.inside(from).cloned().collect();
                for path in inner {
                    if let Some(node) = state.nodes.remove(&path) {
                        state.nodes.insert(format!("{to}{}", &path[from.len()..]), node);
                    }
                }
                state.nodes.remove(from);
                state.nodes.insert(to.clone(), node);
                Ok(())
            })
        };
        moves.iter().map(rename).collect()
    }

    fn link(&self, links: &[(String, String)]) -> Vec<io::Result<()>> {
        let link = |(from, to): &(String, String)| {
            self.call(|state| {
                if !self.features.hard_links {
                    return Err(io::ErrorKind::Unsupported.into());
                }
                let (from, to) = (&state.real(from, false)?, &state.real(to, false)?);
                state.folder(parent(to))?;
                let node = state.nodes.get(from).cloned().ok_or(io::ErrorKind::NotFound)?;
                if state.nodes.contains_key(to) {
                    return Err(io::ErrorKind::AlreadyExists.into());
                }
                state.nodes.insert(to.clone(), node);
                Ok(())
            })
        };
        links.iter().map(link).collect()
    }

    fn create_folders(&self, folders: &[(String, Option<u32>)]) -> Vec<io::Result<()>> {
        let create = |(path, _): &(String, Option<u32>)| {
            self.call(|state| {
                let path = &state.real(path, false)?;
                state.folder(parent(path))?;
                if state.nodes.contains_key(path) {
                    return Err(io::ErrorKind::AlreadyExists.into());
                }
                state.nodes.insert(path.clone(), Node::Folder);
                Ok(())
            })
        };
        folders.iter().map(create).collect()
    }

    fn remove_files(&self, paths: &[String]) -> Vec<io::Result<()>> {
        let remove = |path: &String| {
            self.call(|state| {
                let path = &state.real(path, false)?;
                match state.nodes.get(path) {
                    None => Err(io::ErrorKind::NotFound.into()),
                    Some(Node::Folder) => Err(io::ErrorKind::IsADirectory.into()),
                    Some(_) => {
                        state.nodes.remove(path);
                        Ok(())
                    }
                }
            })
        };
        paths.iter().map(remove).collect()
    }

    fn remove_folders(&self, paths: &[String]) -> Vec<io::Result<()>> {
        let remove = |path: &String| {
            self.call(|state| {
                let path = &state.real(path, false)?;
                state.folder(path)?;
                if state.inside(path).next().is_some() {
                    return Err(io::ErrorKind::DirectoryNotEmpty.into());
                }
                state.nodes.remove(path);
                Ok(())
            })
        };
        paths.iter().map(remove).collect()
    }
}
