//! How a host is reached over FTP, and what can be wrong with it.

use std::{io, path::PathBuf};

use suppaftp::{FtpError, types::Response};
use yalotheca_core::hint::{Advice, Hint};

use super::super::{address::Protocol, certificate::Pins};

/// How a host is reached.
#[derive(Debug, Clone)]
pub struct FtpOptions {
    /// Whether and how it is encrypted.
    pub protocol: Protocol,
    /// The host.
    pub host: String,
    /// The port.
    pub port: u16,
    /// The user.
    pub user: String,
    /// The certificates that the user has agreed to.
    pub pins: Pins,
    /// Where it is kept what the server can do.
    pub capabilities: Option<PathBuf>,
}

/// A connection that could not be made.
#[derive(Debug, thiserror::Error)]
pub enum ConnectFtpError {
    /// The host cannot be reached.
    #[error("{host} cannot be reached: {why}")]
    Unreachable {
        /// The host.
        host: String,
        /// Why.
        why: String,
    },
    /// The host has no room for another connection.
    #[error("{host} has no room for another connection: {why}")]
    Full {
        /// The host.
        host: String,
        /// What it says.
        why: String,
    },
    /// The host does not let the user in.
    #[error("{host} does not let {user} in: {why}")]
    Denied {
        /// The host.
        host: String,
        /// The user.
        user: String,
        /// What it says.
        why: String,
    },
    /// The host cannot prove that it is the one.
    #[error("the certificate of {host} is not trusted: {why}; its fingerprint is {fingerprint}")]
    Certificate {
        /// The host.
        host: String,
        /// Why.
        why: String,
        /// Its SHA-256 digest, in hexadecimal digits.
        fingerprint: String,
    },
    /// The host does not encrypt.
    #[error("{host} does not encrypt: {why}")]
    NoEncryption {
        /// The host.
        host: String,
        /// What it says.
        why: String,
    },
}

impl Hint for ConnectFtpError {
    fn hint(&self) -> Option<Advice> {
        Some(match self {
            Self::Full { .. } => "close other connections to it, then try again".into(),
            Self::Unreachable { .. } => "check the address and the network, then try again".into(),
            Self::Denied { .. } => Advice::GiveCredentials,
            Self::Certificate { .. } => {
                "ask the host's administrator for the fingerprint, then run this in a terminal to accept it".into()
            }
            Self::NoEncryption { .. } => {
                "ftp:// works without encryption, but anyone on the network path can read the password and all files".into()
            }
        })
    }
}

/// What a server says, as an error of the file system.
pub(super) fn as_io(error: FtpError) -> io::Error {
    match error {
        FtpError::ConnectionError(error) if error.kind() == io::ErrorKind::WouldBlock => {
            io::ErrorKind::TimedOut.into()
        }
        FtpError::ConnectionError(error) => error,
        FtpError::UnexpectedResponse(response) => of_response(&response),
        FtpError::BadResponse | FtpError::DataConnectionAlreadyOpen => io::ErrorKind::ConnectionReset.into(),
        FtpError::SecureError(why) => io::Error::new(io::ErrorKind::ConnectionReset, why),
        FtpError::InvalidAddress(error) => io::Error::other(error),
    }
}

pub(super) fn of_response(response: &Response) -> io::Error {
    let text = said(response);
    let lower = text.to_lowercase();
    let kind = match response.status.code() {
        421 | 425 | 426 => io::ErrorKind::ConnectionReset,
        452 | 552 => io::ErrorKind::StorageFull,
        530 | 532 => io::ErrorKind::PermissionDenied,
        _ if lower.contains("permission") || lower.contains("denied") || lower.contains("read-only") => {
            io::ErrorKind::PermissionDenied
        }
        _ if lower.contains("space") || lower.contains("quota") => io::ErrorKind::StorageFull,
        _ => io::ErrorKind::Other,
    };
    io::Error::new(kind, format!("the server says: {text}"))
}

pub(super) fn said(response: &Response) -> String {
    let text = String::from_utf8_lossy(&response.body).trim().to_owned();
    let text = text.trim_start_matches(|c: char| c.is_ascii_digit()).trim_start_matches(['-', ' ']);
    text.trim_end_matches('.').to_owned()
}
