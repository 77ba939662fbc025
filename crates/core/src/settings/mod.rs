//! Settings: what is known of them, which values they take, and how a file is brought up to date when a new release has
//! new defaults.

mod described;
mod merge;
mod rule;
mod schema;
mod secret;
#[cfg(test)]
mod tests;

use std::collections::{BTreeMap, BTreeSet};

pub use described::rules_of_lines;
pub use merge::{Kept, KeptWhy, Merged, merge};
pub(crate) use rule::RawRule;
pub use rule::{SettingRule, SettingType};
pub use schema::rules_of_schema;
pub use secret::{may_be_secret, names_a_secret};

use crate::{
    document::{Document, Pointer, Value},
    hint::{Advice, Hint},
    suggest,
};

/// Who owns the settings of the server itself, in `yalotheca.toml` and in previews.
pub const SERVER: &str = "server";

/// The settings that are asked for in `yalotheca.toml`: whose, in which file, at which place.
pub type Settings = BTreeMap<String, BTreeMap<String, BTreeMap<Pointer, Value>>>;

/// What is known of a settings file, for judging a value.
#[derive(Debug, Clone, Copy, Default)]
pub struct Known<'a> {
    /// The file as it is.
    pub now: Option<&'a Document>,
    /// The defaults.
    pub defaults: Option<&'a Document>,
    /// What a schema or the definition says, by place.
    pub rules: &'a [(Pointer, SettingRule)],
    /// Whether the file takes settings that nobody has heard of.
    pub open: bool,
    /// Whether only what the rules name is meant: the rest of the file belongs to others.
    pub described: bool,
}

/// Why a value cannot be set.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum JudgeSettingError {
    /// Nobody knows the key.
    #[error("{file} has no setting {pointer}")]
    Unknown {
        /// The file.
        file: String,
        /// The place.
        pointer: Pointer,
        /// What could be meant.
        near: Option<String>,
    },
    /// It is a password.
    #[error("{file}: {pointer} is a secret, which yalotheca.toml and the history never keep")]
    Secret {
        /// The file.
        file: String,
        /// The place.
        pointer: Pointer,
    },
    /// The value is of another sort, or out of bounds.
    #[error("{file}: {pointer} cannot be {value:?}: {why}")]
    Value {
        /// The file.
        file: String,
        /// The place.
        pointer: Pointer,
        /// The value.
        value: String,
        /// What stands against it.
        why: String,
    },
}

impl Hint for JudgeSettingError {
    fn hint(&self) -> Option<Advice> {
        match self {
            Self::Unknown { near: Some(near), .. } => Some(near.clone().into()),
            Self::Secret { file, .. } => Some(format!("write it into {file} yourself").into()),
            Self::Unknown { .. } => Some(Advice::SetAnyway),
            Self::Value { .. } => Some(Advice::OtherValueOrAnyway),
        }
    }
}

impl Known<'_> {
    /// Returns the rule for a place.
    pub fn rule(&self, at: &Pointer) -> Option<&SettingRule> {
        let exact = self.rules.iter().find(|(place, _)| place == at);
        exact.or_else(|| self.rules.iter().find(|(place, _)| at.fits(place))).map(|(_, rule)| rule)
    }

    /// Returns whether a value at a place is a password: the game definition says so, or the key is called like one.
    pub fn is_secret(&self, at: &Pointer, value: &Value) -> bool {
        match self.rule(at) {
            Some(rule) if rule.secret => true,
            Some(rule) if rule.sort != SettingType::Text => false,
            _ => may_be_secret(value) && at.tokens().last().is_some_and(|key| names_a_secret(key)),
        }
    }

    /// Returns all places that are known, in the order in which the file or the defaults have them.
    pub fn places(&self) -> Vec<Pointer> {
        let documents = [self.now, self.defaults].into_iter().flatten().filter(|_| !self.described);
        let mut seen = BTreeSet::new();
        let named = self
            .rules
            .iter()
            .map(|(place, _)| place)
            .filter(|place| !place.tokens().iter().any(|token| token == "*"));
        let all = documents.flat_map(Document::leaves).map(|(at, _)| at).chain(named.cloned());
        all.filter(|at| seen.insert(at.clone())).collect()
    }

    /// Returns the places that a pattern means: one place, known or not, or all known ones that fit its `*`.
    pub fn meant(&self, pattern: &Pointer) -> Vec<Pointer> {
        if pattern.is_pattern() {
            return self.places().into_iter().filter(|at| at.fits(pattern)).collect();
        }
        vec![pattern.clone()]
    }

    /// Returns a known place that an unknown one may be a misspelling of, as a question.
    pub fn near(&self, at: &Pointer) -> Option<String> {
        let names: Vec<String> = self.places().iter().map(ToString::to_string).collect();
        let is_known = self.rule(at).is_some() || names.iter().any(|name| *name == at.to_string());
        (!is_known).then(|| suggest::did_you_mean(&at.to_string(), names.iter().map(String::as_str)))?
    }

    /// Judges a value and returns it in the sort that its place has.
    ///
    /// # Errors
    /// Where nobody knows the place, or the value is of another sort or out of bounds.
    pub fn judge(&self, file: &str, at: &Pointer, value: &Value) -> Result<Value, JudgeSettingError> {
        let wrong = |why: String| JudgeSettingError::Value {
            file: file.into(),
            pointer: at.clone(),
            value: value.plain(),
            why,
        };
        let documents = [self.defaults, self.now].into_iter().flatten();
        let is_meant = !self.described || self.rule(at).is_some();
        let there = documents.filter(|_| is_meant).find_map(|document| document.get(at));
        if self.is_secret(at, value) {
            return Err(JudgeSettingError::Secret { file: file.into(), pointer: at.clone() });
        }
        if let Some(rule) = self.rule(at) {
            let value = rule.check(value).map_err(wrong)?;
            return Ok(there.map_or(value.clone(), |there| value.like(&there)));
        }
        let Some(there) = there else {
            let untold = self.now.is_none() && self.defaults.is_none() && self.rules.is_empty();
            if self.open || untold && !self.described {
                return Ok(value.clone());
            }
            let near = self.near(at);
            return Err(JudgeSettingError::Unknown { file: file.into(), pointer: at.clone(), near });
        };
        let new = value.like(&there);
        let sorts = (sort_of(&there), sort_of(&new));
        match sorts {
            ("number" | "switch", new) if new != sorts.0 => {
                Err(wrong(format!("the value there is a {} ({there})", sorts.0)))
            }
            ("list" | "group", new) if new != sorts.0 => {
                Err(wrong(format!("the value there is a {}", sorts.0)))
            }
            _ => Ok(new),
        }
    }
}

/// Returns the sort of a value; a text that reads as a number or a switch is one, since many formats know only texts.
pub fn sort_of(value: &Value) -> &'static str {
    match value {
        Value::Text(text) if text.parse::<f64>().is_ok_and(f64::is_finite) => "number",
        Value::Text(text) if matches!(text.as_str(), "true" | "false" | "yes" | "no" | "on" | "off") => {
            "switch"
        }
        value => value.sort(),
    }
}
