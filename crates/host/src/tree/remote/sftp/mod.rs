//! A file server behind SFTP, reached by the machine's own `ssh`: with it come the user's keys, agent, known hosts, jump hosts and
//! everything else that `~/.ssh/config` says.

mod channels;
mod exchanges;
mod pipeline;
mod session;
mod wire;

use std::{
    fmt, io,
    ops::Range,
    path::PathBuf,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Instant,
};

use tracing::debug as trace;

use super::file_server::{Features, FileServer, RemoteEntry, RemoteFile, RemoteKind, RemoteMetadata};
use channels::Channels;
use exchanges::{List, ReadPart, Simple, WriteFile};
use pipeline::{Exchange, Pipeline, torn};
pub use session::machine_of;
pub use session::{
    ASK_VARIABLE, Answers, AskSecret, ConnectError, NoQuestions, Question, SshOptions, ask_through,
};
use wire::{Reply, Request};

const REPLACE: &str = "posix-rename@openssh.com";
const LINK: &str = "hardlink@openssh.com";
const SPACE: &str = "statvfs@openssh.com";

/// Dates are in seconds, and servers' clocks are kept right by the minute.
const TICK: u64 = 120;

/// A file server behind SFTP.
pub struct SftpServer {
    options: SshOptions,
    session: Mutex<Session>,
}

struct Session {
    pipeline: Arc<Pipeline>,
    extensions: Vec<String>,
    /// The control socket by which it is shared, unless the user's own configuration shares it.
    shared: Option<PathBuf>,
    /// Its other channels.
    channels: Option<Arc<Channels>>,
    _process: session::Process,
    /// The folder of its sockets.
    _folder: tempfile::TempDir,
}

impl fmt::Debug for SftpServer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("SftpServer").field(&self.options.host).finish()
    }
}

impl SftpServer {
    /// Connects. What has to be asked is asked through `ask`.
    ///
    /// # Errors
    /// Where the host cannot be reached, does not let the user in, or has no SFTP.
    pub fn connect(options: SshOptions, ask: &mut dyn AskSecret) -> Result<Self, ConnectError> {
        let session = open(&options, ask)?;
        Ok(Self { options, session: Mutex::new(session) })
    }

    /// Returns the absolute path of a path; of an empty one, of the folder in which the user starts.
    ///
    /// # Errors
    /// Where the connection ends.
    pub fn real_path(&self, path: &str) -> io::Result<String> {
        let asked = if path.is_empty() { "." } else { path };
        self.one(Request::new(wire::REALPATH).path(asked)).name()
    }

    fn session(&self) -> MutexGuard<'_, Session> {
        self.session.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn has(&self, extension: &str) -> bool {
        self.session().extensions.iter().any(|name| name == extension)
    }

    fn run<E: Exchange>(&self, mut exchanges: Vec<E>) -> Vec<E> {
        let pipeline = Arc::clone(&self.session().pipeline);
        pipeline.run(&mut exchanges);
        exchanges
    }

    /// Lists folders, with an extra channel if there are very many.
    fn lists(&self, folders: &[String]) -> Vec<List> {
        let (pipeline, channels) = {
            let session = self.session();
            (Arc::clone(&session.pipeline), session.channels.clone())
        };
        let Some(channels) = channels.filter(|_| folders.len() > 1) else {
            return self.run(folders.iter().cloned().map(List::new).collect());
        };
        channels.expect_listing(folders.len(), pipeline.distance());
        self.spread((&pipeline, &channels), folders, |folder| (0, List::new(folder.clone())), List::is_torn)
    }

    /// Carries out an exchange for each item over all channels; each comes with its size in bytes. What an extra channel left undone when
    /// it broke is done over the main one, which may not have broken.
    fn spread<'i, T, E: Exchange + Send>(
        &self,
        (pipeline, channels): (&Arc<Pipeline>, &Arc<Channels>),
        items: &'i [T],
        exchange: impl Fn(&'i T) -> (u64, E),
        is_torn: impl Fn(&E) -> bool,
    ) -> Vec<E> {
        let mut done = channels.run(pipeline, items.iter().map(&exchange).collect());
        let torn: Vec<usize> = (0..done.len()).filter(|at| is_torn(&done[*at])).collect();
        if !torn.is_empty() {
            channels.forget();
            let again = self.run(torn.iter().map(|at| exchange(&items[*at]).1).collect());
            for (at, again) in torn.into_iter().zip(again) {
                done[at] = again;
            }
        }
        done
    }

