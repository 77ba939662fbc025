//! Builds, publishes and announces the web folder from which players' games download files.

use crate::words::ServerName;
use std::{
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, SystemTime},
};

use serde::Serialize;
use yalotheca_core::{
    document::{Pointer, Value},
    game::{ConfigPlace, MirrorRule, SettingsFile},
    hint::Advice,
    id::TreePath,
    link::user_of,
    settings::SERVER,
};
use yalotheca_host::{
    mirror::{
        MirrorDone, MirrorOptions, MirrorRecord, WantedFile, bring_up_to_date, link_to, produce_from,
        read_record,
    },
    tree::{LocalTree, RemoteAddress, Tree},
};

use super::change::Change;
use crate::{
    AppError, Front, Server,
    mirror::{self, AtMirror, NeededFiles, asked_first, known},
    remote::open_remote,
};

/// How to build or publish a mirror.
#[derive(Debug, Clone, Default)]
pub struct MirrorRequest {
    /// The folder on this machine; else the one noted in `yalotheca.toml`.
    pub folder: Option<PathBuf>,
    /// Where to publish it: a folder or an address; else the one noted in `yalotheca.toml`.
    pub target: Option<String>,
    /// How long files that players do not need any more stay.
    pub grace: Duration,
    /// Whether to replace files that somebody else put there.
    pub replace: bool,
}

/// A mirror that was built or published.
#[derive(Debug, Serialize)]
pub struct MirrorReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// Where the mirror is.
    pub place: String,
    /// How many files players need.
    pub files: usize,
    /// What was done.
    #[serde(flatten)]
    pub done: MirrorDone,
    /// The address that the server announces.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// Whether it was published, not only built.
    pub is_published: bool,
}

/// Builds the mirror in a folder of this machine.
///
/// # Errors
/// If the game has no mirrors, or something cannot be read or written.
pub fn build(server: &Server, request: &MirrorRequest) -> Result<MirrorReport, AppError> {
    let rule = mirror::rule(server)?;
    let folder = folder_of(server, request)?;
    let tree = open_folder(server, &folder)?;
    let NeededFiles { files, index } = mirror::needed(server, rule, &read_record(&*tree)?)?;
    let index = index.as_ref().map(|(path, bytes)| (path, bytes.as_slice()));
    let source = |file: &WantedFile, to: &mut dyn std::io::Write| produce_from(&*server.tree, file, to);
    let options = options(server, request)?;
    let done = bring_up_to_date(&tree, &files, index, &source, options.of())?;
    note(server, Some(&folder.display().to_string()), None)?;
    report(server, rule, tree.location(), (files.len(), done, false))
}

/// Publishes the mirror: brings another folder, or one on another machine, to what the built one has.
///
/// # Errors
/// If nothing was built, or the target cannot be read or written.
pub fn publish(
    server: &Server,
    request: &MirrorRequest,
    front: &dyn Front,
) -> Result<MirrorReport, AppError> {
    let rule = mirror::rule(server)?;
    let folder = folder_of(server, request)?;
    let built = open_folder(server, &folder)?;
    let record = read_record(&*built)?;
    if record.files.is_empty() {
        return Err(AppError::Usage {
            what: format!("nothing was built in {}", folder.display()),
            hint: Some(Advice::BuildMirror),
        });
    }
    let noted = server.control.wants.mirror.target.clone();
    let target = request.target.clone().or(noted).ok_or_else(|| AppError::Usage {
        what: "where to publish the mirror is not said".into(),
        hint: Some(Advice::NameMirrorTarget),
    })?;
    let tree = if RemoteAddress::is_one(&target) {
        open_remote(&target, &server.options, front)?
    } else {
        let given = request.target.is_some();
        open_folder(
            server,
            &if given { PathBuf::from(&target) } else { server.control.folder.join(&target) },
        )?
    };
    let index_path = rule.index.as_ref().map(|index| TreePath::new(&index.file)).transpose()?;
    let files = published(&record, index_path.as_ref());
    let index = match &index_path {
        Some(path) => built.read_file(path)?.map(|bytes| (path.clone(), bytes)),
        None => None,
    };
    let source = |file: &WantedFile, to: &mut dyn std::io::Write| produce_from(&*built, file, to);
    let options = options(server, request)?;
    let index = index.as_ref().map(|(path, bytes)| (path, bytes.as_slice()));
    let done = bring_up_to_date(&tree, &files, index, &source, options.of())?;
    note(server, Some(&folder.display().to_string()), Some(&target))?;
    report(server, rule, tree.location(), (files.len(), done, true))
}

