//! Which files a mirror has, and under which names, by the game's rule.

use globset::{GlobBuilder, GlobMatcher};

use crate::{
    game::{Compression, MirrorFiles, MirrorIndex, MirrorNames, MirrorRule, RenderError, Scope, Template},
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
    /// Returns the bytes of the index of files with these SHA-1 digests.
    pub fn bytes(&self, mut digests: Vec<[u8; 20]>) -> Vec<u8> {
        digests.sort_unstable();
        digests.dedup();
        [self.head.as_slice(), digests.as_flattened()].concat()
    }
}
