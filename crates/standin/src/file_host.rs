//! A file host on loopback, with everything that goes wrong at such hosts: pages instead of files, logins, links that have
//! expired, transfers that break off or are slow, wrong lengths.
//!
//! `/f/NAME` the file · `/s/NAME?view=1` a page about it, and with `view=0` the file · `/moved/NAME` passed on · `/login/NAME`
//! · `/expired/NAME` · `/busy/NAME` fails twice first · `/break/PERCENT/NAME` breaks off there, once · `/cut/PERCENT/NAME`
//! breaks off there each time, and knows no ranges · `/halt/PERCENT/NAME` gives no more than that to the first five who ask · `/other/PERCENT/NAME` breaks off once, and the file is another then ·
//! `/endless/NAME` never ends · `/drip/NAME` a byte at a time · `/later/NAME` asks for a wait of three years · `/part/HOW/NAME` breaks off in
//! the middle and answers the second who asks in a wrong way: `from-start`, `elsewhere`, `no-range`, `longer`, `other` (a file of the same
//! length, whose tag is weak), `unasked` (a part where the whole was asked for) · `/long/NAME` promises more than it gives · `/slow/NAME` · `/item/NUMBER-…` a page, `/items/NUMBER` its file · `/loop` ·
//! `/private/NAME` for the user `wren` with the password `puffin` only.

use std::{
    collections::HashMap,
    io,
    net::SocketAddr,
    path::PathBuf,
    sync::{Arc, Mutex, PoisonError},
    thread,
    time::Duration,
};

use axum::{
    Router,
    body::{Body, Bytes},
    extract::State,
    http::{HeaderMap, HeaderValue, StatusCode, Uri, header},
    response::{Html, IntoResponse, Redirect, Response},
};
use tokio::sync::oneshot;
use tokio_stream::StreamExt;

/// How much is sent at a time.
const PIECE: usize = 16 << 10;

/// A running host. It stops when it is dropped.
#[derive(Debug)]
pub struct FileHost {
    address: SocketAddr,
    stop: Option<oneshot::Sender<()>>,
    thread: Option<thread::JoinHandle<()>>,
    seen: Arc<Seen>,
}

#[derive(Debug, Default)]
struct Seen {
    /// How often each path was asked for.
    times: Mutex<HashMap<String, usize>>,
    /// The beginnings of the ranges that were asked for.
    ranges: Mutex<Vec<u64>>,
}

#[derive(Clone)]
struct Served {
    folder: Arc<PathBuf>,
    seen: Arc<Seen>,
}

impl FileHost {
    /// Starts a host for a folder's files on a free loopback port.
    ///
    /// # Errors
    /// Where no port can be had.
    pub fn start(folder: PathBuf) -> io::Result<Self> {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        let listener = runtime.block_on(tokio::net::TcpListener::bind(("127.0.0.1", 0)))?;
        let address = listener.local_addr()?;
        let seen = Arc::new(Seen::default());
        let served = Served { folder: Arc::new(folder), seen: Arc::clone(&seen) };
        let (stop, stopped) = oneshot::channel();
        let thread = thread::spawn(move || {
            let app = Router::new().fallback(serve).with_state(served);
            runtime.block_on(async {
                tokio::select! {
                    _ = axum::serve(listener, app) => {}
                    _ = stopped => {}
                }
            });
        });
        Ok(Self { address, stop: Some(stop), thread: Some(thread), seen })
    }

    /// Returns the address of something, without a `/` before it.
    pub fn at(&self, path: &str) -> String {
        format!("http://{}/{path}", self.address)
    }

    /// Returns how often a path was asked for.
    pub fn times(&self, path: &str) -> usize {
        let times = self.seen.times.lock().unwrap_or_else(PoisonError::into_inner);
        times.get(&format!("/{path}")).copied().unwrap_or(0)
    }

