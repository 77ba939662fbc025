//! Taking charge of a server's folder.

use crate::words::ServerName;
use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
    sync::Arc,
};

use serde::Serialize;
use yalotheca_core::{
    catalogue::Platform,
    control::{
        CatalogueSource, ControlFile, LOCK_FILE, MapsSection, ProcessSection, ServerSection, WANTS_FILE,
    },
    game::{Game, Scope},
    hint::{Advice, Amendment},
    id::{ContentId, TreePath},
    version::VersionRange,
};
use yalotheca_host::{
    catalogue::{Catalogues, GivenInspector, PrefetchedCatalogues},
    control::Control,
    fetch::Fetcher,
    games::{self, FindGameError},
    settle,
    store::Store,
    survey::{self, Queries, SurveyError},
    tree::{LocalTree, Tree},
    trust::{Invocation, Trust},
};

use crate::{
    AppError, Event, Front, OpenOptions, pack,
    remote::open_remote,
    server::{require_trust, trust},
    take_over,
};

/// Which folder is taken charge of, and how.
#[derive(Debug, Clone, Default)]
pub struct AdoptRequest {
    /// The folder; of a server on another machine, the one here for `yalotheca.toml` and the lock.
    pub folder: PathBuf,
    /// Where the server is, if it is on another machine.
    pub remote: Option<String>,
    /// How it is reached.
    pub open: OpenOptions,
    /// The game definition, where the folder does not tell.
    pub game: Option<String>,
    /// What to call the server.
    pub name: String,
    /// Catalogues, as `name=where`.
    pub catalogues: Vec<String>,
    /// Values of the definition, as `name=value`.
    pub values: Vec<String>,
    /// Whether the network may not be used.
    pub offline: bool,
}

/// What was found on a server.
#[derive(Debug, Serialize)]
pub struct AdoptReport {
    /// The server.
    pub server: ServerName,
    /// The game definition.
    pub game: String,
    /// What people call the game.
    pub game_title: String,
    /// What the server brings.
    pub platform: Platform,
    /// What was taken over.
    pub contents: Vec<take_over::Adopted>,
    /// What lies where the server does not look.
    pub misplaced: Vec<take_over::Misplaced>,
    /// Second copies: the content and the path.
    pub seconds: Vec<(ContentId, TreePath)>,
    /// What cannot be read.
    pub unreadable: Vec<String>,
    /// What is no content.
    pub strangers: Vec<TreePath>,
    /// The files that were written.
    pub written: Vec<String>,
}

