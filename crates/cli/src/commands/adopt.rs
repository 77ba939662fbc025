//! `adopt`.

use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
    process::ExitCode,
};

use clap::Args;
use serde::Serialize;
use yalotheca_app::{
    AppError,
    server::{require_trust, trust},
    take_over,
};
use yalotheca_core::{
    catalogue::Platform,
    control::{CatalogueSource, ControlFile, LOCK_FILE, ServerSection, WANTS_FILE},
    game::Game,
    id::{ContentId, TreePath},
    version::{ReleaseVersion, VersionRange},
};
use yalotheca_host::{
    catalogue::{Ahead, Catalogues, Looks},
    control::Control,
    fetch::Fetcher,
    games::{self, FindGameError},
    settle,
    store::Store,
    survey::{self, Queries, SurveyError},
    tree::LocalTree,
    trust::{Invocation, Trust},
};

use super::apply::folder;
use crate::{
    args::Global,
    ui::Ui,
    view::{Cell, Page, Role, View, count},
};

/// Take charge of a server's folder, empty or years old; changes nothing on it.
#[derive(Debug, Args)]
pub(crate) struct AdoptArgs {
    /// The server's folder; this one if it is left out
    #[arg(value_name = "FOLDER")]
    folder: Option<PathBuf>,
    /// The game definition, where the folder does not tell
    #[arg(long, value_name = "NAME")]
    game: Option<String>,
    /// What to call the server
    #[arg(long, value_name = "TEXT", default_value = "")]
    name: String,
    /// A catalogue: a name, '=', and its address or folder (may be given several times)
    #[arg(long = "catalogue", value_name = "NAME=WHERE")]
    catalogues: Vec<String>,
    /// A value of the game definition that this server decides (may be given several times)
    #[arg(long = "set", value_name = "NAME=VALUE")]
    values: Vec<String>,
}

/// What was found on a server.
#[derive(Debug, Serialize)]
struct AdoptView {
    server: String,
    game: String,
    game_title: String,
    platform: Platform,
    contents: Vec<take_over::Adopted>,
    misplaced: Vec<take_over::Misplaced>,
    seconds: Vec<(ContentId, TreePath)>,
    unreadable: Vec<String>,
    strangers: Vec<TreePath>,
    written: Vec<String>,
}

impl View for AdoptView {
    fn view(&self, page: &mut Page) {
        page.line(Role::Head, &format!("{}: {}", self.server, self.game_title));
        let parts: Vec<String> =
            self.platform.parts.iter().map(|(part, version)| format!("{part} {version}")).collect();
        if !parts.is_empty() {
            page.item(Role::Plain, &parts.join(", "));
        }
        if !self.platform.provides.is_empty() {
            page.item(
                Role::Plain,
                &format!("the base game provides {}", count(self.platform.provides.len(), "content")),
            );
        }
        page.head("Contents");
        if self.contents.is_empty() {
            page.item(Role::Plain, "none yet");
        }
        let rows: Vec<Vec<Cell>> = self.contents.iter().map(row).collect();
        page.table(&rows);
        if !self.misplaced.is_empty() || !self.seconds.is_empty() {
            page.head("Here, and not loaded");
            for take_over::Misplaced { id, path, belongs } in &self.misplaced {
                page.item(
                    Role::Warn,
                    &format!("{id} lies at {path}, where the server does not look; it belongs at {belongs}"),
                );
            }
            for (id, path) in &self.seconds {
                page.item(Role::Warn, &format!("{path} is a second copy of {id}"));
            }
        }
        if !self.unreadable.is_empty() || !self.strangers.is_empty() {
            page.head("Not recognised, and left alone");
            for path in &self.strangers {
                page.item(Role::Warn, path.as_str());
            }
            for unreadable in &self.unreadable {
                page.item(Role::Warn, unreadable);
            }
        }
        page.gap();
        page.line(
            Role::Good,
            &format!("Wrote {}. Nothing on the server was changed.", self.written.join(" and ")),
        );
        page.line(Role::Plain, "Next: yalotheca check shows what is wrong; yalotheca fix puts it right.");
    }
}

fn row(adopted: &take_over::Adopted) -> Vec<Cell> {
    let state = match adopted.state {
        take_over::State::On if adopted.members_off.is_empty() => Cell::new(Role::Good, "on"),
        take_over::State::On => Cell::new(Role::Warn, "partly on"),
        take_over::State::Off => Cell::new(Role::Dim, "off"),
    };
    let mut place = adopted.path.to_string();
    if !adopted.known {
        place += " (in no catalogue)";
    }
    if !adopted.members_off.is_empty() {
        let names: Vec<&str> = adopted.members_off.iter().map(ContentId::as_str).collect();
        place = format!("{place}; off: {}", names.join(", "));
    }
    vec![
        Cell::new(Role::Name, adopted.id.to_string()),
        Cell::plain(adopted.version.shown()),
        state,
        Cell::plain(place),
    ]
}

