//! Making a modpack of what is installed.

use std::{collections::BTreeMap, path::PathBuf};

use serde::Serialize;
use yalotheca_core::{
    catalogue::Side,
    control::{CatalogueSource, ControlFile, Locked, ProcessSection, ServerSection},
    desire::DesireError,
    document::Pointer,
    game::{PACK_KIND, Shape},
    hint::{Advice, Amendment},
    id::{ContentId, TreePath},
    link::without_user,
    pack::{Pack, PackMember, PackSetting, PackWant},
    route::{Places, scope_of},
    version::{ReleaseVersion, VersionRange},
};
use yalotheca_host::{
    catalogue::BY_HAND,
    pack::{Piece, write_pack},
    sources::ByteSource,
    tree::EntryKind,
};

use super::import;
use crate::{AppError, Server, plan::open_settings};

/// For whom a pack is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Sides {
    /// What a server needs.
    Server,
    /// What players need.
    Player,
    /// All of it.
    #[default]
    Both,
}

impl Sides {
    fn takes(self, side: Side) -> bool {
        match self {
            Self::Server => side != Side::Player,
            Self::Player => side != Side::Server,
            Self::Both => true,
        }
    }
}

/// Which contents' files come along in a pack.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Bundling {
    /// Those of contents that no catalogue has.
    #[default]
    Unnamed,
    /// All.
    All,
    /// Those that their authors let others pass on.
    Redistributable,
}

/// Which pack is made.
#[derive(Debug, Clone, Default)]
pub struct ExportRequest {
    /// The pack's file.
    pub file: PathBuf,
    /// Whether a file of that name is replaced.
    pub force: bool,
    /// What it is called; else its file's name.
    pub id: Option<String>,
    /// Its version.
    pub version: String,
    /// For whom it is.
    pub sides: Sides,
    /// Which contents' files come along.
    pub bundle: Bundling,
    /// Files of the server that come along.
    pub settings: Vec<String>,
    /// Whether passwords among the settings come along.
    pub with_secrets: bool,
}

/// A pack that was made.
#[derive(Debug, Serialize)]
pub struct ExportReport {
    /// The file.
    pub file: String,
    /// Its size.
    pub bytes: u64,
    /// Contents that are in it by name only.
    pub by_name: Vec<ContentId>,
    /// Contents that are in it with their files.
    pub bundled: Vec<ContentId>,
    /// Contents that are not in it: no catalogue has them, and they may not be passed on.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<ContentId>,
    /// Files of the server that are in it.
    pub settings: Vec<TreePath>,
    /// Settings that are called like passwords and are not in it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub secrets_left_out: Vec<String>,
}

