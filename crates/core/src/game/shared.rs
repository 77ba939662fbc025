//! What the contents of a server share: names of assets, keys by which their parts are signed, and files that are compiled from
//! what all of them bring.

use globset::GlobMatcher;

use super::Template;

/// Files of contents whose names the game knows in one space: of two with one name, one counts.
#[derive(Debug, Clone)]
pub struct Assets {
    /// Which files they are, by their paths on the server.
    pub files: Vec<GlobMatcher>,
    /// The same patterns, as written.
    pub patterns: Vec<String>,
    /// Which of several counts.
    pub wins: Wins,
    /// Archives whose members are assets too, named by their paths inside.
    pub inside: Vec<GlobMatcher>,
    /// The same patterns, as written.
    pub inside_patterns: Vec<String>,
    /// Which members are assets; all of them if empty.
    pub members: Vec<GlobMatcher>,
    /// Lists of names that must come from the content only in which the list lies, one a line.
    pub owns: Option<GlobMatcher>,
}

/// Which of several assets with one name counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wins {
    /// That of the content that is loaded last.
    Last,
    /// That of the content that is loaded first.
    First,
}

impl Assets {
    /// Returns the endings of assets' names, or nothing if any name may be an asset and only its folder decides.
    pub fn endings(&self) -> Option<Vec<&str>> {
        self.patterns.iter().map(|pattern| ending(pattern)).collect()
    }

    /// Returns the folders that contain such archives.
    pub fn inside_roots(&self) -> Vec<&str> {
        self.inside_patterns.iter().map(|pattern| fixed_part(pattern)).collect()
    }

    /// Returns whether a file is an archive with assets in it.
    pub fn is_archive(&self, path: &str) -> bool {
        self.inside.iter().any(|glob| glob.is_match(path))
    }

    /// Returns whether a member of such an archive is an asset.
    pub fn is_member(&self, name: &str) -> bool {
        self.members.is_empty() || self.members.iter().any(|glob| glob.is_match(name))
    }

    /// Returns the name of the asset that a file is, if it is one.
    pub fn name<'p>(&self, path: &'p str) -> Option<&'p str> {
        let is_asset = self.files.iter().any(|glob| glob.is_match(path));
        is_asset.then(|| path.rsplit('/').next().unwrap_or(path))
    }
}

/// Parts of contents that are signed, and the keys that are accepted.
#[derive(Debug, Clone)]
pub struct Signatures {
    /// Which files must be signed, by their paths on the server.
    pub parts: GlobMatcher,
    /// What stands behind a part's name in the name of its signature: before and after the key's name.
    pub signature: (String, String),
    /// Which files are keys that are accepted.
    pub keys: GlobMatcher,
    /// The same, as it is written.
    pub key_pattern: String,
    /// Keys of the game itself, which always stay.
    pub stay: Vec<String>,
}

impl Signatures {
    /// Returns the name of a key, by its path.
    pub fn key_name<'p>(&self, path: &'p str) -> Option<&'p str> {
        let name = path.rsplit('/').next().unwrap_or(path);
        self.keys.is_match(path).then(|| name.rsplit_once('.').map_or(name, |(stem, _)| stem))
    }

    /// Returns the name of the key by which a file says that it signs a part.
    pub fn signer<'p>(&self, part: &str, file: &'p str) -> Option<&'p str> {
        let (before, after) = &self.signature;
        file.strip_prefix(part)?.strip_prefix(before.as_str())?.strip_suffix(after.as_str())
    }

    /// Returns the folder below which all keys lie.
    pub fn root(&self) -> &str {
        fixed_part(&self.key_pattern)
    }
}

/// The game's own tool that makes a file of others. It runs in a folder of its own with copies of what it reads, so that what it writes is
/// a file that is put, like any other.
#[derive(Debug, Clone)]
pub struct Tool {
    /// A change of one of these calls for it.
    pub after: Vec<GlobMatcher>,
    /// What it reads.
    pub reads: Vec<GlobMatcher>,
    /// The same, as it is written.
    pub read_patterns: Vec<String>,
    /// The command; the folder is the one with the copies.
    pub command: Vec<Template>,
    /// What it writes.
    pub writes: Vec<String>,
}

impl Tool {
    /// Returns whether a change of a file calls for it.
    pub fn is_after(&self, path: &str) -> bool {
        self.after.iter().any(|glob| glob.is_match(path))
    }

    /// Returns whether it reads a file.
    pub fn reads(&self, path: &str) -> bool {
        self.reads.iter().any(|glob| glob.is_match(path))
    }

    /// Returns the folders, or files, below which it reads.
    pub fn read_roots(&self) -> Vec<&str> {
        self.read_patterns.iter().map(|pattern| fixed_part(pattern)).collect()
    }
}

/// Returns the ending of every name that matches a pattern, if the pattern has one.
fn ending(pattern: &str) -> Option<&str> {
    let end = pattern.rsplit('/').next()?.strip_prefix('*')?;
    (!end.contains(['*', '?', '[', '{'])).then_some(end)
}

/// The folders at the beginning of a pattern in which nothing stands for anything.
pub(super) fn fixed_part(pattern: &str) -> &str {
    let wild = pattern.find(['*', '?', '[', '{']).unwrap_or(pattern.len());
    pattern[..wild].rfind('/').map_or("", |at| &pattern[..at])
}
