//! HTTP. The network and its runtime start with the first request, so that commands without one stay instant.

mod download;
mod logins;
mod part;
mod partial;

use std::{
    collections::HashMap,
    sync::{Arc, Mutex, OnceLock, PoisonError},
    time::{Duration, Instant},
};

use reqwest::{StatusCode, header};
use tracing::debug;
use yalotheca_core::{
    hint::{Advice, Hint},
    id::Digest,
    link::{LinkTarget, without_user},
};

use crate::store::{Store, StoreError};
pub use crate::watch::{Nobody, Watch};
use download::Hosts;
pub use download::{Downloaded, Told, Wanted};
use logins::Logins;
pub use logins::{Credentials, credentials_of};

/// A request that failed.
#[derive(Debug, thiserror::Error)]
pub enum FetchError {
    /// Nobody answered.
    #[error("{url}: {why}")]
    Unreachable {
        /// The address.
        url: String,
        /// Why.
        why: String,
    },
    /// The host answered with an error.
    #[error("{url}: the host answers {status}")]
    Refused {
        /// The address.
        url: String,
        /// The status.
        status: StatusCode,
    },
    /// The file is not the one that was promised.
    #[error("{url}: the file's digest is {found}, but {expected} was expected")]
    OtherBytes {
        /// The address.
        url: String,
        /// The digest that the catalogue names.
        expected: String,
        /// The digest that came.
        found: String,
    },
    /// The file is longer or shorter than was promised.
    #[error("{url}: the file has {found} bytes, but {promised} were expected")]
    OtherSize {
        /// The address.
        url: String,
        /// The size that was promised.
        promised: u64,
        /// The size that the host tells or that came.
        found: u64,
    },
    /// More comes than was promised, or than may come.
    #[error(
        "{url}: more than {most} bytes come, which is more than was promised or than such a file may have"
    )]
    TooLong {
        /// The address.
        url: String,
        /// How many may come.
        most: u64,
    },
    /// The user's credentials cannot be used.
    #[error("{path}: {why}")]
    Credentials {
        /// The file.
        path: String,
        /// What is wrong with it.
        why: String,
    },
    /// It is a page about the file.
    #[error("{url}: it is a web page{}, not the file", if title.is_empty() { String::new() } else { format!(" (“{title}”)") })]
    Page {
        /// The address.
        url: String,
        /// The page's title.
        title: String,
    },
    /// The host wants a login.
    #[error("{url}: the host wants a login")]
    Login {
        /// The address.
        url: String,
    },
    /// The link was good once.
    #[error("{url}: the link has expired")]
    Expired {
        /// The address.
        url: String,
    },
    /// The disk failed.
    #[error("{path}: {source}")]
    Disk {
        /// The file.
        path: String,
        /// Why.
        source: std::io::Error,
    },
    /// The network may not be used, and the cache does not have it.
    #[error("{url}: it is not in the cache, and the network may not be used")]
    Offline {
        /// The address.
        url: String,
    },
    /// The cache failed.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl Hint for FetchError {
    fn hint(&self) -> Option<Advice> {
        Some(match self {
            Self::Unreachable { .. } => {
                Advice::GoOnOffline
            }
            Self::Refused { status, .. } if status.is_server_error() => {
                "the host fails; try again later".into()
            }
            Self::Refused { .. } => Advice::CheckLinks,
            Self::OtherSize { .. } | Self::TooLong { .. } => {
                "nothing was placed; ask its publisher which is right".into()
            }
            Self::Credentials { .. } => "it holds passwords: only you may read it (chmod 600)".into(),
            Self::Page { .. } => {
                "copy the address of the download itself; or teach yalotheca the host's addresses: [[link]] in yalotheca.toml"
                    .into()
            }
            Self::Login { .. } => {
                "put your user and password there into credentials.toml in yalotheca's configuration folder; or fetch it with your \
                 browser and give yalotheca the file"
                    .into()
            },
            Self::Expired { .. } => "get a new link where you got this one".into(),
            Self::Disk { .. } => "look whether the disk is full".into(),
            Self::OtherBytes { .. } => {
                "nothing was placed; try again, and tell the catalogue's publisher if it stays so".into()
            }
            Self::Offline { .. } => Advice::UseNetworkOnce,
            Self::Store(error) => return error.hint(),
        })
    }
}

