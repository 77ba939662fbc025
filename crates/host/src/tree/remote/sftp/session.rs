//! The process of `ssh` behind a connection, and what it has to ask: whether a host's key is right, passwords, passphrases.
//!
//! `ssh` asks through a helper program, this one under another name; what is answered goes over a socket in a folder that only the user
//! can enter, never through arguments, files or the environment.

use std::{
    collections::HashMap,
    fs,
    io::{self, BufRead, BufReader, Read, Write},
    os::unix::{
        fs::PermissionsExt,
        net::{UnixListener, UnixStream},
    },
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    sync::{
        Arc, Mutex, PoisonError,
        mpsc::{self, Sender},
    },
    thread,
    time::{Duration, Instant},
};

use yalotheca_core::hint::{Advice, Hint};

use super::{Session, greet, pipeline::Pipeline};

/// The variable that names the socket to the helper.
pub const ASK_VARIABLE: &str = "YALOTHECA_ASK";

/// How a host is reached.
#[derive(Debug, Clone)]
pub struct SshOptions {
    /// The host, or what `~/.ssh/config` calls it.
    pub host: String,
    /// The user there, if it is not the configured one.
    pub user: Option<String>,
    /// The port, if it is not the configured one.
    pub port: Option<u16>,
    /// The program that `ssh` asks through: this one.
    pub helper: Option<PathBuf>,
    /// More options of `ssh`, as in its configuration file.
    pub options: Vec<String>,
    /// Earlier answers by question: reconnecting does not ask again.
    pub answers: Answers,
}

/// Answers by question.
pub type Answers = Arc<Mutex<HashMap<String, String>>>;

/// What has to be asked before a host lets somebody in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Question {
    /// The host is not known yet: whether its key has the right fingerprint.
    Host(String),
    /// The user's password there, or whatever else the host asks for.
    Password(String),
    /// The passphrase of a key.
    Passphrase(String),
}

/// Answers questions.
pub trait AskSecret {
    /// Returns the answer; nothing where there is none.
    fn ask(&mut self, question: &Question) -> Option<String>;
}

/// Answers nothing.
pub struct NoQuestions;

impl AskSecret for NoQuestions {
    fn ask(&mut self, _: &Question) -> Option<String> {
        None
    }
}

/// A connection that could not be made.
#[derive(Debug, thiserror::Error)]
pub enum ConnectError {
    /// There is no `ssh` on this machine.
    #[error("sftp servers are reached by the program ssh, which is not on this machine")]
    NoProgram,
    /// The name of a host or user cannot be one.
    #[error("{0:?} is not the name of a host or a user")]
    Name(String),
    /// The host does not let the user in.
    #[error("{host} does not let {user} in: {why}")]
    Denied {
        /// The host.
        host: String,
        /// The user.
        user: String,
        /// What was said.
        why: String,
    },
    /// The host has another key than before.
    #[error(
        "{host} has another key than the one that is known; somebody may have put another machine in its place"
    )]
    OtherKey {
        /// The host.
        host: String,
        /// What `ssh` says about it: which line of which file.
        why: String,
    },
    /// The host's key was not confirmed.
    #[error("the key of {host} is not known and was not confirmed")]
    UnknownKey {
        /// The host.
        host: String,
    },
    /// It cannot be reached.
    #[error("{host} cannot be reached: {why}")]
    Unreachable {
        /// The host.
        host: String,
        /// Why.
        why: String,
    },
}

impl Hint for ConnectError {
    fn hint(&self) -> Option<Advice> {
        Some(match self {
            Self::NoProgram => "install your system's SSH client (openssh-client, say)".into(),
            Self::Name(_) => "correct the address: sftp://user@host:port/path".into(),
            Self::Denied { .. } => Advice::GiveCredentials,
            Self::OtherKey { why, .. } => Advice::Say(format!(
                "ask the host's administrator; if the new key is right, remove the old one ({why})"
            )),
            Self::UnknownKey { host } => Advice::Say(format!(
                "connect once with ssh {host} and compare the fingerprint, or run this in a terminal"
            )),
            Self::Unreachable { .. } => "check the address and the network, then try again".into(),
        })
    }
}

