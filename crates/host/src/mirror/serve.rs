//! A small file server for a mirror: for homes and tests.
//!
//! It gives out files of one folder, never its hidden files and never what a symbolic link outside leads to. It knows ranges, so a broken
//! download goes on where it was.

use std::{
    io::{self, Read, Seek, SeekFrom},
    net::SocketAddr,
    sync::Arc,
    thread,
    time::{Duration, Instant},
};

use axum::{
    Router,
    body::{Body, Bytes},
    extract::State,
    http::{HeaderMap, Method, StatusCode, Uri, header},
    response::{IntoResponse, Response},
};
use percent_encoding::percent_decode_str;
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc, oneshot};
use yalotheca_core::id::TreePath;

use crate::tree::{EntryKind, LocalTree, ReadSeek, Tree};

/// How many bytes are read at a time.
const PIECE: usize = 64 << 10;

/// What a file server allows.
#[derive(Debug, Clone, Copy)]
pub struct ServeOptions {
    /// The address to listen on.
    pub address: SocketAddr,
    /// How many downloads may run at once; others wait.
    pub downloads: usize,
    /// The most bytes per second of one download.
    pub rate: Option<u64>,
}

/// A request that was answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Served {
    /// The path that was asked for.
    pub path: String,
    /// The status code.
    pub status: u16,
    /// How many bytes the answer has.
    pub bytes: u64,
}

/// A running file server. It stops when it is dropped.
#[derive(Debug)]
pub struct FileServer {
    address: SocketAddr,
    stop: Option<oneshot::Sender<()>>,
    thread: Option<thread::JoinHandle<()>>,
}

/// Called with each answer.
pub type Told = dyn Fn(Served) + Send + Sync;

#[derive(Clone)]
struct Folder {
    tree: Arc<LocalTree>,
    slots: Arc<Semaphore>,
    rate: Option<u64>,
    told: Arc<Told>,
}

impl FileServer {
    /// Starts a server for a folder.
    ///
    /// # Errors
    /// If the address cannot be listened on.
    pub fn start(tree: LocalTree, options: ServeOptions, told: Arc<Told>) -> io::Result<Self> {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
        let listener = runtime.block_on(tokio::net::TcpListener::bind(options.address))?;
        let address = listener.local_addr()?;
        let folder = Folder {
            tree: Arc::new(tree),
            slots: Arc::new(Semaphore::new(options.downloads.max(1))),
            rate: options.rate,
            told,
        };
        let app = Router::new().fallback(answer).with_state(folder);
        let (stop, stopped) = oneshot::channel::<()>();
        let thread = thread::spawn(move || {
            runtime.block_on(async move {
                let serve = axum::serve(listener, app).into_future();
                tokio::select! {
                    served = serve => drop(served),
                    _ = stopped => {}
                }
            });
            runtime.shutdown_background();
        });
        Ok(Self { address, stop: Some(stop), thread: Some(thread) })
    }

    /// Returns the address that it listens on.
    pub fn address(&self) -> SocketAddr {
        self.address
    }
}

impl Drop for FileServer {
    fn drop(&mut self) {
        if let Some(stop) = self.stop.take() {
            stop.send(()).ok();
        }
        if let Some(thread) = self.thread.take() {
            thread.join().ok();
        }
    }
}

/// Some bytes of a file.
struct Part {
    file: Box<dyn ReadSeek>,
    from: u64,
    length: u64,
    whole: u64,
    is_partial: bool,
}

async fn answer(State(folder): State<Folder>, method: Method, uri: Uri, headers: HeaderMap) -> Response {
    // Some games post the list of files that they lack, and expect a file as the answer.
    if !matches!(method, Method::GET | Method::HEAD | Method::POST) {
        return told(&folder, &uri, StatusCode::METHOD_NOT_ALLOWED.into_response(), 0);
    }
    let Ok(slot) = Arc::clone(&folder.slots).acquire_owned().await else {
        return StatusCode::SERVICE_UNAVAILABLE.into_response();
    };
    let range = headers.get(header::RANGE).and_then(|range| range.to_str().ok()).map(str::to_owned);
    let (tree, path) = (Arc::clone(&folder.tree), uri.path().to_owned());
    let opened = tokio::task::spawn_blocking(move || open(&tree, &path, range.as_deref())).await;
    match opened.unwrap_or(Err(StatusCode::INTERNAL_SERVER_ERROR)) {
        Ok(part) => {
            let length = part.length;
            let response = give(part, (method == Method::HEAD, folder.rate, slot));
            told(&folder, &uri, response, length)
        }
        Err(status) => told(&folder, &uri, status.into_response(), 0),
    }
}

fn told(folder: &Folder, uri: &Uri, response: Response, bytes: u64) -> Response {
    (folder.told)(Served { path: uri.path().into(), status: response.status().as_u16(), bytes });
    response
}

