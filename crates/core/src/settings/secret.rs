//! Keys that hold a password, by what they are called: a server's own file may have keys that no game definition knows.

use crate::document::Value;

/// A word in a key's name that says so, and those that only do as its last word.
const WORDS: &[&str] = &["password", "passwd", "passphrase", "secret", "token", "credential", "credentials"];
const LAST_WORDS: &[&str] = &["pass", "key", "apikey"];

/// Returns whether a key is called like a password: `default_password`, `rconPassword`, `api.key`.
pub fn names_a_secret(key: &str) -> bool {
    let mut words: Vec<String> = Vec::new();
    let mut was_small = false;
    for c in key.chars() {
        let begins = words.is_empty() || was_small && c.is_ascii_uppercase();
        if !c.is_ascii_alphanumeric() {
            words.push(String::new());
        } else if begins {
            words.push(c.to_ascii_lowercase().to_string());
        } else if let Some(word) = words.last_mut() {
            word.push(c.to_ascii_lowercase());
        }
        was_small = c.is_ascii_lowercase();
    }
    words.retain(|word| !word.is_empty());
    let is_secret = |word: &String| WORDS.contains(&word.as_str()) || word.ends_with("password");
    words.iter().any(is_secret)
        || words.len() > 1 && words.last().is_some_and(|last| LAST_WORDS.contains(&last.as_str()))
}

/// Returns whether a value may be a password: a switch is none, whatever its key is called.
pub fn may_be_secret(value: &Value) -> bool {
    let text = value.plain();
    !matches!(
        text.trim().to_ascii_lowercase().as_str(),
        "" | "true" | "false" | "yes" | "no" | "on" | "off" | "none" | "0" | "1"
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn passwords_are_known_by_their_keys() {
        for key in [
            "default_password",
            "rconPassword",
            "api.key",
            "web-token",
            "SECRET",
            "private_key",
            "console_pass",
        ] {
            assert!(names_a_secret(key), "{key}");
        }
        for key in
            ["keymap_forward", "key", "monkeys", "passengers", "secretary_name", "tokens_shown", "compass"]
        {
            assert!(!names_a_secret(key), "{key}");
        }
        assert!(!may_be_secret(&Value::from("true")) && may_be_secret(&Value::from("seagull")));
    }
}
