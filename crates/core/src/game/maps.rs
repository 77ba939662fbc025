//! What a server plays: one of its maps at a time, some in turn, some for players to choose.

use super::{ConfigPlace, Pattern, Scope, Template};

/// Which maps there are, and where the server is told.
#[derive(Debug, Clone)]
pub struct Maps {
    /// What a map is.
    pub form: MapForm,
    /// Where the one that is played is named.
    pub play: ConfigPlace,
    /// A list that must name something where a map is played.
    pub with: Option<WithMap>,
    /// The list of those that are played in turn.
    pub rotate: Option<ListPlace>,
    /// The list of those that players may choose.
    pub offer: Option<ListPlace>,
    /// The setting that bounds what is sent to players, in megabytes.
    pub cap: Option<ConfigPlace>,
    /// The folder in which the server keeps what players did on a map.
    pub saves: Option<Template>,
}

/// What a map is.
#[derive(Debug, Clone)]
pub enum MapForm {
    /// A content of this kind.
    Kind(String),
    /// A folder, whoever brought it.
    Folders(MapFolders),
}

/// Folders that are maps.
#[derive(Debug, Clone)]
pub struct MapFolders {
    /// Which folders, below which nothing is a map: `campaigns/*/*`.
    pub pattern: String,
    /// What a map's name tells, in named groups.
    pub parts: Option<Pattern>,
}

/// A list that must name something where a map is played.
#[derive(Debug, Clone)]
pub struct WithMap {
    /// The list.
    pub list: ListPlace,
    /// What it must name; a template over the map's name (`it`) and its parts.
    pub item: Template,
    /// The item that stays at the list's end.
    pub last: Option<String>,
}

/// A list in a configuration file.
#[derive(Debug, Clone)]
pub struct ListPlace {
    /// Where it is.
    pub place: ConfigPlace,
    /// What separates items, where it is one text.
    pub separator: Option<String>,
    /// What a file that does not exist begins with.
    pub create: String,
}

impl Maps {
    /// Returns the content kind whose contents are maps, where one is.
    pub fn kind(&self) -> Option<&str> {
        if let MapForm::Kind(kind) = &self.form { Some(kind) } else { None }
    }

    /// Returns the folders that are maps, where folders are.
    pub fn folders(&self) -> Option<&MapFolders> {
        if let MapForm::Folders(folders) = &self.form { Some(folders) } else { None }
    }

    /// Returns the scope of a map: that of its server, its name as `it`, and what its name tells; nothing where it tells nothing.
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
    /// Returns the folder below which all maps lie.
    pub fn root(&self) -> &str {
        super::shared::fixed_part(&self.pattern)
    }

    /// Returns how many folders deep below that a map lies.
    pub fn depth(&self) -> usize {
        let below = self.pattern.strip_prefix(self.root()).unwrap_or(&self.pattern);
        below.trim_matches('/').split('/').count()
    }

    /// Returns the map in which a file lies, by the file's path.
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
