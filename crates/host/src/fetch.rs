//! HTTP. The network and its runtime start with the first request, so that commands without one stay instant.

use std::{sync::OnceLock, time::Duration};

use reqwest::{StatusCode, header};
use yalotheca_core::{hint::Hint, id::Digest};

use crate::store::{Store, StoreError};

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
    #[error("{url}: the file has the digest {found}, and {expected} was promised")]
    OtherBytes {
        /// The address.
        url: String,
        /// The digest that the catalogue names.
        expected: String,
        /// The digest that came.
        found: String,
    },
    /// The network may not be used, and the cache does not have it.
    #[error("{url}: it is not in the cache, and --offline forbids asking for it")]
    Offline {
        /// The address.
        url: String,
    },
    /// The cache failed.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl Hint for FetchError {
    fn hint(&self) -> Option<String> {
        Some(match self {
            Self::Unreachable { .. } => {
                "look whether the host is up; --offline goes on with what was fetched before".into()
            }
            Self::Refused { .. } => "look at the address in yalotheca.toml".into(),
            Self::OtherBytes { .. } => {
                "nothing was placed; try again, and tell the catalogue's publisher if it stays so".into()
            }
            Self::Offline { .. } => "run it once without --offline".into(),
            Self::Store(error) => return error.hint(),
        })
    }
}

/// Fetches over HTTP, through the cache.
#[derive(Debug)]
pub struct Fetcher {
    store: Store,
    offline: bool,
    net: OnceLock<Net>,
}

#[derive(Debug)]
struct Net {
    runtime: tokio::runtime::Runtime,
    client: reqwest::Client,
}

impl Fetcher {
    /// Returns a fetcher.
    pub fn new(store: Store, offline: bool) -> Self {
        Self { store, offline, net: OnceLock::new() }
    }

    /// Returns the cache.
    pub fn store(&self) -> &Store {
        &self.store
    }

    fn net(&self, url: &str) -> Result<&Net, FetchError> {
        if let Some(net) = self.net.get() {
            return Ok(net);
        }
        let failed = |why: String| FetchError::Unreachable { url: url.into(), why };
        // Another part of the program may have chosen one already; either will do.
        rustls::crypto::ring::default_provider().install_default().ok();
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_all()
            .build()
            .map_err(|error| failed(error.to_string()))?;
        let client = reqwest::Client::builder()
            .user_agent(concat!("yalotheca/", env!("CARGO_PKG_VERSION")))
            .connect_timeout(Duration::from_secs(10))
            .read_timeout(Duration::from_secs(30))
            .build()
            .map_err(|error| failed(reason(&error)))?;
        Ok(self.net.get_or_init(|| Net { runtime, client }))
    }

    /// Returns what an address holds, asking only whether it has changed where it is known. Returns nothing where
    /// there is no such file.
    ///
    /// # Errors
    /// Where nobody answers, the host refuses, or the network is forbidden and nothing is known.
    pub fn get(&self, url: &str) -> Result<Option<Vec<u8>>, FetchError> {
        let known = self.store.answer(url);
        if self.offline {
            return match known {
                Some((_, bytes)) => Ok(Some(bytes)),
                None => Err(FetchError::Offline { url: url.into() }),
            };
        }
        let net = self.net(url)?;
        let mut request = net.client.get(url);
        if let Some((tag, _)) = known.as_ref().filter(|(tag, _)| !tag.is_empty()) {
            request = request.header(header::IF_NONE_MATCH, tag);
        }
        let answer = net.runtime.block_on(async {
            let response = request.send().await?;
            let status = response.status();
            let tag = response
                .headers()
                .get(header::ETAG)
                .and_then(|tag| tag.to_str().ok())
                .unwrap_or("")
                .to_owned();
            Ok::<_, reqwest::Error>((status, tag, response.bytes().await?))
        });
        let (status, tag, bytes) =
            answer.map_err(|error| FetchError::Unreachable { url: url.into(), why: reason(&error) })?;
        match (status, known) {
            (StatusCode::NOT_MODIFIED, Some((_, bytes))) => Ok(Some(bytes)),
            (StatusCode::NOT_FOUND, _) => Ok(None),
            (status, _) if status.is_success() => {
                self.store.remember(url, &tag, &bytes)?;
                Ok(Some(bytes.to_vec()))
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
        let net = self.net(url)?;
        let answer = net.runtime.block_on(async {
            let response = net.client.get(url).send().await?;
            Ok::<_, reqwest::Error>((response.status(), response.bytes().await?))
        });
        let (status, bytes) =
            answer.map_err(|error| FetchError::Unreachable { url: url.into(), why: reason(&error) })?;
        if !status.is_success() {
            return Err(FetchError::Refused { url: url.into(), status });
        }
        let found = Digest::of(&bytes);
        if found != *expected {
            let (expected, found) = (expected.short(), found.short());
            return Err(FetchError::OtherBytes { url: url.into(), expected, found });
        }
        Ok(self.store.keep(expected, &bytes)?)
    }
}

/// The innermost reason, in words: the outer ones only repeat the address.
fn reason(error: &reqwest::Error) -> String {
    let mut source: &dyn std::error::Error = error;
    while let Some(inner) = source.source() {
        source = inner;
    }
    if error.is_timeout() { "no answer in time".into() } else { source.to_string() }
}
