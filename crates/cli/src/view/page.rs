//! A page of text: wrapped, aligned, and with roles instead of colours.

use std::fmt::Write;

use anstyle::{AnsiColor, Style};
use unicode_width::UnicodeWidthStr;

use super::visible;

/// What a piece of text is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Role {
    /// Nothing special.
    Plain,
    /// A heading.
    Head,
    /// A content's name.
    Name,
    /// All is well.
    Good,
    /// Worth a look.
    Warn,
    /// Something is wrong.
    Bad,
    /// Less important.
    Dim,
}

impl Role {
    fn style(self) -> Style {
        match self {
            Self::Plain => Style::new(),
            Self::Head => Style::new().bold(),
            Self::Name => Style::new().fg_color(Some(AnsiColor::Cyan.into())),
            Self::Good => Style::new().fg_color(Some(AnsiColor::Green.into())),
            Self::Warn => Style::new().fg_color(Some(AnsiColor::Yellow.into())),
            Self::Bad => Style::new().fg_color(Some(AnsiColor::Red.into())),
            Self::Dim => Style::new().dimmed(),
        }
    }
}

/// One cell of a table.
#[derive(Debug, Clone)]
pub(crate) struct Cell {
    role: Role,
    text: String,
}

impl Cell {
    pub(crate) fn new(role: Role, text: impl Into<String>) -> Self {
        Self { role, text: one_line(&text.into()) }
    }

    pub(crate) fn plain(text: impl Into<String>) -> Self {
        Self::new(Role::Plain, text)
    }
}

/// A page.
#[derive(Debug)]
pub(crate) struct Page {
    width: usize,
    text: String,
}

impl Page {
    pub(crate) fn new(width: usize) -> Self {
        Self { width, text: String::new() }
    }

    pub(crate) fn into_text(self) -> String {
        self.text
    }

    fn styled(&mut self, role: Role, text: &str) {
        let style = role.style();
        let _written = write!(self.text, "{style}{text}{style:#}");
    }

    /// An empty line, unless the page is empty or one stands there already.
    pub(crate) fn gap(&mut self) {
        if !self.text.is_empty() && !self.text.ends_with("\n\n") {
            self.text.push('\n');
        }
    }

    /// A line as it is, never wrapped.
    pub(crate) fn raw(&mut self, text: &str) {
        self.text.push_str(&one_line(text));
        self.text.push('\n');
    }

    /// A heading.
    pub(crate) fn head(&mut self, text: &str) {
        self.gap();
        self.line(Role::Head, text);
    }

    /// A paragraph.
    pub(crate) fn line(&mut self, role: Role, text: &str) {
        for line in wrap(text, self.width, self.width) {
            self.styled(role, &line);
            self.text.push('\n');
        }
    }

    /// A paragraph behind a word that says what it is.
    pub(crate) fn label(&mut self, role: Role, label: &str, text: &str) {
        let indent = label.width() + 2;
        for (number, line) in wrap(text, self.width - indent, self.width - indent).iter().enumerate() {
            if number == 0 {
                self.styled(role, &format!("{label}: "));
            } else {
                self.text.push_str(&" ".repeat(indent));
            }
            self.raw(line);
        }
    }

    /// A paragraph, set in by two, with its further lines set in as well.
    pub(crate) fn item(&mut self, role: Role, text: &str) {
        self.set_in(2, role, text);
    }

    /// A line as it is, set in, and cut where the page ends.
    pub(crate) fn cut(&mut self, indent: usize, role: Role, text: &str) {
        let room = self.width.saturating_sub(indent);
        let mut line = one_line(text.trim_end());
        if line.is_empty() {
            return self.text.push('\n');
        }
        if line.width() > room {
            while line.width() >= room && line.pop().is_some() {}
            line.push('…');
        }
        self.text.push_str(&" ".repeat(indent));
        self.styled(role, &line);
        self.text.push('\n');
    }

    /// A paragraph that belongs to the item above it.
    pub(crate) fn under(&mut self, role: Role, text: &str) {
        self.set_in(6, role, text);
    }

    fn set_in(&mut self, indent: usize, role: Role, text: &str) {
        for (number, line) in wrap(text, self.width - indent, self.width - indent - 2).iter().enumerate() {
            self.text.push_str(&" ".repeat(if number == 0 { indent } else { indent + 2 }));
            self.styled(role, line);
            self.text.push('\n');
        }
    }

    /// Rows in columns, set in by two; the last column wraps. Where the others leave it too little room, it goes
    /// below.
    pub(crate) fn table(&mut self, rows: &[Vec<Cell>]) {
        const GAP: usize = 2;
        const LEAST: usize = 24;
        let columns = rows.iter().map(Vec::len).max().unwrap_or(0);
        let mut widths = vec![0; columns];
        for row in rows {
            for (at, cell) in row.iter().enumerate().take(columns.saturating_sub(1)) {
                widths[at] = widths[at].max(cell.text.width());
            }
        }
        let used: usize = widths
            .iter()
            .take(columns.saturating_sub(1))
            .filter(|width| **width > 0)
            .map(|width| width + GAP)
            .sum::<usize>()
            + 2;
        let below = self.width.saturating_sub(used) < LEAST;
        for row in rows {
            self.text.push_str("  ");
            for (at, cell) in row.iter().enumerate() {
                let last = at + 1 == columns;
                if !last && widths[at] == 0 {
                    continue;
                }
                if !last {
                    self.styled(cell.role, &cell.text);
                    if row[at + 1..].iter().any(|cell| !cell.text.is_empty()) && !(below && at + 2 == columns)
                    {
                        self.text.push_str(&" ".repeat(widths[at] - cell.text.width() + GAP));
                    }
                    continue;
                }
                let indent = if below { 6 } else { used };
                if below && !cell.text.is_empty() {
                    self.text.push_str("\n      ");
                }
                let lines = wrap(&cell.text, self.width - indent, self.width - indent);
                for (number, line) in lines.iter().enumerate() {
                    if number > 0 {
                        self.text.push('\n');
                        self.text.push_str(&" ".repeat(indent));
                    }
                    self.styled(cell.role, line);
                }
            }
            let end = self.text.trim_end_matches(' ').len();
            self.text.truncate(end);
            self.text.push('\n');
        }
    }
}

/// A text of strangers stays in its line, and says nothing to the terminal.
fn one_line(text: &str) -> String {
    visible(text).replace('\n', " ")
}

/// Breaks a text into lines at spaces; a word longer than a line stays whole.
fn wrap(text: &str, first: usize, rest: usize) -> Vec<String> {
    let mut lines = Vec::new();
    let mut line = String::new();
    for word in one_line(text).split(' ') {
        let room = if lines.is_empty() { first } else { rest };
        if !line.is_empty() && line.width() + 1 + word.width() > room {
            lines.push(std::mem::take(&mut line));
        }
        if !line.is_empty() {
            line.push(' ');
        }
        line.push_str(word);
    }
    lines.push(line);
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_align_and_wrap() {
        let rows = [
            vec![
                Cell::plain("new"),
                Cell::plain("tidebell"),
                Cell::plain("you want it, and so it comes along now"),
            ],
            vec![Cell::plain("newer"), Cell::plain("äö"), Cell::plain("")],
        ];
        let mut page = Page::new(50);
        page.table(&rows);
        assert_eq!(
            page.into_text(),
            "  new    tidebell  you want it, and so it comes\n                   along now\n  newer  äö\n"
        );
        let mut narrow = Page::new(40);
        narrow.table(&rows);
        assert!(narrow.into_text().starts_with("  new    tidebell\n      you want it,"));
    }
}
