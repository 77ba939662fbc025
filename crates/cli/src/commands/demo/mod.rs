//! `demo`: the whole story on a made-up server, with the real commands and their real output.

mod remote;
mod stories;

use std::{
    fs,
    io::{self, IsTerminal},
    net::TcpListener,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::{Command, ExitCode, Output, Stdio},
    sync::Arc,
};

use clap::Args;
use serde::Serialize;
use yalotheca_host::{
    mirror::serve::{FileServer, ServeOptions},
    tree::LocalTree,
    trust::shell_word,
};
use yalotheca_standin::{catalogue_host::CatalogueHost, kites, moor, quayside};

use stories::{Act, Does, HARBOUR, KITES, MOOR};

use crate::{
    ui::Ui,
    view::{Page, Role, View},
};
use yalotheca_app::AppError;

/// Walk through the whole story on a made-up server.
#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Leave the demo's world in this folder (new or empty), to try commands there
    #[arg(long, value_name = "FOLDER")]
    into: Option<PathBuf>,
    /// Show the first chapter only: take charge of a server, see what is wrong, put it right
    #[arg(long)]
    quick: bool,
    /// The server is on another machine: take charge of it and change it over the network
    #[arg(long, conflicts_with_all = ["quick", "untouched", "into"])]
    remote: bool,
    /// Run nothing: only create the world in the folder
    #[arg(long, requires = "into", conflicts_with = "quick")]
    untouched: bool,
}

/// How many acts the first chapter has.
const FIRST_CHAPTER: usize = 3;

/// What became of the demo, for scripts.
#[derive(Debug, Default, Serialize)]
struct DemoReport {
    acts: Vec<ActReport>,
}

#[derive(Debug, Serialize)]
struct ActReport {
    about: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    command: Option<String>,
    /// The file that somebody edits by hand.
    #[serde(skip_serializing_if = "Option::is_none")]
    by_hand: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    exit_code: Option<i32>,
    #[serde(skip_serializing_if = "String::is_empty")]
    output: String,
}

impl View for DemoReport {
    /// Each act was shown as it was played.
    fn view(&self, _: &mut Page) {}
}

