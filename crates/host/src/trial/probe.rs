//! Whether a port answers.

use std::{
    net::{SocketAddr, TcpStream, ToSocketAddrs, UdpSocket},
    thread,
    time::Duration,
};

use yalotheca_core::game::{Probe, RenderError, Scope};

const TRIES: u32 = 5;
const WAIT: Duration = Duration::from_millis(400);

/// Returns whether the server's port answers on loopback.
///
/// # Errors
/// Where the definition's template cannot be filled.
pub(super) fn answers(probe: &Probe, scope: &Scope) -> Result<bool, RenderError> {
    let (port, send) = match probe {
        Probe::Tcp(port) => (port.render(scope)?, None),
        Probe::Udp { port, send } => (port.render(scope)?, Some(send)),
    };
    let Ok(port) = port.trim().parse::<u16>() else { return Ok(false) };
    let address = SocketAddr::from(([127, 0, 0, 1], port));
    for _ in 0..TRIES {
        let answered = match send {
            None => TcpStream::connect_timeout(&address, WAIT).is_ok(),
            Some(send) => ask(address, send).is_some(),
        };
        if answered {
            return Ok(true);
        }
        thread::sleep(Duration::from_millis(50));
    }
    Ok(false)
}

/// Returns whether a host's port answers a datagram.
pub fn answers_datagram(host: &str, port: u16, send: &[u8]) -> bool {
    let address = (host, port).to_socket_addrs().ok().and_then(|mut all| all.next());
    address.is_some_and(|address| (0..TRIES).any(|_| ask(address, send).is_some()))
}

/// Returns the server's port where something answers there already.
///
/// # Errors
/// Where the definition's template cannot be filled.
pub(super) fn is_taken(probe: &Probe, scope: &Scope) -> Result<Option<String>, RenderError> {
    taken_at("127.0.0.1", probe, scope)
}

/// Returns the server's port where something answers there on a host.
///
/// # Errors
/// Where the definition's template cannot be filled.
pub(super) fn taken_at(host: &str, probe: &Probe, scope: &Scope) -> Result<Option<String>, RenderError> {
    let (port, send) = match probe {
        Probe::Tcp(port) => (port.render(scope)?, None),
        Probe::Udp { port, send } => (port.render(scope)?, Some(send)),
    };
    let Ok(number) = port.trim().parse::<u16>() else { return Ok(None) };
    let Some(address) = (host, number).to_socket_addrs().ok().and_then(|mut all| all.next()) else {
        return Ok(None);
    };
    let answers = match send {
        None => TcpStream::connect_timeout(&address, WAIT).is_ok(),
        Some(send) => ask(address, send).is_some(),
    };
    Ok(answers.then_some(port))
}

/// Sends a datagram; returns the length of the answer, if there is one.
fn ask(address: SocketAddr, send: &[u8]) -> Option<usize> {
    let socket = match address {
        SocketAddr::V4(address) if address.ip().is_loopback() => UdpSocket::bind(("127.0.0.1", 0)).ok()?,
        SocketAddr::V4(_) => UdpSocket::bind(("0.0.0.0", 0)).ok()?,
        SocketAddr::V6(_) => UdpSocket::bind(("::", 0)).ok()?,
    };
    socket.set_read_timeout(Some(WAIT)).ok()?;
    socket.connect(address).ok()?;
    socket.send(send).ok()?;
    let mut buffer = [0; 2048];
    socket.recv(&mut buffer).ok()
}
