//! The console: lines of text over TCP; each answer ends in a line with a single dot.

use std::{
    io::{self, BufRead, BufReader, Write},
    net::{TcpListener, TcpStream},
    sync::{Arc, atomic::Ordering},
    thread,
    time::Duration,
};

use super::{Server, held, maps, say};

pub(super) fn serve(listener: &TcpListener, server: &Arc<Server>) {
    while !server.stop.load(Ordering::SeqCst) {
        match listener.accept() {
            Ok((stream, _)) => {
                let server = Arc::clone(server);
                thread::spawn(move || talk(&stream, &server).ok());
            }
            Err(_) => thread::sleep(Duration::from_millis(10)),
        }
    }
}

fn talk(stream: &TcpStream, server: &Server) -> io::Result<()> {
    stream.set_nonblocking(false)?;
    stream.set_read_timeout(Some(Duration::from_secs(10)))?;
    let mut lines = BufReader::new(stream).lines();
    let mut out = stream;
    out.write_all(b"pass?\n")?;
    let pass = lines.next().transpose()?.unwrap_or_default();
    if pass.trim() != held(&server.config).get("console_pass") {
        return out.write_all(b"no\n");
    }
    out.write_all(b"welcome\n")?;
    for line in lines {
        let answer = command(line?.trim(), server);
        out.write_all(format!("{answer}.\n").as_bytes())?;
        if server.stop.load(Ordering::SeqCst) {
            break;
        }
    }
    Ok(())
}

fn command(line: &str, server: &Server) -> String {
    let (word, rest) = line.split_once(' ').map_or((line, ""), |(word, rest)| (word, rest.trim()));
    match word {
        "maps" => {
            let entries = std::fs::read_dir(server.folder.join("maps")).into_iter().flatten().flatten();
            let names = entries.filter_map(|entry| {
                Some(entry.file_name().to_string_lossy().strip_suffix(".kmap")?.to_owned() + "\n")
            });
            let mut names: Vec<String> = names.collect();
            names.sort();
            names.concat()
        }
        "map" => match maps::load(&server.folder, rest) {
            Ok(map) => {
                say("host", &format!("now on {rest}"));
                *held(&server.map) = map;
                format!("now on {rest}\n")
            }
            Err(why) => format!("{rest}.kmap: {why}\n"),
        },
        "show" => format!("{rest} = \"{}\"\n", held(&server.config).get(rest)),
        "set" => {
            let (name, value) = rest.split_once(' ').unwrap_or((rest, ""));
            held(&server.config).set(name, value.trim().trim_matches('"'));
            String::new()
        }
        "exec" => match std::fs::read_to_string(server.folder.join(rest)) {
            Ok(text) => {
                held(&server.config).execute(&text);
                String::new()
            }
            Err(_) => format!("no such file: {rest}\n"),
        },
        "land" => {
            server.stop.store(true, Ordering::SeqCst);
            String::new()
        }
        other => format!("unknown command: {other}\n"),
    }
}