/// The process of a connection; it ends with this.
pub(super) struct Process(Child);

impl Drop for Process {
    fn drop(&mut self) {
        self.0.kill().ok();
        self.0.wait().ok();
    }
}

/// A question from the helper, and where its answer goes.
enum Event {
    Asked(String, Sender<Option<String>>),
    Greeted(io::Result<(super::Pipeline, Vec<String>)>),
}

/// The longest time that a host may take to let somebody in, without the time in which somebody is asked.
const PATIENCE: Duration = Duration::from_secs(60);

/// Returns the command that connects.
fn command(options: &SshOptions, socket: &Path, shared: Option<&Path>) -> Command {
    let mut command = Command::new("ssh");
    if let Some(helper) = &options.helper {
        command.env("SSH_ASKPASS", helper).env("SSH_ASKPASS_REQUIRE", "force").env(ASK_VARIABLE, socket);
        if std::env::var_os("DISPLAY").is_none() {
            // Older ones ask through a helper only then.
            command.env("DISPLAY", "none");
        }
        command.args(["-o", "NumberOfPasswordPrompts=1"]);
    } else {
        command.args(["-o", "BatchMode=yes"]);
    }
    for option in ["ConnectTimeout=20", "ServerAliveInterval=15", "ServerAliveCountMax=4", "LogLevel=ERROR"] {
        command.args(["-o", option]);
    }
    for option in &options.options {
        command.args(["-o", option]);
    }
    if let Some(shared) = shared {
        let path = format!("ControlPath={}", shared.display());
        command.args(["-o", "ControlMaster=yes", "-o", &path, "-o", "ControlPersist=no"]);
    }
    finish(&mut command, options);
    command
}

/// Adds the host and the subsystem.
fn finish(command: &mut Command, options: &SshOptions) {
    command.args(["-T", "-x", "-a", "-e", "none"]);
    if let Some(port) = options.port {
        command.args(["-p", &port.to_string()]);
    }
    if let Some(user) = &options.user {
        command.args(["-l", user]);
    }
    command.args(["-s", &options.host, "sftp"]);
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    // A key stroke that ends this program must not end the connection first: what is under way is taken back over it.
    std::os::unix::process::CommandExt::process_group(command, 0);
}

/// Opens an extra channel of a connection, with its own window and server process. It never asks for a password.
///
/// # Errors
/// If the server allows no more channels, or the connection cannot be shared.
pub(super) fn open_channel(options: &SshOptions, shared: &Path) -> io::Result<(Pipeline, Process)> {
    let mut command = Command::new("ssh");
    let path = format!("ControlPath={}", shared.display());
    // Never open a second connection if the shared one is gone.
    for option in [path.as_str(), "ControlMaster=no", "ProxyCommand=false", "BatchMode=yes", "LogLevel=ERROR"]
    {
        command.args(["-o", option]);
    }
    finish(&mut command, options);
    let mut child = command.stderr(Stdio::null()).spawn()?;
    let (reader, writer) = (child.stdout.take(), child.stdin.take());
    let process = Process(child);
    let (Some(reader), Some(writer)) = (reader, writer) else { return Err(io::ErrorKind::BrokenPipe.into()) };
    let (pipeline, _) = greet(BufReader::with_capacity(256 << 10, reader), Box::new(writer))?;
    Ok((pipeline, process))
}

/// Returns whether the user's own configuration already shares connections to a host.
fn is_shared_already(options: &SshOptions) -> bool {
    let Some(text) = told_of(&options.host, &options.options) else { return true };
    text.lines().any(|line| line.strip_prefix("controlpath ").is_some_and(|path| path != "none"))
}

/// Returns the name or address of the machine that `ssh` would connect to for a host, which may be called otherwise in its
/// configuration; nothing where it cannot say.
pub fn machine_of(host: &str, options: &[String]) -> Option<String> {
    let text = told_of(host, options)?;
    text.lines().find_map(|line| line.strip_prefix("hostname ")).map(str::to_owned)
}

