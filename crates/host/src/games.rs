//! Where game definitions are found: the control folder's `games/`, the user's configuration folder, those built in.

use std::{
    fs, io,
    path::{Path, PathBuf},
};

use etcetera::BaseStrategy;
use yalotheca_core::{
    game::{BUILT_IN, Game, load},
    hint::{Advice, Hint},
    suggest,
    toml_file::ReadTomlError,
};

use crate::trust::Trust;

/// Where a definition comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum DefinitionSource {
    /// It comes with the program.
    BuiltIn,
    /// A file.
    File(PathBuf),
}

impl std::fmt::Display for DefinitionSource {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::BuiltIn => f.write_str("built in"),
            Self::File(path) => write!(f, "{}", path.display()),
        }
    }
}

/// A definition that could not be had.
#[derive(Debug, thiserror::Error)]
pub enum FindGameError {
    /// There is none of that name.
    #[error("there is no game definition called {name:?}")]
    Unknown {
        /// The name.
        name: String,
        /// The names that exist.
        known: Vec<String>,
    },
    /// It is wrong.
    #[error(transparent)]
    Load(#[from] ReadTomlError),
    /// Its file cannot be read.
    #[error("{path}: {source}")]
    Read {
        /// The file.
        path: String,
        /// Why.
        source: io::Error,
    },
}

impl Hint for FindGameError {
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::Unknown { name, known } => suggest::did_you_mean(name, known.iter().map(String::as_str))
                .map(Into::into)
                .or_else(|| Some(format!("there are {}", known.join(", ")).into())),
            Self::Load(error) => error.hint(),
            Self::Read { .. } => None,
        }
    }
}

/// Returns the text of every definition with its name and origin; of one name the nearest origin.
///
/// # Errors
/// Where a definition's file cannot be read.
pub fn all(control: Option<&Path>) -> Result<Vec<(String, DefinitionSource, String)>, FindGameError> {
    let user =
        etcetera::base_strategy::choose_base_strategy().ok().map(|s| s.config_dir().join("yalotheca/games"));
    let mut found: Vec<(String, DefinitionSource, String)> = Vec::new();
    for folder in control.map(|folder| folder.join("games")).into_iter().chain(user) {
        for entry in fs::read_dir(&folder).into_iter().flatten().flatten() {
            let path = entry.path();
            let stem = path.file_stem().and_then(|stem| stem.to_str()).map(str::to_owned);
            let is_definition = path.extension().is_some_and(|suffix| suffix == "toml");
            if let (true, Some(name)) = (is_definition, stem) {
                let text = fs::read_to_string(&path)
                    .map_err(|source| FindGameError::Read { path: path.display().to_string(), source })?;
                found.push((own_name(&text).unwrap_or(name), DefinitionSource::File(path), text));
            }
        }
    }
    for (name, text) in BUILT_IN {
        found.push(((*name).into(), DefinitionSource::BuiltIn, (*text).into()));
    }
    let mut names: Vec<String> = Vec::new();
    found.retain(|(name, _, _)| {
        let new = !names.contains(name);
        names.push(name.clone());
        new
    });
    found.sort_by(|a, b| a.0.cmp(&b.0));
    Ok(found)
}

/// The name that a definition gives itself, whatever its file is called; it stands before all tables.
fn own_name(text: &str) -> Option<String> {
    let mut head = text.lines().map(str::trim).take_while(|line| !line.starts_with('['));
    let value = head.find_map(|line| line.strip_prefix("name")?.trim_start().strip_prefix('='))?;
    let quote = value.trim_start().chars().next().filter(|quote| "\"'".contains(*quote))?;
    Some(value.split(quote).nth(1)?.to_owned()).filter(|name| !name.is_empty())
}

/// Returns the definition with a name.
///
/// # Errors
/// Where there is none or it is wrong.
pub fn find(control: Option<&Path>, name: &str) -> Result<(Game, DefinitionSource, String), FindGameError> {
    let known = all(control)?;
    let Some((_, origin, text)) = known.iter().find(|(known, _, _)| known == name) else {
        let known = known.into_iter().map(|(name, _, _)| name).collect();
        return Err(FindGameError::Unknown { name: name.into(), known });
    };
    let file = match origin {
        DefinitionSource::BuiltIn => format!("{name}.toml"),
        DefinitionSource::File(path) => path.display().to_string(),
    };
    Ok((load(&file, text)?, origin.clone(), text.clone()))
}

fn user_folder() -> Option<PathBuf> {
    etcetera::base_strategy::choose_base_strategy()
        .ok()
        .map(|strategy| strategy.config_dir().join("yalotheca"))
}

/// Returns whether a definition may be used: those that come with the program and those in the user's configuration folder may;
/// any other one, which may have come with a server's folder, only once its user has agreed to it. What it may run is another
/// question, see [`crate::trust`].
pub fn is_trusted(origin: &DefinitionSource, text: &str, trust: &Trust) -> bool {
    let DefinitionSource::File(path) = origin else { return true };
    let own = user_folder().is_some_and(|folder| path.starts_with(folder.join("games")));
    own || trust.has_definition(text)
}
