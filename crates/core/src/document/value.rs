//! Values and places.

use std::fmt;

use serde::{Deserialize, Serialize};

/// A value in a configuration file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Value {
    /// Yes or no.
    Flag(bool),
    /// A whole number.
    Whole(i64),
    /// Any other number.
    Real(f64),
    /// A text.
    Text(String),
    /// Anything with parts, as compact JSON; it is compared, never taken apart.
    Compound(serde_json::Value),
}

impl Value {
    /// Returns whether two values mean the same, where one may come from a format that knows only texts.
    pub fn means(&self, other: &Self) -> bool {
        self == other || self.meaning() == other.meaning()
    }

    /// Returns a text that is the same for all values that mean the same: `1` and `1.0`, and groups whatever the order of
    /// their names.
    pub fn meaning(&self) -> String {
        fn sorted(json: &serde_json::Value) -> serde_json::Value {
            match json {
                serde_json::Value::Object(entries) => {
                    let entries: std::collections::BTreeMap<_, _> =
                        entries.iter().map(|(key, value)| (key.clone(), sorted(value))).collect();
                    entries.into_iter().collect()
                }
                serde_json::Value::Array(items) => items.iter().map(sorted).collect(),
                // Many formats know only texts, and of a whole number the point says nothing.
                serde_json::Value::Null => serde_json::Value::Null,
                single => Value::from(single.clone()).plain().into(),
            }
        }
        match self {
            Self::Compound(json) => sorted(json).to_string(),
            single => single.plain(),
        }
    }

    /// Returns the value as a person would say it: `{to: reed_burst, do: sound the horn}`.
    pub fn brief(&self) -> String {
        fn said(json: &serde_json::Value) -> String {
            match json {
                serde_json::Value::Object(entries) => {
                    let all: Vec<String> =
                        entries.iter().map(|(key, value)| format!("{key}: {}", said(value))).collect();
                    format!("{{{}}}", all.join(", "))
                }
                serde_json::Value::Array(items) => items.iter().map(said).collect::<Vec<_>>().join(", "),
                single => Value::from(single.clone()).plain(),
            }
        }
        const MOST: usize = 60;
        let text = match self {
            Self::Compound(json) => said(json),
            single => single.plain(),
        };
        if text.chars().count() <= MOST {
            return text;
        }
        format!("{}…", text.chars().take(MOST).collect::<String>())
    }

    /// Returns the value in the sort that another one has, where it can be read so.
    #[must_use]
    pub fn like(&self, other: &Self) -> Self {
        let text = self.plain();
        match other {
            Self::Text(_) => Self::Text(text),
            Self::Flag(_) => text.parse().map_or_else(|_| self.clone(), Self::Flag),
            Self::Whole(_) => text.parse().map_or_else(|_| self.clone(), Self::Whole),
            Self::Real(_) => text.parse().map_or_else(|_| self.clone(), Self::Real),
            Self::Compound(_) => match serde_json::from_str::<serde_json::Value>(&text) {
                Ok(json) => Self::from(json),
                Err(_) => self.clone(),
            },
        }
    }

    /// Returns the sort of the value in a word.
    pub fn sort(&self) -> &'static str {
        match self {
            Self::Flag(_) => "switch",
            Self::Whole(_) | Self::Real(_) => "number",
            Self::Text(_) => "text",
            Self::Compound(serde_json::Value::Array(_)) => "list",
            Self::Compound(serde_json::Value::Object(_)) => "group",
            Self::Compound(_) => "nothing",
        }
    }

    /// Returns the value as JSON.
    pub fn to_json(&self) -> serde_json::Value {
        match self {
            Self::Flag(flag) => (*flag).into(),
            Self::Whole(number) => (*number).into(),
            Self::Real(number) => (*number).into(),
            Self::Text(text) => text.clone().into(),
            Self::Compound(json) => json.clone(),
        }
    }

    /// Returns a single value as a bare text, for formats that have nothing else.
    pub(super) fn scalar(&self) -> Result<String, &'static str> {
        match self {
            Self::Compound(_) => Err("such a file has single values only"),
            single => Ok(single.plain()),
        }
    }

    /// Returns the value as a bare text.
    pub fn plain(&self) -> String {
        match self {
            Self::Flag(flag) => flag.to_string(),
            Self::Whole(number) => number.to_string(),
            Self::Real(number) => number.to_string(),
            Self::Text(text) => text.clone(),
            Self::Compound(json) => json.to_string(),
        }
    }
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.plain())
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Self::Text(text.into())
    }
}