/// Fetches over HTTP, through the cache.
#[derive(Debug)]
pub struct Fetcher {
    store: Store,
    offline: bool,
    watch: Arc<dyn Watch>,
    logins: Mutex<Logins>,
    /// What was asked in this command: it is not asked again.
    answers: Mutex<HashMap<String, Option<Vec<u8>>>>,
    pace: PaceLimits,
    net: OnceLock<Arc<Net>>,
}

#[derive(Debug)]
struct Net {
    runtime: tokio::runtime::Runtime,
    client: reqwest::Client,
    hosts: Hosts,
    logins: Logins,
    pace: PaceLimits,
}

impl Net {
    /// Returns a request for an address, with the credentials for its host.
    fn get(&self, url: &str) -> reqwest::RequestBuilder {
        let request = self.client.get(without_user(url));
        match self.logins.of(url) {
            Some((user, password)) => request.basic_auth(user, Some(password)),
            None => request,
        }
    }
}

/// How quickly something has to come.
#[derive(Debug, Clone, Copy)]
struct PaceLimits {
    /// Within so long a time
    window: Duration,
    /// so many bytes.
    least: u64,
}

impl Default for PaceLimits {
    fn default() -> Self {
        Self { window: Duration::from_secs(30), least: 8 << 10 }
    }
}

/// A file of unknown size may have so many bytes.
const LARGEST_FILE: u64 = 64 << 30;

/// A content's file in a catalogue may have so many.
const LARGEST_CONTENT: u64 = 64 << 20;

/// So many links are asked about at once.
const ASKED_AT_ONCE: usize = 8;

/// So many hosts may pass a request on.
const REDIRECTS: usize = 8;

impl Fetcher {
    /// Returns a fetcher.
    pub fn new(store: Store, offline: bool) -> Self {
        Self {
            store,
            offline,
            watch: Arc::new(Nobody),
            logins: Mutex::default(),
            answers: Mutex::default(),
            pace: PaceLimits::default(),
            net: OnceLock::new(),
        }
    }

    /// Returns a fetcher at which somebody looks on.
    #[must_use]
    pub fn watched(self, watch: Arc<dyn Watch>) -> Self {
        Self { watch, ..self }
    }

    /// Returns a fetcher that gives up on what is too slow after so long a time; by default half a minute.
    #[must_use]
    pub fn with_pace(self, window: Duration) -> Self {
        Self { pace: PaceLimits { window, ..self.pace }, ..self }
    }

    /// Returns whether the network may not be used.
    pub fn is_offline(&self) -> bool {
        self.offline
    }

    /// Returns the cache.
    pub fn store(&self) -> &Store {
        &self.store
    }

    fn net(&self, url: &str) -> Result<&Arc<Net>, FetchError> {
        if let Some(net) = self.net.get() {
            return Ok(net);
        }
        let failed = |why: String| FetchError::Unreachable { url: url.into(), why };
        // Another part of the program may have chosen one already; either will do.
        rustls::crypto::ring::default_provider().install_default().ok();
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(2)
            .enable_all()
            .build()
            .map_err(|error| failed(error.to_string()))?;
        let client = reqwest::Client::builder()
            .user_agent(concat!("yalotheca/", env!("CARGO_PKG_VERSION")))
            .connect_timeout(Duration::from_secs(10))
            .read_timeout(Duration::from_secs(30))
            .redirect(reqwest::redirect::Policy::custom(redirect))
            .build()
            .map_err(|error| failed(reason(&error)))?;
        let mut logins = Logins::of_user()?;
        logins.extend(&self.logins.lock().unwrap_or_else(PoisonError::into_inner));
        let net = Net { runtime, client, hosts: Hosts::default(), logins, pace: self.pace };
        Ok(self.net.get_or_init(|| Arc::new(net)))
    }

    /// Remembers the user and password in an address until this command ends.
    pub fn log_in(&self, url: &str) {
        self.logins.lock().unwrap_or_else(PoisonError::into_inner).note(url);
    }

    /// Returns what an address holds, asking only whether it has changed where it is known, and at most so many bytes. Returns
    /// nothing where there is no such file.
    ///
    /// # Errors
    /// If the host does not answer, refuses, or sends too much, or if `--offline` is set and nothing is cached.
    pub fn get(&self, url: &str, most: u64) -> Result<Option<Vec<u8>>, FetchError> {
        if let Some(known) = self.answers.lock().unwrap_or_else(PoisonError::into_inner).get(url) {
            return Ok(known.clone());
        }
        let answer = self.ask_again(url, most)?;
        self.answers.lock().unwrap_or_else(PoisonError::into_inner).insert(url.to_owned(), answer.clone());
        Ok(answer)
    }

