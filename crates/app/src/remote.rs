//! Servers on other machines: the connection, and the secrets that it needs.

use std::{io, path::PathBuf, process::Command, sync::Arc};

use yalotheca_core::id::TreePath;
use yalotheca_host::{
    fetch::credentials_of,
    settle,
    store::Store,
    tree::{
        Foresight, KnownCertificates, Pins, Protocol, RemoteAddress, RemoteTree, Tree,
        ftp::{ConnectFtpError, FtpOptions, FtpServer},
        sftp::{Answers, AskSecret, Question, SftpServer, SshOptions},
    },
};

use crate::{Answer, AppError, Front, OpenOptions};

/// The variable that holds a server's password.
const PASSWORD: &str = "YALOTHECA_PASSWORD";
/// The variable that holds the passphrase of a key.
const PASSPHRASE: &str = "YALOTHECA_PASSPHRASE";

/// Opens the folder of a server on another machine.
///
/// # Errors
/// Where the address is none, the machine cannot be reached, or it does not let the user in.
pub fn open_remote(at: &str, options: &OpenOptions, front: &dyn Front) -> Result<Arc<dyn Tree>, AppError> {
    let address = RemoteAddress::parse(at)?;
    match address.protocol {
        Protocol::Sftp => open_sftp(&address, options, front),
        Protocol::Ftp | Protocol::Ftps | Protocol::FtpsImplicit => open_ftp(&address, options, front),
    }
}

fn open_sftp(
    address: &RemoteAddress,
    options: &OpenOptions,
    front: &dyn Front,
) -> Result<Arc<dyn Tree>, AppError> {
    let mut secrets = Secrets { host: host_of(address), options, front, failed: None };
    let credentials = credentials_of(&secrets.host)?;
    let ssh = SshOptions {
        host: address.host.clone(),
        user: address.user.clone().or_else(|| credentials.and_then(|credentials| credentials.user)),
        port: address.port,
        helper: options.helper.clone(),
        options: options.ssh.clone(),
        answers: Answers::default(),
    };
    let connected = SftpServer::connect(ssh, &mut secrets);
    if let Some(error) = secrets.failed {
        return Err(error);
    }
    let server = Arc::new(connected?);
    let real_path = |path: &str| server.real_path(path);
    let root = root_of(address, real_path)?;
    let location = address.to_string();
    let asked = match Store::of_user() {
        Ok(store) => Foresight::of(server.clone(), store.foresight_of(&location)),
        Err(_) => server.clone(),
    };
    at_folder(RemoteTree::new(asked, &root, location), (address, &real_path), front)
}

fn open_ftp(
    address: &RemoteAddress,
    options: &OpenOptions,
    front: &dyn Front,
) -> Result<Arc<dyn Tree>, AppError> {
    let mut secrets = Secrets { host: host_of(address), options, front, failed: None };
    let credentials = credentials_of(&secrets.host)?;
    let user = address.user.clone().or_else(|| credentials.and_then(|credentials| credentials.user));
    // As is the custom where anybody may come.
    let is_anonymous = user.is_none();
    let user = user.unwrap_or_else(|| "anonymous".into());
    let password = if is_anonymous {
        Some("anonymous@".to_owned())
    } else {
        secrets.password(&format!("{user}@{}'s password:", address.host))
    };
    if let Some(error) = secrets.failed {
        return Err(error);
    }
    let password = password.unwrap_or_default();
    let port = address.port.unwrap_or_else(|| address.protocol.port());
    let store = Store::of_user().ok();
    let connect = |pins: &Pins| {
        let (host, user, pins) = (address.host.clone(), user.clone(), pins.clone());
        let capabilities = store.as_ref().map(|store| store.capabilities_of(&host_of(address)));
        FtpServer::connect(
            FtpOptions { protocol: address.protocol, host, port, user, pins, capabilities },
            password.clone(),
        )
    };
    let known = KnownCertificates::of_user()?;
    let connected = match connect(&Pins::new(known.of(&address.host, port))) {
        Err(ConnectFtpError::Certificate { host, why, fingerprint }) => {
            let question = format!(
                "The certificate of {host} is not one that this machine trusts ({why}). Its SHA-256 fingerprint is {fingerprint}. Is that the right one? (yes/no)"
            );
            match front.text(&question) {
                Answer::Text(text) if text.eq_ignore_ascii_case("yes") => {
                    known.agree(&address.host, port, &fingerprint)?;
                    connect(&Pins::new(vec![fingerprint]))
                }
                _ => Err(ConnectFtpError::Certificate { host, why, fingerprint }),
            }
        }
        connected => connected,
    };
    let server = Arc::new(connected?);
    let real_path = |path: &str| server.real_path(path);
    let root = root_of(address, real_path)?;
    at_folder(RemoteTree::new(server.clone(), &root, address.to_string()), (address, &real_path), front)
}

