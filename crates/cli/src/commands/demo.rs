//! `demo`: the whole story on a made-up server, with the real commands and their real output.

use std::{
    fs,
    io::{self, IsTerminal},
    net::TcpListener,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::{Command, ExitCode, Stdio},
};

use clap::Args;
use yalotheca_standin::{catalogue_host::CatalogueHost, quayside};

use crate::{
    error::CommandError,
    ui::Ui,
    view::{Page, Role},
};

/// Walk through the whole story on a made-up server.
#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Leave the demo's world in this folder (new or empty), to try commands in
    #[arg(long, value_name = "FOLDER")]
    into: Option<PathBuf>,
}

/// Each act: what it is about, and the command.
const STORY: &[(&str, &[&str])] = &[
    (
        "Somebody left the Larkspur Harbour Festival's server behind. Take charge of it: nothing is changed, and what \
         lies where the server does not look is named.",
        &["adopt", "--name", "Larkspur Harbour"],
    ),
    ("What is wrong with it?", &["check"]),
    (
        "Put it right: what is missing is brought, what lies wrong is moved, all or nothing.",
        &["settle", "--yes"],
    ),
    ("What is there to add that has to do with bells?", &["find", "bell"]),
    ("Tidebell, then. Note it, see what would happen, and do it.", &["add", "tidebell", "--later"]),
    ("", &["preview"]),
    ("", &["settle", "--yes", "--quiet"]),
    ("Does the server start with it?", &["trial"]),
    (
        "Two contents that do not go together: the reason, and the ways out.",
        &["add", "quiet-bells", "tidebell@>=1.3", "--yes"],
    ),
    ("Is there anything newer? Some things cannot be, and the reason is told.", &["update", "--yes"]),
    (
        "The festival's race is postponed before it is announced: in with it, and out again.",
        &["add", "regatta", "--yes"],
    ),
    ("", &["undo", "--yes"]),
    ("The bells are too loud. What only they needed goes with them.", &["drop", "tidebell", "--yes"]),
    ("What was done, and by whom?", &["history"]),
    ("And all is as it should be.", &["check"]),
];

/// Where the demo plays.
pub(super) struct World {
    root: PathBuf,
    server: PathBuf,
    program: PathBuf,
    catalogue: String,
    cache: PathBuf,
}

pub(crate) fn run(args: &DemoArgs, ui: &Ui) -> Result<ExitCode, CommandError> {
    let failed = |what: &str| {
        let what = what.to_owned();
        move |source| CommandError::Io { what, source }
    };
    let temporary = tempfile::Builder::new()
        .prefix("yalotheca-demo-")
        .tempdir()
        .map_err(failed("making a folder for the demo"))?;
    let root = match &args.into {
        Some(folder) => {
            fs::create_dir_all(folder).map_err(failed("making the demo's folder"))?;
            if fs::read_dir(folder).map_err(failed("reading the demo's folder"))?.next().is_some() {
                return Err(CommandError::Refused {
                    what: format!("{} is not empty", folder.display()),
                    hint: Some("name a new folder; the demo never writes over anything".into()),
                });
            }
            folder.canonicalize().map_err(failed("reading the demo's folder"))?
        }
        None => temporary.path().to_owned(),
    };
    let mut world = build(&root).map_err(failed("building the demo's world"))?;
    let host = if args.into.is_none() {
        let host =
            CatalogueHost::start(root.join("quayside")).map_err(failed("starting the catalogue host"))?;
        world.catalogue = host.address();
        Some(host)
    } else {
        None
    };
    for (about, words) in STORY {
        act(&world, about, words, ui)?;
    }
    drop(host);
    if args.into.is_some() {
        next_steps(&world, ui)?;
    }
    Ok(ExitCode::SUCCESS)
}

/// A port that is free now is very likely free in a second, too.
pub(super) fn free_port() -> io::Result<u16> {
    Ok(TcpListener::bind(("127.0.0.1", 0))?.local_addr()?.port())
}

