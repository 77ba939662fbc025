//! `mirror`: the web folder from which players' games download files.

use std::{
    net::{IpAddr, SocketAddr},
    path::{Path, PathBuf},
    process::ExitCode,
    sync::Arc,
    time::Duration,
};

use clap::{Args, Subcommand};
use yalotheca_app::{
    AppError, Purpose, Server,
    mirror::{MirrorStatus, status},
    ops::mirror::{MirrorReport, MirrorRequest, announce, build, folder, publish},
};
use yalotheca_host::{
    mirror::serve::{FileServer, ServeOptions, Served},
    tree::LocalTree,
};

use super::apply::{Mode, apply};
use crate::{
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, count, size},
};

/// Build, publish and announce the web folder from which players' games download files.
#[derive(Debug, Args)]
pub(crate) struct MirrorArgs {
    #[command(subcommand)]
    act: Option<MirrorAct>,
    /// Ask the address for every file, not only for some
    #[arg(long)]
    all: bool,
}

#[derive(Debug, Subcommand)]
enum MirrorAct {
    /// Build it in a folder of this machine; files that are up to date are not touched
    Build {
        /// The folder; if it is left out, the one of the last time
        folder: Option<PathBuf>,
        #[command(flatten)]
        how: How,
    },
    /// Copy the built folder to where players find it
    Publish {
        /// A folder, or an address as of a server on another machine; if it is left out, the one of the last time
        target: Option<String>,
        /// The built folder; if it is left out, the one of the last time
        #[arg(long, value_name = "FOLDER")]
        from: Option<PathBuf>,
        #[command(flatten)]
        how: How,
    },
    /// Have the server tell players this address, and switch on what that takes
    Address {
        /// The web address of the published folder
        #[arg(required_unless_present = "none")]
        url: Option<String>,
        /// Take the address away
        #[arg(long, conflicts_with = "url")]
        none: bool,
        /// Do not make sure first that a file is there
        #[arg(long)]
        unchecked: bool,
    },
    /// Serve the built folder from this machine, for a home network or a test
    Serve {
        /// The folder; if it is left out, the built one
        folder: Option<PathBuf>,
        /// The address to listen on
        #[arg(long, value_name = "IP", default_value = "127.0.0.1")]
        bind: IpAddr,
        /// The port to listen on; 0 takes a free one
        #[arg(long, default_value_t = 8080)]
        port: u16,
        /// How many downloads may run at once; others wait
        #[arg(long, value_name = "COUNT", default_value_t = 32)]
        downloads: usize,
        /// The most kilobytes per second of one download
        #[arg(long, value_name = "KB")]
        rate: Option<u64>,
    },
}

#[derive(Debug, Args)]
struct How {
    /// How many days files stay that players do not need any more
    #[arg(long, value_name = "DAYS", default_value_t = 7)]
    grace: u64,
    /// Replace files that somebody else put there; they are kept in .yalotheca/replaced
    #[arg(long)]
    replace: bool,
}

impl How {
    fn request(&self, folder: Option<&PathBuf>, target: Option<&String>) -> MirrorRequest {
        MirrorRequest {
            folder: folder.cloned(),
            target: target.cloned(),
            grace: Duration::from_secs(self.grace.saturating_mul(24 * 60 * 60)),
            replace: self.replace,
        }
    }
}

/// How many files are listed; JSON has all of them.
const MOST: usize = 20;

impl View for MirrorReport {
    fn view(&self, page: &mut Page) {
        let what = if self.is_published { "Published" } else { "Built" };
        page.line(Role::Head, &format!("{what}: the mirror of {} in {}", self.server, self.place));
        let rows: Vec<Vec<Cell>> = self
            .done
            .written
            .iter()
            .take(MOST)
            .map(|name| vec![Cell::new(Role::Good, "+"), Cell::plain(name.to_string())])
            .chain(
                self.done
                    .removed
                    .iter()
                    .take(MOST)
                    .map(|name| vec![Cell::new(Role::Bad, "-"), Cell::plain(name.to_string())]),
            )
            .collect();
        page.table(&rows);
        let more = (self.done.written.len() + self.done.removed.len()).saturating_sub(rows.len());
        if more > 0 {
            page.line(Role::Dim, &format!("  and {more} more"));
        }
        page.gap();
        let waiting = match self.done.waiting.len() {
            0 => String::new(),
            waiting => format!(", {waiting} not needed any more and kept for now"),
        };
        page.line(
            Role::Plain,
            &format!(
                "{} ({}): {} written, {} unchanged, {} removed{waiting}.",
                count(self.files, "file"),
                size(self.done.bytes),
                self.done.written.len(),
                self.done.unchanged,
                self.done.removed.len()
            ),
        );
        match (&self.address, self.is_published) {
            (Some(address), _) => {
                page.line(Role::Dim, &format!("The server tells players to download from {address}."));
            }
            (None, true) => {
                page.line(Role::Dim, "Next: yalotheca mirror address URL tells players where it is.");
            }
            (None, false) => {
                page.line(Role::Dim, "Next: yalotheca mirror publish TARGET copies it to a web host.");
            }
        }
    }
}

