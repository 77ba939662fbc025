//! The lines of a preview.

use serde::Serialize;

use super::EntryLine;
use crate::{
    id::{ContentId, Digest, TreePath},
    settings::Kept,
};

/// What happens to one file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileAct {
    /// A new file.
    Put,
    /// A newer file of ours in place of an older one.
    Replace,
    /// A file of ours that is missing or was altered.
    #[serde(rename = "put-back")]
    Restore,
    /// A file of ours that lies in the wrong place.
    Move,
    /// A file of somebody else stands in the way.
    Displace,
    /// A file goes to the attic.
    #[serde(rename = "set-aside")]
    Aside,
}

/// One line of a preview about a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FileLine {
    /// What happens.
    pub act: FileAct,
    /// The path.
    pub path: TreePath,
    /// Where it lay before, for a move.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<TreePath>,
    /// The size in bytes.
    pub size: u64,
    /// Whose file it is.
    pub content: ContentId,
}

/// What happens to one configuration file.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct ConfigLine {
    /// The path.
    pub path: TreePath,
    /// Whether the file is made or removed as a whole.
    pub created: bool,
    /// Whether the file goes.
    pub removed: bool,
    /// The entries.
    pub entries: Vec<EntryLine>,
    /// Lines of a unified diff, without heads: ` `, `-` or `+` before each; `@` stands for what is left out between.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub diff: Vec<String>,
    /// What was merged because the defaults have changed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub merged: Option<MergedLine>,
}

/// What became of a settings file whose defaults have changed.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct MergedLine {
    /// How many new defaults were taken.
    pub taken: usize,
    /// What stays as it was.
    pub kept: Vec<Kept>,
}

/// Settings that wait for a file that only the server makes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct PendingLine {
    /// The file.
    pub path: TreePath,
    /// Whose it is.
    pub content: ContentId,
    /// How many settings wait.
    pub settings: usize,
}

impl ConfigLine {
    /// Returns a line without a diff.
    pub fn new(path: &TreePath, created: bool, removed: bool, entries: Vec<EntryLine>) -> Self {
        Self { path: path.clone(), created, removed, entries, diff: Vec::new(), merged: None }
    }
}

/// Returns what differs, line by line, with one line around it.
pub fn diff(before: &str, after: &str) -> Vec<String> {
    let mut options = diffy::DiffOptions::new();
    options.set_context_len(1);
    let patch = options.create_patch(before, after);
    let mut lines = Vec::new();
    for (index, hunk) in patch.hunks().iter().enumerate() {
        if index > 0 {
            lines.push("@".to_owned());
        }
        for line in hunk.lines() {
            let (sign, text) = match line {
                diffy::Line::Context(text) => (' ', text),
                diffy::Line::Delete(text) => ('-', text),
                diffy::Line::Insert(text) => ('+', text),
            };
            lines.push(format!("{sign}{}", text.trim_end_matches(['\n', '\r'])));
        }
    }
    lines
}

/// A file that somebody has changed since it was put there: it stays as it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct KeptLine {
    /// The file.
    pub path: TreePath,
    /// Whose file it was.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub content: Option<ContentId>,
    /// The digest of what was put there.
    pub put: Digest,
    /// Where the newer one is put instead, where there is a newer one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub beside: Option<TreePath>,
}
