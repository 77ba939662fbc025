//! Game definitions: those that are known, what one would run, and whether one says what it should.

use std::{
    collections::BTreeMap,
    fs,
    io::Read,
    path::{Path, PathBuf},
};

use serde::Serialize;
use yalotheca_core::{
    control::WANTS_FILE,
    game::{Game, Kind, PACK_KIND, RegisterRule, RegisterVerb, Shape, TWEAK_KIND, TWEAK_SUFFIX, load},
    id::TreePath,
    rehearse::{RehearseError, rehearse},
    settings::SettingRule,
    tweak::Tweak,
};
use yalotheca_host::{
    control::Control,
    games,
    store::Store,
    survey::{self, Queries, SurveyError},
    tree::{LocalTree, Tree},
    trust::Invocation,
};

use crate::{AppError, server::trust, words};

/// The definitions that are known.
#[derive(Debug, Serialize)]
pub struct GameList {
    /// By name.
    pub games: Vec<GameLine>,
}

/// A definition that is known.
#[derive(Debug, Serialize)]
pub struct GameLine {
    /// What it is called in `yalotheca.toml`.
    pub name: String,
    /// What people call the game; nothing if the definition is broken.
    pub title: Option<String>,
    /// Where it was found.
    pub from: String,
}

/// A definition as it is written.
#[derive(Debug, Serialize)]
pub struct GameText {
    /// Its name.
    pub name: String,
    /// Where it was found.
    pub from: String,
    /// All of it.
    pub text: String,
}

/// What a definition would run for a server.
#[derive(Debug)]
pub struct Programs {
    text: String,
    invocations: Vec<Invocation>,
}

/// What became of a question whether a definition may run programs.
#[derive(Debug, Serialize)]
pub struct TrustReport {
    /// The definition's name.
    pub name: String,
    /// What it would run, word for word.
    pub commands: Vec<String>,
    /// Whether it may.
    pub trusted: bool,
}

/// A definition that was tested.
#[derive(Debug, Serialize)]
pub struct GameReport {
    /// Its file.
    pub file: String,
    /// Its name.
    pub name: String,
    /// The kinds of content, and what each is made of.
    pub kinds: Vec<String>,
    /// What it recognises in a folder, where one was named.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub on: Option<OnFolder>,
}

/// What a definition sees in a folder.
#[derive(Debug, Serialize)]
pub struct OnFolder {
    /// Whether the folder is taken for a server of this game.
    pub recognised: bool,
    /// The server's values.
    pub values: BTreeMap<String, String>,
    /// The parts of the platform, with versions.
    pub platform: BTreeMap<String, String>,
    /// The contents, each with its path.
    pub contents: Vec<String>,
    /// What bears the mark of a content and cannot be read, and why.
    pub unreadable: Vec<String>,
    /// Files beside contents that are none.
    pub strangers: Vec<String>,
}

/// What was tested.
#[derive(Debug, Serialize)]
#[serde(untagged)]
pub enum Tested {
    /// A game definition.
    Game(GameReport),
    /// A tweak.
    Tweak(TweakReport),
}

/// Returns the control folder, where there is one in this folder.
fn control_in(folder: &Path) -> Option<&Path> {
    folder.join(WANTS_FILE).is_file().then_some(folder)
}

/// Lists the definitions that are known in a folder.
///
/// # Errors
/// Where they cannot be read.
pub fn list_definitions(at: &Path) -> Result<GameList, AppError> {
    let known = games::all(control_in(at))?.into_iter().map(|(name, origin, text)| {
        let title = load(&name, &text).ok().map(|game| game.title);
        GameLine { name, title, from: origin.to_string() }
    });
    Ok(GameList { games: known.collect() })
}

/// Returns a definition as it is written.
///
/// # Errors
/// Where there is none of that name.
pub fn show_definition(at: &Path, name: &str) -> Result<GameText, AppError> {
    let (_, origin, text) = games::find(control_in(at), name)?;
    Ok(GameText { name: name.to_owned(), from: origin.to_string(), text })
}

/// Returns what a definition would run for the server in a folder. Nothing is run.
///
/// # Errors
/// Where there is none of that name, or the server cannot be read.
pub fn programs(at: &Path, name: &str) -> Result<Programs, AppError> {
    let (game, _, text) = games::find(Some(at), name)?;
    let control = control_in(at).map(|folder| Control::open(folder, false)).transpose()?;
    let (tree, given) = if let Some(control) = &control {
        (LocalTree::new(&control.server_folder()), control.wants.server.values.clone())
    } else {
        let folder = at.canonicalize().unwrap_or_else(|_| at.to_owned());
        (LocalTree::new(&folder), BTreeMap::new())
    };
    let scope = survey::values(&tree, &game, &given)?;
    let invocations = Invocation::all(&game, &scope).map_err(SurveyError::Render)?;
    Ok(Programs { text, invocations })
}

impl Programs {
    /// Returns what would be run, word for word.
    pub fn commands(&self) -> Vec<String> {
        self.invocations.iter().map(ToString::to_string).collect()
    }

    /// Notes that this account allows exactly this.
    ///
    /// # Errors
    /// Where it cannot be noted.
    pub fn allow(&self) -> Result<(), AppError> {
        let failed = |source| AppError::Io { what: "noting that it is trusted".into(), source };
        let trust = trust()?;
        trust.agree_to_definition(&self.text).map_err(failed)?;
        self.invocations.iter().try_for_each(|invocation| trust.agree_to(invocation)).map_err(failed)
    }
}