/// Opens a file by the path of a request.
fn open(tree: &LocalTree, path: &str, range: Option<&str>) -> Result<Part, StatusCode> {
    let path = percent_decode_str(path).decode_utf8().map_err(|_| StatusCode::BAD_REQUEST)?;
    let is_hidden = path.split('/').any(|part| part.starts_with('.'));
    let path = TreePath::new(path.trim_start_matches('/')).map_err(|_| StatusCode::NOT_FOUND)?;
    if is_hidden || path.is_root() {
        return Err(StatusCode::NOT_FOUND);
    }
    let Ok(Some(EntryKind::File(whole))) = tree.kind_of(&path) else { return Err(StatusCode::NOT_FOUND) };
    let Ok(Some(mut file)) = tree.open(&path) else { return Err(StatusCode::NOT_FOUND) };
    let (from, length, is_partial) = match range.and_then(|range| range.strip_prefix("bytes=")) {
        // Several ranges at once may be answered with the whole file.
        None => (0, whole, false),
        Some(range) if range.contains(',') => (0, whole, false),
        Some(range) => {
            let (from, length) = part_of(range, whole).ok_or(StatusCode::RANGE_NOT_SATISFIABLE)?;
            (from, length, true)
        }
    };
    file.seek(SeekFrom::Start(from)).map_err(|_| StatusCode::INTERNAL_SERVER_ERROR)?;
    Ok(Part { file, from, length, whole, is_partial })
}

/// Returns where a range begins and how many bytes it has: `5-9`, `5-`, or `-5` for the last five.
fn part_of(range: &str, whole: u64) -> Option<(u64, u64)> {
    let (first, last) = range.trim().split_once('-')?;
    let (first, last) = match (first.trim(), last.trim()) {
        ("", last) => (whole.checked_sub(last.parse::<u64>().ok()?.min(whole))?, whole.checked_sub(1)?),
        (first, "") => (first.parse().ok()?, whole.checked_sub(1)?),
        (first, last) => (first.parse().ok()?, last.parse::<u64>().ok()?.min(whole.checked_sub(1)?)),
    };
    (first <= last).then(|| (first, last - first + 1))
}

fn give(part: Part, (head_only, rate, slot): (bool, Option<u64>, OwnedSemaphorePermit)) -> Response {
    let Part { mut file, from, length, whole, is_partial } = part;
    let mut headers = HeaderMap::new();
    headers.insert(header::CONTENT_TYPE, header::HeaderValue::from_static("application/octet-stream"));
    headers.insert(header::ACCEPT_RANGES, header::HeaderValue::from_static("bytes"));
    headers.insert(header::CONTENT_LENGTH, length.into());
    if is_partial && let Ok(range) = format!("bytes {from}-{}/{whole}", from + length - 1).parse() {
        headers.insert(header::CONTENT_RANGE, range);
    }
    let status = if is_partial { StatusCode::PARTIAL_CONTENT } else { StatusCode::OK };
    if head_only {
        return (status, headers, Body::empty()).into_response();
    }
    let (sender, receiver) = mpsc::channel::<io::Result<Bytes>>(4);
    tokio::task::spawn_blocking(move || {
        // The slot is free again when the last byte was given.
        let _slot = slot;
        let (started, mut given) = (Instant::now(), 0_u64);
        while given < length {
            let mut buffer = vec![0; PIECE.min(usize::try_from(length - given).unwrap_or(PIECE))];
            let piece = match file.read(&mut buffer) {
                Ok(0) => Err(io::ErrorKind::UnexpectedEof.into()),
                Ok(read) => {
                    buffer.truncate(read);
                    given += read as u64;
                    Ok(Bytes::from(buffer))
                }
                Err(error) => Err(error),
            };
            let is_end = piece.is_err();
            if sender.blocking_send(piece).is_err() || is_end {
                break;
            }
            if let Some(rate) = rate.filter(|rate| *rate > 0) {
                let due = Duration::from_millis(given.saturating_mul(1_000) / rate);
                thread::sleep(due.saturating_sub(started.elapsed()));
            }
        }
    });
    let stream = tokio_stream::wrappers::ReceiverStream::new(receiver);
    (status, headers, Body::from_stream(stream)).into_response()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_read_as_the_standard_says() {
        for (range, expected) in [
            ("0-0", Some((0, 1))),
            ("5-9", Some((5, 5))),
            ("5-", Some((5, 5))),
            ("-3", Some((7, 3))),
            ("-99", Some((0, 10))),
            ("8-99", Some((8, 2))),
            ("10-", None),
            ("7-3", None),
            ("x-3", None),
            ("", None),
        ] {
            assert_eq!(part_of(range, 10), expected, "{range}");
        }
        assert_eq!(part_of("0-", 0), None);
    }
}