/// Returns the files of a built mirror as the files that another one is to have.
fn published(record: &MirrorRecord, index: Option<&TreePath>) -> Vec<WantedFile> {
    let needed = record
        .files
        .iter()
        .filter(|(name, file)| file.unneeded_since.is_none() && index.is_none_or(|index| *name != index));
    let wanted = needed.map(|(name, file)| WantedFile {
        outside: None,
        name: name.clone(),
        from: name.clone(),
        source: file.digest,
        bytes: file.bytes,
        compress: None,
    });
    wanted.collect()
}

fn report(
    server: &Server,
    rule: &MirrorRule,
    place: String,
    (files, done, is_published): (usize, MirrorDone, bool),
) -> Result<MirrorReport, AppError> {
    let address = mirror::address(server, rule)?;
    Ok(MirrorReport { server: server.shown(), place, files, done, address, is_published })
}

fn folder_of(server: &Server, request: &MirrorRequest) -> Result<PathBuf, AppError> {
    let noted = server.control.wants.mirror.folder.as_ref().map(|folder| server.control.folder.join(folder));
    request.folder.clone().or(noted).ok_or_else(|| AppError::Usage {
        what: "in which folder to build the mirror is not said".into(),
        hint: Some(Advice::BuildMirror),
    })
}

/// Returns the folder in which a mirror is, or would be, built.
///
/// # Errors
/// If it is not said anywhere.
pub fn folder(server: &Server, given: Option<PathBuf>) -> Result<PathBuf, AppError> {
    folder_of(server, &MirrorRequest { folder: given, ..MirrorRequest::default() })
}

/// Opens a mirror's folder on this machine; it is made if it is not there.
fn open_folder(server: &Server, folder: &Path) -> Result<Arc<dyn Tree>, AppError> {
    let failed = |source| AppError::Io { what: folder.display().to_string(), source };
    std::fs::create_dir_all(folder).map_err(failed)?;
    let real = folder.canonicalize().map_err(failed)?;
    let is_server = server.tree.local().is_some_and(|tree| {
        tree.root().canonicalize().is_ok_and(|server| server == real || server.starts_with(&real))
    });
    if is_server {
        return Err(AppError::Refused {
            what: format!("{} holds the server itself, so players would see all its files", folder.display()),
            hint: Some("choose a folder of its own for the mirror".into()),
        });
    }
    let tree: Arc<dyn Tree> = Arc::new(LocalTree::new(&real));
    Ok(tree.with_inventory(Some(&server.fetcher.store().inventory_of(&*tree))))
}

struct Options {
    now: u64,
    grace: Duration,
    replace: bool,
    temporary: PathBuf,
}

impl Options {
    fn of(&self) -> MirrorOptions<'_> {
        let Self { now, grace, replace, temporary } = self;
        MirrorOptions { now: *now, grace: *grace, replace: *replace, temporary }
    }
}

fn options(server: &Server, request: &MirrorRequest) -> Result<Options, AppError> {
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default().as_secs();
    let temporary = server.fetcher.store().scratch()?;
    Ok(Options { now, grace: request.grace, replace: request.replace, temporary })
}

