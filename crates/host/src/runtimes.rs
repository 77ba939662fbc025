//! What is installed of what a server's engine runs on.

use std::{
    collections::BTreeSet,
    fs,
    path::{Path, PathBuf},
};

use globset::Glob;
use yalotheca_core::game::{RenderError, RuntimeRule, Scope};

use crate::trust::Invocation;

/// Something installed on this machine.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct InstalledRuntime {
    /// Its version.
    pub version: String,
    /// Where it is, if that is known.
    pub path: Option<PathBuf>,
}

/// Returns what is installed. `command` is run, if it is given.
///
/// # Errors
/// If a template cannot be filled.
pub fn installed(
    rule: &RuntimeRule,
    scope: &Scope,
    command: Option<&Invocation>,
) -> Result<BTreeSet<InstalledRuntime>, RenderError> {
    let mut found = BTreeSet::new();
    for template in &rule.paths {
        for path in paths_of(&template.render(scope)?) {
            let text = path.to_string_lossy();
            let Some(groups) = rule.pattern.captures(&text) else { continue };
            let Some(version) = groups.name("version") else { continue };
            let version = version.as_str().to_owned();
            found.insert(InstalledRuntime { version, path: Some(path.clone()) });
        }
    }
    let printed = command.and_then(Invocation::ask).unwrap_or_default();
    for groups in printed.lines().filter_map(|line| rule.pattern.captures(line)) {
        let Some(version) = groups.name("version") else { continue };
        let path = groups.name("path").map(|path| PathBuf::from(path.as_str()));
        found.insert(InstalledRuntime { version: version.as_str().to_owned(), path });
    }
    Ok(found)
}

/// Returns the paths of this machine that fit a pattern; each of its names may have signs.
fn paths_of(pattern: &str) -> Vec<PathBuf> {
    let mut found = vec![PathBuf::from("/")];
    for name in pattern.split('/').filter(|name| !name.is_empty()) {
        let is_plain = !name.contains(['*', '?', '[', '{']);
        let glob = Glob::new(name).map(|glob| glob.compile_matcher()).ok();
        let inside = |folder: &Path| -> Vec<PathBuf> {
            if is_plain {
                return vec![folder.join(name)];
            }
            let entries = fs::read_dir(folder).into_iter().flatten().flatten();
            let fits = |path: &PathBuf| {
                glob.as_ref().is_some_and(|glob| path.file_name().is_some_and(|name| glob.is_match(name)))
            };
            entries.map(|entry| entry.path()).filter(fits).collect()
        };
        found = found.iter().flat_map(|folder| inside(folder)).collect();
    }
    found.retain(|path| path.exists());
    found.sort();
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signs_stand_for_names() -> std::io::Result<()> {
        let root = tempfile::tempdir()?;
        for name in ["runtime-4/bin", "runtime-6/bin", "other/bin", "runtime-7"] {
            fs::create_dir_all(root.path().join(name))?;
        }
        let found = paths_of(&format!("{}/runtime-*/bin", root.path().display()));
        let names: Vec<_> = found.iter().filter_map(|path| path.strip_prefix(root.path()).ok()).collect();
        assert_eq!(names, [Path::new("runtime-4/bin"), Path::new("runtime-6/bin")]);
        assert!(paths_of("/no-such-folder-here/*").is_empty());
        Ok(())
    }
}
