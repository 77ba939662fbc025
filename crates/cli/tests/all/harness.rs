//! A world in a temporary folder: a server, a cache, a catalogue host, and the built program.

use std::{
    collections::BTreeMap,
    error::Error,
    fs,
    net::TcpListener,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::{Command, Output},
};

use serde_json::Value;
use yalotheca_standin::{catalogue_host::CatalogueHost, kites, moor, quayside};

pub(crate) type Done = Result<(), Box<dyn Error>>;

/// The built program.
pub(crate) fn program() -> PathBuf {
    PathBuf::from(env!("CARGO_BIN_EXE_yalotheca"))
}

/// What a command answered.
#[derive(Debug)]
pub(crate) struct Answer {
    pub(crate) code: i32,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl Answer {
    fn of(output: &Output) -> Self {
        Self {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }

    /// Checks the exit code and returns the answer.
    pub(crate) fn code(self, expected: i32) -> Self {
        assert_eq!(self.code, expected, "stdout:\n{}\nstderr:\n{}", self.out, self.err);
        self
    }

    /// Checks that the result or the messages hold each of these.
    pub(crate) fn says(self, texts: &[&str]) -> Self {
        let whole = format!("{}\n{}", self.out, self.err);
        let flat = whole.split_whitespace().collect::<Vec<_>>().join(" ");
        // Contents without a version are told apart by digests, which no test spells out.
        let is_digits =
            |word: &&str| word.len() == 6 && word.bytes().all(|b| b"0123456789abcdef".contains(&b));
        let bare = flat.split(' ').filter(|word| !is_digits(word)).collect::<Vec<_>>().join(" ");
        for text in texts {
            assert!(flat.contains(text) || bare.contains(text), "{text:?} is not in:\n{whole}");
        }
        self
    }

    pub(crate) fn json(&self) -> Result<Value, Box<dyn Error>> {
        Ok(serde_json::from_str(&self.out)?)
    }
}

/// The name of a manifest, and the paths of the placed files that it lists.
type Manifest = (String, Vec<String>);

/// A server in a temporary folder, with a catalogue host.
pub(crate) struct World {
    root: tempfile::TempDir,
    pub(crate) host: CatalogueHost,
    pub(crate) port: u16,
}

pub(crate) fn free_port() -> Result<u16, Box<dyn Error>> {
    Ok(TcpListener::bind(("127.0.0.1", 0))?.local_addr()?.port())
}

impl World {
    /// A world whose server folder is still empty. Its path has a space and letters beyond ASCII.
    pub(crate) fn empty() -> Result<Self, Box<dyn Error>> {
        Self::empty_in(&std::env::temp_dir())
    }

    /// The same, in a folder of another one.
    pub(crate) fn empty_in(folder: &Path) -> Result<Self, Box<dyn Error>> {
        let root = tempfile::Builder::new().prefix("yalotheca läuft hier ").tempdir_in(folder)?;
        fs::create_dir_all(root.path().join("harbour"))?;
        quayside::write_catalogue(&root.path().join("quayside"))?;
        let host = CatalogueHost::start(root.path().join("quayside"))?;
        let world = Self { root, host, port: free_port()? };
        world.stand_in("saltwick")?;
        Ok(world)
    }

    /// A Kitehollow server, adopted, with the crew's downloads in the folder `files`.
    pub(crate) fn kites() -> Result<Self, Box<dyn Error>> {
        let world = Self::empty()?;
        kites::write_server(&world.server(), free_port()?, free_port()?)?;
        kites::write_downloads(&world.files())?;
        let value = format!("program={}", world.stand_in("kitehollow")?.display());
        world.run(&["adopt", "--name", "Larkspur Kites", "--set", &value]).code(0);
        Ok(world)
    }

    /// A Mossgarrow server before its first start, adopted, with tweaks in a folder catalogue.
    pub(crate) fn moor() -> Result<Self, Box<dyn Error>> {
        let world = Self::empty()?;
        moor::write_server(&world.server(), free_port()?)?;
        moor::write_tweaks(&world.root().join("tweaks"))?;
        let value = format!("program={}", world.stand_in("mossgarrow")?.display());
        world
            .run(&["adopt", "--name", "Larkspur Moor", "--set", &value, "--catalogue", "tweaks=../tweaks"])
            .code(0);
        Ok(world)
    }

    /// Writes the program of a stand-in.
    pub(crate) fn stand_in(&self, name: &str) -> Result<PathBuf, Box<dyn Error>> {
        let path = self.root().join(format!("{name}-server"));
        fs::write(&path, format!("#!/bin/sh\nexec '{}' stand-in {name} \"$@\"\n", program().display()))?;
        fs::set_permissions(&path, fs::Permissions::from_mode(0o755))?;
        Ok(path)
    }

    /// The folder with the crew's downloads.
    pub(crate) fn files(&self) -> PathBuf {
        self.root().join("files")
    }

    /// A fresh Saltwick server, adopted.
    pub(crate) fn fresh() -> Result<Self, Box<dyn Error>> {
        let world = Self::empty()?;
        quayside::write_fresh_server(&world.server(), world.port)?;
        world.adopt().code(0);
        Ok(world)
    }

    /// The server that somebody left behind, adopted.
    pub(crate) fn left_behind() -> Result<Self, Box<dyn Error>> {
        let world = Self::empty()?;
        quayside::write_left_behind_server(&world.server(), world.port)?;
        world.adopt().code(0);
        Ok(world)
    }

    pub(crate) fn root(&self) -> &Path {
        self.root.path()
    }

    pub(crate) fn server(&self) -> PathBuf {
        self.root().join("harbour")
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.server().join(name)
    }

    pub(crate) fn read(&self, name: &str) -> Result<String, Box<dyn Error>> {
        Ok(fs::read_to_string(self.path(name)).map_err(|error| format!("{name}: {error}"))?)
    }

    /// The names of the manifests in the records, and the paths of the placed files that they list.
    pub(crate) fn manifests(&self) -> Result<Vec<Manifest>, Box<dyn Error>> {
        let receipt: Value = serde_json::from_str(&self.read(".yalotheca/receipt.json")?)?;
        let digests = receipt["manifests"].as_object().into_iter().flatten();
        digests
            .map(|(_, digest)| {
                let name = format!(".yalotheca/records/{}.manifest", digest.as_str().unwrap_or_default());
                let text = self.read(&name)?;
                let files = text.lines().filter_map(|line| line.strip_prefix("file ")?.split('\t').nth(3));
                Ok((name, files.filter(|path| !path.is_empty()).map(str::to_owned).collect()))
            })
            .collect()
    }

    pub(crate) fn write(&self, name: &str, text: &str) -> Done {
        let path = self.path(name);
        path.parent().map_or(Ok(()), fs::create_dir_all)?;
        Ok(fs::write(path, text)?)
    }

    pub(crate) fn adopt(&self) -> Answer {
        let catalogue = format!("quayside={}", self.host.address());
        let program = format!("program={}", self.root().join("saltwick-server").display());
        self.run(&["adopt", "--name", "Larkspur Harbour", "--catalogue", &catalogue, "--set", &program])
    }

    pub(crate) fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new(program());
        command
            .args(words)
            .current_dir(self.server())
            .env_clear()
            .env("PATH", std::env::var_os("PATH").unwrap_or_default())
            .env("HOME", self.root())
            .env("USER", "wren")
            .env("COLUMNS", "100");
        command
    }

    pub(crate) fn run(&self, words: &[&str]) -> Answer {
        self.run_with(words, &[])
    }

    /// Runs it in another folder of the world.
    pub(crate) fn run_in(&self, folder: &Path, words: &[&str]) -> Answer {
        match self.command(words).current_dir(folder).output() {
            Ok(output) => Answer::of(&output),
            Err(error) => Answer { code: -2, out: String::new(), err: error.to_string() },
        }
    }

    pub(crate) fn run_with(&self, words: &[&str], env: &[(&str, &str)]) -> Answer {
        match self.command(words).envs(env.iter().copied()).output() {
            Ok(output) => Answer::of(&output),
            Err(error) => Answer { code: -2, out: String::new(), err: error.to_string() },
        }
    }

    /// Runs it with a file as its standard input.
    pub(crate) fn run_with_input(&self, words: &[&str], input: &str) -> Answer {
        let path = self.root().join("input");
        let output = fs::write(&path, input)
            .and_then(|()| fs::File::open(&path))
            .and_then(|file| self.command(words).stdin(file).output());
        match output {
            Ok(output) => Answer::of(&output),
            Err(error) => Answer { code: -2, out: String::new(), err: error.to_string() },
        }
    }

    /// Runs it in a terminal, in which something is typed; both streams are one there.
    pub(crate) fn run_in_terminal(&self, words: &[&str], typed: &str, env: &[(&str, &str)]) -> Answer {
        let quoted = |word: &str| format!("'{}'", word.replace('\'', r"'\''"));
        let path = program().display().to_string();
        let line: Vec<String> = [path.as_str()].iter().chain(words).map(|word| quoted(word)).collect();
        let command = self.command(words);
        let mut script = Command::new("script");
        script.args(["-qec", &line.join(" "), "/dev/null"]).env_clear();
        script.envs(command.get_envs().filter_map(|(name, value)| Some((name, value?))));
        script.envs(env.iter().copied());
        if let Some(folder) = command.get_current_dir() {
            script.current_dir(folder);
        }
        let path = self.root().join("typed");
        let output = fs::write(&path, typed)
            .and_then(|()| fs::File::open(&path))
            .and_then(|file| script.stdin(file).output());
        match output {
            Ok(output) => Answer::of(&output),
            Err(error) => Answer { code: -2, out: String::new(), err: error.to_string() },
        }
    }

    /// Agrees to what the server's definition would run, as it is now.
    pub(crate) fn trust(&self) {
        let game = self.run(&["history", "--json"]);
        let name = if game.out.contains("kitehollow") { "kitehollow" } else { "saltwick" };
        self.run(&["game", "trust", name, "--yes"]).code(0);
    }

    /// The digest of every file of the server, `.yalotheca` and the two control files apart; folders too.
    pub(crate) fn digests(&self) -> Result<BTreeMap<String, String>, Box<dyn Error>> {
        digests_of(&self.server())
    }
}

pub(crate) fn digests_of(folder: &Path) -> Result<BTreeMap<String, String>, Box<dyn Error>> {
    let mut found = BTreeMap::new();
    for entry in walkdir::WalkDir::new(folder) {
        let entry = entry?;
        let name = entry.path().strip_prefix(folder)?.to_string_lossy().into_owned();
        if name.starts_with(".yalotheca") || name.starts_with("yalotheca.") {
            continue;
        }
        let digest = if entry.file_type().is_file() {
            blake3::hash(&fs::read(entry.path())?).to_hex().to_string()
        } else {
            "folder".into()
        };
        found.insert(name, digest);
    }
    Ok(found)
}

/// Says that a test was skipped, since something real is missing; that is a failure where real things are asked for.
#[expect(clippy::print_stderr, reason = "the test's runner shows it")]
pub(crate) fn skipped(what: &str) -> Done {
    if std::env::var("YALOTHECA_REAL").is_ok_and(|real| real == "1") {
        return Err(format!("{what} is missing, and YALOTHECA_REAL=1 forbids to skip").into());
    }
    eprintln!("skipped: {what} is missing");
    Ok(())
}

/// Says that a test was skipped, since the machine does not allow it: no package would help.
#[expect(
    clippy::print_stderr,
    clippy::unnecessary_wraps,
    reason = "the test's runner shows it; it ends a test"
)]
pub(crate) fn not_here(what: &str) -> Done {
    eprintln!("skipped: not without {what}");
    Ok(())
}
