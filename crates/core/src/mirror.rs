//! Which files a mirror has, and under which names, by the game's rule.

use std::collections::BTreeMap;

use globset::{GlobBuilder, GlobMatcher};

use crate::{
    game::{
        Compression, MirrorFiles, MirrorIndex, MirrorNames, MirrorRule, Pattern, RenderError, Scope, Template,
    },
    id::TreePath,
};

/// Returns the pattern that a template becomes on one server; `*` does not match `/`.
///
/// # Errors
/// If the template cannot be filled, or what comes out is not a pattern.
pub fn glob(template: &Template, scope: &Scope) -> Result<GlobMatcher, String> {
    let pattern = template.render(scope).map_err(|error: RenderError| error.to_string())?;
    let glob = GlobBuilder::new(&pattern).literal_separator(true).build();
    Ok(glob.map_err(|error| error.to_string())?.compile_matcher())
}

/// The patterns of a rule, for one server.
#[derive(Debug)]
pub struct MirrorLayout<'a> {
    sets: Vec<(GlobMatcher, &'a MirrorFiles)>,
    outside: Vec<OutsideFiles<'a>>,
}

/// Files that players need and that lie outside the server's folder: what the base game brings.
#[derive(Debug)]
pub struct OutsideFiles<'a> {
    /// The folder below which all of them lie.
    pub folder: String,
    /// The pattern of their whole paths.
    glob: GlobMatcher,
    /// How they are mirrored.
    pub files: &'a MirrorFiles,
}

impl OutsideFiles<'_> {
    /// Returns whether a file below the folder is one of them.
    pub fn has(&self, path: &TreePath) -> bool {
        self.glob.is_match(format!("{}/{path}", self.folder))
    }
}

impl MirrorRule {
    /// Returns the patterns for a server.
    ///
    /// # Errors
    /// If a template cannot be filled, or what comes out is not a pattern.
    pub fn layout(&self, scope: &Scope) -> Result<MirrorLayout<'_>, String> {
        let (mut sets, mut outside) = (Vec::new(), Vec::new());
        for files in &self.files {
            let glob = glob(&files.take, scope)?;
            let pattern = glob.glob().glob();
            if pattern.starts_with('/') {
                let plain = &pattern[..pattern.find(['*', '?', '[', '{']).unwrap_or(pattern.len())];
                let folder = plain.rsplit_once('/').map_or("", |(folder, _)| folder).to_owned();
                outside.push(OutsideFiles { folder, glob, files });
            } else {
                sets.push((glob, files));
            }
        }
        Ok(MirrorLayout { sets, outside })
    }

    /// Returns an address as the game wants it.
    pub fn address_of(&self, url: &str) -> String {
        let bare = url.trim().trim_end_matches('/');
        if self.slash { format!("{bare}/") } else { bare.to_owned() }
    }
}

impl<'a> MirrorLayout<'a> {
    /// Returns the files outside the server's folder.
    pub fn outside(&self) -> &[OutsideFiles<'a>] {
        &self.outside
    }

    /// Returns how a file of the server is mirrored, if players need it.
    pub fn set_of(&self, path: &TreePath) -> Option<&'a MirrorFiles> {
        self.sets.iter().find(|(glob, _)| glob.is_match(path.as_str())).map(|(_, files)| *files)
    }
}

impl MirrorFiles {
    /// Returns the names of a file in the mirror, the one that players ask for first first. `sha1` is the SHA-1 of its bytes, in
    /// hexadecimal digits.
    pub fn names(&self, path: &TreePath, sha1: &str) -> Vec<(String, Option<Compression>)> {
        let bare = match self.named {
            MirrorNames::Path => path.as_str(),
            MirrorNames::Sha1 => sha1,
        };
        let packed = self.compress.map(|how| (format!("{bare}{}", how.suffix()), Some(how)));
        packed.into_iter().chain(self.plain.then(|| (bare.to_owned(), None))).collect()
    }
}

impl MirrorIndex {
    /// Returns what the server announced at its last start, by the lines of its log: the names by their digests, in small hexadecimal
    /// digits. `ready` is the line that ends a start. Nothing if it was not listed then.
    pub fn announced<'l>(
        &self,
        lines: impl IntoIterator<Item = &'l str>,
        ready: &Pattern,
    ) -> BTreeMap<String, String> {
        let mut found = BTreeMap::new();
        let Some(pattern) = &self.announced else { return found };
        let mut has_started = true;
        for line in lines {
            if let Some(groups) = pattern.captures(line) {
                if std::mem::take(&mut has_started) {
                    found.clear();
                }
                let group = |name| groups.name(name).map_or("", |group| group.as_str());
                found.insert(group("digest").to_ascii_lowercase(), group("name").to_owned());
            } else if ready.is_match(line) {
                if has_started {
                    found.clear();
                }
                has_started = true;
            }
        }
        found
    }

    /// Returns the bytes of the index of files with these SHA-1 digests.
    pub fn bytes(&self, mut digests: Vec<[u8; 20]>) -> Vec<u8> {
        digests.sort_unstable();
        digests.dedup();
        [self.head.as_slice(), digests.as_flattened()].concat()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_last_start_announced() {
        let announced = Pattern::new(r"Server: (?<digest>\w+) is (?<name>\S+)").ok();
        let index = MirrorIndex { file: "list".into(), head: Vec::new(), announced };
        let ready = Pattern::new("listening on").unwrap();
        let names = |log: &str| {
            let found = index.announced(log.lines(), &ready);
            found.into_iter().map(|(digest, name)| format!("{digest}={name}")).collect::<Vec<_>>().join(" ")
        };
        let (first, second) = ("Server: AA is a.png\nServer: bb is b.png\n", "Server: cc is c.png\n");
        for (log, expected) in [
            (String::new(), ""),
            ("listening on 1\n".into(), ""),
            (first.into(), "aa=a.png bb=b.png"),
            (format!("{first}listening on 1\nmore\n"), "aa=a.png bb=b.png"),
            (format!("{first}listening on 1\n{second}"), "cc=c.png"),
            (format!("{first}listening on 1\n{second}listening on 1\nmore"), "cc=c.png"),
            // The last start did not list them.
            (format!("{first}listening on 1\nlistening on 1\n"), ""),
            (format!("{first}listening on 1\nlistening on 1\n{second}listening on 1\n"), "cc=c.png"),
        ] {
            assert_eq!(names(&log), expected, "{log}");
        }
    }
}
