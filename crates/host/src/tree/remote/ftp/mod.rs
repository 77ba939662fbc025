//! A file server behind FTP, plain or encrypted: several connections, since each can do one thing at a time.
//!
//! Servers differ: in what they list, in what they can replace, in how many connections they let somebody have. What one can do is found
//! out when it is met first; what is in doubt after an error is looked at.

mod capabilities;
mod errors;
mod listing;

use std::{
    collections::{BTreeMap, BTreeSet},
    fmt,
    io::{self, Read, Write},
    net::{TcpStream, ToSocketAddrs},
    ops::Range,
    sync::{
        Condvar, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, AtomicUsize, Ordering},
    },
    thread,
    time::Duration,
};

use suppaftp::{FtpError, Mode, RustlsConnector, RustlsFtpStream, Status, types::FileType};
use tracing::debug;

use capabilities::FtpCapabilities;
pub use errors::{ConnectFtpError, FtpOptions};
use errors::{as_io, said};
use listing::{is_posix, of_list, of_mlsd, stamp};

use super::{
    address::Protocol,
    certificate::Trust,
    file_server::{Features, FileServer, RemoteEntry, RemoteFile, RemoteKind, RemoteMetadata, is_torn},
};

/// So many connections are asked for at most.
const CONNECTIONS: usize = 4;
/// A server that is silent for so long is given up.
const PATIENCE: Duration = Duration::from_secs(60);
/// So many bytes of a file are rather read than left unread.
const REST: u64 = 128 << 10;
/// So often, and with such pauses, a connection is asked for while there is no room for it.
const ROOM_TRIES: usize = 10;
const ROOM_PAUSE: Duration = Duration::from_millis(300);
/// Dates may be in minutes, and of any time zone.
const TICK: u64 = 26 * 3600;

type Ftp = RustlsFtpStream;

/// A file server behind FTP.
pub struct FtpServer {
    options: FtpOptions,
    password: String,
    trust: Option<Trust>,
    /// Whether the server speaks the newer version of TLS only.
    is_newer: AtomicBool,
    idle: Mutex<Idle>,
    returned: Condvar,
    /// So many connections this server lets somebody have.
    most: AtomicUsize,
    has_mlsd: AtomicBool,
    lists_hidden: AtomicBool,
    sets_times: AtomicBool,
}

#[derive(Default)]
struct Idle {
    connections: Vec<Ftp>,
    in_use: usize,
}

impl fmt::Debug for FtpServer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("FtpServer").field(&self.options.host).finish()
    }
}

impl Drop for FtpServer {
    fn drop(&mut self) {
        for mut ftp in std::mem::take(&mut self.idle().connections) {
            ftp.quit().ok();
        }
    }
}

fn parent(path: &str) -> &str {
    match path.rsplit_once('/') {
        Some(("", _)) | None => "/",
        Some((folder, _)) => folder,
    }
}

fn name(path: &str) -> &str {
    path.rsplit_once('/').map_or(path, |(_, name)| name)
}

/// A line break in a name would be a command of its own.
fn checked(path: &str) -> io::Result<&str> {
    if path.contains(['\r', '\n', '\0']) { Err(io::ErrorKind::InvalidInput.into()) } else { Ok(path) }
}

impl FtpServer {
    /// Connects, and finds out what the server can do.
    ///
    /// # Errors
    /// Where the host cannot be reached, does not let the user in, or its certificate is not trusted.
    pub fn connect(options: FtpOptions, password: String) -> Result<Self, ConnectFtpError> {
        let trust = match options.protocol {
            Protocol::Ftp | Protocol::Sftp => None,
            Protocol::Ftps | Protocol::FtpsImplicit => Some(Trust::new(&options.pins)),
        };
        let server = Self {
            options,
            password,
            trust,
            is_newer: AtomicBool::new(false),
            idle: Mutex::default(),
            returned: Condvar::new(),
            most: AtomicUsize::new(CONNECTIONS),
            has_mlsd: AtomicBool::new(false),
            lists_hidden: AtomicBool::new(true),
            sets_times: AtomicBool::new(false),
        };
        let opened = match server.open_when_there_is_room() {
            Err(ConnectFtpError::Unreachable { .. }) if server.trust.is_some() => {
                server.is_newer.store(true, Ordering::Relaxed);
                server.open()
            }
            opened => opened,
        };
        let mut ftp = opened?;
        server.learn(&mut ftp);
        server.idle().connections.push(ftp);
        Ok(server)
    }

