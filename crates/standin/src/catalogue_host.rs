//! A catalogue host on loopback: serves a folder's files, with entity tags and conditional answers.

use std::{
    io,
    net::SocketAddr,
    path::PathBuf,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    thread,
};

use axum::{
    Router,
    body::Body,
    extract::State,
    http::{HeaderMap, StatusCode, Uri, header},
    response::{IntoResponse, Response},
};
use tokio::sync::oneshot;

/// A running host. It stops when it is dropped.
#[derive(Debug)]
pub struct CatalogueHost {
    address: SocketAddr,
    stop: Option<oneshot::Sender<()>>,
    thread: Option<thread::JoinHandle<()>>,
    counts: Arc<Counts>,
}

#[derive(Debug, Default)]
struct Counts {
    whole: AtomicUsize,
    unchanged: AtomicUsize,
}

#[derive(Clone)]
struct Served {
    folder: Arc<PathBuf>,
    counts: Arc<Counts>,
}

impl CatalogueHost {
    /// Starts a host on a free loopback port.
    ///
    /// # Errors
    /// Where no port can be had.
    pub fn start(folder: PathBuf) -> io::Result<Self> {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        let listener = runtime.block_on(tokio::net::TcpListener::bind(("127.0.0.1", 0)))?;
        let address = listener.local_addr()?;
        let counts = Arc::new(Counts::default());
        let served = Served { folder: Arc::new(folder), counts: Arc::clone(&counts) };
        let (stop, stopped) = oneshot::channel();
        let thread = thread::spawn(move || {
            let app = Router::new().fallback(serve).with_state(served);
            let until = async {
                stopped.await.ok();
            };
            let serving = axum::serve(listener, app).with_graceful_shutdown(until);
            runtime.block_on(async { serving.await.ok() });
        });
        Ok(Self { address, stop: Some(stop), thread: Some(thread), counts })
    }

    /// Returns the address of the catalogue.
    pub fn address(&self) -> String {
        format!("http://{}/", self.address)
    }

    /// Returns how many files were sent whole, and how many times the answer was "not modified".
    pub fn counts(&self) -> (usize, usize) {
        (self.counts.whole.load(Ordering::SeqCst), self.counts.unchanged.load(Ordering::SeqCst))
    }
}

impl Drop for CatalogueHost {
    fn drop(&mut self) {
        if let Some(stop) = self.stop.take() {
            stop.send(()).ok();
        }
        if let Some(thread) = self.thread.take() {
            thread.join().ok();
        }
    }
}

async fn serve(State(served): State<Served>, uri: Uri, headers: HeaderMap) -> Response {
    let path = uri.path().trim_start_matches('/');
    if path.split('/').any(|name| name == "..") {
        return StatusCode::BAD_REQUEST.into_response();
    }
    let Ok(bytes) = std::fs::read(served.folder.join(path)) else {
        return StatusCode::NOT_FOUND.into_response();
    };
    let tag = format!("\"{}\"", &blake3::hash(&bytes).to_hex()[..32]);
    if headers.get(header::IF_NONE_MATCH).is_some_and(|known| known.as_bytes() == tag.as_bytes()) {
        served.counts.unchanged.fetch_add(1, Ordering::SeqCst);
        return (StatusCode::NOT_MODIFIED, [(header::ETAG, tag)]).into_response();
    }
    served.counts.whole.fetch_add(1, Ordering::SeqCst);
    ([(header::ETAG, tag)], Body::from(bytes)).into_response()
}
