//! Names, paths and digests, validated where they are made.

use std::{fmt, sync::Arc};

use crate::{
    hint::{Advice, Hint},
    text_form::text_form,
};

/// What is wrong with an id, a path or a digest.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ParseIdError {
    /// The text is not a content id.
    #[error("{text:?} is not a content id: {why}")]
    Content {
        /// What was given.
        text: String,
        /// What is wrong with it.
        why: &'static str,
    },
    /// The text is not a path inside a server.
    #[error("{text:?} is not a path inside a server: {why}")]
    Path {
        /// What was given.
        text: String,
        /// What is wrong with it.
        why: &'static str,
    },
    /// The text is not a BLAKE3 digest.
    #[error("{text:?} is not a digest: 64 hexadecimal digits are expected")]
    Digest {
        /// What was given.
        text: String,
    },
}

impl Hint for ParseIdError {
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::Content { .. } => Some("ids are made of letters, digits, '-', '_', '.' and '+'".into()),
            Self::Path { .. } => {
                Some("write it relative to the server's folder, with '/' between names".into())
            }
            Self::Digest { .. } => None,
        }
    }
}

macro_rules! text_newtype {
    ($name:ident) => {
        impl $name {
            /// Returns the text.
            pub fn as_str(&self) -> &str {
                &self.0
            }
        }
        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(&self.0)
            }
        }
        impl std::str::FromStr for $name {
            type Err = ParseIdError;
            fn from_str(text: &str) -> Result<Self, ParseIdError> {
                Self::new(text)
            }
        }
        impl std::borrow::Borrow<str> for $name {
            fn borrow(&self) -> &str {
                &self.0
            }
        }
    };
}

/// The id of a content: what catalogues, wants and needs call it. Clones share the text.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ContentId(Arc<str>);
text_newtype!(ContentId);
text_form!(ContentId, "a content id", held as as_str);

impl ContentId {
    /// Returns the id, or says why the text is none.
    pub fn new(text: &str) -> Result<Self, ParseIdError> {
        let bad = |why| Err(ParseIdError::Content { text: text.into(), why });
        if text.is_empty() {
            return bad("it is empty");
        }
        if text.len() > 100 {
            return bad("it is longer than 100 characters");
        }
        if !text.starts_with(|c: char| c.is_ascii_alphanumeric() || c == '_') {
            return bad("it must begin with a letter or a digit");
        }
        if !text.chars().all(|c| c.is_ascii_alphanumeric() || "-_.+".contains(c)) {
            return bad("it holds a character that ids do not have");
        }
        Ok(Self(text.into()))
    }
}

/// A path inside a server's folder: relative, `/` between names, no `.` or `..`. The empty path is the folder itself.
/// Clones share the text: of very many files each is named by the desired state, the steps, the receipt and what is shown.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TreePath(Arc<str>);
text_newtype!(TreePath);
text_form!(TreePath, "a path inside a server", held as as_str);

/// Whether a text is a path just as it is kept.
fn is_kept(text: &str) -> bool {
    let (mut start, mut are_dots) = (0, true);
    for (at, byte) in text.bytes().enumerate() {
        match byte {
            b'/' if are_dots && at - start <= 2 => return false,
            b'/' => (start, are_dots) = (at + 1, true),
            b'\0' | b'\\' => return false,
            _ => are_dots &= byte == b'.',
        }
    }
    !are_dots || text.len() - start > 2
}

impl TreePath {
    /// Returns the path, or says why the text is none. Doubled and trailing slashes and a leading `./` are dropped.
    pub fn new(text: &str) -> Result<Self, ParseIdError> {
        let bad = |why| Err(ParseIdError::Path { text: text.into(), why });
        // Nearly every path is written as it is kept.
        if is_kept(text) {
            return Ok(Self(text.into()));
        }
        if text.starts_with('/') {
            return bad("it begins at the root of the disk");
        }
        if text.contains(['\0', '\\']) {
            return bad("it holds a character that paths here do not have");
        }
        let mut names = Vec::new();
        for name in text.split('/') {
            match name {
                "" | "." => {}
                ".." => return bad("it leaves the folder"),
                _ => names.push(name),
            }
        }
        Ok(Self(names.join("/").into()))
    }

    /// Returns the path of the server's folder itself.
    pub fn root() -> Self {
        Self(Arc::default())
    }

    /// Returns whether this is the server's folder itself.
    pub fn is_root(&self) -> bool {
        self.0.is_empty()
    }

    /// Returns the folder this path lies in; nothing for the root.
    pub fn parent(&self) -> Option<Self> {
        if self.is_root() {
            return None;
        }
        Some(Self(self.0.rsplit_once('/').map_or_else(Arc::default, |(folder, _)| folder.into())))
    }

    /// Returns the last name of the path; empty for the root.
    pub fn name(&self) -> &str {
        self.0.rsplit_once('/').map_or(&self.0, |(_, name)| name)
    }

