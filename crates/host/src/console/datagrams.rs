//! Datagrams: four bytes 0xff, the secret and the command; answers begin with the same four bytes.

use std::{
    io::ErrorKind,
    net::{ToSocketAddrs, UdpSocket},
    time::Duration,
};

use super::{Channel, ConsoleAddress, ConsoleError, shown};

const HEAD: [u8; 4] = [0xff; 4];
/// No datagram is longer.
const LONGEST: usize = 65_535;

pub(super) struct DatagramChannel {
    socket: UdpSocket,
    address: String,
    secret: Option<(String, String)>,
    refused: Option<yalotheca_core::game::Pattern>,
}

pub(super) fn open(address: &ConsoleAddress, to: (&str, u16)) -> Result<DatagramChannel, ConsoleError> {
    let failed = |source| ConsoleError::Connect { address: address.to_string(), source };
    let to = to.to_socket_addrs().map_err(failed)?.next();
    let to = to.ok_or_else(|| failed(ErrorKind::AddrNotAvailable.into()))?;
    let from = if to.is_ipv4() { "0.0.0.0:0" } else { "[::]:0" };
    let socket = UdpSocket::bind(from).map_err(failed)?;
    socket.connect(to).map_err(failed)?;
    let secret = address.secret.as_ref().map(|secret| (secret.text.clone(), secret.at.clone()));
    Ok(DatagramChannel { socket, address: address.to_string(), secret, refused: address.refused.clone() })
}

impl Channel for DatagramChannel {
    fn send(&mut self, line: &str) -> Result<(), ConsoleError> {
        let mut bytes = HEAD.to_vec();
        if let Some((secret, _)) = &self.secret {
            bytes.extend_from_slice(secret.as_bytes());
            bytes.push(b' ');
        }
        bytes.extend_from_slice(line.as_bytes());
        self.socket.send(&bytes).map(drop).map_err(|_| ConsoleError::Closed)
    }

    fn heard(&mut self, wait: Duration) -> Result<Vec<String>, ConsoleError> {
        let wait = wait.max(Duration::from_millis(1));
        self.socket.set_read_timeout(Some(wait)).map_err(|_| ConsoleError::Closed)?;
        let mut buffer = vec![0; LONGEST];
        let length = match self.socket.recv(&mut buffer) {
            Ok(length) => length,
            Err(error) if matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) => {
                return Ok(Vec::new());
            }
            // Refused: nothing listens there.
            Err(source) => return Err(ConsoleError::Connect { address: self.address.clone(), source }),
        };
        let bytes = buffer[..length].strip_prefix(&HEAD).unwrap_or(&buffer[..length]);
        let lines: Vec<String> = String::from_utf8_lossy(bytes).lines().map(shown).collect();
        let is_refusal = |line: &String| self.refused.as_ref().is_some_and(|refused| refused.is_match(line));
        if lines.iter().any(is_refusal) {
            return Err(ConsoleError::Secret { setting: self.secret.as_ref().map(|(_, at)| at.clone()) });
        }
        Ok(if lines.is_empty() { vec![String::new()] } else { lines })
    }

    fn always_answers(&self) -> bool {
        true
    }
}
