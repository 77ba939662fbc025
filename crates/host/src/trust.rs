//! What a game definition would run, and whether this user has agreed to it.
//!
//! What counts is what would really run: the program, its arguments, its environment and its folder, with all values filled in.
//! A control file that came with a folder may name any program, so a definition that comes with Yalotheca is not trusted for
//! its own sake: only what is made of it here is, once somebody at this account has seen it.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs, io,
    io::{Read, Seek, SeekFrom, Write},
    os::unix::{fs::MetadataExt, process::CommandExt},
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    sync::mpsc,
    thread,
    time::{Duration, Instant},
};

use etcetera::BaseStrategy;
use tracing::debug;
use yalotheca_core::{
    game::{ConsoleChannel, ConsoleRule, Game, PlatformRule, RenderError, Scope, Template},
    id::Digest,
};

use crate::tree::digest_of;

/// What a console's command has in place of the line until there is one.
pub const LINE: &str = "LINE";

/// One command that a definition would run on a server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Invocation {
    /// Where the program lies.
    pub program: PathBuf,
    /// Its arguments.
    pub arguments: Vec<String>,
    /// What is added to its environment.
    pub environment: Vec<(String, String)>,
    /// The folder in which it runs.
    pub folder: PathBuf,
}

impl std::fmt::Display for Invocation {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        for (name, value) in &self.environment {
            write!(f, "{name}={} ", shell_word(value))?;
        }
        f.write_str(&shell_word(&self.program.display().to_string()))?;
        for argument in &self.arguments {
            write!(f, " {}", shell_word(argument))?;
        }
        write!(f, " (in {})", self.folder.display())
    }
}

/// Returns a word as a shell takes it.
pub fn shell_word(word: &str) -> String {
    let is_plain = !word.is_empty() && word.chars().all(|c| c.is_alphanumeric() || "-_./:=+,@%".contains(c));
    if is_plain { word.to_owned() } else { format!("'{}'", word.replace('\'', r"'\''")) }
}

impl Invocation {
    /// Fills in a command of a definition; nothing where it names no program.
    ///
    /// # Errors
    /// Where a template cannot be filled.
    pub fn of(
        command: &[Template],
        environment: &BTreeMap<String, Template>,
        scope: &Scope,
    ) -> Result<Option<Self>, RenderError> {
        let words = command.iter().map(|word| word.render(scope)).collect::<Result<Vec<_>, _>>()?;
        let Some((program, arguments)) = words.split_first().filter(|(program, _)| !program.is_empty())
        else {
            return Ok(None);
        };
        let folder = PathBuf::from(&scope.folder);
        let environment = environment
            .iter()
            .map(|(name, value)| Ok((name.clone(), value.render(scope)?)))
            .collect::<Result<_, RenderError>>()?;
        let program = folder.join(find_program(program));
        Ok(Some(Self { program, arguments: arguments.to_vec(), environment, folder }))
    }

    /// Returns the command that starts a server.
    ///
    /// # Errors
    /// Where a template cannot be filled.
    pub fn of_server(game: &Game, scope: &Scope) -> Result<Option<Self>, RenderError> {
        Self::of(&game.run.command, &game.run.env, scope)
    }

    /// Returns the command that a console runs for each line, with [`LINE`] in the line's place; nothing where it is another one.
    ///
    /// # Errors
    /// Where a template cannot be filled.
    pub fn of_console(rule: &ConsoleRule, scope: &Scope) -> Result<Option<Self>, RenderError> {
        let ConsoleChannel::Command(words) = &rule.channel else { return Ok(None) };
        let mut with_line = scope.clone();
        with_line.found.insert("line".into(), LINE.into());
        Self::of(words, &BTreeMap::new(), &with_line)
    }

    /// Returns all commands that a definition would run on a server.
    ///
    /// # Errors
    /// Where a template cannot be filled.
    pub fn all(game: &Game, scope: &Scope) -> Result<Vec<Self>, RenderError> {
        let queries = game.platform.values().filter_map(|rule| match rule {
            PlatformRule::Command { command, .. } => Some(Self::of(command, &BTreeMap::new(), scope)),
            PlatformRule::File(_) | PlatformRule::Inside { .. } => None,
        });
        let tools = game.tools.iter().map(|tool| Self::of(&tool.command, &BTreeMap::new(), scope));
        let runtimes = game.runtimes.iter().map(|rule| Self::of(&rule.command, &BTreeMap::new(), scope));
        let console = game.console.as_ref().map(|console| Self::of_console(console, scope));
        queries
            .chain(tools)
            .chain(console)
            .chain(runtimes)
            .chain([Self::of_server(game, scope)])
            .filter_map(Result::transpose)
            .collect()
    }

