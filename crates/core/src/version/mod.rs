//! Versions as content authors write them, and ranges over them.
//!
//! The order (docs/versions.md has the table): a version is cut into numbers and words at every `.`, `-`, `_` and at
//! every change between digits and letters. A leading `v`, `r`, `b` or the like is dropped. Zeros that end the
//! numbers count for nothing, so `1.0` and `1.0.0` are equal in a range. Piece by piece: a pre-release word
//! (`dev` < `snapshot` < `alpha` < `beta` < `pre` < `rc`) and what follows a `~` come before the end, the end before any other
//! word (`5` < `5e`), and a word before a number. A number before a `:` comes before everything. What follows a `+` only breaks
//! ties.

mod forms;
mod name;
mod part;
mod place;
mod range;
#[cfg(test)]
mod tests;

use std::{cmp::Ordering, fmt, sync::Arc};

use crate::{id::Digest, text_form::text_form};

pub use name::split_version;
use part::Part;
pub use range::{ParseRangeError, VersionRange};

/// One piece of a version's key. The order of the variants is the order of versions.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Piece {
    /// Below everything: bounds use it, versions never hold it.
    Floor,
    /// A pre-release word by its rank.
    Pre(u8),
    /// Where a shorter version ends.
    End,
    /// Any other word.
    Word(String),
    /// A number.
    Number(u64),
    /// A number before a colon: a new counting begins with it.
    Epoch(u64),
}

/// A release's version: the text as its author wrote it, and a place in one total order. Clones share the text.
#[derive(Clone)]
pub struct ReleaseVersion(Arc<Parsed>);
text_form!(ReleaseVersion, "a version", pooled as as_str);

struct Parsed {
    text: Box<str>,
    key: Vec<Piece>,
    /// Where it stands in the order as one number, where it has one (see `place`).
    place: Option<u64>,
}

/// What is wrong with a version, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{text:?} is not a version: {why} (at character {at})")]
pub struct ParseVersionError {
    /// What was given.
    pub text: String,
    /// What is wrong with it.
    pub why: &'static str,
    /// Where, counted in characters from 1.
    pub at: usize,
}

impl crate::hint::Hint for ParseVersionError {
    fn hint(&self) -> Option<crate::hint::Advice> {
        Some("versions look like 1.16.5, 2024.03.1, v3, 1.0-beta.2 or 5e".into())
    }
}

const UNVERSIONED: &str = "unversioned";

/// So many digits of a digest tell editions of a content apart, and so many are shown.
const EDITION_DIGITS: usize = 16;
const SHOWN_DIGITS: usize = 6;

impl ReleaseVersion {
    /// Reads a version.
    ///
    /// # Errors
    /// Where the text is empty, too long, has no digit, a number over 19 digits, or a character that versions do not have.
    pub fn parse(text: &str) -> Result<Self, ParseVersionError> {
        if let Some(rest) = text.strip_prefix(UNVERSIONED) {
            let is_edition = |digits: &str| {
                digits.len() == EDITION_DIGITS && digits.bytes().all(|byte| byte.is_ascii_hexdigit())
            };
            if rest.is_empty() || rest.strip_prefix('+').is_some_and(is_edition) {
                return Ok(Self(Arc::new(Parsed { text: text.into(), key: Vec::new(), place: None })));
            }
        }
        let key = read_key(text)?;
        Ok(Self(Arc::new(Parsed { text: text.into(), place: place::place(&key), key })))
    }

    /// Returns the version of a content whose author gives it none. It comes before all others and only `*` takes it.
    pub fn unversioned() -> Self {
        Self(Arc::new(Parsed { text: UNVERSIONED.into(), key: Vec::new(), place: None }))
    }

    /// Returns the version of a content whose author gives it none, and whose bytes are known: editions with other bytes are other
    /// versions, none of which is newer by itself.
    pub fn edition(digest: &Digest) -> Self {
        let text = format!("{UNVERSIONED}+{}", &digest.hex()[..EDITION_DIGITS]);
        Self(Arc::new(Parsed { text: text.into(), key: Vec::new(), place: None }))
    }

    /// Returns the first digits of the digest by which a content without a version is known.
    fn edition_digits(&self) -> Option<&str> {
        let digits = self.0.text.strip_prefix(UNVERSIONED)?.strip_prefix('+')?;
        self.is_unversioned().then(|| &digits[..SHOWN_DIGITS])
    }

    /// Returns whether an update leads from another version to this one: it is newer; or neither is one, and this has other bytes.
    pub fn follows(&self, here: &Self) -> bool {
        if here.is_unversioned() && self.is_unversioned() {
            return self != here && *self != Self::unversioned();
        }
        self > here
    }

