//! Text as a terminal may show it. Titles, names, log lines and files come from strangers; what in them would command the terminal,
//! or show a text in another order than it has, is made visible.

use std::{borrow::Cow, fmt::Write};

/// Whether a character does something else than to be seen.
fn is_hidden(c: char) -> bool {
    c.is_control() && c != '\n'
        || matches!(c,
            '\u{ad}' | '\u{61c}' | '\u{180e}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}'
            | '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}')
}

/// Returns a text with everything in it visible: `\x1b`, `\u{202e}`. Line ends stay, and tabs become spaces.
pub(crate) fn visible(text: &str) -> Cow<'_, str> {
    if !text.contains(is_hidden) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        match c {
            '\t' => out.push_str("    "),
            c if !is_hidden(c) => out.push(c),
            c if u32::from(c) < 0x100 => {
                let _written = write!(out, "\\x{:02x}", u32::from(c));
            }
            c => {
                let _written = write!(out, "\\u{{{:x}}}", u32::from(c));
            }
        }
    }
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_would_command_a_terminal_is_seen_instead() {
        assert_eq!(visible("plain, ä\nand on"), "plain, ä\nand on");
        assert_eq!(visible("a\x1b]52;c;eA==\x07b\r"), "a\\x1b]52;c;eA==\\x07b\\x0d");
        assert_eq!(visible("\u{202e}txt.exe\u{9b}2J\u{200b}\tx"), "\\u{202e}txt.exe\\x9b2J\\u{200b}    x");
    }
}