    /// Returns the command that some words are, a program and its arguments, in a folder; nothing where there are none.
    pub fn of_words(words: &[String], folder: &Path) -> Option<Self> {
        let (program, arguments) = words.split_first()?;
        Some(Self {
            // Without the dot of `./panel`.
            program: folder.join(find_program(program)).components().collect(),
            arguments: arguments.to_vec(),
            environment: Vec::new(),
            folder: folder.to_owned(),
        })
    }

    /// Returns the same command for a server in another folder.
    #[must_use]
    pub fn in_folder(self, from: &str, to: &str) -> Self {
        let path = |path: PathBuf| PathBuf::from(path.to_string_lossy().replace(from, to));
        Self {
            program: path(self.program),
            arguments: self.arguments.iter().map(|word| word.replace(from, to)).collect(),
            environment: self
                .environment
                .into_iter()
                .map(|(name, value)| (name, value.replace(from, to)))
                .collect(),
            folder: path(self.folder),
        }
    }

    /// Returns the command, ready to be started.
    pub fn command(&self) -> Command {
        let mut command = Command::new(&self.program);
        command.args(&self.arguments).current_dir(&self.folder).stdin(Stdio::null());
        command.envs(self.environment.iter().map(|(name, value)| (name, value)));
        command
    }

    /// Returns what tells this command from any other, the program's bytes apart.
    pub(crate) fn key(&self) -> Digest {
        Digest::of(format!("{self:?}").as_bytes())
    }

    /// What is noted of a command that somebody agreed to. A program that only root can change is known by its place: it may be
    /// brought up to date; any other one by its bytes.
    fn seal(&self) -> Option<Digest> {
        let program = self.program.canonicalize().ok()?;
        let bytes = if is_of_the_system(&program) {
            "the system's".to_owned()
        } else {
            digest_of(&program).ok()?.0.to_string()
        };
        Some(Digest::of(format!("run {self:?} {} {bytes}", program.display()).as_bytes()))
    }

    /// Whether it is a program of the system and says nothing that a stranger could have decided.
    fn is_plain(&self, foreign: &BTreeSet<String>) -> bool {
        let words = self.arguments.iter().chain(self.environment.iter().map(|(_, value)| value));
        let is_foreign =
            words.into_iter().any(|word| foreign.iter().any(|value| word.contains(value.as_str())));
        let program = self.program.canonicalize();
        !is_foreign
            && program.is_ok_and(|program| is_of_the_system(&program) && !program.starts_with(&self.folder))
    }

    /// Runs it, and returns its exit code and the end of what it printed. What it started may go on running.
    ///
    /// # Errors
    /// Where it cannot be started, or has not ended in time; then it is ended.
    pub fn run(&self, patience: Duration) -> io::Result<(i32, String)> {
        const MOST: u64 = 4 << 10;
        let mut printed = tempfile::tempfile()?;
        let started = Instant::now();
        let mut child = self
            .command()
            .stdout(printed.try_clone()?)
            .stderr(printed.try_clone()?)
            .process_group(0)
            .spawn()?;
        let status = loop {
            if let Some(status) = child.try_wait()? {
                break status;
            }
            if started.elapsed() > patience {
                end(&mut child);
                return Err(io::Error::new(
                    io::ErrorKind::TimedOut,
                    format!("it did not end within {} s", patience.as_secs()),
                ));
            }
            thread::sleep(Duration::from_millis(10));
        };
        debug!("ran {self} in {} ms: {status}", started.elapsed().as_millis());
        let size = printed.seek(SeekFrom::End(0))?;
        printed.seek(SeekFrom::Start(size.saturating_sub(MOST)))?;
        let mut bytes = Vec::new();
        printed.take(MOST).read_to_end(&mut bytes)?;
        Ok((status.code().unwrap_or(-1), String::from_utf8_lossy(&bytes).into_owned()))
    }

    /// Runs it and returns what it prints, at most a megabyte of it and for at most ten seconds; nothing where there is no such
    /// program.
    pub(crate) fn ask(&self) -> Option<String> {
        const MOST: u64 = 1 << 20;
        const PATIENCE: Duration = Duration::from_secs(10);
        let started = Instant::now();
        let mut command = self.command();
        let mut child =
            command.stdout(Stdio::piped()).stderr(Stdio::piped()).process_group(0).spawn().ok()?;
        let (send, parts) = mpsc::channel();
        let streams: [Option<Box<dyn Read + Send>>; 2] = [
            child.stdout.take().map(|stream| Box::new(stream) as _),
            child.stderr.take().map(|stream| Box::new(stream) as _),
        ];
        for (at, stream) in streams.into_iter().flatten().enumerate() {
            let send = send.clone();
            thread::spawn(move || {
                let mut bytes = Vec::new();
                stream.take(MOST).read_to_end(&mut bytes).ok();
                send.send((at, bytes)).ok();
            });
        }
        drop(send);
        let until = Instant::now() + PATIENCE;
        let mut texts = [String::new(), String::new()];
        while let Ok((at, bytes)) = parts.recv_timeout(until.saturating_duration_since(Instant::now())) {
            texts[at] = String::from_utf8_lossy(&bytes).into_owned();
        }
        end(&mut child);
        debug!("ran {self} in {} ms", started.elapsed().as_millis());
        Some(texts.concat())
    }
}

