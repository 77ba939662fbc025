//! What nothing from outside is ever placed into or over.

use unicode_normalization::UnicodeNormalization;

use crate::{
    control::{LOCK_FILE, WANTS_FILE},
    id::TreePath,
};

/// Paths that no content may place a file at, as a server's folder on any disk would know them: without regard to case, to how
/// letters are composed, and to characters that are not seen.
#[derive(Debug, Clone)]
pub struct Reserved {
    folders: Vec<(String, &'static str)>,
    files: Vec<(String, &'static str)>,
}

impl Reserved {
    /// Returns what is Yalotheca's own, and the control folder's files where that lies in the server's folder.
    pub fn new(control: Option<&TreePath>) -> Self {
        let mut reserved = Self {
            folders: vec![(".yalotheca".into(), "where Yalotheca keeps what it knows of this server")],
            files: Vec::new(),
        };
        let Some(control) = control else { return reserved };
        let below = |name: &str| {
            if control.is_root() { name.to_owned() } else { format!("{}/{name}", folded(control.as_str())) }
        };
        for name in [WANTS_FILE, LOCK_FILE] {
            reserved.files.push((below(name), "which says what this server should run"));
        }
        reserved.folders.push((below("games"), "where game definitions lie"));
        reserved
    }

    /// Adds files that the game definition reads.
    #[must_use]
    pub fn with_used(mut self, files: impl IntoIterator<Item = TreePath>) -> Self {
        const WHY: &str = "which is the server's own configuration";
        self.files.extend(files.into_iter().map(|path| (folded(path.as_str()), WHY)));
        self
    }

    /// Returns what a path is reserved for, where it is.
    pub fn why(&self, path: &TreePath) -> Option<&'static str> {
        if is_plain(path.as_str()) {
            return self.why_plain(path.as_str().as_bytes());
        }
        let folded = folded(path.as_str());
        let within = |folder: &str| {
            folded.strip_prefix(folder).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        };
        let of_folder = self.folders.iter().find(|(folder, _)| within(folder));
        of_folder.or_else(|| self.files.iter().find(|(file, _)| *file == folded)).map(|(_, why)| *why)
    }

    /// The same of a plain path: there are very many of these.
    fn why_plain(&self, path: &[u8]) -> Option<&'static str> {
        let within = |folder: &[u8]| {
            let (begin, rest) = path.split_at(folder.len().min(path.len()));
            begin.eq_ignore_ascii_case(folder) && matches!(rest.first(), None | Some(b'/'))
        };
        let of_folder = self.folders.iter().find(|(folder, _)| within(folder.as_bytes()));
        let of_file = || self.files.iter().find(|(file, _)| path.eq_ignore_ascii_case(file.as_bytes()));
        of_folder.or_else(of_file).map(|(_, why)| *why)
    }
}

/// Whether only the case of letters can make a path another one.
fn is_plain(path: &str) -> bool {
    let mut last = b'/';
    for byte in path.bytes().chain([b'/']) {
        if !byte.is_ascii() || byte == b'/' && matches!(last, b'.' | b' ') {
            return false;
        }
        last = byte;
    }
    true
}

/// Returns a path as disks without case, or with rules of their own about letters, would know it.
fn folded(path: &str) -> String {
    if is_plain(path) {
        return path.to_ascii_lowercase();
    }
    let is_seen = |c: &char| {
        !matches!(*c, '\u{ad}' | '\u{34f}' | '\u{61c}' | '\u{180b}'..='\u{180f}' | '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}' | '\u{fe00}'..='\u{fe0f}' | '\u{feff}')
    };
    let names = path.split('/').map(|name| {
        let text: String = name.nfkc().filter(is_seen).collect::<String>().to_lowercase().nfkc().collect();
        // Some disks drop these at a name's end.
        text.trim_end_matches(['.', ' ']).to_owned()
    });
    names.collect::<Vec<_>>().join("/")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn path(text: &str) -> TreePath {
        TreePath::new(text).unwrap()
    }

    #[test]
    fn what_is_ours_is_known_under_every_name_that_a_disk_may_take_for_it() {
        let reserved = Reserved::new(Some(&TreePath::root())).with_used([path("boot.json")]);
        for name in [
            ".yalotheca/journal/9999/plan.json",
            ".YALOTHECA/journal",
            ".yalotheca./receipt.json",
            ".yalothe\u{200b}ca/x",
            ".\u{ff59}alotheca/x",
            "yalotheca.toml",
            "Yalotheca.LOCK",
            "yalotheca.toml. ",
            "games/evil.toml",
            "Games",
            "BOOT.json",
        ] {
            assert!(reserved.why(&path(name)).is_some(), "{name}");
        }
        for name in [
            "yalotheca.toml.txt",
            "mods/games/a",
            "gamesome",
            "boot.json/x",
            "plugins/yalotheca.toml",
            ".yalothecan",
        ] {
            assert!(reserved.why(&path(name)).is_none(), "{name}");
        }
        let elsewhere = Reserved::new(Some(&path("control/Ours")));
        assert!(elsewhere.why(&path("CONTROL/ours/yalotheca.toml")).is_some());
        assert!(elsewhere.why(&path("yalotheca.toml")).is_none());
        assert!(Reserved::new(None).why(&path("games/x.toml")).is_none());
    }
}