/// Where the demo plays.
pub(super) struct World {
    root: PathBuf,
    server: PathBuf,
    /// Where commands are typed, if not in the server's folder.
    desk: Option<PathBuf>,
    program: PathBuf,
    /// What its catalogue is called.
    name: &'static str,
    catalogue: String,
    /// Whether it stays when the demo is over.
    stays: bool,
    /// The address of a server on another machine, and how it is shown.
    address: Option<String>,
    /// The server, once somebody has started it.
    running: std::cell::RefCell<Option<remote::Started>>,
    /// What commands find in their environment.
    environment: Vec<(String, String)>,
    /// Further values for `adopt`.
    values: Vec<(&'static str, PathBuf)>,
    /// The address that stands for `MIRROR` in a command.
    mirror: String,
}

pub(crate) fn run(args: &DemoArgs, ui: &Ui) -> Result<ExitCode, AppError> {
    let failed = |what: &str| {
        let what = what.to_owned();
        move |source| AppError::Io { what, source }
    };
    let temporary = tempfile::Builder::new()
        .prefix("yalotheca-demo-")
        .tempdir()
        .map_err(failed("making a folder for the demo"))?;
    let root = match &args.into {
        Some(folder) => {
            fs::create_dir_all(folder).map_err(failed("making the demo's folder"))?;
            if fs::read_dir(folder).map_err(failed("reading the demo's folder"))?.next().is_some() {
                return Err(AppError::Refused {
                    what: format!("{} is not empty", folder.display()),
                    hint: Some("name a new folder; the demo never overwrites anything".into()),
                });
            }
            folder.canonicalize().map_err(failed("reading the demo's folder"))?
        }
        None => temporary.path().to_owned(),
    };
    let mut world = build(&root).map_err(failed("building the demo's world"))?;
    if args.remote {
        return remote::play(&root, world, ui);
    }
    world.stays = args.into.is_some();
    if args.untouched {
        build_moor(&root, None).map_err(failed("building the demo's moor"))?;
        return untouched(&world, ui);
    }
    let host = if args.into.is_none() {
        let host =
            CatalogueHost::start(root.join("quayside")).map_err(failed("starting the catalogue host"))?;
        world.catalogue = host.address();
        Some(host)
    } else {
        None
    };
    let mut report = DemoReport::default();
    let chapter = if args.quick { &HARBOUR[..FIRST_CHAPTER] } else { HARBOUR };
    ui.note(if args.quick {
        "The first chapter takes a second or two. Nothing outside the demo's own folder is touched."
    } else {
        "The whole story takes about five seconds (--quick shows its first chapter). Nothing outside the demo's own folder is touched."
    });
    for one in chapter {
        report.acts.push(act(&world, one, ui)?);
    }
    drop(host);
    if args.quick {
        return finish(&report, args.into.is_some().then_some(&world), ui);
    }
    let pages = root.join("item-host");
    moor::write_item_host(&pages).map_err(failed("writing the items' pages"))?;
    let items = CatalogueHost::start(pages).map_err(failed("starting the item host"))?;
    let mut moor = build_moor(&root, Some(&items)).map_err(failed("building the demo's moor"))?;
    moor.stays = world.stays;
    for one in MOOR {
        report.acts.push(act(&moor, one, ui)?);
    }
    let web = root.join("web");
    fs::create_dir_all(&web).map_err(failed("making the mirror's folder"))?;
    let address = ([127, 0, 0, 1], 0).into();
    let options = ServeOptions { address, downloads: 8, rate: None };
    let mirror = FileServer::start(LocalTree::new(&web), options, Arc::new(|_| ()))
        .map_err(failed("starting the mirror's host"))?;
    let mut kites = build_kites(&root, &mirror).map_err(failed("building the demo's kites"))?;
    kites.stays = world.stays;
    for one in KITES {
        report.acts.push(act(&kites, one, ui)?);
    }
    finish(&report, args.into.is_some().then_some(&world), ui)
}

fn finish(report: &DemoReport, stays: Option<&World>, ui: &Ui) -> Result<ExitCode, AppError> {
    if ui.is_json() {
        ui.show(report)?;
    } else if let Some(world) = stays {
        next_steps(world, ui)?;
    }
    Ok(ExitCode::SUCCESS)
}

/// A port that is free now is very likely free in a second, too.
pub(super) fn free_port() -> io::Result<u16> {
    Ok(TcpListener::bind(("127.0.0.1", 0))?.local_addr()?.port())
}

/// Writes the program that runs a stand-in's server, and returns where.
pub(super) fn write_program(folder: &Path, game: &str) -> io::Result<PathBuf> {
    write_script(folder, &format!("{game}-server"), game)
}

/// Writes a game's own tool, and returns where.
pub(super) fn write_tool(folder: &Path, tool: &str) -> io::Result<PathBuf> {
    write_script(folder, tool, tool)
}

fn write_script(folder: &Path, name: &str, stand_in: &str) -> io::Result<PathBuf> {
    let program = folder.join(name);
    fs::create_dir_all(folder)?;
    let own = std::env::current_exe()?;
    fs::write(&program, format!("#!/bin/sh\nexec '{}' stand-in {stand_in} \"$@\"\n", own.display()))?;
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755))?;
    Ok(program)
}

/// Builds the world in which the story begins.
pub(super) fn build(root: &Path) -> io::Result<World> {
    let server = root.join("harbour");
    quayside::write_catalogue(&root.join("quayside"))?;
    quayside::write_left_behind_server(&server, free_port()?)?;
    let program = write_program(&root.join("bin"), "saltwick")?;
    Ok(World {
        root: root.to_owned(),
        server,
        program,
        name: "quayside",
        catalogue: "../quayside".into(),
        stays: false,
        desk: None,
        address: None,
        running: std::cell::RefCell::default(),
        environment: Vec::new(),
        values: Vec::new(),
        mirror: String::new(),
    })
}

