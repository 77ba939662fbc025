//! A server, as every report names it.

use std::{collections::BTreeMap, fmt};

use serde::Serialize;
use yalotheca_core::catalogue::Platform;

/// A server: for programs its name, game, platform and location; for people one line.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct ServerName {
    /// What people call it; its location where they call it nothing.
    pub name: String,
    /// The game definition.
    pub game: String,
    /// What it brings: the versions of its engine, loaders and so on.
    pub platform: BTreeMap<String, String>,
    /// Its folder, or its address without a password.
    pub location: String,
    /// Whether it is a copy, on which something is tried.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub is_copy: bool,
}

impl ServerName {
    /// Returns the name of a server; one that people call nothing is called by its location.
    pub fn new(name: &str, game: &str, platform: &Platform, location: String) -> Self {
        let parts = platform.parts.iter().map(|(part, version)| (part.clone(), version.to_string()));
        Self {
            name: if name.is_empty() { location.clone() } else { name.to_owned() },
            game: game.to_owned(),
            platform: parts.collect(),
            location,
            is_copy: false,
        }
    }
}

impl fmt::Display for ServerName {
    /// Writes `Larkspur Harbour (saltwick, engine 2.4, runtime 6)`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_copy {
            f.write_str("a copy of ")?;
        }
        // Some games call a part of their platform by their own name.
        let own = self.platform.contains_key(&self.game);
        let game = (!own).then(|| self.game.clone());
        let parts = self.platform.iter().map(|(part, version)| format!("{part} {version}"));
        let brackets: Vec<String> = game.into_iter().chain(parts).collect();
        write!(f, "{} ({})", self.name, brackets.join(", "))
    }
}
