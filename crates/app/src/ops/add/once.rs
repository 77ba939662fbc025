//! Files that are put where there are none yet, and belong to nobody then: settings that a pack or a setup brings.

use yalotheca_core::{
    change::{ChangeSet, FileAct, FileLine, Receipt, Source, Step},
    id::{ContentId, TreePath},
};
use yalotheca_host::arrival::Once;

use crate::{AppError, Server, apply::ChangeExtras};

/// Adds the steps that put them. What is there already stays, and is told.
pub(in crate::ops) fn put(
    server: &Server,
    once: &[(Option<ContentId>, Once)],
    extras: &mut ChangeExtras,
) -> Result<(), AppError> {
    if once.is_empty() {
        return Ok(());
    }
    let of_server = ContentId::new(&server.game.name)?;
    let mut change = ChangeSet { receipt: Receipt::empty(), ..ChangeSet::default() };
    let mut made: Vec<TreePath> = Vec::new();
    for (owner, Once { to, size, digest, source }) in once {
        if server.tree.kind_of(to)?.is_some() {
            let is_same = server.tree.digest_file(to)?.is_some_and(|(now, _)| now == *digest);
            if !is_same {
                let of = owner
                    .as_ref()
                    .map_or_else(String::new, |owner| format!("; what {owner} brings for it is left out"));
                extras.notes.push(format!("{to} is there already; yours stays{of}"));
            }
            continue;
        }
        let mut above = Vec::new();
        let mut next = to.parent();
        while let Some(folder) = next.filter(|folder| !folder.is_root()) {
            next = folder.parent();
            if server.tree.kind_of(&folder)?.is_none() && !made.contains(&folder) {
                above.push(folder);
            }
        }
        for path in above.into_iter().rev() {
            made.push(path.clone());
            change.steps.push(Step::MakeFolder { path });
        }
        change.steps.push(Step::Put {
            path: to.clone(),
            source: Source::Payload,
            before: None,
            after: *digest,
            size: *size,
        });
        change.files.push(FileLine {
            act: FileAct::Put,
            path: to.clone(),
            from: None,
            size: *size,
            content: owner.clone().unwrap_or_else(|| of_server.clone()),
        });
        let bytes = source.read(&*server.tree)?;
        if let Some(text) = bytes.and_then(|bytes| String::from_utf8(bytes).ok()) {
            extras.plan.heads.insert(to.clone(), text);
        }
        extras.bytes.insert(*digest, source.clone());
    }
    extras.more = Some(change);
    Ok(())
}
