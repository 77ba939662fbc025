//! Downloads: several at once, resumed where they broke off, tried again where that is worth it, checked before they
//! enter the cache.

use std::{
    collections::HashMap,
    path::PathBuf,
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};

use reqwest::{RequestBuilder, Response, StatusCode, header};
use tokio::sync::Semaphore;
use tracing::debug;
use yalotheca_core::{
    id::Digest,
    link::{self, HttpAnswer, LinkTarget, judge},
};

use super::{
    FetchError, Net, Watch,
    part::{GoesOn, Pace, goes_on},
    partial::{HEAD, Partial},
    reason,
};
use crate::store::Store;

/// So many downloads from one host at once.
const PER_HOST: usize = 6;

/// So often a download is tried.
const TRIES: u32 = 5;

/// How long to wait before the second try; doubled for each further one.
const FIRST_PAUSE: Duration = Duration::from_millis(200);

/// A host may ask for a pause that is no longer than this.
const LONGEST_PAUSE: Duration = Duration::from_secs(60);

/// Where no digest tells whether a file is the right one, so much of what is there is asked for again, and must be the same.
const OVERLAP: u64 = 64 << 10;

/// One file that is wanted.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// Its address.
    pub url: String,
    /// What people call it.
    pub name: String,
    /// The digest that was promised.
    pub digest: Option<Digest>,
    /// The size that was promised.
    pub size: Option<u64>,
    /// Where no size was promised: the most that it may have.
    pub most: Option<u64>,
}

impl Wanted {
    /// How many bytes may come, and a few more to tell that there are too many.
    pub(super) fn most(&self) -> u64 {
        self.size.or(self.most).unwrap_or(super::LARGEST_FILE)
    }
}

/// A file that was fetched into the cache.
#[derive(Debug, Clone)]
pub struct Downloaded {
    /// Where it lies.
    pub path: PathBuf,
    /// The digest of its bytes.
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
    /// The name that the host gives it.
    pub name: Option<String>,
}

/// One try.
enum Try {
    Done(Downloaded),
    /// It broke; another try may help, after so long.
    Broke(FetchError, Option<Duration>),
    /// No other try will help.
    Failed(FetchError),
}

/// The limits for hosts, shared by all downloads of a command.
#[derive(Debug, Default)]
pub(super) struct Hosts {
    known: Mutex<HashMap<String, Arc<Semaphore>>>,
}

impl Hosts {
    fn of(&self, url: &str) -> Arc<Semaphore> {
        let host = url.split_once("://").map_or(url, |(_, rest)| rest).split('/').next().unwrap_or("");
        let mut known = self.known.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        Arc::clone(known.entry(host.to_owned()).or_insert_with(|| Arc::new(Semaphore::new(PER_HOST))))
    }
}

/// Fetches one file.
pub(super) async fn fetch(
    net: &Net,
    store: &Store,
    wanted: &Wanted,
    watch: &dyn Watch,
) -> Result<Downloaded, FetchError> {
    let limit = net.hosts.of(&wanted.url);
    let _turn = limit.acquire().await;
    let mut partial = Partial::open(store, &wanted.url)?;
    let number = watch.begin(&wanted.name, partial.length(), wanted.size);
    let mut pause = FIRST_PAUSE;
    let mut tries = 0;
    let result = loop {
        tries += 1;
        match attempt(net, store, wanted, &mut partial, (watch, number)).await {
            Try::Done(brought) => break Ok(brought),
            Try::Failed(error) => {
                partial.forget();
                break Err(error);
            }
            Try::Broke(error, _) if tries >= TRIES => break Err(error),
            Try::Broke(error, asked) => {
                watch.again(number, &error.to_string());
                tokio::time::sleep(asked.unwrap_or(pause).min(LONGEST_PAUSE)).await;
                pause *= 2;
            }
        }
    };
    watch.end(number);
    result
}