/// Makes a pack: contents of a catalogue by name, the others with their files.
///
/// # Errors
/// Where it would be empty or replace a file, or a file cannot be read or written.
pub fn export(server: &Server, request: &ExportRequest) -> Result<ExportReport, AppError> {
    let stem = request.file.file_stem().map_or_else(String::new, |stem| stem.to_string_lossy().into_owned());
    let version = ReleaseVersion::parse(&request.version).map_err(|error| AppError::Usage {
        what: error.to_string(),
        hint: Some("write it as 1.4 or 2024.03".into()),
    })?;
    let mut pack = Pack {
        format: 1,
        id: ContentId::new(request.id.as_deref().unwrap_or(&stem))?,
        title: String::new(),
        version,
        about: String::new(),
        game: server.game.name.clone(),
        wants: BTreeMap::new(),
        setup: None,
        lineup: Vec::new(),
        members: Vec::new(),
        settings: Vec::new(),
    };
    let mut pieces: Vec<(String, Piece)> = Vec::new();
    let (mut bundled, mut left_out) = (Vec::new(), Vec::new());
    // On another server, what lies in a folder of this machine is not there.
    let is_on_web = |name: &str| {
        let catalogues = &server.control.wants.catalogues;
        catalogues.iter().any(|catalogue| catalogue.name == name && catalogue.at.contains("://"))
    };
    for locked in &server.control.lock.contents {
        let side = locked.release.side;
        if locked.release.kind == PACK_KIND || !request.sides.takes(side) {
            continue;
        }
        // What players get by name they look for themselves.
        let is_known = || {
            let has_catalogue = !locked.catalogue.is_empty() && locked.catalogue != BY_HAND;
            has_catalogue && request.bundle == Bundling::Redistributable
        };
        let has_name = is_on_web(&locked.catalogue) || is_known();
        let comes_along = match request.bundle {
            Bundling::All => true,
            Bundling::Unnamed => !has_name,
            Bundling::Redistributable => locked.release.redistribute,
        };
        if !comes_along && !has_name {
            left_out.push(locked.id.clone());
            continue;
        }
        if !comes_along {
            pack.wants
                .insert(locked.id.clone(), PackWant::Range(VersionRange::exactly(&locked.release.version)));
            continue;
        }
        let (name, piece) = piece(server, locked)?;
        pack.members.push(PackMember { file: name.clone(), side });
        pieces.push((name, piece));
        bundled.push(locked.id.clone());
    }
    for path in &request.settings {
        let to = TreePath::new(path)?;
        if !matches!(server.tree.kind_of(&to)?, Some(EntryKind::File(_))) {
            return Err(AppError::Usage {
                what: format!("{to} is no file of the server"),
                hint: Some("name it as the server sees it, without the folder of the server".into()),
            });
        }
        let file = format!("settings/{to}");
        pieces.push((file.clone(), Piece::File(server.file_here(&to)?)));
        pack.settings.push(PackSetting { file, to });
    }
    let secrets_left_out = tell_setup(server, request, &mut pack)?;
    refuse_to_lose(request, &pack)?;
    let failed = |source| AppError::Io { what: format!("writing {}", request.file.display()), source };
    write_pack(&request.file, &pack, &pieces).map_err(failed)?;
    Ok(ExportReport {
        file: request.file.display().to_string(),
        bytes: std::fs::metadata(&request.file).map_err(failed)?.len(),
        by_name: pack.wants.keys().cloned().collect(),
        bundled,
        left_out,
        settings: pack.settings.into_iter().map(|setting| setting.to).collect(),
        secrets_left_out,
    })
}

/// Says in the pack what this server asks for; returns the settings that are left out, since they are called like passwords.
fn tell_setup(server: &Server, request: &ExportRequest, pack: &mut Pack) -> Result<Vec<String>, AppError> {
    if request.sides == Sides::Player {
        return Ok(Vec::new());
    }
    let wants = &server.control.wants;
    let own = ServerSection {
        name: String::new(),
        game: server.game.name.clone(),
        at: ".".into(),
        values: BTreeMap::new(),
        process: ProcessSection::default(),
    };
    let on_web = wants.catalogues.iter().filter(|catalogue| catalogue.at.contains("://"));
    let on_web: Vec<CatalogueSource> = on_web
        .map(|catalogue| CatalogueSource { at: without_user(&catalogue.at), ..catalogue.clone() })
        .collect();
    let mut from = wants.clone();
    // What came as a file is in the pack by its name.
    from.catalogues.clear();
    from.given.retain(|_, given| given.link.is_some());
    from.wants
        .retain(|id, _| server.control.lock.get(id).is_none_or(|locked| locked.release.kind != PACK_KIND));
    let mut to = ControlFile::new(&own, &on_web);
    let open = open_settings(server)?;
    let is_secret = |owner: &str, at: &Pointer| {
        let files = wants.settings.get(owner).into_iter().flatten();
        files.filter_map(|(short, places)| Some((short, places.get(at)?))).any(|(short, value)| {
            let known = open.iter().find(|one| one.owner == owner && one.short == *short);
            import::is_secret(at, value) || known.is_some_and(|one| one.known().is_secret(at, value))
        })
    };
    import::transfer(&from, &mut to, |owner, at| request.with_secrets || !is_secret(owner, at));
    pack.setup = Some(to.text());
    let locked = server.control.lock.contents.iter().filter(|locked| locked.release.kind != PACK_KIND);
    pack.lineup = locked.map(|locked| (locked.id.clone(), locked.release.version.clone())).collect();
    let mut left_out = Vec::new();
    for (owner, files) in wants.settings.iter().filter(|_| !request.with_secrets) {
        let places = files.values().flat_map(|places| places.keys());
        left_out.extend(places.filter(|at| is_secret(owner, at)).map(|at| format!("{owner} {at}")));
    }
    Ok(left_out)
}

