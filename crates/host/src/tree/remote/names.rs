//! All names behind a file server, for searches from the true root.

use std::{
    io,
    path::{Path, PathBuf},
    time::{Duration, UNIX_EPOCH},
};

use yalotheca_core::id::TreePath;

use super::{
    RemoteTree,
    file_server::{RemoteKind, RemoteMetadata},
    now,
    seen::Found,
    stamp_of,
};
use crate::tree::{FoundName, NameIndex, NameKind, NameMetadata, names::Folder};

fn kind_of(metadata: &RemoteMetadata) -> NameKind {
    match metadata.kind {
        RemoteKind::File => NameKind::File,
        RemoteKind::Folder => NameKind::Folder,
        RemoteKind::Link => NameKind::Link,
        RemoteKind::Other => NameKind::Other,
    }
}

impl RemoteTree {
    pub(super) fn index_names(&self, file: &Path) -> NameIndex {
        let paths = |bytes: &[u8]| self.at(&String::from_utf8_lossy(bytes));
        let look = |asked: &[String]| {
            self.retried(asked.len(), |indices| {
                self.server.metadata(&indices.iter().map(|index| asked[*index].clone()).collect::<Vec<_>>())
            })
        };
        let stamps = |known: &[Folder]| {
            let asked: Vec<String> = known.iter().map(|folder| paths(folder.path())).collect();
            let looked = look(&asked).into_iter().map(std::result::Result::ok);
            looked
                .map(|metadata| metadata.filter(|metadata| metadata.kind == RemoteKind::Folder))
                .map(|metadata| stamp_of(&RemoteMetadata { size: 0, ..metadata? }))
                .collect()
        };
        let list = |folders: &[Vec<u8>]| {
            let asked: Vec<String> = folders.iter().map(|folder| paths(folder)).collect();
            // The dates are older than the names, so that what changes in between is seen the next time.
            let dates = look(&asked);
            let listed = self.retried(asked.len(), |indices| {
                self.server.list(&indices.iter().map(|index| asked[*index].clone()).collect::<Vec<_>>())
            });
            let folder =
                |((path, date), entries): ((&Vec<u8>, io::Result<RemoteMetadata>), io::Result<_>)| {
                    let entries: Vec<super::file_server::RemoteEntry> = entries?;
                    let names = entries.iter().map(|entry| {
                        let name = match &entry.name {
                            Ok(name) => name.as_bytes(),
                            Err(bytes) => bytes.as_slice(),
                        };
                        (kind_of(&entry.metadata), name)
                    });
                    let names: Vec<(NameKind, &[u8])> =
                        names.filter(|(_, name)| !matches!(*name, b"." | b"..")).collect();
                    let date = date.ok().filter(|date| {
                        date.modified.is_some_and(|date| date + self.server.features().tick < now())
                    });
                    let stamp = date.and_then(|date| stamp_of(&RemoteMetadata { size: 0, ..date }));
                    Ok(Folder::new(path.clone(), stamp, &names))
                };
            folders.iter().zip(dates).zip(listed).map(folder).collect()
        };
        NameIndex::walk(file, stamps, list)
    }

    pub(super) fn metadata_of_names(&self, names: &[FoundName]) -> Vec<NameMetadata> {
        let paths: Vec<Option<TreePath>> =
            names.iter().map(|found| TreePath::new(&found.path).ok()).collect();
        let known: Vec<TreePath> = paths.iter().flatten().cloned().collect();
        let mut looked = self.look_at_links(&known).unwrap_or_default().into_iter();
        paths
            .into_iter()
            .map(|path| {
                let Some(Found::There { metadata, real, .. }) = path.and_then(|_| looked.next()) else {
                    return NameMetadata::default();
                };
                let target = (metadata.kind == RemoteKind::Link)
                    .then(|| {
                        metadata
                            .target
                            .clone()
                            .or_else(|| self.server.read_link(&self.at(real.as_str())).ok())
                    })
                    .flatten();
                NameMetadata {
                    size: Some(metadata.size),
                    modified: metadata.modified.map(|seconds| UNIX_EPOCH + Duration::from_secs(seconds)),
                    target: target.map(PathBuf::from),
                }
            })
            .collect()
    }
}