    /// Finds out what the server can do, unless that is known from earlier.
    fn learn(&self, ftp: &mut Ftp) {
        let greeting = ftp.get_welcome_msg().unwrap_or_default().to_owned();
        let file = self.options.capabilities.as_deref();
        if let Some(known) = file.and_then(|file| FtpCapabilities::read(file, &greeting)) {
            self.has_mlsd.store(known.has_mlsd, Ordering::Relaxed);
            self.lists_hidden.store(known.lists_hidden, Ordering::Relaxed);
            self.sets_times.store(known.sets_times, Ordering::Relaxed);
            if known.switches_to_utf8 {
                ftp.opts("UTF8", Some("ON")).ok();
            }
            return;
        }
        let has = |features: &suppaftp::types::Features, name: &str| {
            features.keys().any(|own| own.eq_ignore_ascii_case(name))
        };
        let features = ftp.feat().unwrap_or_default();
        // MLST announces both.
        let mut has_mlsd = has(&features, "MLST") || has(&features, "MLSD");
        let (sets_times, switches_to_utf8) = (has(&features, "MFMT"), has(&features, "UTF8"));
        if switches_to_utf8 {
            ftp.opts("UTF8", Some("ON")).ok();
        }
        // MLSD mostly shows what links lead to, and nothing would tell that they lead out of the server's folder.
        let hidden = ftp.list(Some("-a")).ok().filter(|lines| !lines.is_empty());
        let lists_hidden = hidden.is_some();
        let lines = hidden.or_else(|| ftp.list(None).ok()).unwrap_or_default();
        has_mlsd &= !lines.iter().any(|line| is_posix(line));
        self.has_mlsd.store(has_mlsd, Ordering::Relaxed);
        self.sets_times.store(sets_times, Ordering::Relaxed);
        // An empty folder shows nothing of how it lists.
        if let (Some(file), false) = (file, lines.is_empty()) {
            FtpCapabilities { greeting, has_mlsd, lists_hidden, sets_times, switches_to_utf8 }.write(file);
        }
    }

    /// Returns the absolute path of a path; of an empty one, of the folder in which the user starts.
    ///
    /// # Errors
    /// Where the connection ends, or there is no such folder.
    pub fn real_path(&self, path: &str) -> io::Result<String> {
        self.with(|ftp| {
            let start = ftp.pwd()?;
            if path.is_empty() {
                return Ok(start);
            }
            ftp.cwd(path)?;
            let real = ftp.pwd();
            ftp.cwd(start)?;
            real
        })
    }

    /// Opens the first connection. One of an earlier command may just be ending.
    fn open_when_there_is_room(&self) -> Result<Ftp, ConnectFtpError> {
        for _ in 0..ROOM_TRIES {
            match self.open() {
                Err(ConnectFtpError::Full { .. }) => thread::sleep(ROOM_PAUSE),
                opened => return opened,
            }
        }
        self.open()
    }

    fn idle(&self) -> MutexGuard<'_, Idle> {
        self.idle.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Connects to the host at the first of its addresses that answers.
    fn reach(&self) -> Result<TcpStream, ConnectFtpError> {
        let host = self.options.host.clone();
        let unreachable = |why: String| ConnectFtpError::Unreachable { host: host.clone(), why };
        let addresses = (host.as_str(), self.options.port).to_socket_addrs();
        let addresses = addresses.map_err(|error| unreachable(error.to_string()))?;
        let mut last = io::Error::from(io::ErrorKind::NotFound);
        let mut stream = None;
        for address in addresses {
            match TcpStream::connect_timeout(&address, Duration::from_secs(20)) {
                Ok(connected) => {
                    stream = Some(connected);
                    break;
                }
                Err(error) => last = error,
            }
        }
        stream.ok_or_else(|| unreachable(last.to_string()))
    }

