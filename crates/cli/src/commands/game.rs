//! `game`.

use std::{collections::BTreeMap, fs, io::Read, path::PathBuf, process::ExitCode};

use clap::{Args, Subcommand};
use serde::Serialize;
use yalotheca_app::{AppError, Prompt, server::trust};
use yalotheca_core::{
    control::WANTS_FILE,
    game::{Game, Kind, PACK_KIND, RegisterVerb, Shape, TWEAK_KIND, TWEAK_SUFFIX, load},
    id::TreePath,
    rehearse::{RehearseError, rehearse},
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

use super::apply::folder;
use crate::{
    global::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, count},
};

/// List, show and test game definitions.
#[derive(Debug, Args)]
pub(crate) struct GameArgs {
    #[command(subcommand)]
    act: GameAct,
}

#[derive(Debug, Subcommand)]
enum GameAct {
    /// List the definitions that are known
    List,
    /// Print a definition
    Show {
        /// The definition's name
        name: String,
    },
    /// Show what a definition would run for this server, word for word, and allow exactly that
    Trust {
        /// The definition's name
        name: String,
    },
    /// Test a definition, or a tweak, without a server
    Check {
        /// The definition's file, or a tweak's
        file: PathBuf,
        /// A server's folder on which to try it; nothing there is changed
        #[arg(long, value_name = "FOLDER")]
        on: Option<PathBuf>,
    },
}

#[derive(Debug, Serialize)]
struct GameList {
    games: Vec<GameLine>,
}

#[derive(Debug, Serialize)]
struct GameLine {
    name: String,
    title: String,
    from: String,
}

impl View for GameList {
    fn view(&self, page: &mut Page) {
        let rows: Vec<Vec<Cell>> = self
            .games
            .iter()
            .map(|game| {
                vec![
                    Cell::new(Role::Name, game.name.clone()),
                    Cell::plain(game.title.clone()),
                    Cell::new(Role::Dim, game.from.clone()),
                ]
            })
            .collect();
        page.table(&rows);
    }
}

#[derive(Debug, Serialize)]
struct GameText {
    name: String,
    from: String,
    text: String,
}

impl View for GameText {
    fn view(&self, page: &mut Page) {
        for line in self.text.lines() {
            page.raw(line);
        }
    }
}

#[derive(Debug, Serialize)]
struct TrustView {
    name: String,
    commands: Vec<String>,
    trusted: bool,
}

impl View for TrustView {
    fn view(&self, page: &mut Page) {
        let text = if self.trusted {
            format!("Allowed. If {}, a value or the program changes, you will be asked again.", self.name)
        } else {
            "Not allowed; nothing will be run.".into()
        };
        page.line(Role::Plain, &text);
    }
}

#[derive(Debug, Serialize)]
struct GameReport {
    file: String,
    name: String,
    kinds: Vec<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    on: Option<OnFolder>,
}

#[derive(Debug, Serialize)]
struct OnFolder {
    recognised: bool,
    values: BTreeMap<String, String>,
    platform: BTreeMap<String, String>,
    contents: Vec<String>,
    /// What bears the mark of a content and cannot be read, and why.
    unreadable: Vec<String>,
    /// Files beside contents that are none.
    strangers: Vec<String>,
}

impl View for GameReport {
    fn view(&self, page: &mut Page) {
        let kinds = format!("{}: {}", count(self.kinds.len(), "content kind"), self.kinds.join(", "));
        page.line(Role::Good, &format!("{}: the definition {} is good; {kinds}.", self.file, self.name));
        let Some(on) = &self.on else { return };
        let word = if on.recognised { "recognised" } else { "not recognised" };
        page.head(&format!("The folder is {word}"));
        let pairs = |map: &BTreeMap<String, String>| -> Vec<Vec<Cell>> {
            map.iter()
                .map(|(name, text)| vec![Cell::new(Role::Name, name.clone()), Cell::plain(text.clone())])
                .collect()
        };
        page.head("Values");
        page.table(&pairs(&on.values));
        page.head("Platform");
        page.table(&pairs(&on.platform));
        page.head("Contents");
        for content in &on.contents {
            page.item(Role::Plain, content);
        }
        if on.contents.is_empty() {
            page.item(Role::Plain, "none");
        }
        if !on.unreadable.is_empty() || !on.strangers.is_empty() {
            page.head("Not recognised");
        }
        for unreadable in &on.unreadable {
            page.item(Role::Warn, unreadable);
        }
        for stranger in &on.strangers {
            page.item(Role::Plain, stranger);
        }
    }
}

