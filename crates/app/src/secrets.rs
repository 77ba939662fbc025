//! What must not be shown: the passwords in a server's own files. They are known by the keys that a game definition calls secret.

use regex::{Captures, Regex, escape};
use yalotheca_core::{
    document::{Pointer, TextFile, Value},
    game::{Game, Scope},
    id::TreePath,
    link::shown_in,
    settings::{may_be_secret, names_a_secret},
};
use yalotheca_host::tree::Tree;

const HIDDEN: &str = "(a secret)";

/// A value shorter than this is found in many a text by chance.
const SHORTEST: usize = 4;

/// What must not be shown.
#[derive(Debug, Clone, Default)]
pub struct Secrets {
    values: Vec<String>,
    keys: Vec<Regex>,
}

impl Secrets {
    /// Returns those of a server. A file that cannot be read in its format is looked through all the same.
    pub fn of(tree: &dyn Tree, game: &Game, scope: &Scope) -> Self {
        let mut found = Self::default();
        let of_settings = game.settings.iter().map(|rule| {
            let keys = rule.keys.iter().filter(|(_, key)| key.secret).map(|(at, _)| at.clone());
            (&rule.file, keys.collect::<Vec<Pointer>>())
        });
        let of_console = game
            .console
            .iter()
            .filter_map(|console| console.secret.as_ref())
            .filter_map(|place| Some((&place.file, vec![place.spot(scope).ok()?.1])));
        for (file, keys) in of_settings.chain(of_console) {
            let mut patterns: Vec<Regex> = keys.iter().filter_map(pattern).collect();
            let path = file.render(scope).ok().and_then(|path| TreePath::new(&path).ok());
            let bytes = path.and_then(|path| tree.read_file(&path).ok().flatten());
            if let Some(bytes) = bytes {
                let file = TextFile::read(bytes);
                patterns.extend(called_like_secrets(file.text()).iter().filter_map(pattern));
                for pattern in &patterns {
                    let values = pattern.captures_iter(file.text()).filter_map(|groups| groups.name("value"));
                    found.values.extend(values.map(|value| value.as_str().trim().to_owned()));
                }
            }
            found.keys.extend(patterns);
        }
        found.values.retain(|value| value.len() >= SHORTEST);
        // Of two secrets of which one begins with the other, the longer one goes first.
        found.values.sort_by_key(|value| std::cmp::Reverse(value.len()));
        found.values.dedup();
        found
    }

    /// Returns a text without them, and without what is secret in addresses.
    pub fn hide(&self, text: &str) -> String {
        let mut text = if text.contains("://") { shown_in(text) } else { text.to_owned() };
        for key in &self.keys {
            let hidden =
                key.replace_all(&text, |groups: &Captures<'_>| format!("{}{HIDDEN}", &groups["key"]));
            text = hidden.into_owned();
        }
        for value in &self.values {
            if text.contains(value.as_str()) {
                text = text.replace(value.as_str(), HIDDEN);
            }
        }
        text
    }
}

/// Returns the keys in a file that are called like passwords and do not only switch something.
fn called_like_secrets(text: &str) -> Vec<Pointer> {
    let mut found = Vec::new();
    for line in text.lines().filter(|line| line.len() < 1000) {
        let line = line.trim_start().trim_start_matches(['-', '"', '\'']);
        let end = line.find(|c: char| !(c.is_ascii_alphanumeric() || "_.-".contains(c)));
        let Some((key, rest)) = end.map(|end| line.split_at(end)) else { continue };
        let value = rest.trim_matches(|c: char| c.is_whitespace() || "\"'=:,;".contains(c));
        if names_a_secret(key) && may_be_secret(&Value::from(value)) {
            found.push(Pointer::root().join(key));
        }
    }
    found
}

/// Finds a key with what stands behind it, in whichever format.
fn pattern(at: &Pointer) -> Option<Regex> {
    let name = escape(at.tokens().last()?);
    // Letters beyond ASCII are no part of keys, and classes with all of them take a millisecond to make ready.
    Regex::new(&format!(
        r#"(?P<key>(?:^|[^0-9A-Za-z_.]){name}["']?[ \t]*[=: \t][ \t]*["']?)(?P<value>[^"'\r\n,;\s][^"'\r\n,;]*)"#
    ))
    .ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_stands_behind_a_secret_key_is_hidden_in_every_format() {
        let keys = vec![pattern(&Pointer::parse("/console.secret").unwrap()).unwrap()];
        let secrets = Secrets { values: vec!["barnacle".into()], keys };
        for (text, expected) in [
            ("console.secret = hunter two", "console.secret = (a secret)"),
            ("-console.secret = \"x\"", "-console.secret = \"(a secret)\""),
            ("\"console.secret\": \"x\",", "\"console.secret\": \"(a secret)\","),
            ("console.secret x y", "console.secret (a secret)"),
            ("the log says barnacle", "the log says (a secret)"),
            ("other.console.secretive = 1", "other.console.secretive = 1"),
            ("get https://a:b@h/x", "get https://h/x"),
        ] {
            assert_eq!(secrets.hide(text), expected);
        }
    }
}
