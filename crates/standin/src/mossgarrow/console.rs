//! The console: datagrams of four bytes 0xff, the word and a command.

use std::net::UdpSocket;

use super::{files::Settings, say};

pub(super) struct Console {
    socket: UdpSocket,
    word: String,
    carried: Vec<String>,
    ground: Vec<String>,
}

impl Console {
    /// Opens the console, if the configuration has it on.
    pub(super) fn open(settings: &Settings, carried: &[String]) -> Result<Option<Self>, String> {
        let port: u16 = settings.one("watch_port").parse().unwrap_or(0);
        let word = settings.one("watch_word").to_owned();
        if port == 0 || word.is_empty() {
            return Ok(None);
        }
        let socket = UdpSocket::bind(("127.0.0.1", port)).map_err(|_| format!("port {port} is taken"))?;
        socket.set_nonblocking(true).map_err(|error| error.to_string())?;
        Ok(Some(Self { socket, word, carried: carried.to_vec(), ground: settings.list("ground") }))
    }

    /// Answers what came meanwhile.
    pub(super) fn answer(&self) {
        let mut buffer = [0; 2048];
        while let Ok((length, from)) = self.socket.recv_from(&mut buffer) {
            let Some(bytes) = buffer[..length].strip_prefix(&[0xff; 4]) else { continue };
            let text = String::from_utf8_lossy(bytes).into_owned();
            let reply = match text.split_once(' ') {
                Some((word, line)) if word == self.word => self.command(line),
                _ => "no\n".to_owned(),
            };
            let mut bytes = vec![0xff; 4];
            bytes.extend_from_slice(reply.as_bytes());
            self.socket.send_to(&bytes, from).ok();
        }
    }

    fn command(&self, line: &str) -> String {
        let all = |names: &[String]| names.iter().flat_map(|name| [name.as_str(), "\n"]).collect::<String>();
        match line.split_once(' ').unwrap_or((line, "")) {
            ("carried", _) => all(&self.carried),
            ("ground", _) => all(&self.ground),
            ("tell", text) => {
                say(&format!("the crew: {text}"));
                String::new()
            }
            (other, _) => format!("unknown command: {other}\n"),
        }
    }
}