pub(crate) fn run(args: &GameArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let at = folder(global.at.as_ref());
    let control = at.join(WANTS_FILE).is_file().then_some(at.as_path());
    match &args.act {
        GameAct::List => {
            let known = games::all(control)?.into_iter().map(|(name, origin, text)| {
                let title =
                    load(&name, &text).map_or_else(|_| "(broken; see game check)".into(), |game| game.title);
                GameLine { name, title, from: origin.to_string() }
            });
            ui.show(&GameList { games: known.collect() })?;
        }
        GameAct::Show { name } => {
            let (_, origin, text) = games::find(control, name)?;
            ui.show(&GameText { name: name.clone(), from: origin.to_string(), text })?;
        }
        GameAct::Trust { name } => {
            let (game, _, text) = games::find(Some(&at), name)?;
            let tree = LocalTree::new(&at.canonicalize().unwrap_or_else(|_| at.clone()));
            let control = control.map(|folder| Control::open(folder, false)).transpose()?;
            let given =
                control.as_ref().map(|control| control.wants.server.values.clone()).unwrap_or_default();
            let tree = control.as_ref().map_or(tree, |control| LocalTree::new(&control.server_folder()));
            let scope = survey::values(&tree, &game, &given)?;
            let invocations = Invocation::all(&game, &scope).map_err(SurveyError::Render)?;
            let commands: Vec<String> = invocations.iter().map(ToString::to_string).collect();
            ui.warn(&format!("The definition {name} would run this for the server:"));
            for command in &commands {
                ui.warn(&format!("  {command}"));
            }
            let trusted = ui.confirm("Allow exactly this?")?;
            if trusted {
                let failed = |source| AppError::Io { what: "noting that it is trusted".into(), source };
                let trust = trust()?;
                trust.agree_to_definition(&text).map_err(failed)?;
                invocations.iter().try_for_each(|invocation| trust.agree_to(invocation)).map_err(failed)?;
            }
            ui.show(&TrustView { name: name.clone(), commands, trusted })?;
        }
        GameAct::Check { file, on } => {
            let shown = file.display().to_string();
            let text =
                fs::read_to_string(file).map_err(|source| AppError::Io { what: shown.clone(), source })?;
            if shown.ends_with(TWEAK_SUFFIX) {
                ui.show(&TweakReport::of(&shown, &text, control)?)?;
                return Ok(ExitCode::SUCCESS);
            }
            let game = load(&shown, &text)?;
            rehearse(&game)
                .map_err(|error| RehearseError { at: format!("{shown}: {}", error.at), ..error })?;
            let on = on.as_ref().map(|folder| try_on(&game, folder)).transpose()?;
            let kinds = game.kinds.iter().filter(|(name, _)| *name != PACK_KIND && *name != TWEAK_KIND).map(
                |(name, kind)| match kind.shape {
                    Shape::Archive => format!("{name} (an archive)"),
                    Shape::Folder => format!("{name} (a folder)"),
                    Shape::File => format!("{name} (a file)"),
                },
            );
            ui.show(&GameReport { file: shown, name: game.name.clone(), kinds: kinds.collect(), on })?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// A tweak that was read.
#[derive(Debug, Serialize)]
struct TweakReport {
    file: String,
    id: String,
    parameters: Vec<(String, String, String)>,
    fragments: Vec<(String, String)>,
}

impl TweakReport {
    fn of(file: &str, text: &str, control: Option<&std::path::Path>) -> Result<Self, AppError> {
        // The game that it names says which values there are.
        let named = text.lines().find_map(|line| line.trim().strip_prefix("game"));
        let name = named.and_then(|rest| rest.split('"').nth(1)).map(str::to_owned);
        let values: Vec<String> = match &name {
            Some(name) => games::find(control, name)?.0.values.into_iter().map(|(name, _)| name).collect(),
            None => Vec::new(),
        };
        let tweak = Tweak::parse(file, text, &values)?;
        let parameter = |(name, rule): &(String, yalotheca_core::settings::SettingRule)| {
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
        let fragment = |rule: &yalotheca_core::game::RegisterRule| {
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

impl View for TweakReport {
    fn view(&self, page: &mut Page) {
        let many = count(self.fragments.len(), "fragment");
        page.line(Role::Good, &format!("{}: the tweak {} is good; {many}.", self.file, self.id));
        if !self.parameters.is_empty() {
            page.head("Parameters");
            let row = |(name, takes, help): &(String, String, String)| {
                vec![
                    Cell::new(Role::Name, name.clone()),
                    Cell::plain(takes.clone()),
                    Cell::new(Role::Dim, help.clone()),
                ]
            };
            page.table(&self.parameters.iter().map(row).collect::<Vec<_>>());
        }
        page.head("What it writes");
        let row = |(verb, place): &(String, String)| {
            vec![Cell::plain(verb.clone()), Cell::new(Role::Name, place.clone())]
        };
        page.table(&self.fragments.iter().map(row).collect::<Vec<_>>());
    }
}

fn try_on(game: &Game, folder: &std::path::Path) -> Result<OnFolder, AppError> {
    let full = folder
        .canonicalize()
        .map_err(|source| AppError::Io { what: format!("the folder {}", folder.display()), source })?;
    let tree = LocalTree::new(&full);
    let given = BTreeMap::new();
    let recognised = !survey::recognise_game(&tree, [game], &given)?.is_empty();
    let seen = survey::survey(&tree, game, &given, (Queries::Remembered, &Store::of_user()?))?;
    let inventory = survey::inventory(&tree, game, &seen.scope)?;
    let contents = inventory.contents.iter().map(|found| {
        format!(
            "{}: {}",
            found.path,
            yalotheca_app::words::shown(&found.content.id, &found.content.release.version)
        )
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
        unreadable: inventory.unreadable.iter().map(|(path, error)| format!("{path}: {error}")).collect(),
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
