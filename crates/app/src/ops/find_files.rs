//! Finding files and folders anywhere in a server's folder by name.

use crate::words::ServerName;
use std::collections::{BTreeSet, HashMap};

use serde::Serialize;
use yalotheca_core::{
    id::{ContentId, Digest, TreePath},
    version::ReleaseVersion,
};
use yalotheca_host::tree::{FoundName, NameKind, NameMetadata, NamePattern};

use crate::{AppError, Server};

/// One file or folder that was found.
#[derive(Debug, Serialize)]
pub struct FileFound {
    /// Its path below the server's folder.
    pub path: String,
    /// What it is.
    pub kind: NameKind,
    /// Its size in bytes, if it is a file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// When it was changed last, in UTC, as RFC 3339.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub modified: Option<String>,
    /// Where a link leads.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    /// The content that it was installed with.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub content: Option<ContentId>,
    /// That content's version.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<ReleaseVersion>,
    /// Whether it was edited since.
    pub is_edited: bool,
}

/// What was found.
#[derive(Debug, Serialize)]
pub struct FindFilesReport {
    /// The server, as people call it.
    pub server: ServerName,
    /// How many files and folders were looked through.
    pub looked_through: usize,
    /// What was found, by path.
    pub found: Vec<FileFound>,
    /// Patterns that nothing fits.
    pub not_found: Vec<String>,
    /// Folders that could not be read, with the reasons.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub unreadable: Vec<String>,
}

/// Finds what fits any of some patterns.
///
/// # Errors
/// Where a pattern is none, or the receipt cannot be read.
pub fn find_files(server: &Server, patterns: &[String]) -> Result<FindFilesReport, AppError> {
    let mut parsed = Vec::new();
    for text in patterns {
        parsed.push(NamePattern::parse(text).map_err(|why| AppError::Usage {
            what: format!("{text:?} is not a pattern: {why}"),
            hint: Some("a part of a name, or a pattern with *, ? and [a-z]; put it in quotes".into()),
        })?);
    }
    let index = server.tree.names(&server.fetcher.store().names_of(&*server.tree));
    let (mut found, mut not_found): (BTreeSet<FoundName>, _) = (BTreeSet::new(), Vec::new());
    for pattern in &parsed {
        let names = index.find(pattern);
        if names.is_empty() {
            not_found.push(pattern.text.clone());
        }
        found.extend(names);
    }
    let found: Vec<FoundName> = found.into_iter().collect();
    Ok(FindFilesReport {
        server: server.shown(),
        looked_through: index.count(),
        found: describe(server, &found)?,
        not_found,
        unreadable: index.unreadable.iter().map(|(path, why)| format!("{path}: {why}")).collect(),
    })
}

fn describe(server: &Server, found: &[FoundName]) -> Result<Vec<FileFound>, AppError> {
    let paths: Vec<Option<TreePath>> = found.iter().map(|one| TreePath::new(&one.path).ok()).collect();
    let owners = server.owners(&paths.iter().flatten().cloned().collect())?;
    let placed: Vec<TreePath> =
        paths.iter().flatten().filter(|path| owners.contains_key(*path)).cloned().collect();
    let known = |path: &TreePath| owners.get(path).map(|(_, digest)| *digest);
    let digests = server.tree.digest_as(&placed, &placed.iter().map(known).collect::<Vec<_>>());
    let digests = digests.unwrap_or_default();
    let now: HashMap<&TreePath, Digest> =
        placed.iter().zip(digests).filter_map(|(path, found)| Some((path, found?.0))).collect();
    let lock = server.control.lock.by_id();
    let metadata = server.tree.name_metadata(found);
    let one = |((one, path), metadata): ((&FoundName, &Option<TreePath>), NameMetadata)| {
        let owner = path.as_ref().and_then(|path| owners.get(path));
        let digest = path.as_ref().and_then(|path| now.get(path));
        let modified = metadata.modified.and_then(|time| jiff::Timestamp::try_from(time).ok());
        let modified = modified.and_then(|time| time.round(jiff::Unit::Second).ok());
        FileFound {
            path: one.path.clone(),
            kind: one.kind,
            size: metadata.size.filter(|_| one.kind == NameKind::File),
            modified: modified.map(|time| time.to_string()),
            target: metadata.target.map(|target| target.display().to_string()),
            version: owner.and_then(|(id, _)| Some(lock.get(id)?.release.version.clone())),
            is_edited: matches!((owner, digest), (Some((_, placed)), Some(now)) if placed != now),
            content: owner.map(|(id, _)| id.clone()),
        }
    };
    Ok(found.iter().zip(&paths).zip(metadata).map(one).collect())
}