/// Asks for what is not there yet, if it is still the same file, and returns from where on that is. Where no digest will tell
/// whether the parts belong together, a part of what is there is asked for again.
fn request(net: &Net, wanted: &Wanted, partial: &mut Partial) -> (RequestBuilder, u64) {
    let request = net.get(&wanted.url);
    let is_strong = partial.validator.same_if.as_ref().is_some_and(|tag| tag.starts_with('"'));
    if partial.length() > 0 && wanted.digest.is_none() && !is_strong {
        partial.restart();
    }
    let there = partial.length();
    if there == 0 {
        return (request, 0);
    }
    let from = if wanted.digest.is_some() { there } else { there.saturating_sub(OVERLAP) };
    let request = request.header(header::RANGE, format!("bytes={from}-"));
    match &partial.validator.same_if {
        Some(same_if) => (request.header(header::IF_RANGE, same_if), from),
        None => (request, from),
    }
}

async fn attempt(
    net: &Net,
    store: &Store,
    wanted: &Wanted,
    partial: &mut Partial,
    (watch, number): (&dyn Watch, usize),
) -> Try {
    let url = &wanted.url;
    let unreachable =
        |error: &reqwest::Error| FetchError::Unreachable { url: url.clone(), why: reason(error) };
    let broke = |why: String| Try::Broke(FetchError::Unreachable { url: url.clone(), why }, None);
    let (request, asked) = request(net, wanted, partial);
    let started = Instant::now();
    let sent = request.send().await;
    let took = started.elapsed().as_millis();
    match &sent {
        Ok(response) => debug!("GET {url}: {} after {took} ms", response.status()),
        Err(error) => debug!("GET {url}: {} after {took} ms", reason(error)),
    }
    let mut response = match sent {
        Ok(response) => response,
        Err(error) if error.is_redirect() || error.is_builder() => return Try::Failed(unreachable(&error)),
        Err(error) => return Try::Broke(unreachable(&error), None),
    };
    let status = response.status();
    if status == StatusCode::RANGE_NOT_SATISFIABLE && partial.length() > 0 {
        partial.restart();
        return Try::Broke(FetchError::Refused { url: url.clone(), status }, Some(Duration::ZERO));
    }
    let part = match goes_on(&response, asked, partial, wanted.size) {
        GoesOn::Whole => None,
        GoesOn::Rest(part) => Some(part),
        GoesOn::Not(why) => {
            partial.restart();
            return broke(why.into());
        }
    };
    if part.is_none() {
        partial.restart();
    }
    let was_resumed = part.is_some();
    let total = part.map_or(response.content_length(), |part| Some(part.total.unwrap_or(part.end)));
    let about = About::of(&response);
    if let Some(total) = total.filter(|_| status.is_success()) {
        watch.sized(number, partial.length(), total);
    }
    // A page has another size as well; that it is one says more.
    let other_size = match (wanted.size, total) {
        (Some(promised), Some(found)) if promised != found => {
            Some(FetchError::OtherSize { url: url.clone(), promised, found })
        }
        (None, Some(found)) if found > wanted.most() => {
            Some(FetchError::TooLong { url: url.clone(), most: wanted.most() })
        }
        _ => None,
    };
    partial.validator.same_if.clone_from(&about.same_if);
    partial.note();
    let mut incoming = Incoming {
        head: if was_resumed { partial.head() } else { Vec::new() },
        // What comes first of a part may be there already.
        known: part.map_or(0, |part| partial.length() - part.from),
        room: part.map_or(wanted.most(), |part| part.end.min(wanted.most())),
        is_wrong: other_size.is_some() || !status.is_success(),
        pace: Pace::new(net.pace),
    };
    if let Err(failed) = incoming.receive(&mut response, &about, (url, partial), (watch, number)).await {
        return failed;
    }
    if about.sort(&incoming.head) != LinkTarget::File {
        return about.failed(url, &incoming.head, None);
    }
    if let Some(error) = other_size {
        return Try::Failed(error);
    }
    partial.flush();
    finish(store, wanted, partial, (total, was_resumed), about.name)
}

/// What comes in.
struct Incoming {
    /// The first bytes of the file.
    head: Vec<u8>,
    /// So many of the next bytes are there already.
    known: u64,
    /// So long may the file become.
    room: u64,
    /// Whether it is only looked at what it is.
    is_wrong: bool,
    pace: Pace,
}

