//! The maps of a server: the one it plays, those it plays in turn, and those that players may choose.

use super::{ConfigPlace, LiveRule, Pattern, Scope, Template};

/// Which maps there are, and which configuration names them.
#[derive(Debug, Clone)]
pub struct Maps {
    /// What a map is.
    pub form: MapForm,
    /// Where the played map is named.
    pub play: ConfigPlace,
    /// A list that must have an item for the played map.
    pub with: Option<WithMap>,
    /// The list of maps played in turn.
    pub rotate: Option<ListPlace>,
    /// The list of maps that players may choose.
    pub offer: Option<ListPlace>,
    /// The setting that limits the size of what is sent to players, in megabytes.
    pub cap: Option<ConfigPlace>,
    /// The folder with the saves of a map.
    pub saves: Option<Template>,
    /// What makes a running server play another map (`it`).
    pub live: Option<LiveRule>,
}

/// What a map is.
#[derive(Debug, Clone)]
pub enum MapForm {
    /// A content of this kind.
    Kind(String),
    /// A folder, installed by a content or by hand.
    Folders(MapFolders),
}

/// Folders that are maps.
#[derive(Debug, Clone)]
pub struct MapFolders {
    /// The pattern of their paths: `campaigns/*/*`.
    pub pattern: String,
    /// The parts of a map's name, as named groups.
    pub parts: Option<Pattern>,
}

/// A list that must have an item for the played map.
#[derive(Debug, Clone)]
pub struct WithMap {
    /// The list.
    pub list: ListPlace,
    /// The item; a template over the map's name (`it`) and its parts.
    pub item: Template,
    /// The item that stays last.
    pub last: Option<String>,
}

/// A list in a configuration file.
#[derive(Debug, Clone)]
pub struct ListPlace {
    /// Where it is.
    pub place: ConfigPlace,
    /// The separator, if the list is one text.
    pub separator: Option<String>,
    /// The text that a new file starts with.
    pub create: String,
}

impl Maps {
    /// Returns the content kind whose contents are maps, if any.
    pub fn kind(&self) -> Option<&str> {
        if let MapForm::Kind(kind) = &self.form { Some(kind) } else { None }
    }

    /// Returns the rule for maps that are folders, if they are.
    pub fn folders(&self) -> Option<&MapFolders> {
        if let MapForm::Folders(folders) = &self.form { Some(folders) } else { None }
    }

    /// Returns the scope for a map: its server's, its name as `it`, and the parts of its name; nothing if the name does not match.
    pub fn scope(&self, server: &Scope, name: &str) -> Option<Scope> {
        let mut scope = server.clone();
        scope.found.insert("it".into(), name.to_owned());
        if let Some(parts) = self.folders().and_then(|folders| folders.parts.as_ref()) {
            let groups = parts.captures(name)?;
            for group in parts.groups() {
                let text = groups.name(group).map_or("", |text| text.as_str());
                scope.found.insert(group.to_owned(), text.to_owned());
            }
        }
        Some(scope)
    }
}

impl MapFolders {
    /// Returns the folder that contains all maps.
    pub fn root(&self) -> &str {
        super::shared::fixed_part(&self.pattern)
    }

    /// Returns how many folders below that a map is.
    pub fn depth(&self) -> usize {
        let below = self.pattern.strip_prefix(self.root()).unwrap_or(&self.pattern);
        below.trim_matches('/').split('/').count()
    }

    /// Returns the map that contains the file with this path.
    pub fn map_of<'p>(&self, path: &'p str) -> Option<&'p str> {
        let root = self.root();
        let below = if root.is_empty() { path } else { path.strip_prefix(root)?.strip_prefix('/')? };
        let end = below.match_indices('/').nth(self.depth() - 1)?.0;
        Some(&below[..end])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_tells_in_which_map_it_lies() {
        let folders = |pattern: &str| MapFolders { pattern: pattern.into(), parts: None };
        let two = folders("campaigns/*/*");
        assert_eq!((two.root(), two.depth()), ("campaigns", 2));
        for (path, map) in [
            ("campaigns/Reedfen/open/story.txt", Some("Reedfen/open")),
            ("campaigns/Reedfen/open/deep/er.txt", Some("Reedfen/open")),
            ("campaigns/Reedfen/notes.txt", None),
            ("campaigns2/Reedfen/open/story.txt", None),
        ] {
            assert_eq!(two.map_of(path), map, "{path}");
        }
        assert_eq!(folders("*").map_of("isle/level.dat"), Some("isle"));
    }
}