pub(crate) fn run(args: &AdoptArgs, global: &Global, ui: &Ui) -> Result<ExitCode, AppError> {
    let at = folder(args.folder.as_ref().or(global.at.as_ref()));
    let tree = LocalTree::new(
        &at.canonicalize()
            .map_err(|source| AppError::Io { what: format!("the folder {}", at.display()), source })?,
    );
    if tree.root().join(WANTS_FILE).exists() {
        return Err(AppError::Refused {
            what: format!("{} has a {WANTS_FILE} already", tree.root().display()),
            hint: Some("run yalotheca check to see how it is; to start over, move that file away".into()),
        });
    }
    refuse_inside_another(tree.root())?;
    let values = pairs(&args.values, "--set")?;
    let trust = trust()?;
    let game = choose_game(args, &tree, &values, &trust)?;
    if let Some(unknown) = values.keys().find(|name| !game.values.iter().any(|(known, _)| known == *name)) {
        let names = game.values.iter().map(|(name, _)| name.as_str());
        return Err(AppError::Usage {
            what: format!("{} servers have no value {unknown:?}", game.name),
            hint: yalotheca_core::suggest::did_you_mean(unknown, names),
        });
    }
    let catalogues: Vec<CatalogueSource> = pairs(&args.catalogues, "--catalogue")?
        .into_iter()
        .map(|(name, at)| CatalogueSource { name, at, key: None, older: false })
        .collect();
    let store = Store::of_user()?;
    agree(&tree, &game, &values, &trust)?;
    let survey = survey::survey(&tree, &game, &values, (Queries::Run(&trust), &store))?;
    let inventory = survey::inventory(&tree, &game, &survey.scope)?;
    let fetcher = Fetcher::new(store, global.offline);
    let server = ServerSection { name: args.name.clone(), game: game.name.clone(), at: ".".into(), values };
    let mut control = ControlFile::new(&server, &catalogues);
    let played = survey::played(&tree, &game, &survey.scope)?;
    control.play(played.play.as_deref());
    control.rotate(played.rotate.as_deref());
    control.offer(played.offer.as_deref());
    let looks = Looks::default();
    let opened = Catalogues::open(
        &control,
        (tree.root(), BTreeMap::new()),
        &game,
        &fetcher,
        &looks,
        &Ahead::default(),
    )?;
    for absent in opened.unreachable() {
        ui.warn(&format!("{absent}. Its contents are not known now."));
    }
    let taken = take_over::take(&tree, &game, &survey, &inventory, (&opened, &played))?;

    for locked in &taken.lock.contents {
        control.want(&locked.id, &VersionRange::any());
    }
    for (id, why) in &taken.off {
        control.switch_off(id, why);
    }
    let claim = settle::claim(&tree)?;
    settle::write_receipt(&tree, &taken.receipt)?;
    settle::write_control(tree.root(), LOCK_FILE, &taken.lock.text())?;
    settle::write_control(tree.root(), WANTS_FILE, &control.text())?;
    drop(claim);
    let name = if args.name.is_empty() { tree.root().display().to_string() } else { args.name.clone() };
    ui.show(&AdoptView {
        server: name,
        game: game.name.clone(),
        game_title: game.title.clone(),
        platform: survey.platform,
        contents: taken.contents,
        unreadable: inventory.unreadable.iter().map(|(path, error)| format!("{path}: {error}")).collect(),
        misplaced: taken.misplaced,
        seconds: taken.seconds,
        strangers: taken.strangers,
        written: vec![WANTS_FILE.into(), LOCK_FILE.into()],
    })?;
    Ok(ExitCode::SUCCESS)
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
        hint: Some(format!("run yalotheca in that folder, or with --at '{}'", folder.display())),
    })
}

/// What is run with values that were typed just now is agreed to by that. Where the server's own files decide about it, it waits
/// until somebody has looked at it.
fn agree(
    tree: &LocalTree,
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

fn pairs(texts: &[String], option: &str) -> Result<BTreeMap<String, String>, AppError> {
    texts
        .iter()
        .map(|text| {
            let wrong = || AppError::Usage {
                what: format!("{option} {text:?} has no '='"),
                hint: Some(format!("write {option} name=value")),
            };
            text.split_once('=').map(|(name, value)| (name.to_owned(), value.to_owned())).ok_or_else(wrong)
        })
        .collect()
}

fn choose_game(
    args: &AdoptArgs,
    tree: &LocalTree,
    values: &BTreeMap<String, String>,
    trust: &Trust,
) -> Result<Game, AppError> {
    let known = games::all(Some(tree.root()))?;
    if let Some(name) = &args.game {
        let (game, origin, text) = games::find(Some(tree.root()), name)?;
        require_trust((&game, &origin, &text), (tree, values), trust)?;
        return Ok(game);
    }
    let mut loaded = Vec::new();
    // What may have come with the folder is not even asked whether it knows the folder.
    for (name, origin, text) in
        known.iter().filter(|(_, origin, text)| games::is_trusted(origin, text, trust))
    {
        let file = match origin {
            games::Origin::BuiltIn => format!("{name}.toml"),
            games::Origin::File(path) => path.display().to_string(),
        };
        loaded.push(yalotheca_core::game::load(&file, text).map_err(FindGameError::Load)?);
    }
    let found = survey::recognise_game(tree, &loaded, values)?;
    match found.as_slice() {
        [game] => Ok((*game).clone()),
        [] => Err(AppError::Usage {
            what: format!("{} looks like no server of a known game", tree.root().display()),
            hint: Some(format!(
                "say which it is to be: --game {}",
                known.iter().map(|(name, _, _)| name.as_str()).collect::<Vec<_>>().join(" or --game ")
            )),
        }),
        several => Err(AppError::Usage {
            what: format!("{} looks like a server of several games", tree.root().display()),
            hint: Some(format!(
                "say which it is: --game {}",
                several.iter().map(|game| game.name.as_str()).collect::<Vec<_>>().join(" or --game ")
            )),
        }),
    }
}

/// The id and version of what the tables show.
pub(crate) fn shown(id: &ContentId, version: &ReleaseVersion) -> String {
    if version.is_unversioned() { id.to_string() } else { format!("{id} {version}") }
}