    /// Returns whether one of the two was cloned from the other.
    pub(crate) fn is_clone_of(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }

    /// Returns whether the author gave no version.
    pub fn is_unversioned(&self) -> bool {
        self.0.key.is_empty()
    }

    /// Returns the text for a table: of a content without a version the digits of its bytes, or nothing where they are not known.
    pub fn shown(&self) -> &str {
        match self.edition_digits() {
            Some(digits) => digits,
            None if self.is_unversioned() => "",
            None => &self.0.text,
        }
    }

    /// Returns `name 1.4`, or the name alone where the author gave no version.
    pub fn named(&self, name: &impl fmt::Display) -> String {
        if self.is_unversioned() { name.to_string() } else { format!("{name} {self}") }
    }

    /// Returns the text as the author wrote it, or as files have it.
    pub fn as_str(&self) -> &str {
        &self.0.text
    }

    /// Returns whether a word in it marks it as not yet meant for everybody.
    pub fn is_prerelease(&self) -> bool {
        self.0.key.iter().any(|piece| matches!(piece, Piece::Pre(_)))
    }

    /// Returns whether this and another version are pre-releases of one version, or it itself: `1.3-beta` and `1.3-rc.2`.
    pub fn has_same_base(&self, other: &Self) -> bool {
        let base = |version: &Self| -> Vec<Piece> {
            let mut key: Vec<Piece> =
                version.0.key.iter().take_while(|piece| !matches!(piece, Piece::Pre(_))).cloned().collect();
            drop_zeros(&mut key);
            key
        };
        base(self) == base(other)
    }

    /// Compares as ranges do: `1.0` and `1.0.0` are equal here.
    pub fn compare_precedence(&self, other: &Self) -> Ordering {
        compare_keys(&self.0.key, &other.0.key)
    }
}

fn compare_keys(a: &[Piece], b: &[Piece]) -> Ordering {
    let longest = a.len().max(b.len());
    (0..longest)
        .map(|i| a.get(i).unwrap_or(&Piece::End).cmp(b.get(i).unwrap_or(&Piece::End)))
        .find(|order| order.is_ne())
        .unwrap_or(Ordering::Equal)
}

fn read_key(text: &str) -> Result<Vec<Piece>, ParseVersionError> {
    let bad = |why, at| Err(ParseVersionError { text: text.into(), why, at });
    if text.is_empty() {
        return bad("it is empty", 1);
    }
    if text.chars().count() > 64 {
        return bad("it is longer than 64 characters", 65);
    }
    if let Some(at) = odd_character(text) {
        return bad("versions have no such character", at + 1);
    }
    let main = text.split_once('+').map_or(text, |(main, _)| main);
    let mut pieces = Vec::with_capacity(3);
    let main = match main.split_once(':') {
        Some((epoch, main)) => match epoch.parse() {
            Ok(0) => main,
            Ok(epoch) => {
                pieces.push(Piece::Epoch(epoch));
                main
            }
            Err(_) => return bad("before a colon stands a number", 1),
        },
        None => main,
    };
    if !main.contains(|c: char| c.is_ascii_digit()) {
        return bad("a number is missing", main.chars().count() + 1);
    }
    let mut runs = cut(main).peekable();
    let mut is_first = true;
    while let Some(run) = runs.next() {
        let next_is_number =
            runs.peek().is_some_and(|next| next.text.starts_with(|c: char| c.is_ascii_digit()));
        let is_prefixed = std::mem::take(&mut is_first) && next_is_number;
        let is_apart = matches!(run.before, b'-' | b'.' | b'_' | b' ' | b'~');
        if run.before == b'~' && pre_rank(&run.text.to_ascii_lowercase(), next_is_number, true).is_none() {
            drop_zeros(&mut pieces);
            pieces.push(Piece::Pre(EARLY));
        }
        if run.text.starts_with(|c: char| c.is_ascii_digit()) {
            match run.text.parse() {
                Ok(number) => pieces.push(Piece::Number(number)),
                Err(_) => return bad("a number is too long", run.at + 1),
            }
            continue;
        }
        let word = run.text.to_ascii_lowercase();
        if is_prefixed && is_prefix(&word) {
            continue;
        }
        // These say that it is no pre-release.
        if is_apart && runs.peek().is_none() && matches!(word.as_str(), "final" | "ga" | "release") {
            continue;
        }
        if let Some(rank) = pre_rank(&word, next_is_number, is_apart) {
            drop_zeros(&mut pieces);
            pieces.push(Piece::Pre(rank));
        } else {
            drop_zeros(&mut pieces);
            pieces.push(Piece::Word(word));
        }
    }
    drop_zeros(&mut pieces);
    if matches!(pieces[..], [] | [Piece::Epoch(_)]) {
        pieces.push(Piece::Number(0));
    }
    pieces.shrink_to_fit();
    Ok(pieces)
}

