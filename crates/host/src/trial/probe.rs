//! Whether a port answers.

use std::{
    net::{SocketAddr, TcpStream, UdpSocket},
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

/// Returns the server's port where something answers there already.
///
/// # Errors
/// Where the definition's template cannot be filled.
pub(super) fn is_taken(probe: &Probe, scope: &Scope) -> Result<Option<String>, RenderError> {
    let (port, send) = match probe {
        Probe::Tcp(port) => (port.render(scope)?, None),
        Probe::Udp { port, send } => (port.render(scope)?, Some(send)),
    };
    let Ok(number) = port.trim().parse::<u16>() else { return Ok(None) };
    let address = SocketAddr::from(([127, 0, 0, 1], number));
    let answers = match send {
        None => TcpStream::connect_timeout(&address, WAIT).is_ok(),
        Some(send) => ask(address, send).is_some(),
    };
    Ok(answers.then_some(port))
}

fn ask(address: SocketAddr, send: &[u8]) -> Option<usize> {
    let socket = UdpSocket::bind(("127.0.0.1", 0)).ok()?;
    socket.set_read_timeout(Some(WAIT)).ok()?;
    socket.connect(address).ok()?;
    socket.send(send).ok()?;
    let mut buffer = [0; 2048];
    socket.recv(&mut buffer).ok()
}