/// Refuses an empty pack, and replaces an existing file only with `--force`.
fn refuse_to_lose(request: &ExportRequest, pack: &Pack) -> Result<(), AppError> {
    if pack.wants.is_empty() && pack.members.is_empty() && pack.settings.is_empty() {
        return Err(AppError::Usage {
            what: "this pack would be empty".into(),
            hint: Some(Advice::Amend(Amendment::ChooseEdition)),
        });
    }
    if request.file.exists() && !request.force {
        return Err(AppError::Refused {
            what: format!("{} is there already", request.file.display()),
            hint: Some(Advice::Amend(Amendment::OtherNameOrReplace)),
        });
    }
    Ok(())
}

/// A content's files, from where they lie on the server.
fn piece(server: &Server, locked: &Locked) -> Result<(String, Piece), AppError> {
    let own = server.receipt()?.placed.iter().filter(|(_, placed)| placed.content == locked.id);
    let files: Vec<&TreePath> = own.map(|(path, _)| path).collect();
    let gone = || AppError::Refused {
        what: format!("the files of {} are not on the server", locked.id),
        hint: Some(Advice::PutBack),
    };
    for path in &files {
        if server.tree.kind_of(path)?.is_none() {
            return Err(gone());
        }
    }
    let shape = server.game.kinds.get(&locked.release.kind).map(|kind| kind.shape);
    match files.as_slice() {
        // What is for players only is not placed on the server.
        [] => {
            let kept = match locked.release.files.as_slice() {
                [only] => server.fetcher.store().file(&only.blake3).map(|path| (only.name.clone(), path)),
                _ => None,
            };
            let kept = match (kept, locked.release.files.as_slice()) {
                (None, [only]) => server.catalogues().get()?.fetch(locked).ok().and_then(|mut found| {
                    match found.remove(&only.blake3)? {
                        ByteSource::File(path) | ByteSource::Cached(path) | ByteSource::Fresh(path) => {
                            Some((only.name.clone(), path))
                        }
                        ByteSource::Server(_) | ByteSource::Built(_) => None,
                    }
                }),
                (kept, _) => kept,
            };
            let (name, path) = kept.ok_or_else(gone)?;
            Ok((format!("members/{name}"), Piece::File(path)))
        }
        [only] if shape != Some(Shape::Folder) => {
            Ok((format!("members/{}", only.name()), Piece::File(server.file_here(only)?)))
        }
        several => {
            let inner = paths_inside(server, locked)?;
            let folder = if shape == Some(Shape::Folder) { format!("{}/", locked.id) } else { String::new() };
            let files = several
                .iter()
                .filter_map(|path| Some((path, inner.get(*path)?)))
                .map(|(path, inner)| Ok((format!("{folder}{inner}"), server.file_here(path)?)))
                .collect::<Result<_, AppError>>()?;
            Ok((format!("members/{}.zip", locked.id), Piece::Archive(files)))
        }
    }
}

/// The paths that a content's files have inside it, by where they are placed. Copies that belong elsewhere as well are not in it.
fn paths_inside(server: &Server, locked: &Locked) -> Result<BTreeMap<TreePath, String>, AppError> {
    let Some(kind) = server.game.kinds.get(&locked.release.kind) else { return Ok(BTreeMap::new()) };
    let failed = |source| DesireError::ConfigPlace { content: locked.id.clone(), source };
    let scope = scope_of(&server.survey.scope, &locked.id, &locked.title, &locked.release);
    let mut places = Places::new(kind, &scope).map_err(failed)?;
    if let Some(folder) = &locked.found.folder {
        places.move_to(folder);
    }
    let settled = server.receipt()?.contents.get(&locked.id);
    let files = settled.into_iter().flat_map(|settled| &settled.payload().files);
    let by_path = files.map(|file| Ok((places.of(file).map_err(failed)?, file.path.clone())));
    by_path.collect()
}
