//! `modpack`: a lineup as a pack that others can add.

use std::{collections::BTreeMap, path::PathBuf, process::ExitCode};

use clap::{Args, Subcommand, ValueEnum};
use serde::Serialize;
use yalotheca_app::{AppError, Purpose, Server};
use yalotheca_core::{
    catalogue::Side,
    control::Locked,
    game::Shape,
    id::{ContentId, TreePath},
    pack::{PACK_KIND, Pack, PackMember, PackSetting, PackWant},
    version::{ReleaseVersion, VersionRange},
};
use yalotheca_host::{
    catalogue::BY_HAND,
    pack::{Piece, write_pack},
    tree::{Found, Tree},
};

use crate::{
    args::Global,
    ui::Ui,
    view::{Page, Role, View, count, size},
};

/// Make a modpack of what is here.
#[derive(Debug, Args)]
pub(crate) struct ModpackArgs {
    #[command(subcommand)]
    act: ModpackAct,
}

#[derive(Debug, Subcommand)]
enum ModpackAct {
    /// Write the lineup into a pack: contents of a catalogue by name, the others with their files
    Export(ExportArgs),
}

#[derive(Debug, Args)]
struct ExportArgs {
    /// The pack's file, a .zip
    file: PathBuf,
    /// Replace a file of that name
    #[arg(long)]
    force: bool,
    /// What to call it
    #[arg(long, value_name = "ID")]
    id: Option<String>,
    /// Its version
    #[arg(long, value_name = "VERSION", default_value = "1.0")]
    version: String,
    /// For whom it is
    #[arg(long, value_enum, default_value_t = Edition::Both)]
    edition: Edition,
    /// Bring every content's files along, those of catalogues as well
    #[arg(long)]
    bundle: bool,
    /// Bring this file of the server along; it is put where there is none yet
    #[arg(long, value_name = "PATH")]
    setting: Vec<String>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Edition {
    /// What a server needs
    Server,
    /// What players need
    Player,
    /// All of it
    Both,
}

impl Edition {
    fn takes(self, side: Side) -> bool {
        match self {
            Self::Server => side != Side::Player,
            Self::Player => side != Side::Server,
            Self::Both => true,
        }
    }
}

#[derive(Debug, Serialize)]
struct ExportView {
    file: String,
    bytes: u64,
    by_name: Vec<ContentId>,
    bundled: Vec<ContentId>,
    settings: Vec<TreePath>,
}

impl View for ExportView {
    fn view(&self, page: &mut Page) {
        let what = count(self.by_name.len() + self.bundled.len(), "content");
        page.line(Role::Good, &format!("Wrote {} ({}): {what}.", self.file, size(self.bytes)));
        let names = |ids: &[ContentId]| ids.iter().map(ContentId::as_str).collect::<Vec<_>>().join(", ");
        if !self.by_name.is_empty() {
            page.item(Role::Plain, &format!("by name, from a catalogue: {}", names(&self.by_name)));
        }
        if !self.bundled.is_empty() {
            page.item(Role::Plain, &format!("brought along: {}", names(&self.bundled)));
        }
        for path in &self.settings {
            page.item(Role::Plain, &format!("settings: {path}"));
        }
    }
}

pub(crate) fn run(args: &ModpackArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let ModpackAct::Export(args) = &args.act;
    let server = Server::open(Purpose::Look, &global.open(), ui)?;
    let stem = args.file.file_stem().map_or_else(String::new, |stem| stem.to_string_lossy().into_owned());
    let version = ReleaseVersion::parse(&args.version).map_err(|error| AppError::Usage {
        what: error.to_string(),
        hint: Some("write it as 1.4 or 2024.03".into()),
    })?;
    let mut pack = Pack {
        format: 1,
        id: ContentId::new(args.id.as_deref().unwrap_or(&stem))?,
        title: String::new(),
        version,
        about: String::new(),
        game: server.game.name.clone(),
        wants: BTreeMap::new(),
        members: Vec::new(),
        settings: Vec::new(),
    };
    let mut pieces: Vec<(String, Piece)> = Vec::new();
    let mut bundled = Vec::new();
    for locked in server.control.lock.on() {
        let side = locked.release.side;
        if locked.release.kind == PACK_KIND || !args.edition.takes(side) {
            continue;
        }
        let has_name = !locked.catalogue.is_empty() && locked.catalogue != BY_HAND;
        if has_name && !args.bundle {
            pack.wants
                .insert(locked.id.clone(), PackWant::Range(VersionRange::exactly(&locked.release.version)));
            continue;
        }
        let (name, piece) = piece(&server, locked)?;
        pack.members.push(PackMember { file: name.clone(), side });
        pieces.push((name, piece));
        bundled.push(locked.id.clone());
    }
    for path in &args.setting {
        let to = TreePath::new(path)?;
        if !matches!(server.tree.find(&to)?, Some(Found::File(_))) {
            return Err(AppError::Usage {
                what: format!("{to} is no file of the server"),
                hint: Some("name it as the server sees it, without the folder of the server".into()),
            });
        }
        let file = format!("settings/{to}");
        pieces.push((file.clone(), Piece::File(server.tree.at(&to))));
        pack.settings.push(PackSetting { file, to });
    }
    refuse_to_lose(args, &pack)?;
    let failed = |source| AppError::Io { what: format!("writing {}", args.file.display()), source };
    write_pack(&args.file, &pack, &pieces).map_err(failed)?;
    ui.show(&ExportView {
        file: args.file.display().to_string(),
        bytes: std::fs::metadata(&args.file).map_err(failed)?.len(),
        by_name: pack.wants.keys().cloned().collect(),
        bundled,
        settings: pack.settings.into_iter().map(|setting| setting.to).collect(),
    })?;
    Ok(ExitCode::SUCCESS)
}

/// Refuses an empty pack, and replaces an existing file only with `--force`.
fn refuse_to_lose(args: &ExportArgs, pack: &Pack) -> Result<(), AppError> {
    if pack.wants.is_empty() && pack.members.is_empty() && pack.settings.is_empty() {
        return Err(AppError::Usage {
            what: "this pack would be empty".into(),
            hint: Some(
                "yalotheca list shows what is installed; --edition chooses for whom the pack is".into(),
            ),
        });
    }
    if args.file.exists() && !args.force {
        return Err(AppError::Refused {
            what: format!("{} is there already", args.file.display()),
            hint: Some("choose another name, or add --force to replace it".into()),
        });
    }
    Ok(())
}

/// A content's files, from where they lie on the server.
fn piece(server: &Server, locked: &Locked) -> Result<(String, Piece), AppError> {
    let own = server.receipt.placed.iter().filter(|(_, placed)| placed.content == locked.id);
    let files: Vec<&TreePath> = own.map(|(path, _)| path).collect();
    let gone = || AppError::Refused {
        what: format!("the files of {} are not on the server", locked.id),
        hint: Some("yalotheca settle puts them back".into()),
    };
    for path in &files {
        if server.tree.find(path)?.is_none() {
            return Err(gone());
        }
    }
    let shape = server.game.kinds.get(&locked.release.kind).map(|kind| kind.shape);
    match files.as_slice() {
        [] => Err(gone()),
        [only] if shape != Some(Shape::Folder) => {
            Ok((format!("members/{}", only.name()), Piece::File(server.tree.at(only))))
        }
        several => {
            let payload = server.receipt.contents.get(&locked.id).map(|settled| &settled.payload.files);
            let inner = |path: &TreePath| {
                let own = payload.into_iter().flatten().find(|file| {
                    path.as_str() == file.path || path.as_str().ends_with(&format!("/{}", file.path))
                });
                own.map_or_else(|| path.name().to_owned(), |file| file.path.clone())
            };
            let folder = if shape == Some(Shape::Folder) { format!("{}/", locked.id) } else { String::new() };
            let files = several
                .iter()
                .map(|path| (format!("{folder}{}", inner(path)), server.tree.at(path)))
                .collect();
            Ok((format!("members/{}.zip", locked.id), Piece::Archive(files)))
        }
    }
}