    /// Returns the beginnings of the ranges that were asked for.
    pub fn ranges(&self) -> Vec<u64> {
        self.seen.ranges.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl Drop for FileHost {
    fn drop(&mut self) {
        if let Some(stop) = self.stop.take() {
            stop.send(()).ok();
        }
        if let Some(thread) = self.thread.take() {
            thread.join().ok();
        }
    }
}

fn page(title: &str, text: &str) -> Response {
    Html(format!("<!DOCTYPE html>\n<html><head><title>{title}</title></head><body>{text}</body></html>\n"))
        .into_response()
}

async fn serve(State(served): State<Served>, uri: Uri, headers: HeaderMap) -> Response {
    let time = {
        let mut times = served.seen.times.lock().unwrap_or_else(PoisonError::into_inner);
        let time = times.entry(uri.path().to_owned()).or_insert(0);
        *time += 1;
        *time
    };
    let path = uri.path().trim_start_matches('/').to_owned();
    if path.split('/').any(|name| name == "..") {
        return StatusCode::BAD_REQUEST.into_response();
    }
    let (sort, rest) = path.split_once('/').unwrap_or((&path, ""));
    let (percent, name) = rest.split_once('/').unwrap_or(("100", rest));
    let percent: usize = percent.parse().unwrap_or(100);
    let file = |name: &str| std::fs::read(served.folder.join(name)).map_err(|_| StatusCode::NOT_FOUND);
    let asked = range_of(&headers);
    let range = asked.as_ref();
    served.seen.ranges.lock().unwrap_or_else(PoisonError::into_inner).extend(range.map(|(from, _)| *from));
    let answer = match sort {
        "f" => file(rest).map(|bytes| whole(&bytes, rest, range, usize::MAX)),
        "s" if uri.query().is_some_and(|query| query.contains("view=0")) => {
            file(rest).map(|bytes| named(whole(&bytes, rest, range, usize::MAX), rest))
        }
        "s" => file(rest).map(|_| page(&format!("{rest} · Harbour Share"), "<a href=\"?view=0\">Get it</a>")),
        "moved" => Ok(Redirect::temporary(&format!("/f/{rest}")).into_response()),
        "loop" => Ok(Redirect::temporary("/loop").into_response()),
        "private" if !is_wren(&headers) => {
            Ok((StatusCode::UNAUTHORIZED, [(header::WWW_AUTHENTICATE, "Basic")], "who is there?")
                .into_response())
        }
        "private" => file(rest).map(|bytes| whole(&bytes, rest, range, usize::MAX)),
        "login" if rest == "page" => Ok(page("Who are you?", "<form><input type=\"password\"></form>")),
        "login" => Ok(Redirect::temporary("/login/page").into_response()),
        "expired" => Ok((StatusCode::GONE, page("Gone", "This link has expired.")).into_response()),
        "busy" if time <= 2 => {
            Ok((StatusCode::SERVICE_UNAVAILABLE, [(header::RETRY_AFTER, "0")], "later").into_response())
        }
        "busy" => file(rest).map(|bytes| whole(&bytes, rest, range, usize::MAX)),
        "halt" => file(name).map(|bytes| {
            let most = if time <= 5 { bytes.len() * percent / 100 } else { usize::MAX };
            whole(&bytes, name, range, most)
        }),
        "break" => file(name).map(|bytes| {
            let most = if time == 1 { bytes.len() * percent / 100 } else { usize::MAX };
            whole(&bytes, name, range, most)
        }),
        "cut" => file(name).map(|bytes| whole(&bytes, name, None, bytes.len() * percent / 100)),
        "other" => file(name).map(|mut bytes| {
            if time == 1 {
                return whole(&bytes, name, range, bytes.len() * percent / 100);
            }
            bytes.reverse();
            whole(&bytes, name, range, usize::MAX)
        }),
        "later" => {
            Ok((StatusCode::SERVICE_UNAVAILABLE, [(header::RETRY_AFTER, "99999999")], "later")
                .into_response())
        }
        "part" => {
            let (how, name) = rest.split_once('/').unwrap_or((rest, ""));
            file(name).map(|bytes| part(&bytes, (how, name), range, time))
        }
        "endless" | "drip" | "long" | "slow" => odd(sort, || file(rest)),
        "item" => Ok(page(&format!("Item {rest}"), "A page about it.")),
        "items" => {
            file(rest).map(|bytes| named(whole(&bytes, rest, range, usize::MAX), &format!("{rest}.zip")))
        }
        _ => Ok(StatusCode::NOT_FOUND.into_response()),
    };
    answer.unwrap_or_else(IntoResponse::into_response)
}

/// Whether the request brings the user and password `wren:puffin`.
fn is_wren(headers: &HeaderMap) -> bool {
    headers.get(header::AUTHORIZATION).is_some_and(|value| value == "Basic d3JlbjpwdWZmaW4=")
}

/// Bytes that come without end, one at a time, fewer than were expected, or slowly.
fn odd(sort: &str, file: impl Fn() -> Result<Vec<u8>, StatusCode>) -> Result<Response, StatusCode> {
    let promised = |length: usize, body: Body| {
        ([(header::CONTENT_LENGTH, HeaderValue::from(length))], body).into_response()
    };
    if sort == "endless" {
        let piece = || Ok::<_, io::Error>(Bytes::from_static(&[b'{'; PIECE]));
        return Ok(Body::from_stream(tokio_stream::iter(std::iter::repeat_with(piece))).into_response());
    }
    let bytes = file()?;
    Ok(match sort {
        "drip" => {
            let single: Vec<io::Result<Bytes>> =
                bytes.iter().map(|byte| Ok(Bytes::copy_from_slice(&[*byte]))).collect();
            Body::from_stream(tokio_stream::iter(single).throttle(Duration::from_millis(100))).into_response()
        }
        "long" => promised(bytes.len() + 1000, pieces(&bytes, usize::MAX)),
        _ => {
            let stream = tokio_stream::iter(split(&bytes, usize::MAX)).throttle(Duration::from_millis(150));
            promised(bytes.len(), Body::from_stream(stream))
        }
    })
}

/// From which byte, and only if the file is still the one with this tag.
type Asked = (u64, Option<String>);

/// What is asked for: from where, and only if the file is still that one.
fn range_of(headers: &HeaderMap) -> Option<Asked> {
    let range = headers.get(header::RANGE)?.to_str().ok()?;
    let from = range.strip_prefix("bytes=")?.split('-').next()?.parse().ok()?;
    let only_if = headers.get(header::IF_RANGE).and_then(|tag| tag.to_str().ok()).map(str::to_owned);
    Some((from, only_if))
}

fn split(bytes: &[u8], most: usize) -> Vec<io::Result<Bytes>> {
    let end = bytes.len().min(most);
    let mut pieces: Vec<io::Result<Bytes>> =
        bytes[..end].chunks(PIECE).map(|piece| Ok(Bytes::copy_from_slice(piece))).collect();
    if end < bytes.len() {
        pieces.push(Err(io::Error::other("the line was cut")));
    }
    pieces
}

fn pieces(bytes: &[u8], most: usize) -> Body {
    Body::from_stream(tokio_stream::iter(split(bytes, most)))
}

/// The file, or the asked part of it; `most` bytes of the whole, then the line is cut.
fn whole(bytes: &[u8], name: &str, range: Option<&Asked>, most: usize) -> Response {
    let tag = format!("\"{}\"", &blake3::hash(bytes).to_hex()[..24]);
    let from = range
        .filter(|(_, only_if)| only_if.as_ref().is_none_or(|known| *known == tag))
        .map(|(from, _)| *from);
    let sort = if name.contains("html") { "text/html" } else { "application/octet-stream" };
    let (status, from) = match from.and_then(|from| usize::try_from(from).ok()) {
        Some(from) if from >= bytes.len() => return StatusCode::RANGE_NOT_SATISFIABLE.into_response(),
        Some(from) => (StatusCode::PARTIAL_CONTENT, from),
        None => (StatusCode::OK, 0),
    };
    let rest = bytes[from..].to_vec();
    let mut headers = HeaderMap::new();
    let mut put = |name, value: String| {
        if let Ok(value) = HeaderValue::from_str(&value) {
            headers.insert(name, value);
        }
    };
    put(header::CONTENT_LENGTH, rest.len().to_string());
    put(header::CONTENT_TYPE, sort.into());
    put(header::ETAG, tag);
    if status == StatusCode::PARTIAL_CONTENT {
        put(header::CONTENT_RANGE, format!("bytes {from}-{}/{}", bytes.len() - 1, bytes.len()));
    }
    let body = if most == usize::MAX { Body::from(rest) } else { pieces(&rest, most.saturating_sub(from)) };
    (status, headers, body).into_response()
}

/// Breaks off in the middle first, and then answers wrongly.
fn part(bytes: &[u8], (how, name): (&str, &str), range: Option<&Asked>, time: usize) -> Response {
    let (length, half) = (bytes.len(), bytes.len() / 2);
    let from = range.and_then(|(from, _)| usize::try_from(*from).ok());
    let tagged = |mut response: Response| {
        // A weak tag tells nothing for parts.
        if how == "other" {
            response.headers_mut().remove(header::ETAG);
            response
                .headers_mut()
                .insert(header::LAST_MODIFIED, HeaderValue::from_static("Wed, 01 Jul 2026 10:00:00 GMT"));
        }
        response
    };
    let partly = |range: Option<String>, body: Vec<u8>| {
        let mut response = (StatusCode::PARTIAL_CONTENT, Body::from(body)).into_response();
        if let Some(range) = range.and_then(|range| HeaderValue::from_str(&range).ok()) {
            response.headers_mut().insert(header::CONTENT_RANGE, range);
        }
        response
            .headers_mut()
            .insert(header::CONTENT_TYPE, HeaderValue::from_static("application/octet-stream"));
        response
    };
    if how == "unasked" {
        return partly(Some(format!("bytes {half}-{}/{length}", length - 1)), bytes[half..].to_vec());
    }
    if time == 1 {
        return tagged(whole(bytes, name, None, half));
    }
    let Some(from) = from.filter(|_| time == 2) else {
        let mut bytes = bytes.to_vec();
        if how == "other" {
            bytes.reverse();
        }
        return tagged(whole(&bytes, name, None, usize::MAX));
    };
    let range = format!("bytes {from}-{}/{length}", length - 1);
    match how {
        "from-start" => partly(Some(range), bytes[..length - from].to_vec()),
        "elsewhere" => {
            partly(Some(format!("bytes {}-{}/{length}", from / 2, length - 1)), bytes[from / 2..].to_vec())
        }
        "no-range" => partly(None, bytes[from..].to_vec()),
        "longer" => partly(Some(range), [&bytes[from..], &bytes[..100]].concat()),
        _ => {
            let reversed: Vec<u8> = bytes.iter().rev().copied().collect();
            tagged(partly(Some(range), reversed[from..].to_vec()))
        }
    }
}

fn named(mut response: Response, name: &str) -> Response {
    if let Ok(value) = HeaderValue::from_str(&format!("attachment; filename=\"{name}\"")) {
        response.headers_mut().insert(header::CONTENT_DISPOSITION, value);
    }
    response
}