impl Incoming {
    async fn receive(
        &mut self,
        response: &mut Response,
        about: &About,
        (url, partial): (&str, &mut Partial),
        (watch, number): (&dyn Watch, usize),
    ) -> Result<(), Try> {
        let broke = |why: String| Try::Broke(FetchError::Unreachable { url: url.to_owned(), why }, None);
        while let Some(chunk) = self.next(response, about, (url, partial)).await? {
            self.pace.came += chunk.len() as u64;
            if self.head.len() < HEAD {
                self.head.extend_from_slice(&chunk[..chunk.len().min(HEAD - self.head.len())]);
                if self.head.len() >= HEAD && about.sort(&self.head) != LinkTarget::File {
                    return Err(about.failed(url, &self.head, None));
                }
            }
            if self.is_wrong {
                if self.head.len() >= HEAD {
                    return Ok(());
                }
                continue;
            }
            let mut bytes = &chunk[..];
            if self.known > 0 {
                let many = usize::try_from(self.known).unwrap_or(usize::MAX).min(bytes.len());
                let (again, new) = bytes.split_at(many);
                if !partial.holds(partial.length() - self.known, again) {
                    partial.restart();
                    return Err(broke("the file is another one than before".into()));
                }
                (self.known, bytes) = (self.known - again.len() as u64, new);
            }
            if partial.length() + bytes.len() as u64 > self.room {
                partial.restart();
                return Err(Try::Failed(FetchError::TooLong { url: url.to_owned(), most: self.room }));
            }
            if let Err(source) = partial.write(bytes) {
                let path = partial.path.display().to_string();
                return Err(Try::Failed(FetchError::Disk { path, source }));
            }
            watch.came(number, bytes.len() as u64);
        }
        Ok(())
    }

    /// Waits for what comes next, and not for ever.
    async fn next(
        &mut self,
        response: &mut Response,
        about: &About,
        (url, partial): (&str, &mut Partial),
    ) -> Result<Option<impl std::ops::Deref<Target = [u8]> + use<>>, Try> {
        let unreachable = |why: String| FetchError::Unreachable { url: url.to_owned(), why };
        loop {
            match tokio::time::timeout(self.pace.left(), response.chunk()).await {
                Err(_) if self.pace.is_too_slow() => {
                    partial.flush();
                    return Err(Try::Broke(unreachable(self.pace.told()), None));
                }
                Err(_) => {}
                Ok(Ok(chunk)) => return Ok(chunk),
                Ok(Err(error)) if !about.status.is_success() => {
                    return Err(about.failed(url, &self.head, Some(unreachable(reason(&error)))));
                }
                Ok(Err(error)) => {
                    partial.flush();
                    let why = format!("it broke off after {} bytes: {}", partial.length(), reason(&error));
                    return Err(Try::Broke(unreachable(why), None));
                }
            }
        }
    }
}

/// What an address holds, as far as its host tells.
#[derive(Debug, Clone)]
pub struct Told {
    /// Whether it is the file.
    pub sort: LinkTarget,
    /// How large it is, where that is told.
    pub size: Option<u64>,
    /// The host's tag for this version of the file, if it sends one.
    pub tag: Option<String>,
}

/// Asks an address, and reads no more than the beginning of the answer.
pub(super) async fn ask(net: &Net, url: &str) -> Result<Told, FetchError> {
    let unreachable =
        |error: &reqwest::Error| FetchError::Unreachable { url: url.into(), why: reason(error) };
    let started = Instant::now();
    let mut response = net.get(url).send().await.map_err(|error| unreachable(&error))?;
    debug!("GET {url}: {} after {} ms", response.status(), started.elapsed().as_millis());
    let (about, size) = (About::of(&response), response.content_length());
    let mut head = Vec::new();
    while let Some(chunk) = response.chunk().await.map_err(|error| unreachable(&error))? {
        head.extend_from_slice(&chunk);
        if head.len() >= HEAD {
            break;
        }
    }
    let size = size.filter(|_| about.status.is_success());
    Ok(Told { sort: about.sort(&head), size, tag: about.same_if })
}

