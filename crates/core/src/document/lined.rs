//! What formats of lines share.

/// One line of a text.
pub(super) struct Line<'a> {
    /// Without its ending.
    pub(super) text: &'a str,
    /// Where it begins.
    pub(super) from: usize,
    /// Where the next one begins.
    pub(super) to: usize,
}

impl Line<'_> {
    /// Returns where what is written on it begins.
    pub(super) fn start(&self) -> usize {
        self.from + self.text.len() - self.text.trim_start().len()
    }
}

/// Returns the white space at a text's end; none where there is nothing else.
pub(super) fn blanks_behind(text: &str) -> &str {
    let bare = text.trim_end();
    if bare.is_empty() { "" } else { &text[bare.len()..] }
}

/// Where a comment's sign begins a comment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Comments {
    /// At the start of a line and behind white space: `http://x` holds none.
    Apart,
    /// Wherever it is outside of quotes.
    Anywhere,
}

impl Comments {
    /// Returns where a comment begins that one of these signs opens, or the text's length. The text begins where a
    /// comment may begin.
    pub(super) fn find(self, text: &str, signs: &[&str]) -> usize {
        let begins =
            |at: &usize| self == Self::Anywhere || text[..*at].ends_with(char::is_whitespace) || *at == 0;
        signs
            .iter()
            .filter_map(|sign| text.match_indices(sign).map(|(at, _)| at).find(begins))
            .min()
            .unwrap_or(text.len())
    }
}

/// Returns the lines of a text.
pub(super) fn lines(text: &str) -> impl Iterator<Item = Line<'_>> {
    let mut at = 0;
    text.split_inclusive('\n').map(move |line| {
        let from = at;
        at += line.len();
        Line { text: line.trim_end_matches(['\n', '\r']), from, to: at }
    })
}

/// Returns the line ending of a text's first line.
pub(super) fn line_ending(text: &str) -> &'static str {
    ending_near(text, 0)
}

/// Returns the line ending of the line before a place, or else of the first one: a file may have both sorts.
fn ending_near(text: &str, at: usize) -> &'static str {
    let end = text[..at].rfind('\n').or_else(|| text[at..].find('\n').map(|found| at + found));
    if end.is_some_and(|end| text[..end].ends_with('\r')) { "\r\n" } else { "\n" }
}

/// Puts a line (or several) where a line ends. A text without a last line ending stays one.
pub(super) fn put_line(text: &mut String, at: usize, line: &str) {
    let ending = ending_near(text, at);
    let line = line.replace('\n', ending);
    if at == 0 || text[..at].ends_with('\n') {
        text.insert_str(at, &format!("{line}{ending}"));
    } else {
        text.insert_str(at, &format!("{ending}{line}"));
    }
}

/// Takes whole lines out; where they are the last and have no ending, the ending before them goes.
pub(super) fn cut_lines(text: &mut String, from: usize, to: usize) {
    let has_ending = text[from..to].ends_with('\n');
    let from = if has_ending || from == 0 {
        from
    } else {
        let before = from - 1;
        if text[..before].ends_with('\r') { before - 1 } else { before }
    };
    text.replace_range(from..to, "");
}

/// Returns where the line begins in which a byte lies.
pub(super) fn line_start(text: &str, at: usize) -> usize {
    text[..at].rfind('\n').map_or(0, |at| at + 1)
}

/// Returns where the line ends in which a byte lies, its ending included.
pub(super) fn line_end(text: &str, at: usize) -> usize {
    text[at..].find('\n').map_or(text.len(), |end| at + end + 1)
}

/// Returns the white space at the beginning of a byte's line, if there is nothing else before the byte.
pub(super) fn indent(text: &str, at: usize) -> Option<&str> {
    let before = &text[line_start(text, at)..at];
    before.chars().all(|c| c == ' ' || c == '\t').then_some(before)
}