    /// Opens a connection.
    fn open(&self) -> Result<Ftp, ConnectFtpError> {
        let host = self.options.host.clone();
        let unreachable = |why: String| ConnectFtpError::Unreachable { host: host.clone(), why };
        let stream = self.reach()?;
        let is_v6 = stream.peer_addr().is_ok_and(|address| address.is_ipv6());
        stream.set_read_timeout(Some(PATIENCE)).and_then(|()| stream.set_write_timeout(Some(PATIENCE))).ok();
        stream.set_nodelay(true).ok();
        let failed = |error: FtpError| match error {
            FtpError::UnexpectedResponse(response) if response.status.code() == 421 => {
                ConnectFtpError::Full { host: host.clone(), why: said(&response) }
            }
            error => unreachable(as_io(error).to_string()),
        };
        let tls = match &self.trust {
            Some(trust) => Some(
                trust
                    .client(self.is_newer.load(Ordering::Relaxed))
                    .map_err(|error| unreachable(error.to_string()))?,
            ),
            None => None,
        };
        let mut ftp = match (tls, self.options.protocol) {
            (Some(tls), Protocol::FtpsImplicit) => {
                drop(stream);
                let connector = RustlsConnector::from(tls);
                let address = (host.as_str(), self.options.port);
                Ftp::connect_secure_implicit(address, connector, &host)
                    .map_err(|error| self.untrusted(error))?
            }
            (Some(tls), _) => {
                let plain = Ftp::connect_with_stream(stream).map_err(failed)?;
                let connector = RustlsConnector::from(tls);
                plain.into_secure(connector, &host).map_err(|error| match error {
                    FtpError::UnexpectedResponse(response) => {
                        ConnectFtpError::NoEncryption { host: host.clone(), why: said(&response) }
                    }
                    error => self.untrusted(error),
                })?
            }
            (None, _) => Ftp::connect_with_stream(stream).map_err(failed)?,
        };
        let builder = |address| {
            let stream = TcpStream::connect_timeout(&address, Duration::from_secs(20)).map_err(|error| {
                // It has offered that port a moment ago: another one is asked for.
                FtpError::ConnectionError(match error.kind() {
                    io::ErrorKind::ConnectionRefused => io::ErrorKind::ConnectionReset.into(),
                    _ => error,
                })
            })?;
            stream
                .set_read_timeout(Some(PATIENCE))
                .and_then(|()| stream.set_write_timeout(Some(PATIENCE)))
                .ok();
            stream.set_nodelay(true).ok();
            Ok(stream)
        };
        ftp = ftp.passive_stream_builder(builder);
        // Servers behind a router name an address that only they can reach.
        ftp.set_mode(if is_v6 { Mode::ExtendedPassive } else { Mode::Passive });
        ftp.set_passive_nat_workaround(true);
        ftp.login(self.options.user.as_str(), self.password.as_str()).map_err(|error| match error {
            FtpError::UnexpectedResponse(response) if response.status.code() != 421 => {
                ConnectFtpError::Denied {
                    host: host.clone(),
                    user: self.options.user.clone(),
                    why: said(&response),
                }
            }
            error => failed(error),
        })?;
        ftp.transfer_type(FileType::Binary).map_err(failed)?;
        Ok(ftp)
    }

    fn untrusted(&self, error: FtpError) -> ConnectFtpError {
        let host = self.options.host.clone();
        match (error, self.options.pins.refused()) {
            (error, Some(fingerprint)) => {
                // What the library says is written for those who write libraries.
                let why = match error.to_string() {
                    text if text.contains("Expired") => "it has expired",
                    text if text.contains("NotValidForName") => "it is another host's",
                    text if text.contains("Revoked") => "it was revoked",
                    _ => "it is not signed by an authority that this machine trusts",
                };
                let why = why.to_owned();
                ConnectFtpError::Certificate { host, why, fingerprint }
            }
            (error, None) => ConnectFtpError::Unreachable { host, why: as_io(error).to_string() },
        }
    }

