//! The console: packets over TCP, after a secret.

use std::{
    collections::BTreeMap,
    io::{self, Read, Write},
    net::{TcpListener, TcpStream},
    path::PathBuf,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    thread,
    time::Duration,
};

use super::{Closed, Log, contents, files};

/// What the console knows of the server.
pub(super) struct Console {
    pub(super) folder: PathBuf,
    pub(super) loaded: BTreeMap<String, String>,
    pub(super) secret: String,
    pub(super) stop: Arc<AtomicBool>,
    pub(super) log: Log,
}

/// Opens the console, if the configuration has it on.
pub(super) fn open(conf: &files::Conf, console: Console) -> Result<(), Closed> {
    let port: u16 = conf.get("console.port").parse().unwrap_or(0);
    if port == 0 || console.secret.is_empty() {
        return Ok(());
    }
    let listener = TcpListener::bind(("127.0.0.1", port))
        .map_err(|_| Closed(format!("console port {port} is taken")))?;
    let console = Arc::new(console);
    thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let console = Arc::clone(&console);
            thread::spawn(move || talk(stream, &console).ok());
        }
    });
    Ok(())
}

fn talk(mut stream: TcpStream, console: &Console) -> io::Result<()> {
    stream.set_read_timeout(Some(Duration::from_secs(60)))?;
    let mut is_known = false;
    while !console.stop.load(Ordering::SeqCst) {
        let (id, kind, body) = read(&mut stream)?;
        match kind {
            3 => {
                is_known = body == console.secret;
                write(&mut stream, if is_known { id } else { -1 }, "")?;
            }
            2 if is_known => write(&mut stream, id, &command(&body, console))?,
            _ => return Ok(()),
        }
    }
    Ok(())
}

fn command(line: &str, console: &Console) -> String {
    let (word, rest) = line.split_once(' ').unwrap_or((line, ""));
    match word {
        "plugins" => console
            .loaded
            .iter()
            .flat_map(|(id, version)| [id.as_str(), " ", version, "\n"])
            .collect::<String>(),
        "reload" if !console.loaded.contains_key(rest) => format!("no such plugin: {rest}\n"),
        "reload" => match contents::read_settings(&console.folder, rest, &mut console.log.again()) {
            Ok(()) => format!("{rest}: settings read\n"),
            Err(why) => format!("{rest}: {why}\n"),
        },
        "close" => {
            console.stop.store(true, Ordering::SeqCst);
            "closing\n".to_owned()
        }
        other => format!("unknown command: {other}\n"),
    }
}

fn read(from: &mut TcpStream) -> io::Result<(i32, i32, String)> {
    let mut number = || {
        let mut bytes = [0; 4];
        from.read_exact(&mut bytes).map(|()| i32::from_le_bytes(bytes))
    };
    let (length, id, kind) = (number()?, number()?, number()?);
    let rest = usize::try_from(length - 8).ok().filter(|rest| (2..4096).contains(rest));
    let mut bytes = vec![0; rest.ok_or(io::ErrorKind::InvalidData)?];
    from.read_exact(&mut bytes)?;
    bytes.truncate(bytes.len() - 2);
    Ok((id, kind, String::from_utf8_lossy(&bytes).into_owned()))
}

fn write(to: &mut TcpStream, id: i32, body: &str) -> io::Result<()> {
    let length = i32::try_from(body.len() + 10).map_err(io::Error::other)?;
    let mut bytes = Vec::new();
    for number in [length, id, 0] {
        bytes.extend_from_slice(&number.to_le_bytes());
    }
    bytes.extend_from_slice(body.as_bytes());
    bytes.extend_from_slice(&[0, 0]);
    to.write_all(&bytes)
}
