//! What a person types to find a name.

use memchr::memmem::Finder;
use regex::bytes::Regex;

/// What is looked for.
#[derive(Debug, Clone)]
pub struct NamePattern {
    /// The pattern as it was typed.
    pub text: String,
    /// Whether it is about names, and not about paths.
    pub(super) is_name: bool,
    /// A piece, in lower case, that each fitting name contains; nothing if there is none.
    pub(super) piece: Option<Finder<'static>>,
    pub(super) regex: Regex,
}

impl NamePattern {
    /// Reads a pattern: a part of a name, in any case; or with `*`, `?` or `[…]` the whole name. With `/` it is about the path.
    ///
    /// # Errors
    /// Where brackets do not fit.
    pub fn parse(text: &str) -> Result<Self, String> {
        let is_glob = text.contains(['*', '?', '[']);
        let is_path = text.contains('/');
        let wrong = |error: regex::Error| {
            let error = error.to_string();
            error.lines().last().unwrap_or_default().trim().to_owned()
        };
        let inner =
            if is_glob { regex_of(text, is_path)? } else { regex::escape(text.trim_start_matches("./")) };
        // A path may be given from any folder on.
        let whole = if is_glob { format!("(?is)^(.*/)?{inner}$") } else { format!("(?is){inner}") };
        let regex = Regex::new(&whole).map_err(wrong)?;
        // In brackets stand single letters, and letters beyond ASCII may have a capital of another length.
        // A path that is a pattern ends with a name; one that is not may lie wholly above it.
        let name = text.rsplit('/').next().unwrap_or_default();
        let plain = match (is_glob, is_path) {
            (true, _) => name.split('[').next().unwrap_or_default(),
            (false, true) => "",
            (false, false) => name,
        };
        let pieces = plain.split(|c| is_glob && matches!(c, '*' | '?')).filter(|piece| piece.is_ascii());
        let piece = pieces.max_by_key(|piece| piece.len()).filter(|piece| !piece.is_empty());
        let piece = piece.map(|piece| Finder::new(&piece.to_ascii_lowercase()).into_owned());
        Ok(Self { text: text.to_owned(), is_name: !is_path, piece, regex })
    }
}

/// Translates a glob. In a path `*` stays within a name and `**` does not.
fn regex_of(glob: &str, is_path: bool) -> Result<String, String> {
    let mut regex = String::new();
    let mut chars = glob.trim_start_matches("./").chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            '*' if is_path && chars.next_if_eq(&'*').is_some() => {
                // Any folders, or none.
                let are_folders = chars.next_if_eq(&'/').is_some();
                regex.push_str(if are_folders { r"([^\x00]*/)?" } else { r"[^\x00]*" });
            }
            '*' => regex.push_str(r"[^\x00/]*"),
            '?' => regex.push_str(r"[^\x00/]"),
            '[' => {
                let mut class = String::new();
                loop {
                    match chars.next() {
                        Some(']') if !class.is_empty() => break,
                        Some(c) => class.push(c),
                        None => return Err("a [ has no ]".into()),
                    }
                }
                let (begin, class) = match class.strip_prefix(['!', '^']) {
                    Some(rest) => (r"[^\x00/", rest),
                    None => ("[", class.as_str()),
                };
                regex.push_str(begin);
                for c in class.chars() {
                    match c {
                        '-' => regex.push('-'),
                        other => regex.push_str(&regex::escape(other.encode_utf8(&mut [0; 4]))),
                    }
                }
                regex.push(']');
            }
            other => regex.push_str(&regex::escape(other.encode_utf8(&mut [0; 4]))),
        }
    }
    Ok(regex)
}