    fn ask_again(&self, url: &str, most: u64) -> Result<Option<Vec<u8>>, FetchError> {
        let known = self.store.answer(url);
        if self.offline {
            return match known {
                Some((_, bytes)) => Ok(Some(bytes)),
                None => Err(FetchError::Offline { url: url.into() }),
            };
        }
        let net = self.net(url)?;
        let mut request = net.get(url);
        if let Some((tag, _)) = known.as_ref().filter(|(tag, _)| !tag.is_empty()) {
            request = request.header(header::IF_NONE_MATCH, tag);
        }
        let started = Instant::now();
        let answer = net.runtime.block_on(async {
            let mut response = request.send().await?;
            let status = response.status();
            let tag = response
                .headers()
                .get(header::ETAG)
                .and_then(|tag| tag.to_str().ok())
                .unwrap_or("")
                .to_owned();
            let (mut bytes, mut since, mut before) = (Vec::new(), Instant::now(), 0);
            let mut is_slow = false;
            while let Some(chunk) = response.chunk().await? {
                bytes.extend_from_slice(&chunk);
                if since.elapsed() > net.pace.window {
                    is_slow = bytes.len() as u64 - before < net.pace.least;
                    (since, before) = (Instant::now(), bytes.len() as u64);
                }
                if bytes.len() as u64 > most || is_slow {
                    break;
                }
            }
            Ok::<_, reqwest::Error>((status, tag, bytes, is_slow))
        });
        let failed = |why: String| FetchError::Unreachable { url: url.into(), why };
        let took = started.elapsed().as_millis();
        match &answer {
            Ok((status, _, bytes, _)) => debug!("GET {url}: {status}, {} bytes in {took} ms", bytes.len()),
            Err(error) => debug!("GET {url}: {} after {took} ms", reason(error)),
        }
        let (status, tag, bytes, is_slow) = answer.map_err(|error| failed(reason(&error)))?;
        if is_slow {
            return Err(failed("it is too slow".into()));
        }
        if bytes.len() as u64 > most {
            return Err(FetchError::TooLong { url: url.into(), most });
        }
        match (status, known) {
            (StatusCode::NOT_MODIFIED, Some((_, bytes))) => Ok(Some(bytes)),
            (StatusCode::NOT_FOUND, _) => Ok(None),
            (status, _) if status.is_success() => {
                // Not worth a failure: it would only be asked for again.
                self.store.remember(url, &tag, &bytes).ok();
                Ok(Some(bytes))
            }
            (status, _) => Err(FetchError::Refused { url: url.into(), status }),
        }
    }

    /// Brings a file into the cache and returns where it lies there. Its digest is checked before it enters.
    ///
    /// # Errors
    /// As for [`Fetcher::get`], and where the bytes are others than promised.
    pub fn file(&self, url: &str, expected: &Digest) -> Result<std::path::PathBuf, FetchError> {
        if let Some(path) = self.store.file(expected) {
            return Ok(path);
        }
        if self.offline {
            return Err(FetchError::Offline { url: url.into() });
        }
        let name = url.rsplit('/').next().unwrap_or(url).to_owned();
        let wanted = Wanted {
            url: url.into(),
            name,
            digest: Some(*expected),
            size: None,
            most: Some(LARGEST_CONTENT),
        };
        self.download(wanted).map(|brought| brought.path)
    }

    /// Asks what an address holds, without fetching it.
    ///
    /// # Errors
    /// Where nobody answers, or the network may not be used.
    pub fn ask(&self, url: &str) -> Result<Told, FetchError> {
        if self.offline {
            return Err(FetchError::Offline { url: url.into() });
        }
        let net = self.net(url)?;
        net.runtime.block_on(download::ask(net, url))
    }