/// Asks a host for the absolute path of a path.
type RealPath<'a> = dyn Fn(&str) -> io::Result<String> + 'a;

/// Returns the server's folder on its host.
fn root_of(
    address: &RemoteAddress,
    real_path: impl Fn(&str) -> io::Result<String>,
) -> Result<String, AppError> {
    if address.path.starts_with('/') {
        return Ok(address.path.clone());
    }
    real_path(&address.path).map_err(|source| AppError::Io { what: address.to_string(), source })
}

/// The folder must be there: nothing may be made in its place. What every command needs to see is seen on the occasion.
fn at_folder(
    tree: RemoteTree,
    (address, real_path): (&RemoteAddress, &RealPath<'_>),
    front: &dyn Front,
) -> Result<Arc<dyn Tree>, AppError> {
    let tree = tree.watched(front.watch());
    let own = |name: &str| TreePath::new(&format!("{}/{name}", settle::OWN));
    match tree.list(&[TreePath::root(), own("journal")?, own("records")?], false) {
        Ok(_) => Ok(Arc::new(tree)),
        Err(error) if error.source.kind() == io::ErrorKind::NotFound => Err(AppError::Refused {
            what: format!("there is no folder {} on {}", address.path, address.host),
            hint: Some(format!(
                "after the login one is in {}; in the address, /~/ stands for that, and / for the root of what the host shows",
                real_path("").unwrap_or_default()
            ).into()),
        }),
        Err(error) => Err(error.into()),
    }
}

/// A host as sections of credentials.toml name it.
fn host_of(address: &RemoteAddress) -> String {
    match address.port {
        Some(port) => format!("{}:{port}", address.host),
        None => address.host.clone(),
    }
}

/// Where secrets come from: the environment, a file, the user's credentials, or the person.
struct Secrets<'a> {
    host: String,
    options: &'a OpenOptions,
    front: &'a dyn Front,
    failed: Option<AppError>,
}

impl Secrets<'_> {
    fn password(&mut self, question: &str) -> Option<String> {
        if let Ok(password) = std::env::var(PASSWORD) {
            return Some(password);
        }
        match self.stored() {
            Ok(Some(password)) => return Some(password),
            Ok(None) => {}
            Err(error) => {
                self.failed = Some(error);
                return None;
            }
        }
        match self.front.secret(question) {
            Answer::Text(text) => Some(text),
            Answer::Nothing | Answer::Nobody => None,
        }
    }

    /// Returns the password from the file that was named, or from the user's credentials.
    fn stored(&self) -> Result<Option<String>, AppError> {
        if let Some(file) = &self.options.password_file {
            return read_password(file).map(Some);
        }
        let Some(credentials) = credentials_of(&self.host)? else { return Ok(None) };
        let Some((program, arguments)) = credentials.command.split_first() else {
            return Ok(credentials.password);
        };
        let failed = |source| AppError::Io {
            what: format!("running {program} for the password of {}", self.host),
            source,
        };
        let told = Command::new(program)
            .args(arguments)
            .stderr(std::process::Stdio::inherit())
            .output()
            .map_err(failed)?;
        if !told.status.success() {
            return Err(failed(io::Error::other(format!("it ended with {}", told.status))));
        }
        let text = String::from_utf8_lossy(&told.stdout);
        Ok(text.lines().next().map(str::to_owned).filter(|line| !line.is_empty()))
    }
}

fn read_password(file: &PathBuf) -> Result<String, AppError> {
    let text = std::fs::read_to_string(file)
        .map_err(|source| AppError::Io { what: format!("the password file {}", file.display()), source })?;
    Ok(text.trim_end_matches(['\r', '\n']).to_owned())
}

impl AskSecret for Secrets<'_> {
    fn ask(&mut self, question: &Question) -> Option<String> {
        match question {
            // Agreeing to everything beforehand is not knowing a key.
            Question::Host(told) => match self.front.text(&format!("{told} Is that the right key? (yes/no)"))
            {
                Answer::Text(text) if text.eq_ignore_ascii_case("yes") => Some("yes".into()),
                _ => None,
            },
            Question::Password(asked) => self.password(asked),
            Question::Passphrase(asked) => match std::env::var(PASSPHRASE) {
                Ok(phrase) => Some(phrase),
                Err(_) => match self.front.secret(asked) {
                    Answer::Text(text) => Some(text),
                    Answer::Nothing | Answer::Nobody => None,
                },
            },
        }
    }
}
