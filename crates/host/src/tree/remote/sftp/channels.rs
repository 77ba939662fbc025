//! Extra channels of one connection. A server gives each channel a window of two megabytes per round trip, which limits uploads to a
//! distant server; several channels have several windows.

use std::{
    path::PathBuf,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    thread,
    time::Duration,
};

use tracing::debug;

use super::{
    pipeline::{Exchange, Pipeline},
    session::{self, SshOptions},
};

/// How many extra channels to open. Servers usually allow ten in all.
const MORE: usize = 3;
/// The upload size in bytes from which extra channels pay off on a server at least [`FAR`] away.
const WORTH: u64 = 4 << 20;
/// The fixed cost of a file, in bytes.
const A_FILE: u64 = 4_096;
/// The number of folders from which an extra channel pays off.
const MANY: usize = 200;
/// The response time from which a server counts as far away.
const FAR: Duration = Duration::from_millis(4);

/// The other channels of a connection.
pub(super) struct Channels {
    options: SshOptions,
    /// The control socket of the shared connection.
    shared: PathBuf,
    open: Mutex<Vec<Arc<Channel>>>,
    is_begun: AtomicBool,
}

struct Channel {
    pipeline: Pipeline,
    _process: session::Process,
}

impl Channels {
    pub(super) fn new(options: SshOptions, shared: PathBuf) -> Self {
        Self { options, shared, open: Mutex::default(), is_begun: AtomicBool::new(false) }
    }

    /// Opens them in the background if this many bytes are worth it.
    pub(super) fn expect(self: &Arc<Self>, bytes: u64, distance: Duration) {
        if bytes < WORTH || distance < FAR || self.is_begun.swap(true, Ordering::Relaxed) {
            return;
        }
        for _ in 0..MORE {
            let all = Arc::clone(self);
            thread::spawn(move || match session::open_channel(&all.options, &all.shared) {
                Ok((pipeline, process)) => {
                    debug!("sftp: another channel is open");
                    let channel = Arc::new(Channel { pipeline, _process: process });
                    all.open.lock().unwrap_or_else(PoisonError::into_inner).push(channel);
                }
                // One is enough.
                Err(error) => debug!("sftp: no other channel: {error}"),
            });
        }
    }

    /// Opens one where very many folders are to be listed on a server that is near: then it is the server that takes its time, and it
    /// lists for each channel in a process of its own.
    pub(super) fn expect_listing(self: &Arc<Self>, folders: usize, distance: Duration) {
        if folders < MANY || distance >= FAR || self.is_begun.swap(true, Ordering::Relaxed) {
            return;
        }
        if let Ok((pipeline, process)) = session::open_channel(&self.options, &self.shared) {
            let channel = Arc::new(Channel { pipeline, _process: process });
            self.open.lock().unwrap_or_else(PoisonError::into_inner).push(channel);
        }
    }

    /// Carries out exchanges over these channels and the main one. The caller redoes what a channel that breaks leaves undone.
    pub(super) fn run<E: Exchange + Send>(&self, main: &Pipeline, exchanges: Vec<(u64, E)>) -> Vec<E> {
        let open = self.open.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let lanes = open.len() + 1;
        // Files of one folder go over one channel: processes creating files in the same folder block each other.
        let weight = |bytes: u64| bytes + A_FILE;
        let share =
            exchanges.iter().map(|(bytes, _)| weight(*bytes)).sum::<u64>().div_ceil(lanes as u64).max(1);
        let mut parts: Vec<Vec<(usize, E)>> = (0..lanes).map(|_| Vec::new()).collect();
        let mut before = 0;
        for (at, (bytes, exchange)) in exchanges.into_iter().enumerate() {
            let lane = usize::try_from(before / share).unwrap_or(0).min(lanes - 1);
            before += weight(bytes);
            parts[lane].push((at, exchange));
        }
        let run = |pipeline: &Pipeline, part: Vec<(usize, E)>| {
            let (places, mut exchanges): (Vec<usize>, Vec<E>) = part.into_iter().unzip();
            pipeline.run(&mut exchanges);
            places.into_iter().zip(exchanges).collect::<Vec<_>>()
        };
        let mut done: Vec<(usize, E)> = thread::scope(|scope| {
            let mut parts = parts.into_iter();
            let own = parts.next().unwrap_or_default();
            let others: Vec<_> = open
                .iter()
                .zip(parts)
                .map(|(channel, part)| scope.spawn(move || run(&channel.pipeline, part)))
                .collect();
            let mut done = run(main, own);
            for other in others {
                match other.join() {
                    Ok(part) => done.extend(part),
                    Err(panic) => std::panic::resume_unwind(panic),
                }
            }
            done
        });
        done.sort_by_key(|(at, _)| *at);
        done.into_iter().map(|(_, exchange)| exchange).collect()
    }

    /// Closes all of them.
    pub(super) fn forget(&self) {
        self.open.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }
}
