//! A version's place in the order as one number, for comparing many at once.
//!
//! Eight bytes, the first piece highest, filled up with `End`: the numbers compare as the keys do. A small number takes one
//! byte, a larger one a byte that says how long it is and then itself. Versions with other words in them, or too long for
//! eight bytes, have no such number; they are compared by key.

use super::{Part, Piece, ReleaseVersion, VersionRange};

/// How many bytes a place has.
const BYTES: usize = 8;
const END: u8 = 7;
/// From here on a byte says how many bytes of a number follow.
const LONG: u8 = 0xF8;

/// Returns the place of a key, if it has one.
pub(super) fn place(key: &[Piece]) -> Option<u64> {
    let mut bytes = [END; BYTES];
    let mut at = 0;
    let mut put = |byte: u8| {
        *bytes.get_mut(at)? = byte;
        at += 1;
        Some(())
    };
    for piece in key {
        match piece {
            Piece::End => put(END)?,
            Piece::Floor => put(0)?,
            Piece::Pre(rank) => put(1 + rank)?,
            Piece::Word(_) | Piece::Epoch(_) => return None,
            Piece::Number(number) => {
                match u8::try_from(*number).ok().and_then(|small| small.checked_add(END + 1)) {
                    Some(byte) if byte < LONG => put(byte)?,
                    _ => {
                        let digits = number.to_be_bytes();
                        let zeros = digits.iter().take_while(|byte| **byte == 0).count();
                        put(LONG + u8::try_from(BYTES - 1 - zeros).ok()?)?;
                        digits[zeros..].iter().try_for_each(|byte| put(*byte))?;
                    }
                }
            }
        }
    }
    Some(u64::from_be_bytes(bytes))
}

impl ReleaseVersion {
    /// Returns this version's place, if it has one.
    pub(crate) fn place(&self) -> Option<u64> {
        self.0.place
    }
}

impl VersionRange {
    /// Returns the first and the last place in the range, where it is one stretch of places.
    pub(crate) fn stretch(&self) -> Option<(u64, u64)> {
        self.0.stretch
    }
}

/// Returns the first and the last place in what some alternatives take, where it is one stretch of places.
pub(super) fn stretch(alternatives: &[Box<[Part]>]) -> Option<(u64, u64)> {
    let [parts] = alternatives else { return None };
    let (mut first, mut last) = (0, u64::MAX);
    for part in &**parts {
        let (from, to) = match part {
            Part::Any => (0, u64::MAX),
            Part::Not(_) => return None,
            Part::Exactly(version) => (version.place()?, version.place()?),
            Part::AtLeast(version) => (version.place()?, u64::MAX),
            Part::Above(version) => (version.place()?.checked_add(1)?, u64::MAX),
            Part::AtMost(version) => (0, version.place()?),
            Part::Below { key, .. } => (0, place(key)?.checked_sub(1)?),
            Part::Like { from, below, .. } => (place(from)?, place(below)?.checked_sub(1)?),
        };
        first = first.max(from);
        last = last.min(to);
    }
    Some((first, last))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn version() -> impl Strategy<Value = ReleaseVersion> {
        proptest::string::string_regex(
            "[v]?[0-9]{1,3}(\\.[0-9]{1,5}){0,3}(-(alpha|beta|rc|dev)(\\.[0-9])?)?[a-e]?",
        )
        .unwrap()
        .prop_filter_map("a version", |text| ReleaseVersion::parse(&text).ok())
    }

    proptest! {
        #[test]
        fn places_compare_as_versions_do(a in version(), b in version()) {
            if let (Some(x), Some(y)) = (a.place(), b.place()) {
                prop_assert_eq!(x.cmp(&y), a.compare_precedence(&b));
            }
        }

        #[test]
        fn a_stretch_takes_what_the_range_takes(
            v in version(), a in version(), b in version(),
            form in proptest::sample::select(vec![">=A", "<A", ">A, <=B", "A", "^A", ">=A, <B", "*", "<=A", ">A"]),
        ) {
            let text = form.replace('A', a.as_str()).replace('B', b.as_str());
            let range = VersionRange::parse(&text);
            if let (Ok(range), Some(place)) = (range, v.place())
                && let Some((first, last)) = range.stretch()
            {
                prop_assert_eq!((first..=last).contains(&place), range.matches_by_parts(&v), "{} in {}", v, text);
            }
        }
    }

    #[test]
    fn plain_versions_have_a_place() {
        for text in ["1", "1.16.5", "2024.03.1", "1.0-beta.2", "v3", "0.0.0", "r1234567", "1.20.1-rc.2"] {
            assert!(ReleaseVersion::parse(text).unwrap().place().is_some(), "{text}");
        }
        for text in ["5e", "1.2.3.4.5.6.7.8.9", "20240301.1200.1.1"] {
            assert!(ReleaseVersion::parse(text).unwrap().place().is_none(), "{text}");
        }
        for text in ["1.4.*", "^1.2", ">=1.2, <2", "*"] {
            assert!(VersionRange::parse(text).unwrap().stretch().is_some(), "{text}");
        }
    }
}