/// Takes charge of a server's folder, empty or years old. Nothing on the server is changed.
///
/// # Errors
/// Where it is managed already, the game is not known, or the folder cannot be read or written.
pub fn adopt(request: &AdoptRequest, front: &dyn Front) -> Result<AdoptReport, AppError> {
    let at = &request.folder;
    let folder = at
        .canonicalize()
        .map_err(|source| AppError::Io { what: format!("the folder {}", at.display()), source })?;
    let tree: Arc<dyn Tree> = match &request.remote {
        Some(remote) => open_remote(remote, &request.open, front)?,
        None => Arc::new(LocalTree::new(&folder)),
    };
    if folder.join(WANTS_FILE).exists() {
        return Err(AppError::Refused {
            what: format!("{} has a {WANTS_FILE} already", folder.display()),
            hint: Some(Advice::CheckOrStartOver),
        });
    }
    if request.remote.is_none() {
        refuse_inside_another(&folder)?;
    }
    let values = pairs(&request.values, "the value")?;
    let trust = trust()?;
    let game = choose_game(request, (&*tree, &folder), &values, &trust)?;
    refuse_unknown_values(&game, &values)?;
    let catalogues: Vec<CatalogueSource> = pairs(&request.catalogues, "the catalogue")?
        .into_iter()
        .map(|(name, at)| CatalogueSource { name, at, key: None, older: false })
        .collect();
    let store = Store::of_user()?;
    // The first check reads no file again.
    let tree = tree.with_inventory(Some(&store.inventory_of(&*tree)));
    agree(&*tree, &game, &values, &trust)?;
    let survey = survey::survey(&*tree, &game, &values, (Queries::Run(&trust), &store))?;
    let inventory = survey::inventory(&*tree, &game, &survey.scope)?;
    let fetcher = Fetcher::new(store, request.offline);
    // Without a password, as it is shown.
    let at = if request.remote.is_some() { tree.location() } else { ".".into() };
    let process = ProcessSection::default();
    let server = ServerSection { name: request.name.clone(), game: game.name.clone(), at, values, process };
    let mut control = ControlFile::new(&server, &catalogues);
    let played = note_played(&*tree, (&game, &survey.scope), &mut control)?;
    let inspector = GivenInspector::default();
    let opened = Catalogues::open(
        &control,
        (&folder, BTreeMap::new()),
        &game,
        &fetcher,
        &inspector,
        &PrefetchedCatalogues::default(),
    )?;
    for absent in opened.unreachable() {
        front.event(Event::Unreachable(&absent.to_string()));
    }
    let pack = pack::taken_over(&pack::as_told(&*tree, &game, &survey.scope)?);
    control.offer_pack(pack.as_ref().map(|(section, _)| section));
    let pack = pack.as_ref().map(|(section, locked)| (section, locked));
    let mut taken = take_over::take(&*tree, &game, &survey, &inventory, (&opened, &played, pack))?;
    taken.lock.keys = super::keys::on_server(&*tree, &game)?;

    for locked in &taken.lock.contents {
        control.want(&locked.id, &VersionRange::any());
    }
    for (id, why) in &taken.off {
        control.switch_off(id, why);
    }
    let claim = settle::claim(&tree)?;
    settle::write_receipt(&*tree, &taken.receipt)?;
    settle::write_control(&folder, LOCK_FILE, &taken.lock.text())?;
    settle::write_control(&folder, WANTS_FILE, &control.text())?;
    drop(claim);
    let server = ServerName::new(&request.name, &game.name, &survey.platform, tree.location());
    let unreadable = inventory.unreadable.iter().map(|(path, error)| error.within(path));
    Ok(AdoptReport {
        server,
        game: game.name.clone(),
        game_title: game.title.clone(),
        platform: survey.platform,
        contents: taken.contents,
        unreadable: unreadable.chain(inventory.links_out.iter().map(ToString::to_string)).collect(),
        misplaced: taken.misplaced,
        seconds: taken.seconds,
        strangers: taken.strangers,
        written: vec![WANTS_FILE.into(), LOCK_FILE.into()],
    })
}

/// Writes the map the server plays into the wants and returns its name.
fn note_played(
    tree: &dyn Tree,
    (game, scope): (&Game, &Scope),
    wants: &mut ControlFile,
) -> Result<MapsSection, AppError> {
    let mut played = survey::played(tree, game, scope)?;
    if let Some(map) = &played.play
        && survey::missing_with(tree, game, scope, map)?.is_some()
    {
        // Noting it would make the next command add what the map lacks; that is for `check` to report.
        played.play = None;
    }
    wants.play(played.play.as_deref());
    wants.rotate(played.rotate.as_deref());
    wants.offer(played.offer.as_deref());
    Ok(played)
}

fn refuse_unknown_values(game: &Game, values: &BTreeMap<String, String>) -> Result<(), AppError> {
    let is_known = |name: &str| game.values.iter().any(|(known, _)| known == name);
    let Some(unknown) = values.keys().find(|name| !is_known(name)) else { return Ok(()) };
    let names = game.values.iter().map(|(name, _)| name.as_str());
    Err(AppError::Usage {
        what: format!("{} servers have no value {unknown:?}", game.name),
        hint: yalotheca_core::suggest::did_you_mean(unknown, names).map(Advice::Say),
    })
}

