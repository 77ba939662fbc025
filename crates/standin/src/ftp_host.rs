//! An FTP server with faults to choose from: few connections, no MLSD, dates in minutes, renames that do not replace.

use std::{
    fs,
    io::{self, BufRead, BufReader, Read, Seek, SeekFrom, Write},
    net::{TcpListener, TcpStream},
    os::unix::{ffi::OsStrExt, fs::PermissionsExt},
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    thread,
    time::UNIX_EPOCH,
};

/// How it behaves.
#[derive(Debug, Clone)]
#[expect(clippy::struct_excessive_bools, reason = "each is a fault of its own")]
pub struct Manners {
    /// The user and the password that it lets in.
    pub login: (String, String),
    /// So many connections it lets somebody have.
    pub connections: usize,
    /// Whether it has MLSD.
    pub has_mlsd: bool,
    /// Whether it shows hidden files only where `-a` is asked for; else it takes that for a name.
    pub hides: bool,
    /// Whether it lists in the form that shows no modes and no links.
    pub is_plain: bool,
    /// Whether a rename replaces.
    pub replaces: bool,
    /// Whether it takes names that differ in case only for one, as some disks do.
    pub ignores_case: bool,
    /// Whether it ends every third data connection in the middle.
    pub tears: bool,
}

impl Default for Manners {
    fn default() -> Self {
        Self {
            login: ("wren".into(), "herring".into()),
            connections: 8,
            has_mlsd: true,
            hides: false,
            is_plain: false,
            replaces: true,
            ignores_case: false,
            tears: false,
        }
    }
}

/// The server, on a port of the loopback. It goes on until the program ends.
#[derive(Debug)]
pub struct FtpHost {
    port: u16,
    most: Arc<AtomicUsize>,
}

impl FtpHost {
    /// Starts one that shows a folder.
    ///
    /// # Errors
    /// Where no port is free.
    pub fn start(root: &Path, manners: &Manners) -> io::Result<Self> {
        let listener = TcpListener::bind(("127.0.0.1", 0))?;
        let port = listener.local_addr()?.port();
        let (open, most, data) = <(Arc<AtomicUsize>, Arc<AtomicUsize>, Arc<AtomicUsize>)>::default();
        let (root, manners, seen) = (root.to_owned(), manners.clone(), Arc::clone(&most));
        thread::spawn(move || {
            for mut stream in listener.incoming().flatten() {
                let count = open.fetch_add(1, Ordering::SeqCst) + 1;
                if count > manners.connections {
                    open.fetch_sub(1, Ordering::SeqCst);
                    stream.write_all(b"421 Too many connections from this address.\r\n").ok();
                    continue;
                }
                seen.fetch_max(count, Ordering::SeqCst);
                let (root, manners, open, data) =
                    (root.clone(), manners.clone(), Arc::clone(&open), Arc::clone(&data));
                thread::spawn(move || {
                    let session = Session::new(stream, root, manners, data);
                    session.and_then(Session::serve).ok();
                    open.fetch_sub(1, Ordering::SeqCst);
                });
            }
        });
        Ok(Self { port, most })
    }

    /// Returns its port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Returns how many connections there were at once.
    pub fn most_connections(&self) -> usize {
        self.most.load(Ordering::SeqCst)
    }
}

struct Session {
    stream: TcpStream,
    root: PathBuf,
    manners: Manners,
    data: Arc<AtomicUsize>,
    folder: String,
    user: String,
    is_in: bool,
    passive: Option<TcpListener>,
    start: u64,
    from: Option<PathBuf>,
}

/// Days since 1970 to year, month and day.
fn date(days: u64) -> (u64, u64, u64) {
    let (mut year, mut days) = (1970, days);
    let is_leap =
        |year: u64| year.is_multiple_of(4) && (!year.is_multiple_of(100) || year.is_multiple_of(400));
    while days >= if is_leap(year) { 366 } else { 365 } {
        days -= if is_leap(year) { 366 } else { 365 };
        year += 1;
    }
    let february = if is_leap(year) { 29 } else { 28 };
    let mut month = 1;
    for length in [31, february, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31] {
        if days < length {
            break;
        }
        days -= length;
        month += 1;
    }
    (year, month, days + 1)
}

const MONTHS: [&str; 12] =
    ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

impl Session {
    fn new(stream: TcpStream, root: PathBuf, manners: Manners, data: Arc<AtomicUsize>) -> io::Result<Self> {
        stream.set_nodelay(true)?;
        let (folder, user, is_in, passive, start, from) = ("/".into(), String::new(), false, None, 0, None);
        Ok(Self { stream, root, manners, data, folder, user, is_in, passive, start, from })
    }