    /// Returns this path with one more piece below it.
    pub fn join(&self, piece: &str) -> Result<Self, ParseIdError> {
        if self.is_root() {
            return Self::new(piece);
        }
        let text = self.with(piece);
        if is_kept(piece) { Ok(Self(text.into())) } else { Self::new(&text) }
    }

    fn with(&self, piece: &str) -> String {
        let mut text = String::with_capacity(self.0.len() + 1 + piece.len());
        text.extend([&self.0, "/", piece]);
        text
    }

    /// Returns whether this path is `folder` or lies below it.
    pub fn is_within(&self, folder: &Self) -> bool {
        folder.is_root()
            || self.0 == folder.0
            || self.0.strip_prefix(&*folder.0).is_some_and(|rest| rest.starts_with('/'))
    }

    /// Returns this path as it is called once `folder`, in which it lies or which it is, has been moved to another place; nothing
    /// where it lies elsewhere.
    pub fn moved(&self, folder: &Self, to: &Self) -> Option<Self> {
        if self == folder {
            return Some(to.clone());
        }
        let below = self.below(folder)?;
        if to.is_root() {
            return Some(Self(below.into()));
        }
        Some(Self(to.with(below).into()))
    }

    /// Returns what follows `folder` in this path, where it lies below it.
    pub fn below(&self, folder: &Self) -> Option<&str> {
        if folder.is_root() {
            return Some(&self.0);
        }
        self.0.strip_prefix(&*folder.0)?.strip_prefix('/')
    }
}

/// A BLAKE3 digest of a file's bytes, written as 64 hexadecimal digits.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Digest([u8; 32]);
text_form!(Digest, "a digest of 64 hexadecimal digits", held as hex);

/// What each byte is worth as a hexadecimal digit: more than 15 for those that are none.
static DIGITS: [u8; 256] = {
    let mut worth = [0xFF; 256];
    let mut digit = 0;
    while digit < 16 {
        worth[b"0123456789abcdef"[digit as usize] as usize] = digit;
        worth[b"0123456789ABCDEF"[digit as usize] as usize] = digit;
        digit += 1;
    }
    worth
};

/// How each byte is written.
static PAIRS: [[u8; 2]; 256] = {
    let mut pairs = [[0; 2]; 256];
    let mut byte = 0;
    while byte < 256 {
        pairs[byte] = [b"0123456789abcdef"[byte >> 4], b"0123456789abcdef"[byte & 15]];
        byte += 1;
    }
    pairs
};

/// How a fingerprint begins.
const MARK: [u8; 8] = [0; 8];

impl Digest {
    /// Returns the digest of some bytes.
    pub fn of(bytes: &[u8]) -> Self {
        Self(*blake3::hash(bytes).as_bytes())
    }

    /// Returns the digest with these 32 bytes.
    pub fn from_bytes(bytes: [u8; 32]) -> Self {
        Self(bytes)
    }

    /// Returns the fingerprint of an archive: of its size and its central directory, which holds name, size and checksum of each
    /// member. It begins with eight zero bytes, which distinguishes it from the digest of a whole file.
    pub fn fingerprint_of(size: u64, directory: &[u8]) -> Self {
        let mut hasher =
            blake3::Hasher::new_derive_key("Yalotheca: an archive, by its size and its central directory");
        hasher.update(&size.to_le_bytes()).update(directory);
        let mut bytes = [0; 32];
        bytes[MARK.len()..].copy_from_slice(&hasher.finalize().as_bytes()[..32 - MARK.len()]);
        Self(bytes)
    }

    /// Returns whether this is a fingerprint: of a large archive on another machine, of which not all bytes were read.
    pub fn is_fingerprint(&self) -> bool {
        self.0.starts_with(&MARK)
    }

    /// Returns the 32 bytes.
    pub fn bytes(&self) -> &[u8; 32] {
        &self.0
    }

    /// Reads 64 hexadecimal digits.
    pub fn parse(text: &str) -> Result<Self, ParseIdError> {
        // A catalogue has very many of these, and nothing in them is secret: no need for constant time.
        let digits = text.as_bytes();
        let (mut bytes, mut seen) = ([0; 32], 0);
        for (pair, byte) in digits.chunks_exact(2).zip(&mut bytes) {
            let (high, low) = (DIGITS[usize::from(pair[0])], DIGITS[usize::from(pair[1])]);
            seen |= high | low;
            *byte = high << 4 | low;
        }
        let is_read = digits.len() == 64 && seen <= 15;
        if is_read { Ok(Self(bytes)) } else { Err(ParseIdError::Digest { text: text.into() }) }
    }

    /// Returns the 64 digits.
    pub fn hex(&self) -> Hex {
        let mut digits = [0; 64];
        for (byte, pair) in self.0.iter().zip(digits.chunks_exact_mut(2)) {
            pair.copy_from_slice(&PAIRS[usize::from(*byte)]);
        }
        Hex(digits)
    }

