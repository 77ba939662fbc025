//! Merges texts by their structure.

use serde::Serialize;
use serde_json::{Map, Value};

use super::MergeHow;

/// A key with different values in two packs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct KeyConflict {
    /// The key; keys of nested objects are joined with `/`.
    pub key: String,
    /// The pack whose value is taken.
    pub winner: String,
    /// The pack whose value is not.
    pub loser: String,
}

/// A merged text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MergedText {
    /// The text.
    pub text: String,
    /// Keys with different values.
    pub conflicts: Vec<KeyConflict>,
}

/// Merges texts of several packs, given with the packs' names, highest priority first.
///
/// # Errors
/// Names the pack whose text cannot be parsed, and why.
pub fn merge_texts(how: MergeHow, texts: &[(&str, &str)]) -> Result<MergedText, String> {
    match how {
        MergeHow::First => Ok(MergedText {
            text: texts.first().map_or("", |(_, text)| *text).to_owned(),
            conflicts: Vec::new(),
        }),
        MergeHow::Lines => Ok(lines(texts)),
        MergeHow::Map | MergeHow::MapOfLists => maps(how, texts),
    }
}

fn lines(texts: &[(&str, &str)]) -> MergedText {
    let mut all: Vec<&str> = Vec::new();
    let mut seen = std::collections::HashSet::new();
    for line in texts.iter().flat_map(|(_, text)| text.trim_start_matches('\u{feff}').lines()) {
        if seen.insert(line) {
            all.push(line);
        }
    }
    let text = all.iter().flat_map(|line| [*line, "\n"]).collect();
    MergedText { text, conflicts: Vec::new() }
}

fn maps(how: MergeHow, texts: &[(&str, &str)]) -> Result<MergedText, String> {
    let mut merged = Map::new();
    let mut owners = Owners::default();
    let mut conflicts = Vec::new();
    for (name, text) in texts {
        let value: Value = serde_json::from_str(text.trim_start_matches('\u{feff}'))
            .map_err(|error| format!("{name}: line {}: it is not JSON", error.line()))?;
        let Value::Object(map) = value else { return Err(format!("{name}: it is not an object")) };
        add(&mut merged, map, (how, name, ""), (&mut owners, &mut conflicts))?;
    }
    let mut text = serde_json::to_string_pretty(&Value::Object(merged)).map_err(|error| error.to_string())?;
    text.push('\n');
    Ok(MergedText { text, conflicts })
}

/// The pack that each key's value came from.
type Owners = std::collections::BTreeMap<String, String>;

fn add(
    merged: &mut Map<String, Value>,
    map: Map<String, Value>,
    (how, name, above): (MergeHow, &str, &str),
    (owners, conflicts): (&mut Owners, &mut Vec<KeyConflict>),
) -> Result<(), String> {
    for (key, value) in map {
        let place = if above.is_empty() { key.clone() } else { format!("{above}/{key}") };
        match (merged.get_mut(&key), value) {
            (None, value) => {
                if how == MergeHow::MapOfLists && !matches!(value, Value::Array(_) | Value::Object(_)) {
                    return Err(format!("{name}: {place} is not a list"));
                }
                merged.insert(key, value);
                owners.insert(place, name.to_owned());
            }
            (Some(Value::Object(there)), Value::Object(inner)) => {
                add(there, inner, (how, name, &place), (owners, conflicts))?;
            }
            (Some(Value::Array(there)), Value::Array(items)) if how == MergeHow::MapOfLists => {
                for item in items {
                    if !there.contains(&item) {
                        there.push(item);
                    }
                }
            }
            (Some(there), value) if *there == value => {}
            (Some(_), _) => {
                // Everything inside an object belongs to the pack it came from.
                let winner = owners.range(..=place.clone()).rev();
                let winner = winner.filter(|(at, _)| place == **at || place.starts_with(&format!("{at}/")));
                let winner = winner.map(|(_, owner)| owner.clone()).next().unwrap_or_default();
                conflicts.push(KeyConflict { key: place, winner, loser: name.to_owned() });
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn merged(how: MergeHow, texts: &[(&str, &str)]) -> (Value, Vec<(String, String, String)>) {
        let MergedText { text, conflicts } = merge_texts(how, texts).unwrap();
        let told = conflicts.into_iter().map(|one| (one.key, one.winner, one.loser)).collect();
        (serde_json::from_str(&text).unwrap(), told)
    }

    #[test]
    fn maps_have_all_keys_and_the_first_pack_counts() {
        let texts = [
            ("a", "{\"x\": 1, \"in\": {\"p\": 1}}"),
            ("b", "\u{feff}{\"y\": 2, \"x\": 3, \"in\": {\"p\": 2, \"q\": 3}}"),
        ];
        let (value, told) = merged(MergeHow::Map, &texts);
        assert_eq!(value, serde_json::json!({"x": 1, "in": {"p": 1, "q": 3}, "y": 2}));
        let conflict = |key: &str| (key.to_owned(), "a".to_owned(), "b".to_owned());
        assert_eq!(told, [conflict("x"), conflict("in/p")]);
    }

    #[test]
    fn lists_in_maps_have_all_items_once() {
        let texts = [
            ("a", "{\"bell\": [\"one\", \"two\"]}"),
            ("b", "{\"bell\": [\"two\", \"three\"], \"horn\": [\"h\"]}"),
        ];
        let (value, told) = merged(MergeHow::MapOfLists, &texts);
        assert_eq!(value, serde_json::json!({"bell": ["one", "two", "three"], "horn": ["h"]}));
        assert!(told.is_empty());
        assert_eq!(
            merge_texts(MergeHow::MapOfLists, &[("a", "{\"bell\": 1}")]),
            Err("a: bell is not a list".into())
        );
    }

    #[test]
    fn what_cannot_be_read_is_told_with_its_line() {
        for (text, says) in [("[1]", "b: it is not an object"), ("{\n\"x\": }", "b: line 2: it is not JSON")]
        {
            assert_eq!(merge_texts(MergeHow::Map, &[("a", "{}"), ("b", text)]), Err(says.into()));
        }
        let lines = merge_texts(MergeHow::Lines, &[("a", "one\ntwo"), ("b", "two\r\nthree\n")]).unwrap();
        assert_eq!(lines.text, "one\ntwo\nthree\n");
    }
}
