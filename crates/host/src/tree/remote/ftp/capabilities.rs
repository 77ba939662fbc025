//! What an FTP server was found to be able to do at first contact. It is kept in the cache, so that later commands need not find it out
//! again.

use std::{fs, path::Path};

use serde::{Deserialize, Serialize};

use crate::cache_file::keep_in_cache;

/// What a server can do, as long as it greets in the same words.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(clippy::struct_excessive_bools, reason = "each is found out by itself")]
pub(super) struct FtpCapabilities {
    /// What it says first; mostly its name and version.
    pub(super) greeting: String,
    /// It has listings for machines, and they hide no links.
    pub(super) has_mlsd: bool,
    /// It lists hidden files where `-a` is asked for.
    pub(super) lists_hidden: bool,
    /// It can set dates.
    pub(super) sets_times: bool,
    /// It has to be told that names are UTF-8.
    pub(super) switches_to_utf8: bool,
}

impl FtpCapabilities {
    /// Returns what is kept of a server that greets in these words.
    pub(super) fn read(file: &Path, greeting: &str) -> Option<Self> {
        let known: Self = serde_json::from_slice(&fs::read(file).ok()?).ok()?;
        (known.greeting == greeting).then_some(known)
    }

    /// Keeps it. That it cannot be kept costs time only.
    pub(super) fn write(&self, file: &Path) {
        if let Ok(bytes) = serde_json::to_vec(self) {
            keep_in_cache(file, &bytes);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_kept_counts_as_long_as_the_greeting_is_the_same() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("hosts/quay");
        let known = FtpCapabilities {
            greeting: "220 Larkspur file service".into(),
            has_mlsd: true,
            lists_hidden: false,
            sets_times: true,
            switches_to_utf8: false,
        };
        assert_eq!(FtpCapabilities::read(&file, &known.greeting), None);
        known.write(&file);
        assert_eq!(FtpCapabilities::read(&file, &known.greeting).as_ref(), Some(&known));
        assert_eq!(FtpCapabilities::read(&file, "220 Larkspur file service 2"), None);
        fs::write(&file, "{").unwrap();
        assert_eq!(FtpCapabilities::read(&file, &known.greeting), None);
    }
}