    fn one(&self, request: Request) -> Simple {
        self.run(vec![Simple::new(request)]).pop().unwrap_or_else(|| Simple::new(Request::new(wire::LSTAT)))
    }

    fn each(&self, requests: impl Iterator<Item = Request>) -> Vec<io::Result<()>> {
        self.run(requests.map(Simple::new).collect()).into_iter().map(Simple::done).collect()
    }

    /// Servers have one word for most of what can go wrong: looks what it was.
    fn why(
        &self,
        error: io::Error,
        path: &str,
        is_expected: impl Fn(&RemoteMetadata) -> bool,
        kind: io::ErrorKind,
    ) -> io::Error {
        if error.kind() != io::ErrorKind::Other {
            return error;
        }
        match self.metadata(&[path.to_owned()]).pop() {
            Some(Ok(metadata)) if is_expected(&metadata) => kind.into(),
            _ => error,
        }
    }

    /// Whether the disk of a path has no room left, as far as the server tells.
    fn is_full(&self, path: &str) -> bool {
        let folder =
            path.rsplit_once('/').map_or("/", |(folder, _)| if folder.is_empty() { "/" } else { folder });
        self.has(SPACE)
            && matches!(
                self.one(Request::extended(SPACE).path(folder)).answer,
                Ok(Reply::Extended(reply)) if wire::free_blocks(&reply).is_ok_and(|free| free == 0)
            )
    }
}

impl FileServer for SftpServer {
    fn features(&self) -> Features {
        Features { replaces: self.has(REPLACE), hard_links: self.has(LINK), ordered: true, tick: TICK }
    }

    fn reconnect(&self) -> io::Result<()> {
        // The answers are known by now; the user is not asked again.
        let session = open(&self.options, &mut session::NoQuestions).map_err(io::Error::other)?;
        *self.session() = session;
        Ok(())
    }

    fn expect_write(&self, bytes: u64) {
        let session = self.session();
        if let Some(channels) = &session.channels {
            channels.expect(bytes, session.pipeline.distance());
        }
    }

    fn list(&self, folders: &[String]) -> Vec<io::Result<Vec<RemoteEntry>>> {
        trace!("list {folders:?}");
        let lists = self.lists(folders);
        let named = |(list, folder): (List, &String)| {
            list.names().map_err(|error| {
                let is_no_folder = |metadata: &RemoteMetadata| metadata.kind != RemoteKind::Folder;
                self.why(error, folder, is_no_folder, io::ErrorKind::NotADirectory)
            })
        };
        lists.into_iter().zip(folders).map(named).collect()
    }

    fn metadata(&self, paths: &[String]) -> Vec<io::Result<RemoteMetadata>> {
        trace!("look at {paths:?}");
        let requests = paths.iter().map(|path| Simple::new(Request::new(wire::LSTAT).path(path)));
        self.run(requests.collect()).into_iter().map(Simple::metadata).collect()
    }

    fn read_link(&self, path: &str) -> io::Result<String> {
        self.one(Request::new(wire::READLINK).path(path)).name()
    }

    fn read(&self, parts: &[(String, Range<u64>)]) -> Vec<io::Result<Vec<u8>>> {
        trace!("read {parts:?}");
        let parts = parts.iter().map(|(path, range)| ReadPart::new(path.clone(), range.clone()));
        self.run(parts.collect()).into_iter().map(ReadPart::bytes).collect()
    }

