//! Assets that the game reads by name out of archives.

use std::collections::BTreeSet;

use yalotheca_core::{
    clash::Asset,
    game::Assets,
    id::{ContentId, Digest, TreePath},
};
use yalotheca_host::{archive::ZipBundle, tree::files_below};

use crate::{AppError, Server, reading::Reading};

/// Returns the archive members that are assets, each with the archive's path. Members of the same size and checksum count as the
/// same bytes: only the archives' directories are read.
pub(super) fn assets_inside(
    server: &Server,
    rule: &Assets,
    reading: Reading,
) -> Result<Vec<Asset>, AppError> {
    let tree = &*server.tree;
    // On a remote server each directory costs a few round trips; only `clashes` reads them there.
    if rule.inside.is_empty() || reading == Reading::Records && tree.local().is_none() {
        return Ok(Vec::new());
    }
    let archives: BTreeSet<TreePath> =
        files_below(tree, &rule.inside_roots(), |path| rule.is_archive(path))?.into_iter().collect();
    let owners = server.owners(&archives)?;
    let on: BTreeSet<&ContentId> = server.control.lock.on().map(|locked| &locked.id).collect();
    let mut assets = Vec::new();
    for path in archives {
        let content = owners.get(&path).map(|(content, _)| content.clone());
        if content.as_ref().is_some_and(|content| !on.contains(content)) {
            continue;
        }
        let Some(file) = tree.open(&path)? else { continue };
        // `check` reports files that are not archives, or are damaged.
        let Ok(Some(archive)) = ZipBundle::of_file(file) else { continue };
        for (name, size, sum) in archive.sums() {
            if rule.is_member(&name) {
                let digest = Digest::of(format!("{size} {sum}").as_bytes());
                assets.push(Asset { name, path: path.clone(), content: content.clone(), digest });
            }
        }
    }
    Ok(assets)
}