    /// Returns the digests of the files that links give now. A file whose host still gives it the same tag is not downloaded again.
    pub fn digests_behind(&self, links: &[String]) -> Vec<Result<Digest, FetchError>> {
        let asked = crate::threads::spread(links, (ASKED_AT_ONCE, 1), |link| {
            let (tag, digest) =
                self.store.answer(&download::tag_key(link)).filter(|(tag, _)| !tag.is_empty())?;
            let told = self.ask(link).ok()?;
            let is_same = told.sort == LinkTarget::File && told.tag.as_deref() == Some(tag.as_str());
            is_same.then(|| String::from_utf8(digest).ok()?.parse::<Digest>().ok()).flatten()
        });
        let other = links.iter().zip(&asked).filter(|(_, known)| known.is_none()).map(|(link, _)| link);
        let wanted = other.map(|link| {
            let name = yalotheca_core::link::name_in_address(link).unwrap_or_else(|| link.clone());
            Wanted { url: link.clone(), name, ..Wanted::default() }
        });
        let mut downloaded = self.download_all(wanted.collect()).into_iter();
        let mut next = || Some(downloaded.next()?.map(|file| file.digest));
        asked
            .into_iter()
            .zip(links)
            .map(|(known, link)| match known {
                Some(digest) => Ok(digest),
                None => next().unwrap_or_else(|| Err(FetchError::Offline { url: link.clone() })),
            })
            .collect()
    }

    /// Fetches one file into the cache.
    ///
    /// # Errors
    /// Where it cannot be had, or is another one than promised.
    pub fn download(&self, wanted: Wanted) -> Result<Downloaded, FetchError> {
        let none = FetchError::Offline { url: wanted.url.clone() };
        self.download_all(vec![wanted]).pop().unwrap_or(Err(none))
    }

    /// Fetches files into the cache, several at once. What the cache has is not fetched.
    pub fn download_all(&self, wanted: Vec<Wanted>) -> Vec<Result<Downloaded, FetchError>> {
        let known = |wanted: &Wanted| {
            let digest = wanted.digest?;
            let path = self.store.file(&digest)?;
            let size = path.metadata().ok()?.len();
            Some(Downloaded { path, digest, size, name: None })
        };
        let mut results: Vec<Option<Result<Downloaded, FetchError>>> =
            wanted.iter().map(|wanted| known(wanted).map(Ok)).collect();
        let missing: Vec<(usize, Wanted)> =
            wanted.into_iter().enumerate().filter(|(at, _)| results[*at].is_none()).collect();
        let bytes = missing.iter().filter_map(|(_, wanted)| wanted.size).sum();
        if !missing.is_empty() && !self.offline {
            self.watch.expect(missing.len(), bytes);
        }
        let mut running = tokio::task::JoinSet::new();
        for (at, wanted) in missing {
            let net = match self.net(&wanted.url) {
                _ if self.offline => Err(FetchError::Offline { url: wanted.url.clone() }),
                net => net,
            };
            match net {
                Ok(net) => {
                    let (net, store, watch) = (Arc::clone(net), self.store.clone(), Arc::clone(&self.watch));
                    let handle = net.runtime.handle().clone();
                    running.spawn_on(
                        async move { (at, download::fetch(&net, &store, &wanted, &*watch).await) },
                        &handle,
                    );
                }
                Err(error) => results[at] = Some(Err(error)),
            }
        }
        if let Some(net) = self.net.get() {
            net.runtime.block_on(async {
                while let Some(done) = running.join_next().await {
                    match done {
                        Ok((at, result)) => results[at] = Some(result),
                        Err(panic) => std::panic::resume_unwind(panic.into_panic()),
                    }
                }
            });
            self.watch.all_done();
        }
        results.into_iter().flatten().collect()
    }
}

/// Follows a limited number of redirects, and none from https to http.
fn redirect(attempt: reqwest::redirect::Attempt<'_>) -> reqwest::redirect::Action {
    let from = attempt.previous().last().map(reqwest::Url::scheme);
    if is_weaker(from, attempt.url().scheme()) {
        let to = attempt.url().host_str().unwrap_or_default().to_owned();
        return attempt
            .error(format!("it passes on from https to http ({to}), where anybody could change the file"));
    }
    if attempt.previous().len() > REDIRECTS {
        return attempt.error("it passes on too often");
    }
    attempt.follow()
}

fn is_weaker(from: Option<&str>, to: &str) -> bool {
    from == Some("https") && to != "https"
}

/// The innermost reason, in words: the outer ones only repeat the address.
fn reason(error: &reqwest::Error) -> String {
    let mut source: &dyn std::error::Error = error;
    while let Some(inner) = source.source() {
        source = inner;
    }
    if error.is_timeout() { "no answer in time".into() } else { source.to_string() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_redirect_never_goes_where_others_read_along() {
        assert!(is_weaker(Some("https"), "http"));
        assert!(
            !is_weaker(Some("http"), "https")
                && !is_weaker(Some("https"), "https")
                && !is_weaker(Some("http"), "http")
        );
    }
}