    fn say(&mut self, text: &str) -> io::Result<()> {
        self.stream.write_all(format!("{text}\r\n").as_bytes())
    }

    /// Returns the path on this machine, and the one that the session knows.
    fn at(&self, path: &str) -> (PathBuf, String) {
        let whole = if path.starts_with('/') { path.to_owned() } else { format!("{}/{path}", self.folder) };
        let names: Vec<&str> = whole.split('/').filter(|name| !name.is_empty() && *name != ".").collect();
        let real = names.iter().fold(self.root.clone(), |at, name| self.within(&at, name));
        (real, format!("/{}", names.join("/")))
    }

    /// Returns the path of a name in a folder.
    fn within(&self, folder: &Path, name: &str) -> PathBuf {
        let at = folder.join(name);
        if !self.manners.ignores_case || at.exists() {
            return at;
        }
        let names = fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.file_name());
        let is_same = |other: &std::ffi::OsString| other.to_string_lossy().eq_ignore_ascii_case(name);
        names.into_iter().find(is_same).map_or(at, |other| folder.join(other))
    }

    fn serve(mut self) -> io::Result<()> {
        self.say("220 Larkspur file service")?;
        let mut reader = BufReader::new(self.stream.try_clone()?);
        let mut line = String::new();
        while reader.read_line(&mut line)? > 0 {
            let asked = line.trim_end_matches(['\r', '\n']).to_owned();
            line.clear();
            let (verb, rest) = asked.split_once(' ').unwrap_or((&asked, ""));
            let verb = verb.to_uppercase();
            if verb == "QUIT" {
                return self.say("221 Goodbye.");
            }
            if !self.is_in && !matches!(verb.as_str(), "USER" | "PASS" | "FEAT" | "AUTH") {
                self.say("530 Please log in.")?;
                continue;
            }
            self.answer(&verb, rest)?;
        }
        Ok(())
    }

    fn answer(&mut self, verb: &str, rest: &str) -> io::Result<()> {
        let (path, known) = self.at(rest);
        let done = |done: io::Result<()>, text: &str| match done {
            Ok(()) => text.to_owned(),
            Err(_) => "550 Requested action not taken.".to_owned(),
        };
        let reply = match verb {
            "USER" => {
                rest.clone_into(&mut self.user);
                "331 Password, please.".into()
            }
            "PASS" => {
                self.is_in = (self.user.as_str(), rest) == (&self.manners.login.0, &self.manners.login.1);
                if self.is_in { "230 Welcome." } else { "530 Login incorrect." }.into()
            }
            "FEAT" if self.manners.has_mlsd => {
                "211-Features:\r\n MLST type*;size*;modify*;\r\n UTF8\r\n211 End".into()
            }
            "FEAT" => "211-Features:\r\n PASV\r\n211 End".into(),
            "TYPE" | "OPTS" | "NOOP" => "200 OK.".into(),
            "PWD" => format!("257 \"{}\"", self.folder),
            "CWD" if path.is_dir() => {
                self.folder = known;
                "250 OK.".into()
            }
            "PASV" => {
                let listener = TcpListener::bind(("127.0.0.1", 0))?;
                let port = listener.local_addr()?.port();
                self.passive = Some(listener);
                // An address that only this server can reach.
                format!("227 Entering Passive Mode (10,1,2,3,{},{})", port / 256, port % 256)
            }
            "REST" => {
                self.start = rest.parse().unwrap_or(0);
                "350 OK.".into()
            }
            "LIST" | "MLSD" | "RETR" | "STOR" => return self.transfer(verb, rest),
            "RNFR" if path.exists() => {
                self.from = Some(path);
                "350 To what?".into()
            }
            "RNTO" if path.exists() && !self.manners.replaces => "553 File exists.".into(),
            "RNTO" => {
                let from = self.from.take().unwrap_or_default();
                done(fs::rename(from, path), "250 Renamed.")
            }
            "MKD" => done(fs::create_dir(path), &format!("257 \"{known}\" made.")),
            "RMD" => done(fs::remove_dir(path), "250 Removed."),
            "DELE" => done(fs::remove_file(path), "250 Removed."),
            "SIZE" | "CWD" | "RNFR" => "550 No such file or directory.".into(),
            _ => "502 Not implemented.".into(),
        };
        self.say(&reply)
    }

    fn listing(&self, verb: &str, rest: &str) -> Option<Vec<u8>> {
        let wants_all = rest == "-a" && self.manners.hides;
        let folder = self.at(if wants_all { "" } else { rest }).0;
        let mut text = Vec::new();
        for entry in fs::read_dir(folder).ok()?.flatten() {
            let name = entry.file_name();
            let name = name.as_bytes();
            if name.starts_with(b".") && self.manners.hides && !wants_all {
                continue;
            }
            // What has gone meanwhile is not there.
            let Ok(metadata) = fs::symlink_metadata(entry.path()) else { continue };
            let seconds = metadata.modified().ok()?.duration_since(UNIX_EPOCH).ok()?.as_secs();
            let ((year, month, day), clock) = (date(seconds / 86_400), seconds % 86_400);
            let (hour, minute) = (clock / 3_600, clock / 60 % 60);
            if verb == "MLSD" {
                let kind = if metadata.is_dir() { "dir" } else { "file" };
                write!(
                    text,
                    "type={kind};size={};modify={year:04}{month:02}{day:02}{hour:02}{minute:02}{:02}; ",
                    metadata.len(),
                    clock % 60
                )
                .ok()?;
            } else if self.manners.is_plain {
                let size = if metadata.is_dir() {
                    "<DIR>         ".into()
                } else {
                    format!("{:>14}", metadata.len())
                };
                let (half, hour) = (if hour < 12 { "AM" } else { "PM" }, (hour + 11) % 12 + 1);
                write!(text, "{month:02}-{day:02}-{:02}  {hour:02}:{minute:02}{half} {size} ", year % 100)
                    .ok()?;
            } else {
                let kind = if metadata.is_dir() {
                    'd'
                } else if metadata.is_symlink() {
                    'l'
                } else {
                    '-'
                };
                let mode = metadata.permissions().mode();
                let letters: String = (0..9)
                    .map(|bit| if mode >> (8 - bit) & 1 == 1 { ['r', 'w', 'x'][bit % 3] } else { '-' })
                    .collect();
                let month = MONTHS[usize::try_from(month - 1).unwrap_or(0)];
                write!(
                    text,
                    "{kind}{letters} 1 wren crew {:>9} {month} {day:02} {hour:02}:{minute:02} ",
                    metadata.len()
                )
                .ok()?;
            }
            text.extend_from_slice(name);
            if verb != "MLSD"
                && !self.manners.is_plain
                && let Ok(target) = fs::read_link(entry.path())
            {
                write!(text, " -> {}", target.display()).ok()?;
            }
            text.extend_from_slice(b"\r\n");
        }
        Some(text)
    }

    fn transfer(&mut self, verb: &str, rest: &str) -> io::Result<()> {
        let Some(listener) = self.passive.take() else { return self.say("425 No data connection.") };
        let start = std::mem::take(&mut self.start);
        let path = self.at(rest).0;
        if verb == "MLSD" && !self.manners.has_mlsd {
            return self.say("502 Not implemented.");
        }
        if verb == "RETR" && !path.is_file() || verb == "STOR" && !path.parent().is_some_and(Path::is_dir) {
            return self.say("550 No such file or directory.");
        }
        self.say("150 Here it comes.")?;
        let (mut data, _) = listener.accept()?;
        let number = self.data.fetch_add(1, Ordering::SeqCst) + 1;
        let most = if self.manners.tears && number.is_multiple_of(3) { 40 } else { u64::MAX };
        let passed = match verb {
            "RETR" => {
                let mut file = fs::File::open(path)?;
                file.seek(SeekFrom::Start(start))?;
                let length = file.metadata()?.len().saturating_sub(start);
                io::copy(&mut file.take(most), &mut data).map(|passed| passed == length)
            }
            "STOR" => {
                let mut file = fs::File::create(path)?;
                let passed = io::copy(&mut (&mut data).take(most), &mut file);
                passed.map(|passed| passed < most)
            }
            _ => {
                let text = self.listing(verb, rest).unwrap_or_default();
                let most = usize::try_from(most).unwrap_or(usize::MAX).min(text.len());
                data.write_all(&text[..most]).map(|()| most == text.len())
            }
        };
        drop(data);
        match passed {
            Ok(true) => self.say("226 Done."),
            // Some say so, and some just end.
            _ if number.is_multiple_of(2) => self.say("426 Connection closed; transfer aborted."),
            _ => Err(io::ErrorKind::ConnectionAborted.into()),
        }
    }
}
