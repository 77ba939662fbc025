//! What is remembered of the last start that became ready, beside the server.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use yalotheca_core::{
    diagnose::KnownLines,
    id::{Digest, TreePath},
};

use crate::{
    settle::OWN,
    tree::{Tree, TreeError},
};

/// The last good start, and what it and earlier ones have logged.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct GoodStart {
    /// The version of this file's form.
    pub format: u32,
    /// When it was, as RFC 3339.
    pub when: String,
    /// The number of the last change before it.
    pub change: Option<u32>,
    /// The configuration files after it.
    pub files: BTreeMap<TreePath, Digest>,
    /// Files of contents that somebody had edited by then.
    #[serde(default)]
    pub edited: BTreeMap<TreePath, Digest>,
    /// How long it took to be ready, in milliseconds.
    #[serde(default)]
    pub ready_ms: u64,
    /// How long it took to stop, in milliseconds; nothing where it was left running.
    #[serde(default)]
    pub stop_ms: u64,
    /// Problems that somebody has accepted: what tells them, and how they were said.
    #[serde(default)]
    pub accepted: BTreeMap<String, String>,
    /// What it and earlier ones have logged.
    pub known: KnownLines,
}

fn path() -> TreePath {
    TreePath::new(&format!("{OWN}/good-start.json")).unwrap_or_else(|_| TreePath::root())
}

/// Reads it; nothing where there was none, or its record is damaged.
///
/// # Errors
/// If the server's folder cannot be read.
pub fn read_good_start(tree: &dyn Tree) -> Result<Option<GoodStart>, TreeError> {
    let bytes = tree.read_file(&path())?;
    let read = bytes.and_then(|bytes| serde_json::from_slice::<GoodStart>(&bytes).ok());
    Ok(read.filter(|good| good.format == 1))
}

/// Writes it.
///
/// # Errors
/// If it cannot be written.
pub fn write_good_start(tree: &dyn Tree, good: &GoodStart) -> Result<(), TreeError> {
    let text = serde_json::to_vec(good).unwrap_or_default();
    tree.create_folder(&path().parent().unwrap_or_else(TreePath::root))?;
    tree.replace(&path(), &text)
}