impl View for MirrorStatus {
    fn view(&self, page: &mut Page) {
        page.line(Role::Head, &format!("The mirror of {}", self.server));
        let rows = [
            ("built in", self.folder.as_deref().unwrap_or("nowhere yet")),
            ("published at", self.target.as_deref().unwrap_or("nowhere yet")),
            ("address", self.address.as_deref().unwrap_or("none; players download nothing from it")),
        ];
        let mut rows: Vec<Vec<Cell>> = rows
            .into_iter()
            .map(|(name, text)| vec![Cell::new(Role::Dim, name), Cell::plain(text)])
            .collect();
        rows.push(vec![Cell::new(Role::Dim, "needed"), Cell::plain(count(self.files, "file"))]);
        page.table(&rows);
        page.gap();
        for says in &self.settings {
            page.line(Role::Bad, &format!("Problem: {says}."));
        }
        for problem in self.problems.iter().take(MOST) {
            page.line(Role::Bad, &format!("{}: {}.", problem.link, problem.why));
        }
        if let Some(why) = &self.silent {
            page.line(Role::Warn, &format!("Could not ask the address: {why}."));
        } else if self.problems.is_empty() && self.asked > 0 {
            page.line(
                Role::Good,
                &format!("{} asked for at the address, and all are there.", count(self.asked, "file")),
            );
        } else if !self.problems.is_empty() {
            page.line(
                Role::Plain,
                &format!(
                    "{} of {} asked for are not as they should be.",
                    self.problems.len(),
                    count(self.asked, "file")
                ),
            );
            page.line(Role::Dim, "Next: yalotheca mirror build, then yalotheca mirror publish.");
        }
    }
}

pub(crate) fn run(args: &MirrorArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    match &args.act {
        None => {
            let status = status(&Server::open(Purpose::Look, &global.open(), ui)?, args.all)?;
            let is_wrong = !status.problems.is_empty() || !status.settings.is_empty();
            ui.show(&status)?;
            Ok(if is_wrong { ExitCode::FAILURE } else { ExitCode::SUCCESS })
        }
        Some(MirrorAct::Build { folder, how }) => {
            let server = Server::open(Purpose::Change, &global.open(), ui)?;
            ui.show(&build(&server, &how.request(folder.as_ref(), None))?)?;
            Ok(ExitCode::SUCCESS)
        }
        Some(MirrorAct::Publish { target, from, how }) => {
            let server = Server::open(Purpose::Change, &global.open(), ui)?;
            ui.show(&publish(&server, &how.request(from.as_ref(), target.as_ref()), ui)?)?;
            Ok(ExitCode::SUCCESS)
        }
        Some(MirrorAct::Address { url, unchecked, .. }) => {
            let server = Server::open(Purpose::Change, &global.open(), ui)?;
            apply(&server, announce(&server, url.as_deref(), *unchecked)?, Mode::default(), ui)
        }
        Some(MirrorAct::Serve { folder: given, bind, port, downloads, rate }) => {
            let folder = match given {
                Some(folder) => folder.clone(),
                None => folder(&Server::open(Purpose::Look, &global.open(), ui)?, None)?,
            };
            let rate = rate.map(|kilobytes| kilobytes.saturating_mul(1_000));
            let address = SocketAddr::new(*bind, *port);
            serve(&folder, ServeOptions { address, downloads: *downloads, rate }, ui)
        }
    }
}

fn serve(folder: &Path, options: ServeOptions, ui: &Ui) -> Result<ExitCode, AppError> {
    let what = folder.display().to_string();
    let failed = |source| AppError::Io { what: what.clone(), source };
    let real = folder.canonicalize().map_err(failed)?;
    let tell = ui.teller();
    let told =
        move |Served { path, status, bytes }: Served| tell(&format!("{status} {path} ({bytes} bytes)"));
    let server = FileServer::start(LocalTree::new(&real), options, Arc::new(told))
        .map_err(|source| AppError::Io { what: format!("listening on {}", options.address), source })?;
    ui.print(&format!("Serving {what} at http://{}/ until Ctrl-C.\n", server.address()))?;
    // An interrupt ends the program.
    loop {
        std::thread::park();
    }
}