/// Tests a definition or a tweak without a server; a definition on a folder too, in which nothing is changed.
///
/// # Errors
/// What is wrong with it, and where; or where it cannot be read.
pub fn test_definition(at: &Path, file: &Path, on: Option<&PathBuf>) -> Result<Tested, AppError> {
    let shown = file.display().to_string();
    let text = fs::read_to_string(file).map_err(|source| AppError::Io { what: shown.clone(), source })?;
    if shown.ends_with(TWEAK_SUFFIX) {
        return TweakReport::of(&shown, &text, control_in(at)).map(Tested::Tweak);
    }
    let game = load(&shown, &text)?;
    rehearse(&game).map_err(|error| RehearseError { at: format!("{shown}: {}", error.at), ..error })?;
    let on = on.map(|folder| try_on(&game, folder)).transpose()?;
    let kinds = game.kinds.iter().filter(|(name, _)| *name != PACK_KIND && *name != TWEAK_KIND).map(
        |(name, kind)| match kind.shape {
            Shape::Archive => format!("{name} (an archive)"),
            Shape::Folder => format!("{name} (a folder)"),
            Shape::File => format!("{name} (a file)"),
        },
    );
    Ok(Tested::Game(GameReport { file: shown, name: game.name.clone(), kinds: kinds.collect(), on }))
}

/// A tweak that was read.
#[derive(Debug, Serialize)]
pub struct TweakReport {
    /// Its file.
    pub file: String,
    /// Its id.
    pub id: String,
    /// Each parameter, with what it takes and its help.
    pub parameters: Vec<(String, String, String)>,
    /// What it does with each place.
    pub fragments: Vec<(String, String)>,
}

impl TweakReport {
    fn of(file: &str, text: &str, control: Option<&Path>) -> Result<Self, AppError> {
        // The game that it names says which values there are.
        let named = text.lines().find_map(|line| line.trim().strip_prefix("game"));
        let name = named.and_then(|rest| rest.split('"').nth(1)).map(str::to_owned);
        let values: Vec<String> = match &name {
            Some(name) => games::find(control, name)?.0.values.into_iter().map(|(name, _)| name).collect(),
            None => Vec::new(),
        };
        let tweak = Tweak::parse(file, text, &values)?;
        let parameter = |(name, rule): &(String, SettingRule)| {
            let default = rule
                .default
                .as_ref()
                .map_or_else(|| "asked for".to_owned(), |value| format!("default {value}"));
            (
                name.clone(),
                format!("{}; {default}", rule.takes().trim_start_matches("it takes ")),
                rule.help.clone(),
            )
        };
        let fragment = |rule: &RegisterRule| {
            let verb = match &rule.verb {
                RegisterVerb::Set(_) => "sets",
                RegisterVerb::Item { .. } => "adds to",
                RegisterVerb::Number { .. } => "numbers in",
                RegisterVerb::Block { .. } => "puts a block into",
            };
            let place = rule.place.pointer.as_str();
            (
                verb.to_owned(),
                format!(
                    "{}{}",
                    rule.place.file.as_str(),
                    if place.is_empty() { String::new() } else { format!("#{place}") }
                ),
            )
        };
        Ok(Self {
            file: file.into(),
            id: tweak.id.to_string(),
            parameters: tweak.parameters.iter().map(parameter).collect(),
            fragments: tweak.fragments.iter().map(fragment).collect(),
        })
    }
}

fn try_on(game: &Game, folder: &Path) -> Result<OnFolder, AppError> {
    let full = folder
        .canonicalize()
        .map_err(|source| AppError::Io { what: format!("the folder {}", folder.display()), source })?;
    let tree = LocalTree::new(&full);
    let given = BTreeMap::new();
    let recognised = !survey::recognise_game(&tree, [game], &given)?.is_empty();
    let seen = survey::survey(&tree, game, &given, (Queries::Remembered, &Store::of_user()?))?;
    let inventory = survey::inventory(&tree, game, &seen.scope)?;
    let contents = inventory.contents.iter().map(|found| {
        format!("{}: {}", found.path, words::shown(&found.content.id, &found.content.release.version))
    });
    Ok(OnFolder {
        recognised,
        values: seen.scope.values.clone(),
        platform: seen
            .platform
            .parts
            .iter()
            .map(|(part, version)| (part.clone(), version.to_string()))
            .collect(),
        contents: contents.collect(),
        unreadable: inventory.unreadable.iter().map(|(path, error)| error.within(path)).collect(),
        strangers: inventory.strangers.iter().map(|path| why_not(&tree, game, path)).collect(),
    })
}

/// Says of a file what keeps each kind from taking it.
fn why_not(tree: &dyn Tree, game: &Game, path: &TreePath) -> String {
    let mut head = Vec::new();
    if let Ok(Some(file)) = tree.open(path) {
        file.take(Kind::HEAD as u64).read_to_end(&mut head).ok();
    }
    let name = path.name();
    let reason = |(kind_name, kind): (&String, &Kind)| {
        let suffix = kind.suffix.as_ref()?;
        if !name.ends_with(suffix.as_str()) {
            return None;
        }
        let why = match kind.shape {
            Shape::File => kind.looks_right(&head, u64::MAX).err()?,
            Shape::Archive | Shape::Folder => {
                format!("none of its markers is at its top: {}", kind.marker.join(", "))
            }
        };
        Some(format!("{kind_name}: the suffix fits, but {why}"))
    };
    let reasons: Vec<String> = game.kinds.iter().filter_map(reason).collect();
    if reasons.is_empty() {
        format!("{path}: no kind has its suffix")
    } else {
        format!("{path}: {}", reasons.join("; "))
    }
}