impl From<serde_json::Value> for Value {
    fn from(json: serde_json::Value) -> Self {
        match json {
            serde_json::Value::Bool(flag) => Self::Flag(flag),
            serde_json::Value::Number(number) => match number.as_i64() {
                Some(whole) => Self::Whole(whole),
                None => Self::Real(number.as_f64().unwrap_or(f64::NAN)),
            },
            serde_json::Value::String(text) => Self::Text(text),
            other => Self::Compound(other),
        }
    }
}

/// An RFC 6901 JSON Pointer; the empty one is the whole document.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Pointer(Vec<String>);

/// What is wrong with a pointer.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not a pointer: it must be empty or begin with '/'")]
pub struct PointerError(pub String);

impl Pointer {
    /// Reads a pointer.
    ///
    /// # Errors
    /// Where it neither is empty nor begins with `/`.
    pub fn parse(text: &str) -> Result<Self, PointerError> {
        if text.is_empty() {
            return Ok(Self(Vec::new()));
        }
        let rest = text.strip_prefix('/').ok_or_else(|| PointerError(text.into()))?;
        Ok(Self(rest.split('/').map(|token| token.replace("~1", "/").replace("~0", "~")).collect()))
    }

    /// Returns the pointer to the whole document.
    pub fn root() -> Self {
        Self(Vec::new())
    }

    /// Returns the pointer of these names.
    pub(super) fn of(tokens: &[String]) -> Self {
        Self(tokens.to_vec())
    }

    /// Returns whether this is the whole document.
    pub fn is_root(&self) -> bool {
        self.0.is_empty()
    }

    /// Returns the names on the way, outermost first.
    pub fn tokens(&self) -> &[String] {
        &self.0
    }

    /// Returns the place of that name below this one.
    #[must_use]
    pub fn join(&self, token: &str) -> Self {
        let mut tokens = self.0.clone();
        tokens.push(token.into());
        Self(tokens)
    }

    /// Returns the place that the first `depth` names lead to.
    #[must_use]
    pub fn above(&self, depth: usize) -> Self {
        Self(self.0[..depth.min(self.0.len())].to_vec())
    }

    /// Returns whether a pattern fits this place: a `*` in a name of it stands for any part of one name.
    pub fn fits(&self, pattern: &Self) -> bool {
        self.0.len() == pattern.0.len()
            && pattern.0.iter().zip(&self.0).all(|(wanted, name)| name_fits(name, wanted))
    }

    /// Returns whether this is a pattern.
    pub fn is_pattern(&self) -> bool {
        self.0.iter().any(|name| name.contains('*'))
    }

    /// Returns the only name of a pointer that has just one.
    pub fn only(&self) -> Option<&str> {
        match self.0.as_slice() {
            [only] => Some(only),
            _ => None,
        }
    }
}

fn name_fits(name: &str, wanted: &str) -> bool {
    let Some((head, rest)) = wanted.split_once('*') else { return name == wanted };
    let Some(mut left) = name.strip_prefix(head) else { return false };
    let parts: Vec<&str> = rest.split('*').collect();
    let Some((last, middle)) = parts.split_last() else { return true };
    for part in middle {
        match left.find(part) {
            Some(at) => left = &left[at + part.len()..],
            None => return false,
        }
    }
    left.ends_with(last)
}

impl fmt::Display for Pointer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|token| write!(f, "/{}", token.replace('~', "~0").replace('/', "~1")))
    }
}

impl TryFrom<String> for Pointer {
    type Error = PointerError;
    fn try_from(text: String) -> Result<Self, PointerError> {
        Self::parse(&text)
    }
}

impl From<Pointer> for String {
    fn from(pointer: Pointer) -> Self {
        pointer.to_string()
    }
}

#[cfg(test)]
mod pattern_tests {
    use super::Pointer;

    #[test]
    fn a_star_stands_for_any_part_of_one_name() {
        let table = [
            ("/armor_material_*", "/armor_material_wood", true),
            ("/armor_material_*", "/armor_level", false),
            ("/*", "/any", true),
            ("/*_a*_z", "/x_ab_yz_z", true),
            ("/*_a*_z", "/x_ab", false),
            ("/a/*/c", "/a/b/c", true),
            ("/a/*", "/a/b/c", false),
            ("/plain", "/plain", true),
            ("/ab*b", "/ab", false),
        ];
        for (pattern, place, fits) in table {
            let pointer = |text| Pointer::parse(text).unwrap();
            assert_eq!(pointer(place).fits(&pointer(pattern)), fits, "{pattern} {place}");
        }
    }
}
