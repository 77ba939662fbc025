//! Lists that are one text, fragments between two lines of their own, and numbered names.

mod signs;
mod words;

use super::{
    Before, Document, EditDocumentError, Pointer, Value,
    lined::{cut_lines, lines, put_line},
};

impl Document {
    /// Returns the items of a list in one text, split at `separator`.
    pub fn parts(&self, at: &Pointer, separator: &str) -> Vec<String> {
        let text = self.get(at).map(|value| value.plain()).unwrap_or_default();
        let parts: Vec<&str> = match separator.trim() {
            "" => text.split_whitespace().collect(),
            sign => text.split(sign).map(str::trim).filter(|part| !part.is_empty()).collect(),
        };
        parts.into_iter().map(str::to_owned).collect()
    }

    /// Writes a list that is one text, and returns what stood there. Items that stay keep the gaps that they have, and new
    /// ones get the gap that the list has.
    ///
    /// # Errors
    /// As for [`Document::set`].
    pub fn set_parts(
        &mut self,
        at: &Pointer,
        separator: &str,
        parts: &[String],
    ) -> Result<Before, EditDocumentError> {
        let now = self.get(at).map(|value| value.plain()).unwrap_or_default();
        let new = if separator.trim().is_empty() {
            words::replaced(&now, separator, parts)
        } else {
            signs::replaced(&now, separator, parts)
        };
        self.set(at, &Value::Text(new))
    }

    /// Returns the first and the last line of a fragment.
    fn marks(&self, name: &str) -> Result<(String, String), EditDocumentError> {
        let Some(sign) = self.format.syntax().comment() else {
            return Err(EditDocumentError::Unwritable {
                format: self.format.name(),
                value: name.into(),
                why: "such a file has no comments that are lines, which a fragment is set off by",
            });
        };
        Ok((format!("{sign} yalotheca: {name}"), format!("{sign} yalotheca: end of {name}")))
    }

    /// Returns where a fragment lies with its first and its last line, and its text.
    fn fragment_at(&self, name: &str) -> Result<Option<(usize, usize, String)>, EditDocumentError> {
        let (first, last) = self.marks(name)?;
        let mut open: Option<(usize, usize)> = None;
        for line in lines(&self.text) {
            if line.text.trim() == first {
                open = Some((line.from, line.to));
            } else if line.text.trim() == last
                && let Some((from, inner)) = open
            {
                return Ok(Some((from, line.to, self.text[inner..line.from].replace("\r\n", "\n"))));
            }
        }
        Ok(None)
    }

    /// Returns a fragment's text, without the lines that set it off.
    ///
    /// # Errors
    /// Where the format has no comments.
    pub fn fragment(&self, name: &str) -> Result<Option<String>, EditDocumentError> {
        Ok(self.fragment_at(name)?.map(|(_, _, text)| text))
    }

    /// Puts a fragment at the end of the file, or in its place where it is there already; nothing takes it out.
    ///
    /// # Errors
    /// Where the format has no comments, or the file could not be read afterwards.
    pub fn set_fragment(&mut self, name: &str, to: Option<&str>) -> Result<(), EditDocumentError> {
        let (first, last) = self.marks(name)?;
        let mut text = self.text.clone();
        let mut place = text.len();
        if let Some((from, end, _)) = self.fragment_at(name)? {
            cut_lines(&mut text, from, end);
            place = from.min(text.len());
        }
        if let Some(to) = to {
            put_line(&mut text, place, &format!("{first}\n{}\n{last}", to.trim_end_matches('\n')));
        }
        match Self::parse(self.format, &text) {
            Ok(new) => {
                *self = new;
                Ok(())
            }
            Err(_) => Err(EditDocumentError::Unwritable {
                format: self.format.name(),
                value: name.into(),
                why: "the file could not be read with that fragment in it",
            }),
        }
    }

    /// Returns the numbered items directly below a place, by number.
    pub fn numbered(&self, at: &Pointer) -> Vec<(u64, String)> {
        let mut found: Vec<(u64, String)> = self
            .keys(at)
            .iter()
            .filter_map(|key| Some((key.parse().ok()?, self.get(&at.join(key))?.plain())))
            .collect();
        found.sort_unstable();
        found
    }
}