/// Ends a child with all that it started.
fn end(child: &mut Child) {
    if let Some(group) = i32::try_from(child.id()).ok().and_then(rustix::process::Pid::from_raw) {
        rustix::process::kill_process_group(group, rustix::process::Signal::KILL).ok();
    }
    child.wait().ok();
}

/// Whether only root can change a program: it and all folders above it belong to root and are writable by root alone.
fn is_of_the_system(program: &Path) -> bool {
    const FOLDERS: [&str; 4] = ["/usr", "/bin", "/opt", "/snap"];
    FOLDERS.iter().any(|folder| program.starts_with(folder))
        && program.ancestors().all(|path| {
            fs::metadata(path).is_ok_and(|metadata| metadata.uid() == 0 && metadata.mode() & 0o022 == 0)
        })
}

/// Returns where a program lies. Some packages put games into a folder that is not on everybody's search path.
pub fn find_program(name: &str) -> PathBuf {
    if !name.contains('/') {
        let folders = std::env::var_os("PATH").unwrap_or_default();
        let places =
            std::env::split_paths(&folders).chain(["/usr/games", "/usr/local/games"].map(PathBuf::from));
        let found = places.filter(|folder| folder.is_absolute()).map(|folder| folder.join(name));
        if let Some(found) = found.into_iter().find(|path| path.is_file()) {
            return found;
        }
    }
    name.into()
}

/// What this user has agreed to, kept in the user's configuration folder.
#[derive(Debug, Clone)]
pub struct Trust {
    file: PathBuf,
}

impl Trust {
    /// Returns the user's.
    ///
    /// # Errors
    /// Where the user has no configuration folder.
    pub fn of_user() -> io::Result<Self> {
        let strategy = etcetera::base_strategy::choose_base_strategy().map_err(io::Error::other)?;
        Ok(Self::in_folder(&strategy.config_dir().join("yalotheca")))
    }

    /// Returns what is noted in a folder.
    pub fn in_folder(folder: &Path) -> Self {
        Self { file: folder.join("trusted") }
    }

    fn has(&self, line: &str) -> bool {
        fs::read_to_string(&self.file).is_ok_and(|known| known.lines().any(|known| known == line))
    }

    fn note(&self, line: &str) -> io::Result<()> {
        if self.has(line) {
            return Ok(());
        }
        fs::create_dir_all(self.file.parent().unwrap_or(Path::new(".")))?;
        let mut file = fs::File::options().create(true).append(true).open(&self.file)?;
        file.write_all(format!("{line}\n").as_bytes())
    }

    /// Returns whether a definition's text was agreed to.
    pub fn has_definition(&self, text: &str) -> bool {
        self.has(&Digest::of(text.as_bytes()).to_string())
    }

    /// Notes that a definition's text was agreed to.
    ///
    /// # Errors
    /// Where the user's configuration folder cannot be written.
    pub fn agree_to_definition(&self, text: &str) -> io::Result<()> {
        self.note(&Digest::of(text.as_bytes()).to_string())
    }

    /// Returns whether a command may be run. `foreign` are the values in it that neither the definition nor this user decided.
    pub fn may_run(&self, invocation: &Invocation, foreign: &BTreeSet<String>) -> bool {
        invocation.is_plain(foreign) || invocation.seal().is_some_and(|seal| self.has(&format!("run {seal}")))
    }

    /// Returns whether somebody at this account has agreed to a command, whatever it is.
    pub fn has_command(&self, invocation: &Invocation) -> bool {
        invocation.seal().is_some_and(|seal| self.has(&format!("run {seal}")))
    }

    /// Notes that a command was agreed to. One whose program is not there cannot be run either.
    ///
    /// # Errors
    /// Where the user's configuration folder cannot be written.
    pub fn agree_to(&self, invocation: &Invocation) -> io::Result<()> {
        match invocation.seal() {
            Some(seal) => self.note(&format!("run {seal}")),
            None => Ok(()),
        }
    }

    /// Returns whether a control folder that is another user's was agreed to.
    pub fn has_folder(&self, folder: &Path, owner: u32) -> bool {
        self.has(&format!("folder {owner} {}", folder.display()))
    }

    /// Notes that a control folder that is another user's was agreed to.
    ///
    /// # Errors
    /// Where the user's configuration folder cannot be written.
    pub fn agree_to_folder(&self, folder: &Path, owner: u32) -> io::Result<()> {
        self.note(&format!("folder {owner} {}", folder.display()))
    }
}
