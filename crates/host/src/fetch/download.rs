//! Downloads: several at once, resumed where they broke off, tried again where that is worth it, checked before they
//! enter the cache.

use std::{
    collections::HashMap,
    fs::{self, File, OpenOptions},
    io::{Read, Seek, SeekFrom, Write},
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};

use reqwest::{RequestBuilder, Response, StatusCode, header};
use serde::{Deserialize, Serialize};
use tokio::sync::Semaphore;
use yalotheca_core::{
    id::Digest,
    link::{self, Answer, Sort, judge},
};

use super::{FetchError, Net, Watch, reason};
use crate::store::Store;

/// So many downloads from one host at once.
const PER_HOST: usize = 6;

/// So often a download is tried.
const TRIES: u32 = 5;

/// How long to wait before the second try; doubled for each further one.
const FIRST_PAUSE: Duration = Duration::from_millis(200);

/// A host may ask for a pause that is no longer than this.
const LONGEST_PAUSE: Duration = Duration::from_secs(60);

/// How much of a file tells what it is.
const HEAD: usize = 2048;

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
    fn most(&self) -> u64 {
        self.size.or(self.most).unwrap_or(super::LARGEST_FILE)
    }
}

/// A file that was fetched into the cache.
#[derive(Debug, Clone)]
pub struct Brought {
    /// Where it lies.
    pub path: PathBuf,
    /// The digest of its bytes.
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
    /// The name that the host gives it.
    pub name: Option<String>,
}

/// What is noted beside a download that is not complete.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Validator {
    /// The entity tag, or the date, that tells whether the file is still the same.
    same_if: Option<String>,
}

/// One try.
enum Try {
    Done(Brought),
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
) -> Result<Brought, FetchError> {
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

/// The part of a file that an answer says it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Part {
    from: u64,
    /// Where it ends, one behind the last byte.
    end: u64,
    total: Option<u64>,
}

impl Part {
    fn of(response: &Response) -> Option<Self> {
        Self::parse(response.headers().get(header::CONTENT_RANGE)?.to_str().ok()?)
    }

    fn parse(text: &str) -> Option<Self> {
        let (range, total) = text.strip_prefix("bytes ")?.trim().split_once('/')?;
        let (from, last) = range.split_once('-')?;
        let (from, last) = (from.trim().parse().ok()?, last.trim().parse::<u64>().ok()?);
        let total = if total.trim() == "*" { None } else { Some(total.trim().parse().ok()?) };
        let end = last.checked_add(1)?;
        (from < end && total.is_none_or(|total| end <= total)).then_some(Self { from, end, total })
    }
}