/// One step from the items that are there to those that should be.
#[derive(Debug, PartialEq, Eq)]
enum Turn<'p> {
    /// The next item stays.
    Keep,
    /// The next item goes.
    Drop,
    /// An item comes before the next one.
    Put(&'p str),
}

/// Returns the steps from one list to another that keep most.
fn turns<'p>(now: &[&str], then: &'p [String]) -> Vec<Turn<'p>> {
    // What both begin and end with stays; between them the longest common part is looked for, unless that is very long.
    let same = |(a, b): &(&&str, &String)| **a == b.as_str();
    let head = now.iter().zip(then).take_while(same).count();
    let tail = now[head..].iter().rev().zip(then[head..].iter().rev()).take_while(same).count();
    let (old, new) = (&now[head..now.len() - tail], &then[head..then.len() - tail]);
    let mut common = vec![vec![0_u32; new.len() + 1]; old.len() + 1];
    if old.len() * new.len() <= 4_000_000 {
        for (i, a) in old.iter().enumerate().rev() {
            for (j, b) in new.iter().enumerate().rev() {
                common[i][j] =
                    if a == b { common[i + 1][j + 1] + 1 } else { common[i + 1][j].max(common[i][j + 1]) };
            }
        }
    }
    let mut turns: Vec<Turn<'p>> = (0..head).map(|_| Turn::Keep).collect();
    let (mut i, mut j) = (0, 0);
    while i < old.len() || j < new.len() {
        if i < old.len() && j < new.len() && old[i] == new[j] {
            turns.push(Turn::Keep);
            (i, j) = (i + 1, j + 1);
        } else if j < new.len() && (i == old.len() || common[i][j + 1] >= common[i + 1][j]) {
            turns.push(Turn::Put(&new[j]));
            j += 1;
        } else {
            turns.push(Turn::Drop);
            i += 1;
        }
    }
    turns.extend((0..tail).map(|_| Turn::Keep));
    turns
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{signs, words};

    fn own(items: &[&str]) -> Vec<String> {
        items.iter().map(ToString::to_string).collect()
    }

    #[test]
    fn gaps_stay() {
        for (now, separator, parts, then) in [
            ("a, b,c", ",", ["a", "b", "c", "d"].as_slice(), "a, b,c, d"),
            ("a, b,c", ",", &["x", "a", "b", "c"], "x, a, b,c"),
            ("a,b", ", ", &["a", "x", "b"], "a,x,b"),
            ("a;; b ;", ";", &["a", "b", "c"], "a;; b ;c;"),
            (" a , b ", ",", &["b"], " b "),
            ("a", "; ", &["a", "b"], "a; b"),
            ("", "; ", &["a", "b"], "a; b"),
            ("a, b", ",", &[], ""),
        ] {
            assert_eq!(signs::replaced(now, separator, &own(parts)), then, "{now:?} {parts:?}");
        }
        for (now, parts, then) in [
            ("a  b\tc", ["a", "b", "x", "c"].as_slice(), "a  b x\tc"),
            ("  a b", &["x", "a", "b"], "  x a b"),
            ("a  b", &["b"], "b"),
            ("a", &[], ""),
        ] {
            assert_eq!(words::replaced(now, " ", &own(parts)), then, "{now:?} {parts:?}");
        }
    }

    proptest! {
        #[test]
        fn what_comes_and_goes_leaves_no_trace(
            gaps in proptest::collection::vec("[ \t]{0,2}", 9), count in 1_usize..4, at in 0_usize..5, trailing in any::<bool>(),
        ) {
            let items: Vec<String> = ["a", "b", "c"][..count].iter().map(ToString::to_string).collect();
            let with: Vec<String> = {
                let mut with = items.clone();
                with.insert(at.min(count), "x".into());
                with
            };
            let mut text: Vec<String> = items.iter().enumerate().map(|(i, item)| format!("{}{item}{}", gaps[2 * i], gaps[2 * i + 1])).collect();
            if trailing {
                text.push(gaps[8].clone());
            }
            let by_sign = text.join(";");
            prop_assert_eq!(&signs::replaced(&signs::replaced(&by_sign, "; ", &with), "; ", &items), &by_sign);
            let by_gap = text.join(" ");
            prop_assert_eq!(&words::replaced(&words::replaced(&by_gap, " ", &with), " ", &items), &by_gap);
        }
    }
}
