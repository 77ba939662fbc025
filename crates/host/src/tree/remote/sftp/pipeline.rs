//! Many requests in flight over one connection.

use std::{
    collections::{HashMap, HashSet},
    io::{self, BufWriter, Read, Write},
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicU32, AtomicU64, Ordering},
        mpsc::{self, Receiver, Sender},
    },
    thread,
    time::{Duration, Instant},
};

use tracing::debug;

use super::wire::{LONGEST, Reply, Request, reply};

/// So many requests and bytes are under way before another exchange begins.
const REQUESTS: usize = 4_096;
const BYTES: usize = 8 << 20;
/// So many exchanges are under way at least, and at most: a server has a thousand open files, mostly, and few of them are quicker to write.
const EXCHANGES: (usize, usize) = (16, 800);
/// The further away a server is, the more of them: so many for each millisecond that an answer takes.
const FOR_A_MILLISECOND: u64 = 16;
/// A server that answers nothing for so long is gone.
const PATIENCE: Duration = Duration::from_secs(90);

type Answer = (u32, io::Result<Reply>);
type Waiting = Arc<Mutex<HashMap<u32, Sender<Answer>>>>;

/// One connection.
pub(super) struct Pipeline {
    writer: Mutex<BufWriter<Box<dyn Write + Send>>>,
    waiting: Waiting,
    next: AtomicU32,
    /// The shortest time that an answer has taken, in microseconds.
    distance: AtomicU64,
}

/// Something that takes several requests, each after the answer to an earlier one.
pub(super) trait Exchange {
    /// Returns the first requests.
    fn begin(&mut self) -> Vec<Request>;
    /// Takes the answer to a request with a tag, and returns the next requests.
    fn answer(&mut self, tag: u64, answer: io::Result<Reply>) -> Vec<Request>;
}

pub(super) fn torn() -> io::Error {
    io::Error::new(io::ErrorKind::ConnectionReset, "the connection has ended")
}

fn micros(duration: Duration) -> u64 {
    u64::try_from(duration.as_micros()).unwrap_or(u64::MAX)
}

/// Reads one packet.
pub(super) fn packet(from: &mut impl Read) -> io::Result<Vec<u8>> {
    let mut length = [0; 4];
    from.read_exact(&mut length)?;
    let length = usize::try_from(u32::from_be_bytes(length)).map_err(io::Error::other)?;
    if length > LONGEST {
        let why = "the server's answer is no SFTP; does its shell print something at login?";
        return Err(io::Error::new(io::ErrorKind::InvalidData, why));
    }
    let mut packet = vec![0; length];
    from.read_exact(&mut packet)?;
    Ok(packet)
}

impl Pipeline {
    /// Begins to read answers. `first_answer` is how long the answer to the greeting took.
    pub(super) fn new(
        mut reader: impl Read + Send + 'static,
        writer: Box<dyn Write + Send>,
        first_answer: Duration,
    ) -> Self {
        let waiting = Waiting::default();
        let theirs = Arc::clone(&waiting);
        thread::spawn(move || {
            while let Ok(read) = packet(&mut reader) {
                let Ok((id, answer)) = reply(&read) else { break };
                let mut waiting = theirs.lock().unwrap_or_else(PoisonError::into_inner);
                // An answer that is not waited for belongs to a CLOSE.
                if let Some(sender) = waiting.remove(&id) {
                    sender.send((id, answer)).ok();
                }
            }
            // Requests that still wait learn that no answer will come.
            theirs.lock().unwrap_or_else(PoisonError::into_inner).clear();
        });
        Self {
            writer: Mutex::new(BufWriter::with_capacity(256 << 10, writer)),
            waiting,
            next: AtomicU32::new(1),
            distance: AtomicU64::new(micros(first_answer)),
        }
    }

    /// Sends a request; without a sender, its answer is dropped.
    fn send(&self, request: &Request, sender: Option<&Sender<Answer>>) -> io::Result<u32> {
        let id = self.next.fetch_add(1, Ordering::Relaxed);
        if let Some(sender) = sender {
            self.waiting.lock().unwrap_or_else(PoisonError::into_inner).insert(id, sender.clone());
        }
        request.write(id, &mut *self.writer.lock().unwrap_or_else(PoisonError::into_inner))?;
        Ok(id)
    }

    /// Returns the shortest response time seen.
    pub(super) fn distance(&self) -> Duration {
        Duration::from_micros(self.distance.load(Ordering::Relaxed))
    }

    fn most_exchanges(&self) -> usize {
        let distance = self.distance.load(Ordering::Relaxed);
        let (least, most) = EXCHANGES;
        let wanted = distance.saturating_mul(FOR_A_MILLISECOND) / 1_000;
        usize::try_from(wanted).unwrap_or(most).clamp(least, most)
    }

