//! The game's own tools. A file that a tool compiles from others is rebuilt before a change is carried out, so that it is placed and undone
//! together with the rest of the change.

use std::{
    collections::BTreeMap,
    fs,
    path::{Path, PathBuf},
    time::Duration,
};

use yalotheca_core::{
    change::{ChangeSet, FileAct, FileLine, Source, Step},
    game::{Scope, Tool},
    id::{ContentId, Digest, TreePath},
};
use yalotheca_host::{
    sources::{ByteSource, Sources},
    survey::SurveyError,
    tree::files_below,
    trust::Invocation,
};

use crate::{AppError, Server};

/// A tool may take so long.
const PATIENCE: Duration = Duration::from_secs(300);

/// Returns the tools to run after a change, or after edits on the server itself.
pub fn due<'s>(server: &'s Server, change: &ChangeSet, came: &[TreePath]) -> Vec<&'s Tool> {
    let touches = |tool: &&Tool| {
        let files =
            change.steps.iter().filter(|step| matches!(step, Step::Put { .. } | Step::SetAside { .. }));
        files.map(Step::path).chain(came).any(|path| tool.is_after(path.as_str()))
    };
    server.game.tools.iter().filter(touches).collect()
}

/// Refuses a change whose tools this account has not allowed, and says what they are going to do.
///
/// # Errors
/// Where one is not allowed.
pub fn announce(server: &Server, tools: &[&Tool]) -> Result<Vec<String>, AppError> {
    let mut says = Vec::new();
    for tool in tools {
        let invocation = invocation(tool, &server.survey.scope)?;
        let name = invocation.as_ref().map_or_else(String::new, |invocation| {
            invocation.program.file_name().unwrap_or_default().to_string_lossy().into_owned()
        });
        if let Some(invocation) = invocation.as_ref().filter(|invocation| !invocation.program.exists()) {
            return Err(AppError::Refused {
                what: format!(
                    "{} makes {}, and there is no such program",
                    invocation.program.display(),
                    tool.writes.join(" and ")
                ),
                hint: Some(
                    "install it, or say in yalotheca.toml where it is: [server.values]; nothing was changed"
                        .into(),
                ),
            });
        }
        server.require_trust_in(invocation, &format!("to make {}", tool.writes.join(" and ")))?;
        says.push(format!("{} will be rebuilt by {name}.", tool.writes.join(" and ")));
    }
    Ok(says)
}

fn invocation(tool: &Tool, scope: &Scope) -> Result<Option<Invocation>, AppError> {
    Ok(Invocation::of(&tool.command, &BTreeMap::new(), scope).map_err(SurveyError::Render)?)
}