/// Returns the configuration that `ssh` uses for a host.
fn told_of(host: &str, options: &[String]) -> Option<String> {
    if host.is_empty() || host.starts_with('-') {
        return None;
    }
    let mut command = Command::new("ssh");
    command.arg("-G");
    for option in options {
        command.args(["-o", option]);
    }
    let told = command.arg(host).stdin(Stdio::null()).stderr(Stdio::null()).output().ok()?;
    Some(String::from_utf8_lossy(&told.stdout).into_owned())
}

/// Opens a connection.
pub(super) fn open(options: &SshOptions, ask: &mut dyn AskSecret) -> Result<Session, ConnectError> {
    for name in [Some(&options.host), options.user.as_ref()].into_iter().flatten() {
        if name.is_empty()
            || name.starts_with('-')
            || name.contains(|c: char| c.is_whitespace() || c.is_control())
        {
            return Err(ConnectError::Name(name.clone()));
        }
    }
    let unreachable = |why: String| ConnectError::Unreachable { host: options.host.clone(), why };
    let failed = |error: io::Error| unreachable(error.to_string());
    let (events, received) = mpsc::channel();
    let folder = tempfile::Builder::new().prefix("yalotheca-").tempdir().map_err(failed)?;
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o700)).map_err(failed)?;
    let socket = folder.path().join("ask");
    if options.helper.is_some() {
        listen(&socket, events.clone()).map_err(failed)?;
    }
    let shared = Some(folder.path().join("more")).filter(|_| !is_shared_already(options));
    let mut command = command(options, &socket, shared.as_deref());
    let mut child = command.spawn().map_err(|error| match error.kind() {
        io::ErrorKind::NotFound => ConnectError::NoProgram,
        _ => failed(error),
    })?;
    let pipes = (child.stdout.take(), child.stdin.take(), child.stderr.take());
    let (Some(reader), Some(writer), Some(errors)) = pipes else {
        return Err(unreachable("its process has no pipes".into()));
    };
    let process = Process(child);
    let told = thread::spawn(move || {
        let mut text = String::new();
        BufReader::new(errors).take(64 << 10).read_to_string(&mut text).ok();
        text
    });
    thread::spawn(move || {
        let greeted = greet(BufReader::with_capacity(256 << 10, reader), Box::new(writer));
        events.send(Event::Greeted(greeted)).ok();
    });
    let mut asked = HashMap::new();
    let mut refused_host = false;
    let mut until = Instant::now() + PATIENCE;
    let greeted = loop {
        match received.recv_timeout(until.saturating_duration_since(Instant::now())) {
            Ok(Event::Greeted(greeted)) => break greeted,
            Ok(Event::Asked(text, answer)) => {
                let question = classify(&text);
                let known =
                    options.answers.lock().unwrap_or_else(PoisonError::into_inner).get(&text).cloned();
                // What was answered once and is asked again was wrong.
                let times = asked.entry(text.clone()).or_insert(0);
                *times += 1;
                let said = if *times > 1 { None } else { known.or_else(|| ask.ask(&question)) };
                if let (Some(said), false) = (&said, matches!(question, Question::Host(_))) {
                    let mut answers = options.answers.lock().unwrap_or_else(PoisonError::into_inner);
                    answers.insert(text, said.clone());
                }
                refused_host |= matches!(question, Question::Host(_)) && said.is_none();
                answer.send(said).ok();
                until = Instant::now() + PATIENCE;
            }
            Err(_) => break Err(io::ErrorKind::TimedOut.into()),
        }
    };
    match greeted {
        Ok((pipeline, extensions)) => {
            let pipeline = Arc::new(pipeline);
            Ok(Session { pipeline, extensions, shared, channels: None, _process: process, _folder: folder })
        }
        Err(error) => {
            drop(process);
            let text = told.join().unwrap_or_default();
            Err(why(options, refused_host, &text, &error))
        }
    }
}