/// A folder inside a server's folder is a part of that server.
fn refuse_inside_another(root: &Path) -> Result<(), AppError> {
    let above = root.ancestors().skip(1).find(|folder| folder.join(WANTS_FILE).is_file());
    let Some(folder) = above else { return Ok(()) };
    let Ok(control) = Control::open_wants(folder) else { return Ok(()) };
    let server = control.server_folder().canonicalize().unwrap_or_default();
    if !root.starts_with(&server) {
        return Ok(());
    }
    Err(AppError::Refused {
        what: format!("{} lies inside {}, which Yalotheca manages already", root.display(), server.display()),
        hint: Some(Advice::WorkThere(folder.to_owned())),
    })
}

/// What is run with values that were typed just now is agreed to by that. Where the server's own files decide about it, it waits
/// until somebody has looked at it.
fn agree(
    tree: &dyn Tree,
    game: &Game,
    typed: &BTreeMap<String, String>,
    trust: &Trust,
) -> Result<(), AppError> {
    let scope = survey::values(tree, game, typed)?;
    let foreign = survey::foreign_values(game, &scope, typed);
    for invocation in Invocation::all(game, &scope).map_err(SurveyError::Render)? {
        let is_typed = typed.get("program").is_some() || invocation.program.is_absolute();
        let words = invocation.arguments.iter().chain(invocation.environment.iter().map(|(_, value)| value));
        let is_foreign =
            words.into_iter().any(|word| foreign.iter().any(|value| word.contains(value.as_str())))
                || foreign.iter().any(|value| invocation.program.ends_with(value));
        if is_typed && !is_foreign {
            trust
                .agree_to(&invocation)
                .map_err(|source| AppError::Io { what: "noting what may be run".into(), source })?;
        }
    }
    Ok(())
}

fn pairs(texts: &[String], what: &str) -> Result<BTreeMap<String, String>, AppError> {
    texts
        .iter()
        .map(|text| {
            let wrong = || AppError::Usage {
                what: format!("{what} {text:?} has no '='"),
                hint: Some("write it as name=value".into()),
            };
            text.split_once('=').map(|(name, value)| (name.to_owned(), value.to_owned())).ok_or_else(wrong)
        })
        .collect()
}

fn choose_game(
    request: &AdoptRequest,
    (tree, folder): (&dyn Tree, &Path),
    values: &BTreeMap<String, String>,
    trust: &Trust,
) -> Result<Game, AppError> {
    let known = games::all(Some(folder))?;
    if let Some(name) = &request.game {
        let (game, origin, text) = games::find(Some(folder), name)?;
        require_trust((&game, &origin, &text), (tree, values), trust)?;
        return Ok(game);
    }
    let mut loaded = Vec::new();
    // What may have come with the folder is not even asked whether it knows the folder.
    for (name, origin, text) in
        known.iter().filter(|(_, origin, text)| games::is_trusted(origin, text, trust))
    {
        let file = match origin {
            games::DefinitionSource::BuiltIn => format!("{name}.toml"),
            games::DefinitionSource::File(path) => path.display().to_string(),
        };
        loaded.push(yalotheca_core::game::load(&file, text).map_err(FindGameError::Load)?);
    }
    let found = survey::recognise_game(tree, &loaded, values)?;
    match found.as_slice() {
        [game] => Ok((*game).clone()),
        [] => {
            // What came with the folder was not asked.
            let new_here = known.iter().filter(|(_, origin, text)| !games::is_trusted(origin, text, trust));
            let new_here: Vec<&str> = new_here.map(|(name, ..)| name.as_str()).collect();
            let names: Vec<&str> = known.iter().map(|(name, ..)| name.as_str()).collect();
            Err(AppError::Usage {
                what: format!("{} looks like no server of a known game", tree.location()),
                hint: Some(match new_here.as_slice() {
                    [] => Advice::Amend(Amendment::NameGame(
                        names.iter().map(|name| (*name).to_owned()).collect(),
                    )),
                    [name, ..] => Advice::AllowNewDefinition((*name).to_owned()),
                }),
            })
        }
        several => Err(AppError::Usage {
            what: format!("{} looks like a server of several games", tree.location()),
            hint: Some(Advice::Amend(Amendment::NameGame(
                several.iter().map(|game| game.name.clone()).collect(),
            ))),
        }),
    }
}