/// How an answer goes on with what is there.
enum GoesOn {
    /// It is the whole file.
    Whole,
    /// It is the rest, from a byte on, up to another.
    Rest(Part),
    /// It is none that was asked for.
    Not(&'static str),
}

fn goes_on(response: &Response, asked: u64, partial: &Partial, wanted: &Wanted) -> GoesOn {
    if response.status() != StatusCode::PARTIAL_CONTENT {
        return GoesOn::Whole;
    }
    if partial.length() == 0 {
        return GoesOn::Not("it answers with a part of the file, and the whole was asked for");
    }
    let Some(part) = Part::of(response) else {
        return GoesOn::Not("it answers with a part of the file and does not say which");
    };
    if part.from != asked {
        return GoesOn::Not("it answers with another part of the file than was asked for");
    }
    if response.content_length().is_some_and(|length| length != part.end - part.from) {
        return GoesOn::Not("it answers with more or less than it says");
    }
    let tag = response.headers().get(header::ETAG).and_then(|tag| tag.to_str().ok());
    let is_other = tag.is_some_and(|tag| {
        partial.validator.same_if.as_deref().is_some_and(|known| known.starts_with('"') && known != tag)
    });
    let other_size = part.total.is_some_and(|total| wanted.size.is_some_and(|size| size != total));
    if is_other || other_size {
        return GoesOn::Not("the file is another one than before");
    }
    GoesOn::Rest(part)
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
    let mut response = match request.send().await {
        Ok(response) => response,
        Err(error) if error.is_redirect() || error.is_builder() => return Try::Failed(unreachable(&error)),
        Err(error) => return Try::Broke(unreachable(&error), None),
    };
    let status = response.status();
    if status == StatusCode::RANGE_NOT_SATISFIABLE && partial.length() > 0 {
        partial.restart();
        return Try::Broke(FetchError::Refused { url: url.clone(), status }, Some(Duration::ZERO));
    }
    let part = match goes_on(&response, asked, partial, wanted) {
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
    // What comes first of a part may be there already.
    let mut known = part.map_or(0, |part| partial.length() - part.from);
    let total = part.map_or(response.content_length(), |part| Some(part.total.unwrap_or(part.end)));
    let about = About::of(&response);
    let mut head = if was_resumed { partial.head() } else { Vec::new() };
    let mut judged = was_resumed && head.len() >= HEAD;
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
    let mut pace = Pace::new(net.pace);
    loop {
        let chunk = match tokio::time::timeout(pace.left(), response.chunk()).await {
            Err(_) if pace.is_too_slow() => {
                partial.flush();
                return broke(format!(
                    "it is too slow: {} bytes in {} s",
                    pace.came,
                    net.pace.window.as_secs().max(1)
                ));
            }
            Err(_) => continue,
            Ok(Ok(Some(chunk))) => chunk,
            Ok(Ok(None)) => break,
            Ok(Err(error)) if !status.is_success() => {
                return about.failed(url, &head, Some(unreachable(&error)));
            }
            Ok(Err(error)) => {
                partial.flush();
                return broke(format!("it broke off after {} bytes: {}", partial.length(), reason(&error)));
            }
        };
        pace.came += chunk.len() as u64;
        if !judged {
            head.extend_from_slice(&chunk[..chunk.len().min(HEAD - head.len().min(HEAD))]);
            judged = head.len() >= HEAD;
            if judged && about.sort(&head) != Sort::File {
                return about.failed(url, &head, None);
            }
        }
        if judged && other_size.is_some() {
            break;
        }
        if !status.is_success() {
            if judged {
                break;
            }
            continue;
        }
        let mut bytes = &chunk[..];
        if known > 0 {
            let (again, new) = bytes.split_at(bytes.len().min(usize::try_from(known).unwrap_or(usize::MAX)));
            if !partial.holds(partial.length() - known, again) {
                partial.restart();
                return broke("the file is another one than before".into());
            }
            (known, bytes) = (known - again.len() as u64, new);
        }
        let room = part.map_or(wanted.most(), |part| part.end.min(wanted.most()));
        if partial.length() + bytes.len() as u64 > room {
            partial.restart();
            return Try::Failed(FetchError::TooLong { url: url.clone(), most: room });
        }
        if let Err(source) = partial.write(bytes) {
            return Try::Failed(FetchError::Disk { path: partial.path.display().to_string(), source });
        }
        watch.came(number, bytes.len() as u64);
    }
    if about.sort(&head) != Sort::File {
        return about.failed(url, &head, None);
    }
    if let Some(error) = other_size {
        return Try::Failed(error);
    }
    partial.flush();
    finish(store, wanted, partial, (total, was_resumed), about.name)
}

/// Whether something comes at least as quickly as can be waited for.
struct Pace {
    limits: super::PaceLimits,
    since: Instant,
    came: u64,
}

impl Pace {
    fn new(limits: super::PaceLimits) -> Self {
        Self { limits, since: Instant::now(), came: 0 }
    }

    /// How long to wait before it is looked at.
    fn left(&mut self) -> Duration {
        if self.since.elapsed() >= self.limits.window && self.came >= self.limits.least {
            (self.since, self.came) = (Instant::now(), 0);
        }
        self.limits.window.saturating_sub(self.since.elapsed())
    }

    fn is_too_slow(&self) -> bool {
        self.since.elapsed() >= self.limits.window && self.came < self.limits.least
    }
}

/// What an address holds, as far as its host tells.
#[derive(Debug, Clone)]
pub struct Told {
    /// Whether it is the file.
    pub sort: Sort,
    /// How large it is, where that is told.
    pub size: Option<u64>,
}

/// Asks an address, and reads no more than the beginning of the answer.
pub(super) async fn ask(net: &Net, url: &str) -> Result<Told, FetchError> {
    let unreachable =
        |error: &reqwest::Error| FetchError::Unreachable { url: url.into(), why: reason(error) };
    let mut response = net.get(url).send().await.map_err(|error| unreachable(&error))?;
    let (about, size) = (About::of(&response), response.content_length());
    let mut head = Vec::new();
    while let Some(chunk) = response.chunk().await.map_err(|error| unreachable(&error))? {
        head.extend_from_slice(&chunk);
        if head.len() >= HEAD {
            break;
        }
    }
    Ok(Told { sort: about.sort(&head), size: size.filter(|_| about.status.is_success()) })
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
    match store.adopt(&partial.path, &digest) {
        Ok(path) => Try::Done(Brought { path, digest, size, name }),
        Err(error) => Try::Failed(error.into()),
    }
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

    fn sort(&self, head: &[u8]) -> Sort {
        judge(&Answer {
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
            Sort::Failing(_) => Try::Broke(FetchError::Refused { url, status: self.status }, self.pause),
            Sort::Page(title) => Try::Failed(FetchError::Page { url, title }),
            Sort::Login => Try::Failed(FetchError::Login { url }),
            Sort::Expired => Try::Failed(FetchError::Expired { url }),
            Sort::File => {
                Try::Broke(otherwise.unwrap_or(FetchError::Refused { url, status: self.status }), None)
            }
            Sort::Missing | Sort::Refused(_) => Try::Failed(FetchError::Refused { url, status: self.status }),
        }
    }
}

/// A download on the disk, with the digest of what has come so far.
struct Partial {
    path: PathBuf,
    file: File,
    hasher: blake3::Hasher,
    length: u64,
    validator: Validator,
    /// Held while we are at it, with what is noted of the download in it; nothing where another process holds it.
    lock: Option<File>,
}

impl Partial {
    fn open(store: &Store, url: &str) -> Result<Self, FetchError> {
        let base = store.partial(url)?;
        let failed = |path: &Path| {
            let path = path.display().to_string();
            move |source| FetchError::Disk { path, source }
        };
        let lock_path = base.with_extension("lock");
        let open = |path: &Path| {
            let file = OpenOptions::new().read(true).write(true).create(true).truncate(false).open(path);
            file.map_err(failed(path))
        };
        let lock = Some(open(&lock_path)?).filter(|lock| lock.try_lock().is_ok());
        let path = match &lock {
            Some(_) => base.with_extension("part"),
            None => base.with_extension(format!("part-{}", std::process::id())),
        };
        let mut partial = Self {
            file: open(&path)?,
            hasher: blake3::Hasher::new(),
            length: 0,
            validator: Validator::default(),
            path,
            lock,
        };
        let mut noted = Vec::new();
        let read = partial.lock.as_mut().and_then(|lock| lock.read_to_end(&mut noted).ok());
        match read.and_then(|_| serde_json::from_slice::<Validator>(&noted).ok()) {
            // Without anything that tells whether the file is the same, the beginning is worth nothing.
            Some(validator) if validator.same_if.is_some() => {
                partial.validator = validator;
                partial.take_up();
            }
            _ => partial.restart(),
        }
        Ok(partial)
    }

    /// Hashes what is there already.
    fn take_up(&mut self) {
        let mut buffer = vec![0; 256 << 10];
        while let Ok(read @ 1..) = self.file.read(&mut buffer) {
            self.hasher.update(&buffer[..read]);
            self.length += read as u64;
        }
    }

    fn restart(&mut self) {
        // Some disks write at once what comes into a file that was cut, even where it was empty.
        if self.file.metadata().is_ok_and(|metadata| metadata.len() > 0) {
            self.file.set_len(0).ok();
        }
        self.file.seek(SeekFrom::Start(0)).ok();
        self.hasher.reset();
        self.length = 0;
    }

    fn length(&self) -> u64 {
        self.length
    }

    fn head(&mut self) -> Vec<u8> {
        let mut head = Vec::new();
        if let Ok(file) = File::open(&self.path) {
            file.take(HEAD as u64).read_to_end(&mut head).ok();
        }
        head
    }

    fn write(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        self.file.write_all(bytes)?;
        self.hasher.update(bytes);
        self.length += bytes.len() as u64;
        Ok(())
    }

    /// Whether some bytes stand at a place of what is there.
    fn holds(&self, at: u64, bytes: &[u8]) -> bool {
        let mut there = vec![0; bytes.len()];
        self.file.read_exact_at(&mut there, at).is_ok() && there == bytes
    }

    fn flush(&mut self) {
        self.file.flush().ok();
    }

    fn digest(&self) -> Digest {
        Digest::from_bytes(*self.hasher.finalize().as_bytes())
    }

    fn note(&self) {
        if let (Some(lock), Ok(bytes)) = (&self.lock, serde_json::to_vec(&self.validator)) {
            // Not worth a failure: the download would only begin anew.
            lock.write_all_at(&bytes, 0).and_then(|()| lock.set_len(bytes.len() as u64)).ok();
        }
    }

    /// Nothing of it is worth keeping.
    fn forget(&self) {
        fs::remove_file(&self.path).ok();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_are_what_they_say_or_none() {
        let part = |text| Part::parse(text).map(|part| (part.from, part.end, part.total));
        assert_eq!(part("bytes 5-9/10"), Some((5, 10, Some(10))));
        assert_eq!(part("bytes 0-0/*"), Some((0, 1, None)));
        for text in [
            "",
            "bytes 5-4/10",
            "bytes 5-10/10",
            "bytes */10",
            "bytes 5-/10",
            "items 5-9/10",
            "bytes 0-18446744073709551615/*",
        ] {
            assert_eq!(part(text), None, "{text}");
        }
    }
}