/// Finds a character that versions do not have. A blank may stand before a word (`1.0 beta`), a colon behind the first number.
fn odd_character(text: &str) -> Option<usize> {
    let next = |at: usize| text.chars().nth(at + 1);
    text.chars().enumerate().position(|(at, c)| match c {
        ' ' => at == 0 || !next(at).is_some_and(|c| c.is_ascii_alphabetic()),
        ':' => at == 0 || !text.chars().take(at).all(|c| c.is_ascii_digit()),
        c => !c.is_ascii_alphanumeric() && !"._-+~".contains(c),
    })
}

/// Compares what follows the plus signs of two versions: numbers as numbers, words by the alphabet.
fn compare_builds(a: &str, b: &str) -> Ordering {
    let build = |text: &str| text.split_once('+').map(|(_, build)| build.to_owned());
    let key = |build: &str| -> Vec<Piece> {
        let piece = |run: Run<'_>| match run.text.parse() {
            Ok(number) => Piece::Number(number),
            Err(_) => Piece::Word(run.text.to_ascii_lowercase()),
        };
        cut(build).map(piece).collect()
    };
    match (build(a), build(b)) {
        (Some(a), Some(b)) => compare_keys(&key(&a), &key(&b)),
        (a, b) => a.is_some().cmp(&b.is_some()),
    }
}

struct Run<'a> {
    text: &'a str,
    at: usize,
    /// The byte before it, or 0.
    before: u8,
}

fn cut(text: &str) -> impl Iterator<Item = Run<'_>> {
    let class = |c: u8| (c.is_ascii_digit(), c.is_ascii_alphabetic());
    let bytes = text.as_bytes();
    let mut start = 0;
    std::iter::from_fn(move || {
        while start < bytes.len() {
            let at = start;
            let length = bytes[at..].iter().take_while(|c| class(**c) == class(bytes[at])).count();
            start += length;
            if bytes[at].is_ascii_alphanumeric() {
                let before = if at > 0 { bytes[at - 1] } else { 0 };
                return Some(Run { text: &text[at..start], at, before });
            }
        }
        None
    })
}

/// Zeros at the end of the numbers count for nothing, except a lone first one (`0-beta` is not `beta`).
fn drop_zeros(pieces: &mut Vec<Piece>) {
    while pieces.len() > 1 && pieces.last() == Some(&Piece::Number(0)) {
        pieces.pop();
    }
}

fn is_prefix(word: &str) -> bool {
    matches!(word, "v" | "r" | "b" | "ver" | "version" | "rev" | "release" | "build")
}

/// The rank of what is early in no way that is known: what follows a `~`.
const EARLY: u8 = 4;

/// Returns the rank of a word that marks a pre-release. `is_apart` says whether a sign stands before it.
fn pre_rank(word: &str, next_is_number: bool, is_apart: bool) -> Option<u8> {
    Some(match word {
        "dev" | "indev" | "wip" | "experimental" | "unstable" => 0,
        "snapshot" | "nightly" | "canary" => 1,
        "alpha" => 2,
        "a" if next_is_number => 2,
        "beta" => 3,
        "b" if next_is_number || is_apart => 3,
        "pre" | "prerelease" | "preview" | "test" | "milestone" | "ea" | "eap" => EARLY,
        "m" if next_is_number && is_apart => EARLY,
        "rc" | "cr" => 5,
        _ => return None,
    })
}

impl PartialEq for ReleaseVersion {
    fn eq(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0) || self.0.text == other.0.text
    }
}
impl Eq for ReleaseVersion {}
impl std::hash::Hash for ReleaseVersion {
    fn hash<H: std::hash::Hasher>(&self, state: &mut H) {
        self.0.text.hash(state);
    }
}
impl PartialOrd for ReleaseVersion {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}
impl Ord for ReleaseVersion {
    fn cmp(&self, other: &Self) -> Ordering {
        self.is_unversioned()
            .cmp(&other.is_unversioned())
            .reverse()
            .then_with(|| self.compare_precedence(other))
            .then_with(|| compare_builds(&self.0.text, &other.0.text))
            .then_with(|| self.0.text.cmp(&other.0.text))
    }
}
impl fmt::Display for ReleaseVersion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.edition_digits().unwrap_or(&self.0.text))
    }
}
impl fmt::Debug for ReleaseVersion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "ReleaseVersion({})", self.0.text)
    }
}
impl std::str::FromStr for ReleaseVersion {
    type Err = ParseVersionError;
    fn from_str(text: &str) -> Result<Self, ParseVersionError> {
        Self::parse(text)
    }
}