/// Notes where the mirror is, so that later commands need not be told.
fn note(server: &Server, folder: Option<&str>, target: Option<&str>) -> Result<(), AppError> {
    let mut wants = server.control.wants.clone();
    // Relative to the control folder where it is in it, so that both can be moved together; else from the root, since the next command may
    // be run elsewhere.
    let noted = |folder: &str| {
        let Ok(folder) = Path::new(folder).canonicalize() else { return folder.to_owned() };
        let own = server.control.folder.canonicalize().ok();
        let inside = own.and_then(|own| folder.strip_prefix(own).map(Path::to_owned).ok());
        inside.unwrap_or(folder).display().to_string()
    };
    let folder = folder.map(noted);
    let target =
        target.map(|target| if RemoteAddress::is_one(target) { target.to_owned() } else { noted(target) });
    wants.note_mirror(folder.as_deref(), target.as_deref());
    if wants.mirror == server.control.wants.mirror {
        return Ok(());
    }
    Change::to(wants, vec!["where the mirror is".into()]).note(server)
}

/// Has the server announce an address, and sets what the address needs to have an effect. A file is asked for there as a player's
/// game asks; `unchecked` skips that.
///
/// # Errors
/// If players would not get the files there.
pub fn announce(server: &Server, url: Option<&str>, unchecked: bool) -> Result<Change, AppError> {
    let rule = mirror::rule(server)?;
    let mut wants = server.control.wants.clone();
    let (file, pointer) = spot(server, &rule.address)?;
    let Some(url) = url else {
        wants.ask_setting(SERVER, &file, &pointer, Some(&Value::Text(String::new())));
        return Ok(Change::to(wants, vec!["no mirror".into()]));
    };
    let is_web = url.starts_with("http://") || url.starts_with("https://");
    if !is_web || user_of(url).is_some() {
        return Err(AppError::Usage {
            what: format!("{url} is not an address that every player's game can open"),
            hint: Some("give one that begins with http:// or https://, without a user name".into()),
        });
    }
    let address = rule.address_of(url);
    let mut asked = None;
    if !unchecked {
        let needed = mirror::needed(server, rule, &known(server))?;
        if let Some(file) = asked_first(server, &needed.files).first() {
            if let AtMirror::Wrong(why) | AtMirror::Silent(why) =
                mirror::ask(server, &address, &file.name, None)
            {
                return Err(AppError::Refused {
                    what: format!("{}: {why}", link_to(&address, &file.name)),
                    hint: Some(Advice::PublishFirstOrAnyway),
                });
            }
            asked = Some(file.name.clone());
        }
    }
    wants.ask_setting(SERVER, &file, &pointer, Some(&Value::Text(address.clone())));
    for (place, value) in &rule.switches {
        let (file, pointer) = spot(server, place)?;
        let value = value.render(&server.survey.scope).map_err(|error| AppError::Usage {
            what: format!("[mirror] in the definition of {}: {error}", server.game.title),
            hint: None,
        })?;
        wants.ask_setting(SERVER, &file, &pointer, Some(&value));
    }
    let mut change = Change::to(wants, vec![format!("mirror at {address}")]);
    change.extras.notes.extend(asked.map(|name| format!("{} is there.", link_to(&address, &name))));
    Ok(change)
}

/// Returns the settings file of a place by its short name, and the pointer in it.
fn spot(server: &Server, place: &ConfigPlace) -> Result<(String, Pointer), AppError> {
    let scope = &server.survey.scope;
    let wrong = |why: String| AppError::Usage {
        what: format!("[mirror] in the definition of {}: {why}", server.game.title),
        hint: None,
    };
    let (file, pointer) = place.spot(scope).map_err(wrong)?;
    let is_file = |one: &&SettingsFile| one.file.render(scope).is_ok_and(|path| path == file.as_str());
    let short = server.game.settings.iter().find(is_file).and_then(|one| one.short.render(scope).ok());
    let short = short.ok_or_else(|| wrong(format!("{file} is not one of its [[settings]] files")))?;
    Ok((short, pointer))
}
