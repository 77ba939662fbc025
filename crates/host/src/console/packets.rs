//! Packets over TCP: a length, an id and a type in little-endian, a text and two zeros. Type 3 gives the secret, type 2 a command; a
//! reply with the id -1 refuses the secret.

use std::{
    io::{self, Read, Write},
    net::{Shutdown, TcpStream},
    sync::mpsc::{Receiver, RecvTimeoutError, sync_channel},
    thread,
    time::{Duration, Instant},
};

use super::{ANSWERING, Channel, ConsoleAddress, ConsoleError, connect, shown};

const LOGIN: i32 = 3;
const COMMAND: i32 = 2;
/// A packet without text.
const LEAST: i32 = 10;
/// No reply is longer; what claims to be is none of this protocol.
const LONGEST: i32 = 1 << 20;

struct Packet {
    id: i32,
    text: String,
}

pub(super) struct PacketChannel {
    stream: TcpStream,
    /// Whether the server is stopped over it.
    is_last: bool,
    packets: Receiver<Packet>,
    id: i32,
}

impl Drop for PacketChannel {
    fn drop(&mut self) {
        if !self.is_last {
            // The other half stays open: a server that still writes would be ended by a broken pipe.
            self.stream.shutdown(Shutdown::Write).ok();
        }
    }
}

pub(super) fn open(address: &ConsoleAddress, to: (&str, u16)) -> Result<PacketChannel, ConsoleError> {
    let stream = connect(to)?;
    let failed = |source| ConsoleError::Connect { address: address.to_string(), source };
    let mut from = stream.try_clone().map_err(failed)?;
    let (send, packets) = sync_channel(64);
    thread::spawn(move || {
        while let Ok(packet) = read(&mut from) {
            if send.send(packet).is_err() {
                return;
            }
        }
    });
    let mut channel = PacketChannel { stream, is_last: false, packets, id: 1 };
    let Some(secret) = &address.secret else { return Ok(channel) };
    let refused = || ConsoleError::Secret { setting: Some(secret.at.clone()) };
    channel.write(LOGIN, &secret.text)?;
    let until = Instant::now() + ANSWERING;
    loop {
        match channel.packets.recv_timeout(until.saturating_duration_since(Instant::now())) {
            Ok(Packet { id: -1, .. }) | Err(RecvTimeoutError::Disconnected) => return Err(refused()),
            Ok(packet) if packet.id == channel.id => return Ok(channel),
            Ok(_) => {}
            Err(RecvTimeoutError::Timeout) => {
                return Err(failed(io::Error::other("it does not answer the secret")));
            }
        }
    }
}

impl PacketChannel {
    fn write(&mut self, kind: i32, text: &str) -> Result<(), ConsoleError> {
        let mut packet = Vec::with_capacity(text.len() + 14);
        let length = i32::try_from(text.len()).unwrap_or(i32::MAX).saturating_add(LEAST);
        for number in [length, self.id, kind] {
            packet.extend_from_slice(&number.to_le_bytes());
        }
        packet.extend_from_slice(text.as_bytes());
        packet.extend_from_slice(&[0, 0]);
        self.stream.write_all(&packet).map_err(|_| ConsoleError::Closed)
    }
}

fn read(from: &mut impl Read) -> io::Result<Packet> {
    let mut number = || {
        let mut bytes = [0; 4];
        from.read_exact(&mut bytes).map(|()| i32::from_le_bytes(bytes))
    };
    let (length, id, _) = (number()?, number()?, number()?);
    let rest = length.checked_sub(8).filter(|rest| (2..=LONGEST).contains(rest));
    let rest = rest.ok_or_else(|| io::Error::other("not such a packet"))?;
    let mut bytes = vec![0; usize::try_from(rest).unwrap_or_default()];
    from.read_exact(&mut bytes)?;
    bytes.truncate(bytes.len() - 2);
    Ok(Packet { id, text: String::from_utf8_lossy(&bytes).into_owned() })
}

impl Channel for PacketChannel {
    fn send(&mut self, line: &str) -> Result<(), ConsoleError> {
        self.id = self.id.checked_add(1).unwrap_or(2);
        self.write(COMMAND, line)
    }

    fn forget_when_closed(&mut self) {
        self.is_last = rustix::net::sockopt::set_socket_linger(&self.stream, Some(Duration::ZERO)).is_ok();
    }

    fn heard(&mut self, wait: Duration) -> Result<Vec<String>, ConsoleError> {
        let first = match self.packets.recv_timeout(wait) {
            Ok(packet) => packet,
            Err(RecvTimeoutError::Timeout) => return Ok(Vec::new()),
            Err(RecvTimeoutError::Disconnected) => return Err(ConsoleError::Closed),
        };
        // A long reply comes in several packets, which may split a line.
        let text: String =
            std::iter::once(first).chain(self.packets.try_iter()).map(|packet| packet.text).collect();
        let lines: Vec<String> = text.lines().map(shown).collect();
        // An empty reply is a reply.
        Ok(if lines.is_empty() { vec![String::new()] } else { lines })
    }

    fn always_answers(&self) -> bool {
        true
    }
}