    /// Takes a connection: one that is idle, a new one, or, if there are as many as there may be, the next that is given back.
    fn take(&self) -> io::Result<Ftp> {
        let mut idle = self.idle();
        loop {
            if let Some(ftp) = idle.connections.pop() {
                idle.in_use += 1;
                return Ok(ftp);
            }
            if idle.in_use < self.most.load(Ordering::Relaxed) {
                idle.in_use += 1;
                drop(idle);
                match self.open() {
                    Ok(ftp) => return Ok(ftp),
                    Err(error) => {
                        idle = self.idle();
                        idle.in_use -= 1;
                        if idle.in_use == 0 && idle.connections.is_empty() {
                            return Err(io::Error::new(io::ErrorKind::NotConnected, error));
                        }
                        // It does not let anybody have more of them.
                        debug!("{error}; {} connections will do", idle.in_use.max(1));
                        self.most.store(idle.in_use.max(1), Ordering::Relaxed);
                    }
                }
            } else {
                idle = self.returned.wait(idle).unwrap_or_else(PoisonError::into_inner);
            }
        }
    }

    fn give_back(&self, ftp: Option<Ftp>) {
        let mut idle = self.idle();
        idle.in_use -= 1;
        idle.connections.extend(ftp);
        self.returned.notify_one();
    }

    /// Does something over a connection. One that was torn is not used again.
    fn with<T>(&self, act: impl FnOnce(&mut Ftp) -> Result<T, FtpError>) -> io::Result<T> {
        let mut ftp = self.take()?;
        let done = act(&mut ftp).map_err(as_io);
        let is_whole = !done.as_ref().err().is_some_and(is_torn);
        self.give_back(is_whole.then_some(ftp));
        done
    }

    /// Does something with each of many things, over several connections.
    fn each<I: Sync, T: Send>(
        &self,
        items: &[I],
        act: impl Fn(&I) -> io::Result<T> + Sync,
    ) -> Vec<io::Result<T>> {
        let threads = items.len().min(self.most.load(Ordering::Relaxed)).max(1);
        if threads == 1 {
            return items.iter().map(act).collect();
        }
        let next = AtomicUsize::new(0);
        let work = || {
            let mut done = Vec::new();
            loop {
                let index = next.fetch_add(1, Ordering::Relaxed);
                let Some(item) = items.get(index) else { return done };
                done.push((index, act(item)));
            }
        };
        let mut all: Vec<(usize, io::Result<T>)> = thread::scope(|scope| {
            let workers: Vec<_> = (0..threads).map(|_| scope.spawn(work)).collect();
            let joined = workers.into_iter().map(std::thread::ScopedJoinHandle::join);
            joined.flat_map(|done| done.unwrap_or_else(|panic| std::panic::resume_unwind(panic))).collect()
        });
        all.sort_by_key(|(index, _)| *index);
        all.into_iter().map(|(_, done)| done).collect()
    }

    fn list_one(&self, folder: &str) -> io::Result<Vec<RemoteEntry>> {
        checked(folder)?;
        let has_mlsd = self.has_mlsd.load(Ordering::Relaxed);
        let lists_hidden = self.lists_hidden.load(Ordering::Relaxed);
        let listed = self.with(|ftp| {
            // Some list nothing where there is nothing, and some take spaces for the end of a name: one goes there first.
            ftp.cwd(folder)?;
            if has_mlsd && let Ok(lines) = ftp.mlsd(None) {
                return Ok((true, lines));
            }
            let lines = if lists_hidden { ftp.list(Some("-a")) } else { ftp.list(None) };
            match lines {
                Ok(lines) if !lines.is_empty() || !lists_hidden => Ok((false, lines)),
                // It has taken that for a name.
                _ => {
                    let lines = ftp.list(None)?;
                    if !lines.is_empty() {
                        self.lists_hidden.store(false, Ordering::Relaxed);
                    }
                    Ok((false, lines))
                }
            }
        });
        let (is_mlsd, lines) = listed.map_err(|error| match error.kind() {
            // Where one cannot go, no folder is, as far as anybody can tell.
            io::ErrorKind::Other => io::ErrorKind::NotFound.into(),
            _ => error,
        })?;
        Ok(lines.iter().filter_map(|line| if is_mlsd { of_mlsd(line) } else { of_list(line) }).collect())
    }

    /// Returns what a path is, by its folder's listing.
    fn look(&self, path: &str) -> io::Result<RemoteMetadata> {
        if path == "/" {
            let kind = RemoteKind::Folder;
            return Ok(RemoteMetadata { kind, size: 0, modified: None, mode: None, target: None });
        }
        let listed = self.list_one(parent(path))?;
        let entry = listed.into_iter().find(|entry| entry.name.as_deref() == Ok(name(path)));
        entry.map(|entry| entry.metadata).ok_or_else(|| io::ErrorKind::NotFound.into())
    }