/// Runs a tool on copies of what it reads, as they will be after a change, and adds its output to the change.
///
/// # Errors
/// Where it cannot be run, fails, or writes nothing; then nothing was changed.
pub fn run(
    server: &Server,
    tool: &Tool,
    (change, bytes): (&mut ChangeSet, &mut Sources),
) -> Result<(), AppError> {
    let failed = |what: &str| {
        let what = what.to_owned();
        move |source| AppError::Io { what: what.clone(), source }
    };
    let folder = tempfile::tempdir().map_err(failed("a folder for the game's tool"))?;
    for path in inputs(server, tool)? {
        let mut to = create(folder.path(), &path)?;
        server.tree.copy_to(&path, &mut to)?;
    }
    for step in &change.steps {
        match step {
            Step::Put { path, source, after, .. } if tool.reads(path.as_str()) => {
                let mut to = create(folder.path(), path)?;
                let failed = failed(path.as_str());
                match (source, bytes.get(after)) {
                    (Source::Text(text), _) => {
                        std::io::Write::write_all(&mut to, &text.bytes()).map_err(failed)?;
                    }
                    (_, Some(ByteSource::Server(from))) => drop(server.tree.copy_to(from, &mut to)?),
                    (
                        _,
                        Some(
                            ByteSource::File(from)
                            | ByteSource::Cached(from)
                            | ByteSource::Fresh(from)
                            | ByteSource::Built(from),
                        ),
                    ) => {
                        let mut from = fs::File::open(from).map_err(&failed)?;
                        std::io::copy(&mut from, &mut to).map_err(&failed)?;
                    }
                    (_, None) => {}
                }
            }
            Step::SetAside { path, .. } if tool.reads(path.as_str()) => {
                fs::remove_file(folder.path().join(path.as_str())).ok();
                // A folder in which nothing is left goes as well.
                let above = std::iter::successors(path.parent(), TreePath::parent);
                for outer in above.take_while(|outer| !outer.is_root()) {
                    if fs::remove_dir(folder.path().join(outer.as_str())).is_err() {
                        break;
                    }
                }
            }
            _ => {}
        }
    }
    // If the last of its inputs goes, the tool sees an empty folder.
    for root in tool.read_roots() {
        let at = folder.path().join(root);
        fs::create_dir_all(&at).map_err(failed(&at.display().to_string()))?;
    }
    let scope = Scope { folder: folder.path().display().to_string(), ..server.survey.scope.clone() };
    let (Some(there), Some(mut invocation)) =
        (invocation(tool, &server.survey.scope)?, invocation(tool, &scope)?)
    else {
        return Ok(());
    };
    // A tool may lie in the server's folder.
    invocation.program = there.program;
    let what = format!("running {}", invocation.program.display());
    let (code, printed) = invocation.run(PATIENCE).map_err(failed(&what))?;
    if code != 0 {
        let last = printed.lines().rev().find(|line| !line.trim().is_empty()).unwrap_or_default();
        let source = std::io::Error::other(format!(
            "it ended with exit code {code}: {}; nothing was changed",
            last.trim()
        ));
        return Err(AppError::Io { what, source });
    }
    let owner = owner(&invocation);
    for name in &tool.writes {
        let made = Made { file: folder.path().join(name), path: TreePath::new(name)?, owner: owner.clone() };
        put(server, (change, bytes), made)?;
    }
    Ok(())
}

/// A file that a tool has written.
struct Made {
    file: PathBuf,
    /// Where it belongs on the server.
    path: TreePath,
    /// What a preview says that it belongs to: the tool.
    owner: ContentId,
}

fn owner(invocation: &Invocation) -> ContentId {
    let name = invocation.program.file_name().unwrap_or_default().to_string_lossy().into_owned();
    ContentId::new(&name).or_else(|_| ContentId::new("tool")).expect("that is an id")
}

/// Adds a file that a tool has written to a change.
fn put(
    server: &Server,
    (change, bytes): (&mut ChangeSet, &mut Sources),
    Made { file, path, owner }: Made,
) -> Result<(), AppError> {
    let written = fs::read(file).unwrap_or_default();
    if written.is_empty() {
        return Err(AppError::Refused {
            what: format!("the game's tool has not written {path}; nothing was changed"),
            hint: Some("run it by hand in the server's folder, and look what it says".into()),
        });
    }
    let (after, size) = (Digest::of(&written), written.len() as u64);
    let before = server.tree.digest_file(&path)?.map(|(digest, _)| digest);
    change.steps.retain(|step| step.path() != &path);
    change.files.retain(|line| line.path != path);
    // An unchanged file is written all the same: its date says that it is up to date.
    let store = server.fetcher.store();
    store.insert_bytes(&written)?;
    bytes.extend(store.file(&after).map(|file| (after, ByteSource::Built(file))));
    let act = if before.is_some() { FileAct::Replace } else { FileAct::Put };
    change.files.push(FileLine { act, path: path.clone(), from: None, size, content: owner });
    change.steps.push(Step::Put { path, source: Source::Payload, before, after, size });
    Ok(())
}

/// Returns the files on the server that a tool reads.
pub fn inputs(server: &Server, tool: &Tool) -> Result<Vec<TreePath>, AppError> {
    Ok(files_below(&*server.tree, &tool.read_roots(), |path| tool.reads(path))?)
}

fn create(folder: &Path, path: &TreePath) -> Result<fs::File, AppError> {
    let at: PathBuf = folder.join(path.as_str());
    let failed = |source| AppError::Io { what: at.display().to_string(), source };
    if let Some(above) = at.parent() {
        fs::create_dir_all(above).map_err(failed)?;
    }
    fs::File::create(&at).map_err(failed)
}