    fn write(&self, files: &[RemoteFile<'_>]) -> Vec<io::Result<Option<RemoteMetadata>>> {
        trace!("write {files:?}");
        let (pipeline, channels) = {
            let session = self.session();
            (Arc::clone(&session.pipeline), session.channels.clone())
        };
        let written = match &channels {
            Some(channels) => self.spread(
                (&pipeline, channels),
                files,
                |file| (file.size, WriteFile::new(file)),
                WriteFile::is_torn,
            ),
            None => self.run(files.iter().map(WriteFile::new).collect()),
        };
        let named = |(written, file): (WriteFile<'_, '_>, &RemoteFile<'_>)| {
            written.done().map_err(|error| match error.kind() {
                io::ErrorKind::Other if self.is_full(&file.path) => io::ErrorKind::StorageFull.into(),
                _ => error,
            })
        };
        written.into_iter().zip(files).map(named).collect()
    }

    fn rename(&self, moves: &[(String, String)]) -> Vec<io::Result<()>> {
        trace!("rename {moves:?}");
        let replaces = self.has(REPLACE);
        self.each(moves.iter().map(|(from, to)| {
            let request = if replaces { Request::extended(REPLACE) } else { Request::new(wire::RENAME) };
            request.path(from).path(to)
        }))
    }

    fn link(&self, links: &[(String, String)]) -> Vec<io::Result<()>> {
        trace!("link {links:?}");
        if !self.has(LINK) {
            return links.iter().map(|_| Err(io::ErrorKind::Unsupported.into())).collect();
        }
        let done = self.each(links.iter().map(|(from, to)| Request::extended(LINK).path(from).path(to)));
        let named = |(done, (_, to)): (io::Result<()>, &(String, String))| {
            done.map_err(|error| self.why(error, to, |_| true, io::ErrorKind::AlreadyExists))
        };
        done.into_iter().zip(links).map(named).collect()
    }

    fn create_folders(&self, folders: &[(String, Option<u32>)]) -> Vec<io::Result<()>> {
        trace!("make {folders:?}");
        let make = |(path, mode): &(String, Option<u32>)| {
            Request::new(wire::MKDIR).path(path).attributes(*mode, None)
        };
        let done = self.each(folders.iter().map(make));
        let named = |(done, (path, _)): (io::Result<()>, &(String, Option<u32>))| {
            done.map_err(|error| self.why(error, path, |_| true, io::ErrorKind::AlreadyExists))
        };
        done.into_iter().zip(folders).map(named).collect()
    }

    fn remove_files(&self, paths: &[String]) -> Vec<io::Result<()>> {
        trace!("remove {paths:?}");
        self.each(paths.iter().map(|path| Request::new(wire::REMOVE).path(path)))
    }

    fn remove_folders(&self, paths: &[String]) -> Vec<io::Result<()>> {
        trace!("remove folders {paths:?}");
        self.each(paths.iter().map(|path| Request::new(wire::RMDIR).path(path)))
    }

    fn remove_with_folder(&self, file: &str, folder: &str) -> io::Result<()> {
        trace!("remove {file} and {folder}");
        // Done one after the other, and asked for at once.
        let requests = [Request::new(wire::REMOVE).path(file), Request::new(wire::RMDIR).path(folder)];
        self.each(requests.into_iter()).into_iter().next().unwrap_or(Ok(()))
    }
}

/// Opens a connection that may have several channels.
fn open(options: &SshOptions, ask: &mut dyn AskSecret) -> Result<Session, ConnectError> {
    let mut session = session::open(options, ask)?;
    let shared = session.shared.take();
    session.channels = shared.map(|shared| Arc::new(Channels::new(options.clone(), shared)));
    Ok(session)
}

/// Greets a server and returns what it has.
fn greet(
    mut reader: impl io::Read + Send + 'static,
    mut writer: Box<dyn io::Write + Send>,
) -> io::Result<(Pipeline, Vec<String>)> {
    writer.write_all(&wire::hello())?;
    writer.flush()?;
    let asked = Instant::now();
    let packet = pipeline::packet(&mut reader)
        .map_err(|error| if error.kind() == io::ErrorKind::UnexpectedEof { torn() } else { error })?;
    let extensions = wire::extensions(&packet)?;
    Ok((Pipeline::new(reader, writer, asked.elapsed()), extensions))
}
