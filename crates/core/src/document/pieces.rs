//! Lists that are one text, fragments between two lines of their own, and numbered names.

use super::{
    Before, Document, EditDocumentError, Pointer, Value,
    lined::{cut_lines, lines, put_line},
};

impl Document {
    /// Returns the items of a list that is one text, where they stand apart by `separator`.
    pub fn parts(&self, at: &Pointer, separator: &str) -> Vec<String> {
        let text = self.get(at).map(|value| value.plain()).unwrap_or_default();
        let parts: Vec<&str> = match separator.trim() {
            "" => text.split_whitespace().collect(),
            sign => text.split(sign).map(str::trim).filter(|part| !part.is_empty()).collect(),
        };
        parts.into_iter().map(str::to_owned).collect()
    }

    /// Writes a list that is one text, and returns what stood there. The text keeps the sort of gap that it has.
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
        let sign = separator.trim();
        let joiner = match now.find(sign).filter(|_| !sign.is_empty()) {
            Some(at) if now[at + sign.len()..].starts_with(' ') => format!("{sign} "),
            Some(_) => sign.to_owned(),
            None => separator.to_owned(),
        };
        self.set(at, &Value::Text(parts.join(&joiner)))
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
