//! Servers on other machines: the connection, and the secrets that it needs.

use std::{path::PathBuf, process::Command, sync::Arc};

use yalotheca_host::{
    fetch::credentials_of,
    tree::{
        Protocol, RemoteAddress, RemoteTree, Tree,
        sftp::{Answers, AskSecret, Question, SftpServer, SshOptions},
    },
};

use crate::{Answer, AppError, Front, OpenOptions};

/// The variable that holds a server's password.
const PASSWORD: &str = "YALOTHECA_PASSWORD";

/// Opens the folder of a server on another machine.
///
/// # Errors
/// Where the address is none, the machine cannot be reached, or it does not let the user in.
pub fn open_remote(at: &str, options: &OpenOptions, front: &dyn Front) -> Result<Arc<dyn Tree>, AppError> {
    let address = RemoteAddress::parse(at)?;
    match address.protocol {
        Protocol::Sftp => open_sftp(&address, options, front),
        Protocol::Ftp | Protocol::Ftps | Protocol::FtpsImplicit => Err(AppError::Refused {
            what: format!("{}: this version reaches servers over SFTP only", address),
            hint: Some("most hosts offer SFTP too: sftp://user@host:port/path".into()),
        }),
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
    let server = connected?;
    let failed = |source| AppError::Io { what: format!("{address}"), source };
    let root = if address.path.starts_with('/') {
        address.path.clone()
    } else {
        server.real_path(&address.path).map_err(failed)?
    };
    Ok(Arc::new(RemoteTree::new(Arc::new(server), &root, address.to_string())))
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
            return Err(failed(std::io::Error::other(format!("it ended with {}", told.status))));
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
            Question::Passphrase(asked) => match self.front.secret(asked) {
                Answer::Text(text) => Some(text),
                Answer::Nothing | Answer::Nobody => None,
            },
        }
    }
}