/// Everything has come: it is checked, and enters the cache.
fn finish(
    store: &Store,
    wanted: &Wanted,
    partial: &mut Partial,
    (total, was_resumed): (Option<u64>, bool),
    name: Option<String>,
) -> Try {
    let url = &wanted.url;
    let size = partial.length();
    if let Some(total) = total.filter(|total| *total != size) {
        let why = format!("{size} of {total} bytes came");
        return Try::Broke(FetchError::Unreachable { url: url.clone(), why }, None);
    }
    if let Some(promised) = wanted.size.filter(|promised| *promised != size) {
        return Try::Failed(FetchError::OtherSize { url: url.clone(), promised, found: size });
    }
    let digest = partial.digest();
    if let Some(expected) = wanted.digest.filter(|expected| *expected != digest) {
        let error =
            FetchError::OtherBytes { url: url.clone(), expected: expected.short(), found: digest.short() };
        if was_resumed {
            // The first part may be of another file: from the beginning, then.
            partial.restart();
            return Try::Broke(error, Some(Duration::ZERO));
        }
        return Try::Failed(error);
    }
    let tag = partial.validator.same_if.clone().unwrap_or_default();
    match store.adopt(&partial.path, &digest) {
        Ok(path) => {
            // Not worth a failure: the file would only be downloaded again.
            store.remember(&tag_key(url), &tag, digest.to_string().as_bytes()).ok();
            Try::Done(Downloaded { path, digest, size, name })
        }
        Err(error) => Try::Failed(error.into()),
    }
}

/// The name under which the cache knows the host's tag for a downloaded file.
pub(super) fn tag_key(url: &str) -> String {
    format!("the file behind {url}")
}

/// What an answer says of itself.
struct About {
    status: StatusCode,
    content_type: String,
    names_a_file: bool,
    name: Option<String>,
    same_if: Option<String>,
    address: String,
    pause: Option<Duration>,
}

impl About {
    fn of(response: &Response) -> Self {
        let text = |name: header::HeaderName| {
            response.headers().get(name).map(|value| String::from_utf8_lossy(value.as_bytes()).into_owned())
        };
        let disposition = text(header::CONTENT_DISPOSITION).unwrap_or_default();
        let address = response.url().to_string();
        let tag = text(header::ETAG).filter(|tag| !tag.starts_with("W/"));
        let seconds = text(header::RETRY_AFTER).and_then(|text| text.trim().parse().ok());
        Self {
            status: response.status(),
            content_type: text(header::CONTENT_TYPE).unwrap_or_default().to_ascii_lowercase(),
            names_a_file: disposition.to_ascii_lowercase().starts_with("attachment"),
            name: link::name_in_disposition(&disposition).or_else(|| link::name_in_address(&address)),
            same_if: tag.or_else(|| text(header::LAST_MODIFIED)),
            address,
            pause: seconds.map(Duration::from_secs),
        }
    }

    fn sort(&self, head: &[u8]) -> LinkTarget {
        judge(&HttpAnswer {
            status: self.status.as_u16(),
            content_type: &self.content_type,
            names_a_file: self.names_a_file,
            address: &self.address,
            head,
        })
    }

    /// What an answer means that is not the file.
    fn failed(&self, url: &str, head: &[u8], otherwise: Option<FetchError>) -> Try {
        let url = url.to_owned();
        match self.sort(head) {
            LinkTarget::Failing(_) => {
                Try::Broke(FetchError::Refused { url, status: self.status }, self.pause)
            }
            LinkTarget::Page(title) => Try::Failed(FetchError::Page { url, title }),
            LinkTarget::Login => Try::Failed(FetchError::Login { url }),
            LinkTarget::Expired => Try::Failed(FetchError::Expired { url }),
            LinkTarget::File => {
                Try::Broke(otherwise.unwrap_or(FetchError::Refused { url, status: self.status }), None)
            }
            LinkTarget::Missing | LinkTarget::Refused(_) => {
                Try::Failed(FetchError::Refused { url, status: self.status })
            }
        }
    }
}