    /// Says what a refusal was about.
    fn why(&self, error: io::Error, path: &str, is_there: io::ErrorKind) -> io::Error {
        if !matches!(error.kind(), io::ErrorKind::Other | io::ErrorKind::PermissionDenied) {
            return error;
        }
        match (self.look(path), error.kind()) {
            (Ok(_), io::ErrorKind::Other) => io::Error::new(is_there, error),
            // It is asked again over another connection.
            (Err(looked), _) if is_torn(&looked) => looked,
            (Err(looked), _)
                if looked.kind() == io::ErrorKind::NotFound && is_there != io::ErrorKind::AlreadyExists =>
            {
                looked
            }
            _ => error,
        }
    }

    /// Reads parts of one file that follow one another.
    fn read_parts(&self, path: &str, ranges: &[Range<u64>]) -> io::Result<Vec<Vec<u8>>> {
        checked(path)?;
        let (Some(first), Some(last)) = (ranges.first(), ranges.last()) else { return Ok(Vec::new()) };
        let (start, end) = (first.start, last.end);
        let bytes = self.with(|ftp| {
            if start > 0 {
                ftp.resume_transfer(usize::try_from(start).unwrap_or(usize::MAX))?;
            }
            let mut stream = ftp.retr_as_stream(path)?;
            let mut bytes = Vec::with_capacity(usize::try_from(end - start).unwrap_or(0));
            let read = (&mut stream).take(end - start).read_to_end(&mut bytes);
            read.map_err(FtpError::ConnectionError)?;
            // A little more is read to the end; of what is longer the rest is not waited for, which the server may call a failure.
            let rest = io::copy(&mut (&mut stream).take(REST), &mut io::sink())
                .map_err(FtpError::ConnectionError)?;
            match stream.finish() {
                Err(FtpError::UnexpectedResponse(_)) if rest == REST => {}
                finished => finished?,
            }
            Ok(bytes)
        });
        let bytes = bytes.map_err(|error| self.why(error, path, io::ErrorKind::PermissionDenied))?;
        let at = |at: u64| usize::try_from(at - start).unwrap_or(usize::MAX).min(bytes.len());
        Ok(ranges.iter().map(|range| bytes[at(range.start)..at(range.end)].to_vec()).collect())
    }

    fn write_one(&self, file: &RemoteFile<'_>) -> io::Result<()> {
        let path = checked(&file.path)?;
        let mut reader = (file.open)()?;
        self.with(|ftp| {
            let mut stream = ftp.put_with_stream(path)?;
            io::copy(&mut reader, &mut stream)
                .and_then(|_| stream.flush())
                .map_err(FtpError::ConnectionError)?;
            stream.finish()?;
            if let Some(modified) = file.modified.filter(|_| self.sets_times.load(Ordering::Relaxed)) {
                let set = ftp.custom_command(format!("MFMT {} {path}", stamp(modified)), &[Status::File]);
                if matches!(set, Err(FtpError::UnexpectedResponse(_))) {
                    self.sets_times.store(false, Ordering::Relaxed);
                }
            }
            Ok(())
        })
    }
}

impl FileServer for FtpServer {
    fn features(&self) -> Features {
        // Whether a rename replaces, nothing tells but a try.
        Features { replaces: false, hard_links: false, ordered: false, tick: TICK }
    }

    fn reconnect(&self) -> io::Result<()> {
        self.idle().connections.clear();
        let ftp = self.open().map_err(io::Error::other)?;
        self.idle().connections.push(ftp);
        Ok(())
    }

    fn list(&self, folders: &[String]) -> Vec<io::Result<Vec<RemoteEntry>>> {
        debug!("list {folders:?}");
        self.each(folders, |folder| self.list_one(folder))
    }

