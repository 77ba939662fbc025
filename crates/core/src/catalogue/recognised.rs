//! A content that is known by what is inside it.

use super::Release;
use crate::id::ContentId;

/// A content that was recognised by what is inside it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Recognised {
    /// Its id.
    pub id: ContentId,
    /// What people call it.
    pub title: String,
    /// What it is for.
    pub about: String,
    /// Its release, without files.
    pub release: Release,
}