    /// Returns the first ten digits, enough for a person to compare.
    pub fn short(&self) -> String {
        self.hex()[..10].to_owned()
    }
}

/// The digits of a digest: a text that lies nowhere else.
#[derive(Debug, Clone, Copy)]
pub struct Hex([u8; 64]);

impl std::ops::Deref for Hex {
    type Target = str;
    fn deref(&self) -> &str {
        // They are all digits.
        std::str::from_utf8(&self.0).unwrap_or_default()
    }
}

impl AsRef<str> for Hex {
    fn as_ref(&self) -> &str {
        self
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.hex())
    }
}

impl fmt::Debug for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Digest({})", self.short())
    }
}

impl std::str::FromStr for Digest {
    type Err = ParseIdError;
    fn from_str(text: &str) -> Result<Self, ParseIdError> {
        Self::parse(text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_goes_along_with_the_folder_that_it_lies_in() {
        let path = |text| TreePath::new(text).unwrap();
        for (own, folder, to, expected) in [
            ("mods/bells/init.lua", "mods/bells", "old/bells", Some("old/bells/init.lua")),
            ("mods/bells", "mods/bells", "old", Some("old")),
            ("mods/bells", "", "old", Some("old/mods/bells")),
            ("mods/bells/init.lua", "mods", "", Some("bells/init.lua")),
            ("mods/bells-more/init.lua", "mods/bells", "old", None),
            ("mods", "mods/bells", "old", None),
            ("", "", "old", Some("old")),
        ] {
            let moved = path(own).moved(&path(folder), &path(to));
            assert_eq!(moved, expected.map(path), "{own} with {folder} to {to}");
        }
    }

    #[test]
    fn paths_stay_inside_the_server() {
        for (text, expected) in [
            ("plugins/a.swp", "plugins/a.swp"),
            ("./x//y/", "x/y"),
            ("", ""),
            ("Ünter wegs/a b", "Ünter wegs/a b"),
        ] {
            assert_eq!(TreePath::new(text).unwrap().as_str(), expected);
        }
        for text in ["/etc/passwd", "../x", "a/../../b", "a\\b", "a\0b"] {
            assert!(TreePath::new(text).is_err(), "{text}");
        }
    }

    /// All texts of at most so many of these characters.
    fn texts(longest: usize) -> Vec<String> {
        let mut all = vec![String::new()];
        let mut begin = 0;
        for _ in 0..longest {
            let end = all.len();
            for at in begin..end {
                all.extend(['/', '.', 'a', '\\'].map(|c| format!("{}{c}", all[at])));
            }
            begin = end;
        }
        all
    }

    #[test]
    fn every_short_path_is_read_as_its_names_say() {
        for text in texts(7) {
            let names: Vec<&str> = text.split('/').filter(|name| !matches!(*name, "" | ".")).collect();
            let is_path = !text.starts_with('/') && !text.contains('\\') && !names.contains(&"..");
            let expected = is_path.then(|| names.join("/"));
            assert_eq!(TreePath::new(&text).ok().map(|path| path.to_string()), expected, "{text:?}");
        }
    }

    #[test]
    fn joining_reads_the_whole_as_if_it_were_written_so() {
        for folder in ["", "a", "b.c/d"] {
            let folder = TreePath::new(folder).unwrap();
            for piece in texts(5) {
                let whole = if folder.is_root() { piece.clone() } else { format!("{folder}/{piece}") };
                assert_eq!(folder.join(&piece).ok(), TreePath::new(&whole).ok(), "{folder} with {piece:?}");
            }
        }
    }

    #[test]
    fn path_relations() {
        let path = TreePath::new("plugins/tidebell/settings.yml").unwrap();
        assert_eq!(path.name(), "settings.yml");
        assert_eq!(path.parent().unwrap().as_str(), "plugins/tidebell");
        assert!(path.is_within(&TreePath::new("plugins").unwrap()));
        assert!(!path.is_within(&TreePath::new("plug").unwrap()));
        assert_eq!(path.below(&TreePath::new("plugins").unwrap()), Some("tidebell/settings.yml"));
        assert!(path.is_within(&TreePath::root()));
    }

    #[test]
    fn ids_and_digests_are_checked() {
        assert!(ContentId::new("harbour-core").is_ok());
        assert!(ContentId::new("3d_armor").is_ok());
        for text in ["", "a b", "-x", "ä", &"x".repeat(101)] {
            assert!(ContentId::new(text).is_err(), "{text}");
        }
        let digest = Digest::of(b"tide");
        assert_eq!(Digest::parse(&digest.to_string()).unwrap(), digest);
        assert_eq!(digest.to_string(), blake3::hash(b"tide").to_hex().as_str());
        assert!(Digest::parse("abc").is_err());
    }
}
