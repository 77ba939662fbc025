//! Patterns of a definition: checked when it is loaded, made ready for use when one is first asked. A definition has many of
//! them, making one ready takes longer than reading all of the rest, and most commands ask two or three.

use std::{ops::Deref, sync::OnceLock};

use regex::Regex;
use regex_syntax::hir::{Hir, HirKind};

/// One that is longer than this, or counts repetitions, is made ready at once: it may be too large for that. Half as long
/// again would do, of what takes most room; all of the definitions that come with the program are shorter.
const PLAIN: usize = 150;

/// A checked pattern. Used as the [`Regex`] that it is.
#[derive(Debug, Clone)]
pub struct Pattern {
    text: String,
    groups: Vec<String>,
    ready: OnceLock<Regex>,
}

impl Pattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// Says what is wrong with it.
    pub fn new(text: &str) -> Result<Self, String> {
        let parsed = regex_syntax::parse(text).map_err(|error| error.to_string())?;
        let mut groups = Vec::new();
        add_groups(&parsed, &mut groups);
        let ready = OnceLock::new();
        if text.len() > PLAIN || text.contains('{') {
            let regex = Regex::new(text).map_err(|error| error.to_string())?;
            ready.get_or_init(|| regex);
        }
        Ok(Self { text: text.into(), groups, ready })
    }

    /// Returns its text.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Returns the names of its groups, in the order in which they open.
    pub fn groups(&self) -> impl Iterator<Item = &str> {
        self.groups.iter().map(String::as_str)
    }
}

impl Deref for Pattern {
    type Target = Regex;
    #[expect(clippy::expect_used, reason = "what was parsed and is short can be made ready")]
    fn deref(&self) -> &Regex {
        self.ready.get_or_init(|| Regex::new(&self.text).expect("a checked pattern"))
    }
}

fn add_groups(part: &Hir, groups: &mut Vec<String>) {
    match part.kind() {
        HirKind::Capture(capture) => {
            groups.extend(capture.name.iter().map(ToString::to_string));
            add_groups(&capture.sub, groups);
        }
        HirKind::Repetition(repetition) => add_groups(&repetition.sub, groups),
        HirKind::Concat(parts) | HirKind::Alternation(parts) => {
            for part in parts {
                add_groups(part, groups);
            }
        }
        HirKind::Empty | HirKind::Literal(_) | HirKind::Class(_) | HirKind::Look(_) => {}
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_is_wrong_is_told_at_once() {
        for text in ["(", "[z-a]", "a**b(", "(?<x>a)(?<x>b)", "a{4000}{4000}", "\\"] {
            let ours = Pattern::new(text).map(|pattern| pattern.text);
            assert_eq!(ours, Err(Regex::new(text).unwrap_err().to_string()), "{text:?}");
        }
    }

    #[test]
    fn the_largest_that_wait_can_be_made_ready() {
        let room = PLAIN + PLAIN / 2;
        // What a character can be written as, with and without regard to case.
        for class in
            ["\\w", "\\W", "\\d", "\\D", "\\s", "\\S", "\\pL", "\\PL", "\\PN", ".", "[^a]", "[^\\w]", "k"]
        {
            for (begin, more) in [("", ""), ("(?i)", ""), ("(?s)", "+"), ("", "*?"), ("", "|")] {
                let one = format!("{class}{more}");
                let text = format!("{begin}{}", one.repeat((room - begin.len()) / one.len()));
                assert!(Regex::new(&text).is_ok(), "{text}");
            }
        }
    }

    #[test]
    fn what_may_be_too_large_is_tried_at_once() {
        let is_ready = |text: &str| Pattern::new(text).unwrap().ready.get().is_some();
        assert!(!is_ready(&"a".repeat(PLAIN)) && is_ready(&"a".repeat(PLAIN + 1)) && is_ready("a{2}"));
        let large = "\\w".repeat(300);
        assert_eq!(Pattern::new(&large).unwrap_err(), Regex::new(&large).unwrap_err().to_string());
    }

    proptest! {
        #[test]
        fn it_is_the_same_as_one_made_ready_at_once(text in "[ab(?<>|)+*\\[\\]\\\\wd{}2,^-]{0,12}") {
            let (ours, theirs) = (Pattern::new(&text), Regex::new(&text));
            prop_assert_eq!(ours.is_ok(), theirs.is_ok());
            if let (Ok(ours), Ok(theirs)) = (ours, theirs) {
                let groups: Vec<&str> = theirs.capture_names().flatten().collect();
                prop_assert_eq!(ours.groups().collect::<Vec<_>>(), groups);
                prop_assert_eq!(ours.as_str(), theirs.as_str());
                prop_assert_eq!(ours.find("aab2b").map(|found| found.range()), theirs.find("aab2b").map(|found| found.range()));
            }
        }
    }
}