    fn metadata(&self, paths: &[String]) -> Vec<io::Result<RemoteMetadata>> {
        // Each folder is listed once.
        let folders: BTreeSet<String> = paths.iter().map(|path| parent(path).to_owned()).collect();
        let folders = Vec::from_iter(folders);
        let listed = folders.iter().zip(self.list(&folders));
        let listed: BTreeMap<&String, io::Result<Vec<RemoteEntry>>> = listed.collect();
        let look = |path: &String| {
            if path == "/" {
                return self.look(path);
            }
            let gone = || io::Error::from(io::ErrorKind::NotFound);
            let entries = match listed.get(&parent(path).to_owned()).ok_or_else(gone)? {
                Ok(entries) => entries,
                Err(error) => return Err(io::Error::new(error.kind(), error.to_string())),
            };
            let entry = entries.iter().find(|entry| entry.name.as_deref() == Ok(name(path)));
            entry.map(|entry| entry.metadata.clone()).ok_or_else(gone)
        };
        paths.iter().map(look).collect()
    }

    fn read_link(&self, path: &str) -> io::Result<String> {
        self.look(path)?.target.ok_or_else(|| io::ErrorKind::NotFound.into())
    }

    fn read(&self, parts: &[(String, Range<u64>)]) -> Vec<io::Result<Vec<u8>>> {
        debug!("read {parts:?}");
        // Parts that follow one another come over one connection.
        let mut runs: Vec<Range<usize>> = Vec::new();
        for (index, (path, range)) in parts.iter().enumerate() {
            match runs.last_mut() {
                Some(run) if parts[run.end - 1].0 == *path && parts[run.end - 1].1.end == range.start => {
                    run.end = index + 1;
                }
                _ => runs.push(index..index + 1),
            }
        }
        let read = self.each(&runs, |run| {
            let ranges: Vec<Range<u64>> = parts[run.clone()].iter().map(|(_, range)| range.clone()).collect();
            self.read_parts(&parts[run.start].0, &ranges)
        });
        let mut all = Vec::with_capacity(parts.len());
        for (run, read) in runs.into_iter().zip(read) {
            match read {
                Ok(read) => all.extend(read.into_iter().map(Ok)),
                Err(error) => {
                    all.extend(run.map(|_| Err(io::Error::new(error.kind(), error.to_string()))));
                }
            }
        }
        all
    }

    fn write(&self, files: &[RemoteFile<'_>]) -> Vec<io::Result<Option<RemoteMetadata>>> {
        debug!("write {files:?}");
        self.each(files, |file| self.write_one(file).map(|()| None))
    }

    fn rename(&self, moves: &[(String, String)]) -> Vec<io::Result<()>> {
        debug!("rename {moves:?}");
        self.each(moves, |(from, to)| {
            let (from, to) = (checked(from)?, checked(to)?);
            let renamed = self.with(|ftp| ftp.rename(from, to));
            renamed.map_err(|error| self.why(error, from, io::ErrorKind::Other))
        })
    }

    fn link(&self, links: &[(String, String)]) -> Vec<io::Result<()>> {
        links.iter().map(|_| Err(io::ErrorKind::Unsupported.into())).collect()
    }

    fn create_folders(&self, folders: &[(String, Option<u32>)]) -> Vec<io::Result<()>> {
        debug!("make {folders:?}");
        self.each(folders, |(path, _)| {
            let path = checked(path)?;
            let made = self.with(|ftp| ftp.mkdir(path));
            made.map_err(|error| self.why(error, path, io::ErrorKind::AlreadyExists))
        })
    }

    fn remove_files(&self, paths: &[String]) -> Vec<io::Result<()>> {
        debug!("remove {paths:?}");
        self.each(paths, |path| {
            let path = checked(path)?;
            let removed = self.with(|ftp| ftp.rm(path));
            removed.map_err(|error| self.why(error, path, io::ErrorKind::PermissionDenied))
        })
    }

    fn remove_folders(&self, paths: &[String]) -> Vec<io::Result<()>> {
        debug!("remove folders {paths:?}");
        self.each(paths, |path| {
            let path = checked(path)?;
            let removed = self.with(|ftp| ftp.rmdir(path));
            removed.map_err(|error| match self.why(error, path, io::ErrorKind::Other) {
                error if error.kind() == io::ErrorKind::Other => match self.list_one(path) {
                    Ok(names)
                        if names.iter().any(|entry| !matches!(entry.name.as_deref(), Ok("." | ".."))) =>
                    {
                        io::ErrorKind::DirectoryNotEmpty.into()
                    }
                    _ => error,
                },
                error => error,
            })
        })
    }
}