/// Writes the program that runs a stand-in's server, and returns where.
pub(super) fn write_program(folder: &Path, game: &str) -> io::Result<PathBuf> {
    let program = folder.join(format!("{game}-server"));
    fs::create_dir_all(folder)?;
    let own = std::env::current_exe()?;
    fs::write(&program, format!("#!/bin/sh\nexec '{}' stand-in {game} \"$@\"\n", own.display()))?;
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755))?;
    Ok(program)
}

/// Builds the world in which the story begins.
pub(super) fn build(root: &Path) -> io::Result<World> {
    let server = root.join("harbour");
    quayside::write_catalogue(&root.join("quayside"))?;
    quayside::write_left_behind_server(&server, free_port()?)?;
    let program = write_program(&root.join("bin"), "saltwick")?;
    let cache = root.join("cache");
    Ok(World { root: root.to_owned(), server, program, catalogue: "../quayside".into(), cache })
}

fn act(world: &World, about: &str, words: &[&str], ui: &Ui) -> Result<(), CommandError> {
    let mut page = Page::new(100);
    page.raw("");
    if !about.is_empty() {
        page.line(Role::Dim, about);
    }
    let mut words: Vec<String> = words.iter().map(ToString::to_string).collect();
    if words[0] == "adopt" {
        words.extend(["--catalogue".into(), format!("quayside={}", world.catalogue)]);
        words.extend(["--set".into(), format!("program={}", world.program.display())]);
    }
    let typed: Vec<String> =
        words.iter().map(|word| quoted(&word.replace(&*world.root.to_string_lossy(), ".."))).collect();
    page.line(Role::Head, &format!("$ yalotheca {}", typed.join(" ")));
    ui.print(&page.into_text())?;
    let own = std::env::current_exe()
        .map_err(|source| CommandError::Io { what: "finding this program".into(), source })?;
    let mut command = Command::new(own);
    command.args(&words).current_dir(&world.server).env("XDG_CACHE_HOME", &world.cache).stdin(Stdio::null());
    if !io::stdout().is_terminal() {
        command.env("NO_COLOR", "1");
    }
    let output = command
        .stderr(if io::stdout().is_terminal() { Stdio::inherit() } else { Stdio::piped() })
        .stdout(if io::stdout().is_terminal() { Stdio::inherit() } else { Stdio::piped() })
        .output()
        .map_err(|source| CommandError::Io { what: "running a command of the demo".into(), source })?;
    // What is told on the way comes before the result.
    ui.print(&String::from_utf8_lossy(&output.stderr))?;
    ui.print(&String::from_utf8_lossy(&output.stdout))?;
    let meaning = match output.status.code() {
        Some(0) => return Ok(()),
        Some(1) => "trouble found",
        Some(3) => "no lineup possible",
        _ => {
            return Err(CommandError::Refused {
                what: format!("a command of the demo failed ({})", output.status),
                hint: Some("this is a mistake in yalotheca; its output stands above".into()),
            });
        }
    };
    let mut page = Page::new(100);
    page.line(Role::Dim, &format!("(exit code {}: {meaning})", output.status.code().unwrap_or(-1)));
    ui.print(&page.into_text())
}

fn quoted(word: &str) -> String {
    let plain = word.chars().all(|c| c.is_ascii_alphanumeric() || "-_./:=".contains(c));
    if plain { word.to_owned() } else { format!("'{word}'") }
}

fn next_steps(world: &World, ui: &Ui) -> Result<(), CommandError> {
    let mut page = Page::new(100);
    page.raw("");
    page.head("The demo's world is yours now. Try:");
    page.raw(&format!("  cd {}", world.server.display()));
    for line in ["find", "about tidebell", "add ferry-lines", "trial", "check --json", "undo"] {
        page.raw(&format!("  yalotheca {line}"));
    }
    ui.print(&page.into_text())
}