/// Builds the second server. Its items come from a host, if there is one.
fn build_moor(root: &Path, item_host: Option<&CatalogueHost>) -> io::Result<World> {
    let server = root.join("moor");
    moor::write_server(&server, free_port()?)?;
    moor::write_tweaks(&root.join("tweaks"))?;
    if let Some(host) = item_host {
        let settings = fs::read_to_string(server.join("garrow.ini"))?;
        let at = host.address();
        let settings = settings.replace("item_host =", &format!("item_host = {}", at.trim_end_matches('/')));
        fs::write(server.join("garrow.ini"), settings)?;
    }
    let program = write_program(&root.join("bin"), "mossgarrow")?;
    let tool = write_tool(&root.join("bin"), "mossgarrow-index")?;
    Ok(World {
        root: root.to_owned(),
        server,
        program,
        name: "tweaks",
        catalogue: "../tweaks".into(),
        stays: false,
        desk: None,
        address: None,
        running: std::cell::RefCell::default(),
        environment: Vec::new(),
        values: vec![("index", tool)],
        mirror: String::new(),
    })
}

/// Builds the third server, whose players download from a file server.
fn build_kites(root: &Path, mirror: &FileServer) -> io::Result<World> {
    let server = root.join("kites");
    kites::write_server(&server, free_port()?, free_port()?)?;
    kites::write_downloads(&root.join("kite-files"))?;
    let program = write_program(&root.join("bin"), "kitehollow")?;
    Ok(World {
        root: root.to_owned(),
        server,
        program,
        name: "downloads",
        catalogue: "../kite-files".into(),
        stays: false,
        desk: None,
        address: None,
        running: std::cell::RefCell::default(),
        environment: Vec::new(),
        values: Vec::new(),
        mirror: format!("http://{}/", mirror.address()),
    })
}

/// Edits a file as somebody would by hand.
fn by_hand(
    world: &World,
    about: &str,
    (file, from, to): (&str, &str, &str),
    ui: &Ui,
) -> Result<ActReport, AppError> {
    let path = world.server.join(file);
    let failed = |source| AppError::Io { what: format!("editing {file}"), source };
    let text = fs::read_to_string(&path).map_err(failed)?;
    fs::write(&path, text.replace(from, to)).map_err(failed)?;
    let report = ActReport {
        about: about.to_owned(),
        command: None,
        by_hand: Some(file.to_owned()),
        exit_code: None,
        output: String::new(),
    };
    if ui.is_json() {
        return Ok(report);
    }
    let mut page = Page::new(100);
    page.line(Role::Warn, &format!("({file}, by hand)"));
    for (sign, role, text) in [('-', Role::Bad, from), ('+', Role::Good, to)] {
        for line in text.lines() {
            page.cut(4, role, &format!("{sign}{line}"));
        }
    }
    ui.print(&page.into_text())?;
    Ok(report)
}

/// Says to `adopt` where the server, its catalogue and its programs are.
fn tell_adopt(world: &World, words: &mut Vec<String>) {
    words.splice(1..1, world.address.clone());
    words.extend(["--catalogue".into(), format!("{}={}", world.name, world.catalogue)]);
    words.extend(["--set".into(), format!("program={}", world.program.display())]);
    let values = world.values.iter().map(|(name, value)| format!("{name}={}", value.display()));
    words.extend(values.flat_map(|value| ["--set".into(), value]));
}

/// Returns what a command printed: what it reported on the way comes before the result, but an error is the end of it.
fn told(output: &Output) -> String {
    let (out, err) = (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    let is_error = output.status.code().is_some_and(|code| code > 1);
    if is_error { format!("{out}{err}") } else { format!("{err}{out}") }
}

/// Returns what an exit code that may occur in the story means.
fn meaning(code: i32) -> Option<&'static str> {
    let meanings =
        [(0, ""), (1, "problems found"), (3, "no versions fit together"), (5, "refused for safety")];
    meanings.iter().find(|(known, _)| *known == code).map(|(_, meaning)| *meaning)
}