/// Says why a connection could not be made, from what `ssh` says.
fn why(options: &SshOptions, refused_host: bool, text: &str, error: &io::Error) -> ConnectError {
    let host = options.host.clone();
    let has = |part: &str| text.contains(part);
    let last = text.lines().map(str::trim).rfind(|line| !line.is_empty());
    if has("HOST IDENTIFICATION HAS CHANGED") {
        let line = text.lines().find(|line| line.contains("key in")).unwrap_or_default();
        return ConnectError::OtherKey { host, why: line.trim().to_owned() };
    }
    if refused_host || has("Host key verification failed") {
        return ConnectError::UnknownKey { host };
    }
    if has("Permission denied") || has("Too many authentication failures") || has("Authentication failed") {
        let user = options.user.clone().unwrap_or_else(|| "the configured user".into());
        let why = last.map_or_else(String::new, |line| line.rsplit(": ").next().unwrap_or(line).to_owned());
        return ConnectError::Denied { host, user, why };
    }
    let why = match (error.kind(), last) {
        (_, Some(line)) if has("subsystem request failed") => format!("it has no SFTP ({line})"),
        (_, Some(line)) => line.strip_prefix("ssh: ").unwrap_or(line).to_owned(),
        (io::ErrorKind::TimedOut, None) => "it has not answered".into(),
        (_, None) => error.to_string(),
    };
    ConnectError::Unreachable { host, why }
}

fn classify(text: &str) -> Question {
    let lower = text.to_lowercase();
    if lower.contains("(yes/no") {
        let lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
        let told: Vec<&str> = lines.filter(|line| !line.to_lowercase().contains("(yes/no")).collect();
        Question::Host(told.join(" "))
    } else if lower.contains("passphrase") {
        Question::Passphrase(text.trim().to_owned())
    } else {
        Question::Password(text.trim().to_owned())
    }
}

/// Passes the helper's questions on.
fn listen(socket: &Path, events: Sender<Event>) -> io::Result<()> {
    let listener = UnixListener::bind(socket)?;
    thread::spawn(move || {
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { break };
            let mut text = String::new();
            let Ok(mut reader) = stream.try_clone().map(BufReader::new) else { continue };
            if reader.read_line(&mut text).is_err() {
                continue;
            }
            let text: String = serde_json::from_str(&text).unwrap_or_default();
            let (sender, receiver) = mpsc::channel();
            if events.send(Event::Asked(text, sender)).is_err() {
                break;
            }
            if let Ok(Some(answer)) = receiver.recv() {
                stream.write_all(answer.as_bytes()).ok();
            }
        }
    });
    Ok(())
}

/// The helper's side: asks what `ssh` asks through the socket that is named in the environment, and returns the answer.
///
/// # Errors
/// Where there is no one to ask.
pub fn ask_through(socket: &Path, question: &str) -> io::Result<String> {
    let mut stream = UnixStream::connect(socket)?;
    stream.write_all(serde_json::to_string(question)?.as_bytes())?;
    stream.write_all(b"\n")?;
    let mut answer = String::new();
    stream.read_to_string(&mut answer)?;
    if answer.is_empty() { Err(io::ErrorKind::NotFound.into()) } else { Ok(answer) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn questions_are_told_apart() {
        let host = "The authenticity of host 'h (10.0.0.1)' can't be established.\nED25519 key fingerprint is SHA256:abc.\nAre you sure you want to continue connecting (yes/no/[fingerprint])? ";
        let told = "The authenticity of host 'h (10.0.0.1)' can't be established. ED25519 key fingerprint is SHA256:abc.";
        assert_eq!(classify(host), Question::Host(told.into()));
        assert_eq!(classify("wren@h's password: "), Question::Password("wren@h's password:".into()));
        assert_eq!(
            classify("Enter passphrase for key '/k': "),
            Question::Passphrase("Enter passphrase for key '/k':".into())
        );
        assert!(matches!(classify("(wren@h) Verification code: "), Question::Password(_)));
    }

    #[test]
    fn names_that_could_be_options_are_refused() {
        for name in ["-oProxyCommand=x", "", "a b", "a\nb"] {
            let options = SshOptions {
                host: name.into(),
                user: None,
                port: None,
                helper: None,
                options: Vec::new(),
                answers: Answers::default(),
            };
            assert!(matches!(open(&options, &mut NoQuestions), Err(ConnectError::Name(_))));
        }
    }
}
