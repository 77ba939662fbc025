//! A relay that stands for a slow or bad line: it delays what passes in each direction, and cuts connections after so many bytes.

use std::{
    io::{self, Read, Write},
    net::{Shutdown, SocketAddr, TcpListener, TcpStream},
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering},
        mpsc,
    },
    thread,
    time::{Duration, Instant},
};

/// How bad the line is.
#[derive(Debug, Clone, Default)]
pub struct Line {
    /// So long each byte takes in each direction.
    pub delay: Duration,
    /// After so many bytes, both directions counted, a connection is cut: the first one, the second, and so on; later ones never.
    pub cuts: Vec<u64>,
}

/// A relay on a port of the loopback. It goes on until the program ends.
#[derive(Debug)]
pub struct Relay {
    port: u16,
    connections: Arc<AtomicUsize>,
    bytes: Arc<AtomicU64>,
    turns: Arc<Turns>,
}

/// How often the client has spoken after the server has.
#[derive(Debug, Default)]
struct Turns {
    count: AtomicU64,
    is_servers: AtomicBool,
}

impl Turns {
    fn spoke(&self, is_server: bool) {
        if self.is_servers.swap(is_server, Ordering::SeqCst) && !is_server {
            self.count.fetch_add(1, Ordering::SeqCst);
        }
    }
}

impl Relay {
    /// Starts one in front of a server.
    ///
    /// # Errors
    /// Where no port is free.
    pub fn start(to: SocketAddr, line: Line) -> io::Result<Self> {
        let listener = TcpListener::bind(("127.0.0.1", 0))?;
        let port = listener.local_addr()?.port();
        let connections = Arc::new(AtomicUsize::new(0));
        let counted = Arc::clone(&connections);
        let bytes = Arc::new(AtomicU64::new(0));
        let all = Arc::clone(&bytes);
        let turns = Arc::new(Turns::default());
        let counting = Arc::clone(&turns);
        thread::spawn(move || {
            for client in listener.incoming().flatten() {
                let number = counted.fetch_add(1, Ordering::SeqCst);
                let cut = line.cuts.get(number).copied();
                let Ok(server) = TcpStream::connect(to) else { continue };
                client.set_nodelay(true).ok();
                server.set_nodelay(true).ok();
                let passed = Arc::new(AtomicU64::new(0));
                for (from, to, is_server) in [(&client, &server, false), (&server, &client, true)] {
                    if let (Ok(from), Ok(to)) = (from.try_clone(), to.try_clone()) {
                        let turns = Arc::clone(&counting);
                        let spoke = move || turns.spoke(is_server);
                        pass((from, to), line.delay, (cut, [&passed, &all].map(Arc::clone)), spoke);
                    }
                }
            }
        });
        Ok(Self { port, connections, bytes, turns })
    }

    /// Returns its port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Returns how many bytes have passed, in both directions.
    pub fn bytes(&self) -> u64 {
        self.bytes.load(Ordering::SeqCst)
    }

    /// Returns how often the client has spoken after the server has: with one connection, so many answers were waited for.
    pub fn turns(&self) -> u64 {
        self.turns.count.load(Ordering::SeqCst)
    }

    /// Returns how many connections there were.
    pub fn connections(&self) -> usize {
        self.connections.load(Ordering::SeqCst)
    }
}

fn pass(
    (mut from, mut to): (TcpStream, TcpStream),
    delay: Duration,
    (cut, [passed, all]): (Option<u64>, [Arc<AtomicU64>; 2]),
    spoke: impl Fn() + Send + 'static,
) {
    let (sender, receiver) = mpsc::channel::<(Instant, Vec<u8>)>();
    thread::spawn(move || {
        for (due, bytes) in receiver {
            thread::sleep(due.saturating_duration_since(Instant::now()));
            if to.write_all(&bytes).is_err() {
                break;
            }
        }
        to.shutdown(Shutdown::Write).ok();
    });
    thread::spawn(move || {
        let mut buffer = vec![0; 256 << 10];
        while let Ok(count) = from.read(&mut buffer) {
            if count == 0 {
                break;
            }
            spoke();
            all.fetch_add(count as u64, Ordering::SeqCst);
            let before = passed.fetch_add(count as u64, Ordering::SeqCst);
            let left = cut.map_or(u64::MAX, |cut| cut.saturating_sub(before));
            let count = usize::try_from(left).unwrap_or(usize::MAX).min(count);
            if sender.send((Instant::now() + delay, buffer[..count].to_vec())).is_err()
                || left == count as u64
            {
                // Cut in the middle of whatever it was.
                from.shutdown(Shutdown::Both).ok();
                break;
            }
        }
    });
}