fn act(world: &World, act: &Act, ui: &Ui) -> Result<ActReport, AppError> {
    let mut page = Page::new(100);
    page.raw("");
    if !act.about.is_empty() {
        page.line(Role::Dim, act.about);
    }
    let words = match act.does {
        Does::Run(words) | Does::Watch(words) => words,
        Does::Hand { file, from, to } => {
            if !ui.is_json() {
                ui.print(&page.into_text())?;
            }
            return by_hand(world, act.about, (file, from, to), ui);
        }
    };
    let mut words: Vec<String> = words
        .iter()
        .map(|word| if *word == "MIRROR" { world.mirror.clone() } else { (*word).to_owned() })
        .collect();
    if words[0] == "adopt" {
        tell_adopt(world, &mut words);
    }
    let typed: Vec<String> =
        words.iter().map(|word| shell_word(&word.replace(&*world.root.to_string_lossy(), ".."))).collect();
    let typed = format!("yalotheca {}", typed.join(" "));
    page.line(Role::Head, &format!("$ {typed}"));
    if !ui.is_json() {
        ui.print(&page.into_text())?;
    }
    let own = std::env::current_exe()
        .map_err(|source| AppError::Io { what: "finding this program".into(), source })?;
    let mut command = Command::new(own);
    command.args(&words).current_dir(world.desk.as_ref().unwrap_or(&world.server)).stdin(Stdio::null());
    // The demo leaves nothing in the user's own folders, unless its world stays.
    for (name, folder) in
        [("XDG_CACHE_HOME", "cache"), ("XDG_STATE_HOME", "state"), ("XDG_CONFIG_HOME", "config")]
    {
        if !world.stays {
            command.env(name, world.root.join(folder));
        }
    }
    command.envs(world.environment.iter().map(|(name, value)| (name, value)));
    if !io::stdout().is_terminal() {
        command.env("NO_COLOR", "1");
    }
    let is_shown = io::stdout().is_terminal() && !ui.is_json();
    let starting = matches!(act.does, Does::Watch(_)).then(|| remote::start_soon(world));
    let output = command
        .stderr(if is_shown { Stdio::inherit() } else { Stdio::piped() })
        .stdout(if is_shown { Stdio::inherit() } else { Stdio::piped() })
        .output()
        .map_err(|source| AppError::Io { what: "running a command of the demo".into(), source })?;
    if let Some(starting) = starting {
        world.running.replace(starting.join().ok().flatten());
    }
    let told = told(&output);
    let report = ActReport {
        about: act.about.to_owned(),
        command: Some(typed),
        by_hand: None,
        exit_code: output.status.code(),
        output: if ui.is_json() { told.clone() } else { String::new() },
    };
    if !ui.is_json() {
        ui.print(&told)?;
    }
    let meaning = match output.status.code().and_then(meaning) {
        Some("") => return Ok(report),
        Some(meaning) => meaning,
        None => {
            return Err(AppError::Refused {
                what: format!("a command of the demo failed ({})", output.status),
                hint: Some("this is a bug in Yalotheca; the output is above".into()),
            });
        }
    };
    if !ui.is_json() {
        let mut page = Page::new(100);
        page.line(Role::Dim, &format!("(exit code {}: {meaning})", output.status.code().unwrap_or(-1)));
        ui.print(&page.into_text())?;
    }
    Ok(report)
}

/// Says where the world lies, and how its server is taken charge of.
fn untouched(world: &World, ui: &Ui) -> Result<ExitCode, AppError> {
    let mut page = Page::new(100);
    page.line(Role::Plain, "A server that somebody left behind, and a catalogue beside it. Begin with:");
    page.raw(&format!("  cd {}", shell_word(&world.server.display().to_string())));
    let program =
        world.program.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned());
    let adopt = format!("yalotheca adopt --catalogue {}={}", world.name, world.catalogue);
    page.raw(&format!("  {adopt} --set program=../bin/{program}"));
    ui.print(&page.into_text())?;
    Ok(ExitCode::SUCCESS)
}

fn next_steps(world: &World, ui: &Ui) -> Result<(), AppError> {
    let mut page = Page::new(100);
    page.raw("");
    page.head("The demo's world is yours now. Try:");
    page.raw(&format!("  cd {}", world.server.display()));
    for line in ["find", "about tidebell", "add ferry-lines", "trial", "check --json", "undo"] {
        page.raw(&format!("  yalotheca {line}"));
    }
    ui.print(&page.into_text())
}