    fn flush(&self) -> io::Result<()> {
        self.writer.lock().unwrap_or_else(PoisonError::into_inner).flush()
    }

    /// Carries out exchanges, many at a time. Where the connection ends, those that are not over get that as an answer.
    pub(super) fn run<E: Exchange>(&self, exchanges: &mut [E]) {
        let (sender, receiver) = mpsc::channel();
        let mut owners = Owners::default();
        let asked = Instant::now();
        let mut is_first = true;
        let mut kind = "nothing";
        let mut begun = 0;
        let mut is_torn = false;
        while begun < exchanges.len() || !owners.by_id.is_empty() {
            let most = self.most_exchanges();
            while begun < exchanges.len() && owners.has_room(most) && !is_torn {
                let requests = exchanges[begun].begin();
                kind = requests.first().map_or(kind, Request::name);
                is_torn |= self.pass(requests, begun, (&sender, &mut owners)).is_err();
                begun += 1;
            }
            if is_torn || self.flush().is_err() {
                break;
            }
            if owners.by_id.is_empty() {
                continue;
            }
            let Some(first) = receive(&receiver, &self.waiting) else { break };
            if std::mem::take(&mut is_first) {
                self.distance.fetch_min(micros(asked.elapsed()), Ordering::Relaxed);
            }
            let mut next = Some(first);
            while let Some((id, answer)) = next {
                if let Some((owner, tag)) = owners.remove(id) {
                    let requests = exchanges[owner].answer(tag, answer);
                    is_torn |= self.pass(requests, owner, (&sender, &mut owners)).is_err();
                }
                next = receiver.try_recv().ok();
            }
        }
        debug!("sftp: {} × {}, {} ms", exchanges.len(), kind, asked.elapsed().as_millis());
        self.flush().ok();
        let mut waiting = self.waiting.lock().unwrap_or_else(PoisonError::into_inner);
        for id in owners.by_id.keys() {
            waiting.remove(id);
        }
        drop(waiting);
        let left = owners.by_id.into_values().map(|(owner, tag, _)| (owner, tag));
        for (owner, tag) in left.chain((begun..exchanges.len()).map(|owner| (owner, 0))) {
            exchanges[owner].answer(tag, Err(torn()));
        }
    }

    fn pass(
        &self,
        requests: Vec<Request>,
        owner: usize,
        (sender, owners): (&Sender<Answer>, &mut Owners),
    ) -> io::Result<()> {
        for request in requests {
            // The answer to a CLOSE is not needed.
            if request.is_farewell() {
                self.send(&request, None)?;
                // The server closes the file before it does what is asked later, so another may be opened at once.
                owners.open.remove(&owner);
            } else {
                owners.insert(self.send(&request, Some(sender))?, owner, &request);
            }
        }
        Ok(())
    }
}

/// Which exchange waits for which answer, and how much is under way.
#[derive(Default)]
struct Owners {
    by_id: HashMap<u32, (usize, u64, usize)>,
    /// How many answers each exchange waits for.
    waiting: HashMap<usize, usize>,
    /// The exchanges that may have a file open on the server.
    open: HashSet<usize>,
    bytes: usize,
}

impl Owners {
    fn has_room(&self, most: usize) -> bool {
        self.by_id.len() < REQUESTS && self.open.len() < most && self.bytes < BYTES
    }

    fn insert(&mut self, id: u32, owner: usize, request: &Request) {
        self.bytes += request.weight();
        let waits = self.waiting.entry(owner).or_default();
        if *waits == 0 {
            self.open.insert(owner);
        }
        *waits += 1;
        self.by_id.insert(id, (owner, request.tag, request.weight()));
    }

    fn remove(&mut self, id: u32) -> Option<(usize, u64)> {
        let (owner, tag, weight) = self.by_id.remove(&id)?;
        self.bytes -= weight;
        if let Some(count) = self.waiting.get_mut(&owner) {
            *count -= 1;
            if *count == 0 {
                self.waiting.remove(&owner);
                self.open.remove(&owner);
            }
        }
        Some((owner, tag))
    }
}

/// Waits for an answer; nothing where the connection has ended.
fn receive(receiver: &Receiver<Answer>, waiting: &Waiting) -> Option<Answer> {
    const LOOK: Duration = Duration::from_millis(200);
    let mut waited = Duration::ZERO;
    loop {
        match receiver.recv_timeout(LOOK) {
            Ok(answer) => return Some(answer),
            Err(mpsc::RecvTimeoutError::Disconnected) => return None,
            Err(mpsc::RecvTimeoutError::Timeout) => {
                waited += LOOK;
                let is_over = waiting.lock().unwrap_or_else(PoisonError::into_inner).is_empty();
                if is_over || waited > PATIENCE {
                    return receiver.try_recv().ok();
                }
            }
        }
    }
}
